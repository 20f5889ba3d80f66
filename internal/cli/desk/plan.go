package desk

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/beforehand"
	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/rehearse"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
)

// Planned is the plan as JSON; docs/protocols.md describes it.
type Planned struct {
	Cluster string  `json:"cluster"`
	Seconds float64 `json:"seconds"` // that it should take
	// Groups say what roll-outs come to; Waves are those of these steps, and Later the
	// machines that are replaced after them.
	Groups    []plan.GroupPlan `json:"groups"`
	Waves     []rollout.Wave   `json:"waves"`
	Later     []string         `json:"later"`
	Hop       *plan.Stage      `json:"hop,omitempty"` // on a way over several minors
	Held      bool             `json:"held"`          // waves are left out, since a person's word is waited for
	Steps     []plan.Step      `json:"steps"`
	Schedule  []plan.Slot      `json:"schedule"`
	Missing   []string         `json:"missing"`
	TooMuch   []string         `json:"tooMuch"`
	Differs   []string         `json:"differs"`
	Endangers []string         `json:"endangers"`
	Accepted  []string         `json:"accepted"` // errors that exceptions accept, with their reasons
	Left      []string         `json:"left"`     // steps that a limited run leaves
	// Troubles are what drains would meet, by a rehearsal.
	Troubles []rehearse.Trouble `json:"troubles"`
	// Concerns are what else is to be known before a roll-out begins; errors keep it from that.
	Concerns []beforehand.Concern `json:"concerns"`
	From     string               `json:"from,omitempty"`
	To       string               `json:"to,omitempty"`
	SiteRuns bool                 `json:"siteRuns"`
}

