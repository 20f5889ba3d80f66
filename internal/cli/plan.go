package cli

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"verbund/internal/engine/converge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"

	"github.com/spf13/cobra"

	"verbund/internal/core/plan"
	"verbund/internal/core/words"
	"verbund/internal/kube"
	"verbund/internal/report"
	"verbund/internal/whole"
)

func (a *app) planCmd() *cobra.Command {
	var code bool
	var only, picture string
	c := &cobra.Command{
		Use: "plan", Short: "Show what would be done, why, in which order, and how long it takes", Args: noArgs,
		Long: `Looks at the site, the machines, the datastore and the API, and shows the steps
that lead to what is declared: what is missing, what is too much, and what differs,
down to the line of a machine's file that was changed by hand. It changes nothing
and waits for no lock.

How long it takes is reckoned from the durations in the journal; of what was never
done here, from what is usual.

The kinds of steps:
` + kindsText(),
		Example: "  verbund plan --verbose\n  verbund plan --picture plan.svg\n  verbund plan --only gauges --exit-code",
		RunE: func(*cobra.Command, []string) error {
			s, err := a.open(true)
			if err != nil {
				return err
			}
			defer s.Close()
			p, v, err := look.PlanPart(a.soft, s, only)
			if err != nil {
				return err
			}
			var left []plan.Step
			if only != "" && len(p.Steps) > 0 {
				if p, left, err = p.Only(v.Cluster, only); err != nil {
					return err
				}
			}
			slots, total := p.Schedule(s.Parallel, look.Usual(s))
			switch {
			case a.output == "json":
				err = a.ui.json(planReport(s, p, v, slots, total, left))
			default:
				a.showPlan(s, p, v, slots, total)
				if text := converge.Left(left); text != "" {
					a.ui.say("%s", text)
				}
			}
			if err == nil && picture != "" {
				err = a.drawPlan(s, p, slots, total, picture)
			}
			if err == nil && code && len(p.Steps) > 0 {
				return &exit{code: exitNotWell}
			}
			return err
		},
	}
	c.Flags().BoolVar(&code, "exit-code", false, "exit 3 when there is something to do")
	c.Flags().StringArrayVar(&a.mayLose, "may-lose", nil, "label selector of pods that may be lost for good, as for converge")
	c.Flags().StringVar(&only, "only", "", "one part: control, addons, or the name of a pool")
	c.Flags().StringVar(&picture, "picture", "", "also draw it into a file that ends in .svg or .png")
	return c
}

