package look

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/store"
)

// HistoryCmd is verbund history.
func HistoryCmd(a *desk.App) *cobra.Command {
	against := false
	c := &cobra.Command{
		Use: "history [RUN|last]", Short: "Show the journal: runs, or the steps of one run and where the time went",
		Example: "  verbund history\n  verbund history last --against",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			es, bad, err := s.Store.Entries()
			if err != nil {
				return err
			}
			if bad > 0 {
				a.UI.Say("%s of the journal cannot be read and left out", words.Count(bad, "line"))
			}
			if len(args) > 1 {
				return term.Usage("history takes one run")
			}
			if len(args) == 1 && args[0] == "last" {
				for _, e := range slices.Backward(es) {
					if e.Kind == store.RunBegan {
						return historyOf(a, es, e.Run, against)
					}
				}
				return fmt.Errorf("nothing was done yet in cluster %s", s.Decl.Name)
			}
			if len(args) == 1 {
				return historyOf(a, es, args[0], against)
			}
			if against {
				return term.Usage("--against wants a run, or last")
			}
			return historyRuns(a, es)
		},
	}
	c.Flags().BoolVar(&against, "against", false, "hold how long it took against what was reckoned when it began")
	return c
}

func historyRuns(a *desk.App, es []store.Entry) error {
	runs := []*RunSaid{}
	by := map[string]*RunSaid{}
	for _, e := range es {
		r := by[e.Run]
		if r == nil {
			r = &RunSaid{Run: e.Run, Who: e.Who, Began: e.Time, Outcome: "cut off, or still running"}
			by[e.Run] = r
			runs = append(runs, r)
		}
		r.Seconds = e.Time.Sub(r.Began).Seconds()
		switch e.Kind {
		case store.RunBegan:
			r.Command = e.Text
		case store.StepDone:
			r.Steps++
		case store.StepFailed:
			r.Error = e.Step
		case store.RunEnded:
			r.Outcome = e.Outcome
		}
	}
	if a.Output == "json" {
		return a.UI.JSON(runs)
	}
	var rows [][]term.Cell
	for _, r := range slices.Backward(runs) {
		out := term.Cell{Text: r.Outcome, State: map[string]string{"done": "good", "failed": "bad"}[r.Outcome]}
		if out.State == "" {
			out.State = "attention"
		}
		if r.Error != "" {
			out.Text += " at " + r.Error
		}
		rows = append(rows, []term.Cell{term.Plain(r.Run), term.Plain(r.Command), term.Plain(r.Began.Local().Format("2006-01-02 15:04:05")), term.Plain(term.Seconds(time.Duration(r.Seconds * 1e9))), term.Plain(fmt.Sprint(r.Steps)), out})
	}
	head := []string{"run", "command", "began", "took", "steps", "outcome"}
	if slices.ContainsFunc(runs, func(r *RunSaid) bool { return r.Who != "" }) {
		head = slices.Insert(head, 2, "who")
		for i, r := range slices.Backward(runs) {
			rows[len(runs)-1-i] = slices.Insert(rows[len(runs)-1-i], 2, term.Plain(cmp.Or(r.Who, "–")))
		}
	}
	a.UI.Table(head, rows)
	return nil
}

func historyOf(a *desk.App, es []store.Entry, run string, against bool) error {
	es = slices.DeleteFunc(es, func(e store.Entry) bool { return e.Run != run })
	if len(es) == 0 {
		return fmt.Errorf("there is no run %s; history lists them", run)
	}
	if a.Output == "json" {
		return a.UI.JSON(es)
	}
	began := es[0].Time
	var rows [][]term.Cell
	total := 0.0
	for _, e := range es {
		switch e.Kind {
		case store.StepDone, store.StepFailed:
			total += e.Seconds
			st := term.Cell{Text: e.Text, State: map[string]string{store.StepFailed: "bad"}[e.Kind]}
			start := e.Time.Sub(began).Seconds() - e.Seconds
			rows = append(rows, []term.Cell{term.Plain(fmt.Sprintf("%6.1f", max(start, 0))), term.Plain(fmt.Sprintf("%5.1f s", e.Seconds)), term.Plain(cmp.Or(e.Where, "cluster")), st})
			if e.Error != "" {
				rows = append(rows, []term.Cell{term.Plain(""), term.Plain(""), term.Plain(""), {Text: "  " + e.Error, State: "bad"}})
			}
			for _, l := range e.Log {
				rows = append(rows, term.Cells("", "", "", "  "+l))
			}
		case store.Note:
			rows = append(rows, term.Cells(fmt.Sprintf("%6.1f", e.Time.Sub(began).Seconds()), "", cmp.Or(e.Where, "cluster"), e.Text))
		}
	}
	a.UI.Table([]string{"second", "took", "where", "what"}, rows)
	wall := es[len(es)-1].Time.Sub(began).Seconds()
	fmt.Fprintf(a.Out, "\n%.1f seconds, in which steps of together %.1f seconds ran beside each other.\n", wall, total)
	if out := slices.Sorted(maps.Values(look.OutOfService(es))); len(out) > 0 {
		fmt.Fprintf(a.Out, "%s went out of service and came back, each for about %.1f seconds, %.1f at most.\n", words.Count(len(out), "machine"), out[len(out)/2], out[len(out)-1])
	}
	if against {
		if es[0].Predicted == 0 {
			fmt.Fprintln(a.Out, "Nothing was reckoned beforehand: it was done by an older Verbund, or had no steps.")
			return nil
		}
		fmt.Fprintf(a.Out, "It was reckoned to take %.1f seconds when it began: %+.0f %% of that.\n", es[0].Predicted, (wall-es[0].Predicted)/es[0].Predicted*100)
	}
	return nil
}

// RunSaid is one run of the journal, as JSON.
type RunSaid struct {
	Run     string    `json:"run"`
	Who     string    `json:"who,omitempty"` // did it, where others share the memory
	Command string    `json:"command"`
	Began   time.Time `json:"began"`
	Seconds float64   `json:"seconds"`
	Steps   int       `json:"steps"` // that were done
	Outcome string    `json:"outcome"`
	Error   string    `json:"error,omitempty"` // the step that failed
}
