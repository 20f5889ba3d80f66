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

// lines is the table with what stands below it, in at most so many lines; groups fold when
// there are more machines than that.
func (r *rolling) lines(ui *term.UI, most int, done, total int, since time.Duration, waits string) []string {
	head := fmt.Sprintf("%-*s", nameWidth, "machine")
	for _, p := range phasesShown {
		head += fmt.Sprintf("  %-*s", phaseWidth-2, p)
	}
	out := []string{strings.TrimRight(head, " ")}
	room := most - len(out) - 2 - len(r.watches) - mostMessages
	if len(r.phases.Machines) <= room {
		for _, m := range r.phases.Machines {
			out = append(out, r.row(ui, m))
		}
	} else {
		out[0] = strings.Replace(out[0], "machine", "group  ", 1)
		out = append(out, r.folded()...)
	}
	out = append(out, bar(ui, done, total)+fmt.Sprintf("  %d of %d steps, %s so far, about %s left", done, total, term.Seconds(since), term.Seconds(r.left())))
	out = append(out, waits)
	for _, f := range r.watches {
		out = append(out, f.String())
	}
	return append(out, r.messages...)
}

// row shows one machine: the phases that it has been through as points, and the one that it
// is in as a word.
func (r *rolling) row(ui *term.UI, m *plan.Phased) string {
	name := fmt.Sprintf("%-*s", nameWidth, m.Machine)
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

// folded shows groups: how many machines of each are in which phase.
func (r *rolling) folded() []string {
	type count [len(phaseCount)]int
	var order []string
	by := map[string]*count{}
	for _, m := range r.phases.Machines {
		g := "leaving"
		if m.Group != "" {
			g = strings.TrimPrefix(topology.GroupInWords(m.Group), "pool ")
		}
		if by[g] == nil {
			by[g] = &count{}
			order = append(order, g)
		}
		by[g][min(m.Phase, plan.Stuck)]++
	}
	var out []string
	for _, g := range order {
		c := by[g]
		line := fmt.Sprintf("%-*s", nameWidth, g)
		for _, p := range phasesShown {
			n := c[p]
			if p == plan.Well {
				n += c[plan.Gone]
			}
			text := "."
			if n > 0 {
				text = fmt.Sprint(n)
			}
			line += fmt.Sprintf("  %-*s", phaseWidth-2, text)
		}
		if n := c[plan.Stuck]; n > 0 {
			line += fmt.Sprintf("  %d failed", n)
		}
		out = append(out, strings.TrimRight(line, " "))
	}
	return out
}

// phaseCount has as many places as there are phases.
var phaseCount [int(plan.Stuck) + 1]struct{}

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
