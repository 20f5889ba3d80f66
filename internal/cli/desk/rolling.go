package desk

import (
	"fmt"
	"strings"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/plan"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/store"
)

// rolling is what is shown of a roll-out: where each machine is, instead of each step.
type rolling struct {
	phases   *plan.Phases
	out      map[string]time.Time // since when machines are out of service
	watches  []rollout.Figures
	messages []string // the last ones
	weight   time.Duration
	undone   time.Duration // of the weight
	usual    map[string]time.Duration
	whole    time.Duration // that all of it was reckoned to take
}

// mostMessages is how many messages stand below the table.
const mostMessages = 3

// newRolling is nil where no wave is carried out.
func newRolling(steps []plan.Step, parallel int, usual func(plan.Step) time.Duration) *rolling {
	ph := plan.NewPhases(steps)
	if ph == nil {
		return nil
	}
	r := &rolling{phases: ph, out: map[string]time.Time{}, usual: map[string]time.Duration{}}
	for _, s := range steps {
		d := usual(s)
		r.usual[s.ID] = d
		r.weight += d
	}
	r.undone = r.weight
	_, r.whole = (&plan.Plan{Steps: steps}).Schedule(parallel, usual)
	return r
}

// inWords says a phase that a machine has come to.
func (r *rolling) inWords(m *plan.Phased, at time.Time) string {
	switch m.Phase {
	case plan.Prepared:
		return "prepared: what it is to run lies there"
	case plan.OutNow:
		return "goes out of service"
	case plan.Changing:
		return "changes"
	case plan.Coming:
		return "comes up"
	case plan.Well:
		if since, ok := r.out[m.Machine]; ok {
			return "well again, out of service for " + term.Seconds(at.Sub(since))
		}
		return "well"
	case plan.Gone:
		return "gone"
	}
	return m.Phase.String()
}

// entry takes an entry of the journal. It returns the machine that has come to another phase,
// and whether the entry is of such a machine, so that its steps are not told one by one.
func (r *rolling) entry(e store.Entry, s plan.Step) (moved *plan.Phased, mine bool) {
	if len(e.Watches) > 0 {
		r.watches = e.Watches
	}
	switch e.Kind {
	case store.StepBegan:
		moved = r.phases.Begun(s)
	case store.StepDone:
		moved = r.phases.Done(s)
		r.undone -= r.usual[s.ID]
	case store.StepFailed:
		moved = r.phases.Failed(s)
	}
	if moved != nil && moved.Phase >= plan.OutNow && r.out[moved.Machine].IsZero() && moved.Phase <= plan.Changing {
		r.out[moved.Machine] = e.Time
	}
	for _, m := range r.phases.Machines {
		mine = mine || m.Machine == e.Where
	}
	return moved, mine
}

// message keeps one for below the table.
func (r *rolling) message(text string) {
	r.messages = append(r.messages, text)
	r.messages = r.messages[max(0, len(r.messages)-mostMessages):]
}

// left is how long it will probably take from now on.
func (r *rolling) left() time.Duration {
	if r.weight == 0 {
		return 0
	}
	return time.Duration(float64(r.whole) * float64(r.undone) / float64(r.weight))
}

// phasesShown are the columns of the table; one that is gone or failed says so in the last.
var phasesShown = []plan.Phase{plan.Waiting, plan.Prepared, plan.OutNow, plan.Changing, plan.Coming, plan.Well}

const (
	phaseWidth = 10
	nameWidth  = 22
)

// lines is the table with what stands below it, in at most so many lines: machines below the
// group that they are of, or groups alone when there are more machines than that. so says of
// which round the steps are, and how long it has taken.
func (r *rolling) lines(ui *term.UI, most int, done, total int, so, waits string) []string {
	head := fmt.Sprintf("%-*s", nameWidth, "group")
	for _, p := range phasesShown {
		head += fmt.Sprintf("  %-*s", phaseWidth-2, p)
	}
	out := []string{strings.TrimRight(head, " ")}
	room := most - len(out) - 2 - len(r.watches) - mostMessages
	groups := r.groups()
	unfold := len(r.phases.Machines)+len(groups) <= room
	for _, g := range groups {
		out = append(out, g.line())
		for _, m := range g.machines {
			if unfold {
				out = append(out, r.row(ui, m))
			}
		}
	}
	out = append(out, bar(ui, done, total)+fmt.Sprintf("  %d of %d steps%s, about %s left", done, total, so, term.Seconds(r.left())))
	out = append(out, waits)
	for _, f := range r.watches {
		out = append(out, f.String())
	}
	return append(out, r.messages...)
}

// row shows one machine: the phases that it has been through as points, and the one that it
// is in as a word.
func (r *rolling) row(ui *term.UI, m *plan.Phased) string {
	name := fmt.Sprintf("%-*s", nameWidth, "  "+m.Machine)
	at := min(m.Phase, plan.Well)
	if m.Phase == plan.Stuck {
		at = plan.Changing
	}
	word := m.Phase.String()
	if ui.ErrColour {
		switch {
		case m.Phase == plan.Stuck:
			word = ui.Bad.Render(word)
		case m.Phase >= plan.Well:
			word = ui.Good.Render(word)
		case m.Phase >= plan.OutNow:
			word = ui.Attention.Render(word)
		}
	}
	return name + strings.Repeat(fmt.Sprintf("  %-*s", phaseWidth-2, "."), int(at)) + "  " + word
}

// group is one group of machines in a roll-out, with those that are on their way out as another.
type group struct {
	name     string
	machines []*plan.Phased
}

// groups are those that the machines are of, in the order of the steps.
func (r *rolling) groups() []*group {
	var out []*group
	by := map[string]*group{}
	for _, m := range r.phases.Machines {
		name := "leaving"
		if m.Group != "" {
			name = strings.TrimPrefix(topology.GroupInWords(m.Group), "pool ")
		}
		if by[name] == nil {
			by[name] = &group{name: name}
			out = append(out, by[name])
		}
		by[name].machines = append(by[name].machines, m)
	}
	return out
}

// line shows how many machines of a group are in which phase.
func (g *group) line() string {
	in := map[plan.Phase]int{}
	for _, m := range g.machines {
		in[m.Phase]++
	}
	in[plan.Well] += in[plan.Gone]
	line := fmt.Sprintf("%-*s", nameWidth, g.name)
	for _, p := range phasesShown {
		text := "."
		if in[p] > 0 {
			text = fmt.Sprint(in[p])
		}
		line += fmt.Sprintf("  %-*s", phaseWidth-2, text)
	}
	if n := in[plan.Stuck]; n > 0 {
		line += fmt.Sprintf("  %d failed", n)
	}
	return strings.TrimRight(line, " ")
}

const barWidth = 30

// bar is how much of the whole is done.
func bar(ui *term.UI, done, total int) string {
	full := 0
	if total > 0 {
		full = barWidth * done / total
	}
	mark, rest := "#", "-"
	if ui.ErrColour {
		mark, rest = "█", "░"
	}
	return strings.Repeat(mark, full) + strings.Repeat(rest, barWidth-full)
}
