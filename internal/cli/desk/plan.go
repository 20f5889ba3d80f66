package desk

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/plan"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
)

// Planned is the plan as JSON; docs/protocols.md describes it.
type Planned struct {
	Cluster   string      `json:"cluster"`
	Seconds   float64     `json:"seconds"` // that it should take
	Steps     []plan.Step `json:"steps"`
	Schedule  []plan.Slot `json:"schedule"`
	Missing   []string    `json:"missing"`
	TooMuch   []string    `json:"tooMuch"`
	Differs   []string    `json:"differs"`
	Endangers []string    `json:"endangers"`
	Accepted  []string    `json:"accepted"` // errors that exceptions accept, with their reasons
	Left      []string    `json:"left"`     // steps that a limited run leaves
	From      string      `json:"from,omitempty"`
	To        string      `json:"to,omitempty"`
	SiteRuns  bool        `json:"siteRuns"`
}

// PlanReport is a plan as JSON.
func PlanReport(s *session.Session, p *plan.Plan, v *look.View, slots []plan.Slot, total time.Duration, left []plan.Step) Planned {
	out := Planned{Cluster: s.Decl.Name, Seconds: total.Seconds(), Steps: term.List(p.Steps), Schedule: slots, From: p.From, To: p.To, SiteRuns: v.Inventory != nil}
	out.Missing, out.TooMuch = term.List(p.Missing), []string{}
	for _, r := range p.Removes {
		out.TooMuch = append(out.TooMuch, r.Text)
	}
	out.Differs, out.Endangers = term.List(p.Differs), term.List(p.Endangers)
	out.Accepted, out.Left = Accepted(s), []string{}
	for _, l := range left {
		out.Left = append(out.Left, l.ID)
	}
	return out
}

// Accepted lists what exceptions and add-ons on versions of their own keep
// saying.
func Accepted(s *session.Session) []string {
	out := []string{}
	for _, f := range s.Accepted {
		out = append(out, fmt.Sprintf("%s, accepted: %s [%s]", f.What, f.Reason, f.Rule))
	}
	for _, n := range []string{"fairway", "coredns"} {
		if x, ok := s.Decl.AddOns[n]; ok {
			out = append(out, fmt.Sprintf("%s is on a version of its own, %s: %s", n, x.Version, x.Reason))
		}
	}
	return out
}