// planned is the plan as JSON; docs/protocols.md describes it.
type planned struct {
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

func planReport(s *session.Session, p *plan.Plan, v *look.View, slots []plan.Slot, total time.Duration, left []plan.Step) planned {
	out := planned{Cluster: s.Decl.Name, Seconds: total.Seconds(), Steps: list(p.Steps), Schedule: slots, From: p.From, To: p.To, SiteRuns: v.Inventory != nil}
	out.Missing, out.TooMuch = list(p.Missing), list(p.Removes)
	out.Differs, out.Endangers = list(p.Differs), list(p.Endangers)
	out.Accepted, out.Left = accepted(s), []string{}
	for _, l := range left {
		out.Left = append(out.Left, l.ID)
	}
	return out
}

// accepted lists what exceptions and add-ons on versions of their own keep
// saying.
func accepted(s *session.Session) []string {
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

func (a *app) showPlan(s *session.Session, p *plan.Plan, v *look.View, slots []plan.Slot, total time.Duration) {
	for _, b := range p.Beside {
		a.ui.say("beside this: %s", b)
	}
	for _, x := range accepted(s) {
		a.ui.say("exception: %s", x)
	}
	if len(p.Steps) == 0 {
		fmt.Fprintf(a.out, "Cluster %s is as declared: nothing to do.\n", s.Decl.Name)
		return
	}
	if p.From != "" && p.From != p.To {
		fmt.Fprintf(a.out, "Upgrade of %s from %s to %s.\n\n", s.Decl.Name, p.From, p.To)
	}
	known := look.UsualDurations(s)
	var rows [][]cell
	for i, st := range p.Steps {
		where := st.Machine
		if where == "" {
			where = "cluster"
		}
		batch := ""
		if st.Batch > 0 {
			batch = fmt.Sprint(st.Batch)
		}
		begins := seconds(slots[i].From)
		takes := seconds(slots[i].To - slots[i].From)
		if _, ok := known.Of(string(st.Kind), st.Machine); !ok {
			takes = "~" + takes
		}
		what := st.Text
		state := ""
		if st.Final {
			what, state = what+" (final)", "attention"
		}
		rows = append(rows, []cell{plain(fmt.Sprint(i + 1)), plain(where), plain(batch), plain(begins), plain(takes), {what, state}})
		for n, l := range st.Detail {
			if n == mostLines && len(st.Detail) > mostLines+1 && !a.verbose {
				rows = append(rows, []cell{{}, {}, {}, {}, {}, {fmt.Sprintf("  and %d more; --verbose shows them", len(st.Detail)-n), "attention"}})
				break
			}
			state := "attention"
			if strings.Contains(l, ": "+plan.Follows+", ") || strings.HasPrefix(l, kube.NewlyDeclared) {
				state = ""
			}
			rows = append(rows, []cell{{}, {}, {}, {}, {}, {"  " + l, state}})
		}
		if a.verbose {
			why := "because " + st.Why
			if len(st.Guards) > 0 {
				why += "; guard: " + plan.InWords(st.Guards)
			}
			rows = append(rows, cells("", "", "", "", "", "  "+why))
		}
	}
	if len(rows) > height(a.out) && !a.verbose {
		a.inShort(p, slots)
	}
	a.ui.table([]string{"", "where", "batch", "after", "takes", "what"}, rows)
	fmt.Fprintf(a.out, "\n%s, about %s with %d at a time.", words.Count(len(p.Steps), "step"), seconds(total), s.Parallel)
	if len(p.Waking(v.Seen)) > 0 {
		fmt.Fprint(a.out, " Machines that were not reached come first; what they need shows then.")
	}
	if p.More {
		fmt.Fprint(a.out, " What comes after them is planned anew then.")
	}
	fmt.Fprintln(a.out)
	for _, r := range p.Removes {
		fmt.Fprintf(a.out, "Removes %s.\n", r)
	}
	for _, e := range p.Endangers {
		fmt.Fprintf(a.out, "Careful: %s.\n", e)
	}
}

// inShort says what a plan comes to that is longer than a screen: each kind of
// step once, in the order in which they begin.
func (a *app) inShort(p *plan.Plan, slots []plan.Slot) {
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
	var rows [][]cell
	for _, o := range order {
		k := kinds[o]
		on := strings.Join(k.on, ", ")
		switch {
		case len(k.on) == 0:
			on = "the cluster"
		case len(k.on) > 3:
			on = words.Count(len(k.on), "machine")
		}
		final := cell{}
		if k.final > 0 {
			final = cell{fmt.Sprint(k.final), "attention"}
		}
		rows = append(rows, []cell{plain(string(o)), plain(fmt.Sprint(k.steps)), final, plain(seconds(k.from)), plain(seconds(k.until)), plain(on)})
	}
	fmt.Fprintf(a.out, "In short, before the %s one by one:\n\n", words.Count(len(p.Steps), "step"))
	a.ui.table([]string{"kind", "steps", "final", "from", "until", "on"}, rows)
	fmt.Fprintln(a.out)
}

// kindsText says what each kind of step does.
func kindsText() string {
	var b strings.Builder
	for _, k := range plan.Kinds {
		fmt.Fprintf(&b, "  %-9s %s\n", k.Kind, k.Does)
	}
	return strings.TrimRight(b.String(), "\n")
}

// mostLines is how many differing lines of a step are shown, unless all are
// asked for.
const mostLines = 6

// pictureTones show what a step does to a machine.
var pictureTones = map[plan.Effect]report.Tone{plan.Brings: report.Bring, plan.Starts: report.Run, plan.Away: report.Away, plan.Waits: report.Wait, plan.Removes: report.Removal}

// mostRows is how many machines a picture shows: more cannot be told apart.
const mostRows = 200

// drawPlan writes the plan as a picture: machines down, time across.
func (a *app) drawPlan(s *session.Session, p *plan.Plan, slots []plan.Slot, total time.Duration, file string) error {
	format := strings.TrimPrefix(filepath.Ext(file), ".")
	if !slices.Contains(report.Formats, format) {
		return usage("a picture %s cannot be drawn; give a file that ends in .svg or .png", file)
	}
	t := &report.Timeline{Title: fmt.Sprintf("Plan of cluster %s: %s, about %s", s.Decl.Name, words.Count(len(p.Steps), "step"), seconds(total)),
		Note: "Durations from the journal; of what was never done here, as a rule."}
	at := map[string]int{}
	for _, slot := range slots {
		name := slot.Step.Machine
		if name == "" {
			name = "cluster"
		}
		i, ok := at[name]
		if !ok {
			i = len(t.Rows)
			at[name] = i
			t.Rows = append(t.Rows, report.Row{Name: name})
		}
		t.Rows[i].Bars = append(t.Rows[i].Bars, report.Bar{From: slot.From, To: slot.To, Text: string(slot.Step.Kind), Tone: pictureTones[slot.Step.Kind.About().Effect]})
	}
	t.Lanes()
	if more := len(t.Rows) - mostRows; more > 0 {
		t.Rows = t.Rows[:mostRows]
		t.Note += fmt.Sprintf(" %d more machines are not shown.", more)
	}
	var b bytes.Buffer
	if err := t.Draw(&b, format); err != nil {
		return err
	}
	if err := whole.Write(file, b.Bytes(), 0o644); err != nil {
		return err
	}
	a.ui.say("drew %s", file)
	return nil
}