// PlanReport is a plan as JSON.
func (a *App) PlanReport(s *session.Session, p *plan.Plan, v *look.View, slots []plan.Slot, total time.Duration, left []plan.Step) Planned {
	groups, all := plan.Summarise(v.Cluster, v.Seen, p, slots, total, look.Usual(s))
	out := Planned{Cluster: s.Decl.Name, Seconds: all.Seconds(), Groups: term.List(groups), Waves: term.List(p.Waves), Later: term.List(p.Later), Hop: v.Aim.Stage, Held: p.Held, Steps: term.List(p.Steps), Schedule: slots, From: p.From, To: p.To, SiteRuns: v.Inventory != nil}
	out.Troubles, out.Concerns = []rehearse.Trouble{}, []beforehand.Concern{}
	if o := a.foresee(s, p, v); o != nil {
		out.Concerns = term.List(o.Concerns)
		if o.Rehearsed != nil {
			out.Troubles = o.Rehearsed.Blocked
		}
	}
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
		if p.Held {
			fmt.Fprintf(a.Out, "The roll-out in cluster %s is held, and nothing else is to be done; verbund rollout shows where it stands.\n", s.Decl.Name)
			return
		}
		fmt.Fprintf(a.Out, "Cluster %s is as declared: nothing to do.\n", s.Decl.Name)
		for _, l := range look.Strains(s, v, nil, time.Now()) {
			fmt.Fprintf(a.Out, "See to: %s.\n", l)
		}
		return
	}
	a.showRoad(s, p, v)
	groups, all := plan.Summarise(v.Cluster, v.Seen, p, slots, total, look.Usual(s))
	rolls := a.showGroups(p, groups)
	a.showForeseen(s, p, v, all)
	known := look.UsualDurations(s)
	var rows [][]term.Cell
	inTime := make([]int, len(p.Steps))
	for i := range inTime {
		inTime[i] = i
	}
	slices.SortStableFunc(inTime, func(x, y int) int { return cmp.Compare(slots[x].From, slots[y].From) })
	for n, i := range inTime {
		st := p.Steps[i]
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
		rows = append(rows, []term.Cell{term.Plain(fmt.Sprint(n + 1)), term.Plain(where), term.Plain(wave), term.Plain(begins), term.Plain(takes), {Text: what, State: state}})
		for k, l := range st.Detail {
			if k == mostLines && len(st.Detail) > mostLines+1 && !a.Verbose {
				rows = append(rows, []term.Cell{{}, {}, {}, {}, {}, {Text: fmt.Sprintf("  and %d more; --verbose shows them", len(st.Detail)-k), State: "attention"}})
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
	if rolls && len(rows) > mostAtOnce && !a.Steps && !a.Verbose {
		a.showByHand(p)
		a.showEnd(s, p, v, all, true)
		return
	}
	if len(rows) > term.Height(a.Out) && !a.Verbose {
		a.inShort(p, slots)
	}
	a.UI.Table([]string{"", "where", "wave", "after", "takes", "what"}, rows)
	a.showEnd(s, p, v, all, false)
}

// foresee looks ahead to a roll-out, once; nil of anything else.
func (a *App) foresee(s *session.Session, p *plan.Plan, v *look.View) *look.Outlook {
	if v.Outlook == nil {
		v.Outlook = look.LookAhead(a.Soft, s, v, p)
	}
	return v.Outlook
}

// showForeseen says what a roll-out would meet: drains that wait in vain, pods without a place,
// the lowest capacity; what is shown takes so long.
func (a *App) showForeseen(s *session.Session, p *plan.Plan, v *look.View, shown time.Duration) {
	o := a.foresee(s, p, v)
	if o == nil {
		return
	}
	for _, c := range o.Concerns {
		word := "Careful"
		if c.Severity == declare.Error {
			word = "In the way"
		}
		fmt.Fprintf(a.Out, "%s: %s.\n", word, c)
	}
	if len(o.Concerns) > 0 {
		fmt.Fprintln(a.Out)
	}
	if o.Unrehearsed != nil {
		fmt.Fprintf(a.Out, "It could not be rehearsed, so that what drains would meet is not known: %v\n\n", o.Unrehearsed)
		return
	}
	r := o.Rehearsed
	if r == nil {
		return
	}
	if len(r.Capacity) > 0 && r.Lowest.Share < 1 {
		beyond := ""
		if r.Lowest.At > shown {
			beyond = ", beyond what is shown here"
		}
		fmt.Fprintf(a.Out, "At the lowest, %.0f %% of what workers have is there for pods, after %s%s.\n", r.Lowest.Share*100, term.Seconds(r.Lowest.At), beyond)
	}
	if len(r.Capacity) > 0 && r.Lowest.Share < 1 {
		fmt.Fprintln(a.Out)
	}
}

// mostAtOnce is how many lines of steps of a roll-out are shown without being asked for.
const mostAtOnce = 24

// showByHand shows what somebody changed by hand on machines, and will be undone.
func (a *App) showByHand(p *plan.Plan) {
	shown := 0
	for _, st := range p.Steps {
		for _, l := range st.Detail {
			if strings.Contains(l, ": "+plan.Follows+", ") || strings.HasPrefix(l, kube.NewlyDeclared) {
				continue
			}
			if shown++; shown <= mostLines {
				fmt.Fprintf(a.Out, "%s: %s\n", cmp.Or(st.Machine, "cluster"), l)
			}
		}
	}
	if shown > mostLines {
		fmt.Fprintf(a.Out, "and %d more that differ otherwise than by what is declared\n", shown-mostLines)
	}
}

// showRoad says from where to where it goes, and of a way over several minors which hop it is.
func (a *App) showRoad(s *session.Session, p *plan.Plan, v *look.View) {
	if st := v.Aim.Stage; st != nil {
		fmt.Fprintf(a.Out, "The way of %s from %s to %s: %s of the control plane, each after a backup, and %s of each worker.\n\n", s.Decl.Name, st.Road.From, st.Road.To, words.Count(st.Road.Hops, "hop"), words.Count(st.Road.Drains, "drain"))
		var rows [][]term.Cell
		for _, l := range st.Road.Legs {
			rows = append(rows, term.Cells(l.Who, l.From, l.To, l.Because))
		}
		a.UI.Table([]string{"who", "from", "to", "because"}, rows)
		fmt.Fprintf(a.Out, "\nWhat follows is the hop %s.\n\n", st.InWords())
		return
	}
	if p.From != "" && p.From != p.To {
		what := "Upgrade"
		if versions.Compare(p.To, p.From) < 0 {
			what = "The way back"
		}
		fmt.Fprintf(a.Out, "%s of %s from %s to %s.\n\n", what, s.Decl.Name, p.From, p.To)
	}
}

// showGroups shows what a roll-out comes to, group by group; it says whether there is one.
func (a *App) showGroups(p *plan.Plan, groups []plan.GroupPlan) bool {
	var rows [][]term.Cell
	for _, g := range groups {
		out := term.Seconds(g.Out)
		if g.Way == rollout.Replacement {
			out = "never"
		}
		waves := fmt.Sprint(g.Waves)
		if g.Holds > 0 {
			waves += fmt.Sprintf(", %s", words.Count(g.Holds, "hold"))
		}
		rows = append(rows, term.Cells(g.Group, fmt.Sprintf("%d of %d", g.Machines, g.Of), string(g.Way), waves, out, term.Seconds(g.From), term.Seconds(g.Until), strings.Join(g.Changes, ", ")))
	}
	if len(rows) == 0 {
		return false
	}
	a.UI.Table([]string{"group", "machines", "way", "waves", "out for", "begins", "over", "what"}, rows)
	fmt.Fprintln(a.Out)
	soaks := 0
	for _, st := range p.Steps {
		if st.Kind == plan.Soak {
			soaks++
			fmt.Fprintf(a.Out, "Of %s, %s first, and %s to stay well for %s.\n", topology.GroupInWords(st.Group), goes(st.Machines), map[bool]string{true: "has", false: "have"}[len(st.Machines) == 1], declare.Duration(st.Waits))
		}
	}
	if soaks > 0 {
		fmt.Fprintln(a.Out)
	}
	return true
}

// goes says that machines do.
func goes(machines []string) string {
	if len(machines) == 1 {
		return machines[0] + " goes"
	}
	return strings.Join(machines, ", ") + " go"
}

// showEnd says what a plan comes to as a whole.
func (a *App) showEnd(s *session.Session, p *plan.Plan, v *look.View, total time.Duration, short bool) {
	if !short {
		fmt.Fprintln(a.Out)
	}
	fmt.Fprintf(a.Out, "%s, about %s with %d at a time.", words.Count(len(p.Steps), "step"), term.Seconds(total), s.Parallel)
	if short {
		fmt.Fprint(a.Out, " --steps shows them one by one.")
	}
	if !short && slices.ContainsFunc(p.Steps, func(st plan.Step) bool { return st.Final }) {
		fmt.Fprint(a.Out, " What is final cannot be undone.")
	}
	if len(p.Waking(v.Seen)) > 0 {
		fmt.Fprint(a.Out, " Machines that were not reached come first; what they need shows then.")
	}
	if p.More {
		fmt.Fprint(a.Out, " What comes after them is planned anew then.")
	}
	if p.Held {
		fmt.Fprint(a.Out, " The roll-out itself is held; verbund rollout shows where it stands.")
	}
	fmt.Fprintln(a.Out)
	for _, r := range p.Removes {
		fmt.Fprintf(a.Out, "Removes %s.\n", r.Text)
	}
	for _, m := range p.Later {
		fmt.Fprintf(a.Out, "Removes %s after these, when a new one has taken its place.\n", m)
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