// ShowPlan shows what is missing and what will be done about it, with its schedule.
func (a *App) ShowPlan(s *session.Session, p *plan.Plan, v *look.View, slots []plan.Slot, total time.Duration) {
	for _, b := range p.Beside {
		a.UI.Say("beside this: %s", b)
	}
	for _, x := range Accepted(s) {
		a.UI.Say("exception: %s", x)
	}
	if len(p.Steps) == 0 {
		fmt.Fprintf(a.Out, "Cluster %s is as declared: nothing to do.\n", s.Decl.Name)
		return
	}
	if p.From != "" && p.From != p.To {
		fmt.Fprintf(a.Out, "Upgrade of %s from %s to %s.\n\n", s.Decl.Name, p.From, p.To)
	}
	known := look.UsualDurations(s)
	var rows [][]term.Cell
	for i, st := range p.Steps {
		where := cmp.Or(st.Machine, "cluster")
		wave := ""
		if st.Wave > 0 {
			wave = fmt.Sprintf("%s %d", st.Group, st.Wave)
		}
		begins := term.Seconds(slots[i].From)
		takes := term.Seconds(slots[i].To - slots[i].From)
		if _, ok := known.Of(string(st.Kind), st.Machine); !ok {
			takes = "~" + takes
		}
		what := st.Text
		state := ""
		if st.Final {
			what, state = what+" (final)", "attention"
		}
		rows = append(rows, []term.Cell{term.Plain(fmt.Sprint(i + 1)), term.Plain(where), term.Plain(wave), term.Plain(begins), term.Plain(takes), {Text: what, State: state}})
		for n, l := range st.Detail {
			if n == mostLines && len(st.Detail) > mostLines+1 && !a.Verbose {
				rows = append(rows, []term.Cell{{}, {}, {}, {}, {}, {Text: fmt.Sprintf("  and %d more; --verbose shows them", len(st.Detail)-n), State: "attention"}})
				break
			}
			state := "attention"
			if strings.Contains(l, ": "+plan.Follows+", ") || strings.HasPrefix(l, kube.NewlyDeclared) {
				state = ""
			}
			rows = append(rows, []term.Cell{{}, {}, {}, {}, {}, {Text: "  " + l, State: state}})
		}
		if a.Verbose {
			why := "because " + st.Why
			if len(st.Guards) > 0 {
				why += "; guard: " + plan.InWords(st.Guards)
			}
			rows = append(rows, term.Cells("", "", "", "", "", "  "+why))
		}
	}
	if len(rows) > term.Height(a.Out) && !a.Verbose {
		a.inShort(p, slots)
	}
	a.UI.Table([]string{"", "where", "wave", "after", "takes", "what"}, rows)
	fmt.Fprintf(a.Out, "\n%s, about %s with %d at a time.", words.Count(len(p.Steps), "step"), term.Seconds(total), s.Parallel)
	if len(p.Waking(v.Seen)) > 0 {
		fmt.Fprint(a.Out, " Machines that were not reached come first; what they need shows then.")
	}
	if p.More {
		fmt.Fprint(a.Out, " What comes after them is planned anew then.")
	}
	fmt.Fprintln(a.Out)
	for _, r := range p.Removes {
		fmt.Fprintf(a.Out, "Removes %s.\n", r.Text)
	}
	for _, e := range p.Endangers {
		fmt.Fprintf(a.Out, "Careful: %s.\n", e)
	}
}

// inShort says what a plan comes to that is longer than a screen: each kind of
// step once, in the order in which they begin.
func (a *App) inShort(p *plan.Plan, slots []plan.Slot) {
	type kind struct {
		steps, final int
		on           []string
		from, until  time.Duration
	}
	kinds := map[plan.Kind]*kind{}
	var order []plan.Kind
	for i, st := range p.Steps {
		k := kinds[st.Kind]
		if k == nil {
			k = &kind{from: slots[i].From}
			kinds[st.Kind], order = k, append(order, st.Kind)
		}
		k.steps++
		if st.Final {
			k.final++
		}
		if st.Machine != "" && !slices.Contains(k.on, st.Machine) {
			k.on = append(k.on, st.Machine)
		}
		k.from, k.until = min(k.from, slots[i].From), max(k.until, slots[i].To)
	}
	slices.SortStableFunc(order, func(x, y plan.Kind) int { return int(kinds[x].from - kinds[y].from) })
	var rows [][]term.Cell
	for _, o := range order {
		k := kinds[o]
		on := strings.Join(k.on, ", ")
		switch {
		case len(k.on) == 0:
			on = "the cluster"
		case len(k.on) > 3:
			on = words.Count(len(k.on), "machine")
		}
		final := term.Cell{}
		if k.final > 0 {
			final = term.Cell{Text: fmt.Sprint(k.final), State: "attention"}
		}
		rows = append(rows, []term.Cell{term.Plain(string(o)), term.Plain(fmt.Sprint(k.steps)), final, term.Plain(term.Seconds(k.from)), term.Plain(term.Seconds(k.until)), term.Plain(on)})
	}
	fmt.Fprintf(a.Out, "In short, before the %s one by one:\n\n", words.Count(len(p.Steps), "step"))
	a.UI.Table([]string{"kind", "steps", "final", "from", "until", "on"}, rows)
	fmt.Fprintln(a.Out)
}

// mostLines is how many differing lines of a step are shown, unless all are
// asked for.
const mostLines = 6
