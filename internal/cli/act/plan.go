package act

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/plan"
	"verbund/internal/core/words"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/report"
)

// PlanCmd is verbund plan.
func PlanCmd(a *desk.App) *cobra.Command {
	var code bool
	var only, picture, to, save, within string
	c := &cobra.Command{
		Use: "plan", Short: "Show what would be done, why, in which order, and how long it takes", Args: term.NoArgs,
		Long: `Looks at the site, the machines, the datastore and the API, and shows the steps
that lead to what is declared: what is missing, what is too much, and what differs,
down to the line of a machine's file that was changed by hand. It changes nothing
and waits for no lock.

How long it takes is reckoned from the durations in the journal; of what was never
done here, from what is usual.

Where machines are rolled out, it says first what that comes to, group by group, and
shows the single steps where they are few, or with --steps.

The kinds of steps:
` + kindsText(),
		Example: "  verbund plan --steps\n  verbund plan --to v1.37.2\n  verbund plan --picture plan.svg\n  verbund plan --only gauges --exit-code\n  verbund plan --save tonight.plan --within 12h",
		RunE: func(*cobra.Command, []string) error {
			if save != "" && to != "" {
				return term.Usage("--save and --to do not go together: a plan is saved of what is declared")
			}
			s, err := a.OpenTo(to)
			if err != nil {
				return err
			}
			defer s.Close()
			p, v, err := look.PlanPart(a.Soft, s, only)
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
			case a.Output == "json":
				err = a.UI.JSON(a.PlanReport(s, p, v, slots, total, left))
			default:
				a.ShowPlan(s, p, v, slots, total)
				if text := converge.Left(left); text != "" {
					a.UI.Say("%s", text)
				}
			}
			if err == nil && save != "" {
				err = savePlan(a, s, v, p, only, save, within)
			}
			if err == nil && picture != "" {
				err = drawPlan(a, s, p, slots, total, picture)
			}
			if err == nil && code && (len(p.Steps) > 0 || p.Held) {
				return &term.Exit{Code: term.ExitNotWell}
			}
			return err
		},
	}
	c.Flags().BoolVar(&code, "exit-code", false, "exit 3 when there is something to do")
	c.Flags().StringArrayVar(&a.MayLose, "may-lose", nil, "label selector of pods that may be lost for good, as for converge")
	c.Flags().StringVar(&only, "only", "", "one part: control, addons, or the name of a pool")
	c.Flags().StringVar(&to, "to", "", "as if this version were declared, which is not written down")
	c.Flags().BoolVar(&a.Steps, "steps", false, "show the steps of a roll-out one by one, too")
	c.Flags().StringVar(&picture, "picture", "", "also draw it into a file that ends in .svg or .png")
	c.Flags().StringVar(&save, "save", "", "also save it into a file, for converge --plan")
	c.Flags().StringVar(&within, "within", "24h", "with --save: how long it may be carried out")
	c.AddCommand(planShowCmd(a), planApproveCmd(a))
	return c
}

// kindsText says what each kind of step does.
func kindsText() string {
	var b strings.Builder
	for _, k := range plan.Kinds {
		fmt.Fprintf(&b, "  %-9s %s\n", k.Kind, k.Does)
	}
	return strings.TrimRight(b.String(), "\n")
}

// pictureTones show what a step does to a machine.
var pictureTones = map[plan.Effect]report.Tone{plan.Brings: report.Bring, plan.Starts: report.Run, plan.Away: report.Away, plan.Waits: report.Wait, plan.Removes: report.Removal}

// mostRows is how many machines a picture shows: more cannot be told apart.
const mostRows = 200

// drawPlan writes the plan as a picture: machines down, time across.
func drawPlan(a *desk.App, s *session.Session, p *plan.Plan, slots []plan.Slot, total time.Duration, file string) error {
	t := &report.Timeline{Title: fmt.Sprintf("Plan of cluster %s: %s, about %s", s.Decl.Name, words.Count(len(p.Steps), "step"), term.Seconds(total)),
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
	return a.DrawTo(file, t)
}
