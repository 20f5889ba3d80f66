package look

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
)

// SurveyCmd is verbund survey.
func SurveyCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "survey", Short: "Hold the machines against what the declaration needs", Args: term.NoArgs,
		Long: `Logs in to every declared machine, all in parallel, and asks: login, host key,
rights, size, versions component by component, clock, address, ports, the other
machines, names, the registry's artefacts under their digests, room for two slots,
left-overs of an earlier life. And the site: credential and capacity.

"later" is what converge sees to. Exit code 3 when something is wrong that it does
not see to. It changes nothing; converge asks the same before it changes anything.`,
		RunE: func(*cobra.Command, []string) error {
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			if err := look.Unseen(s, v); err != nil {
				return err
			}
			answers := look.Survey(a.Soft, s, v, look.SurveyOptions{})
			if a.Output == "json" {
				err = a.UI.JSON(answers)
			} else {
				showSurvey(a, answers)
			}
			if err == nil && slices.ContainsFunc(answers, bad) {
				return &term.Exit{Code: term.ExitNotWell}
			}
			return err
		},
	}
}

func bad(x look.Answer) bool { return x.State == look.Bad }

// words of the states, and how they count.
var stateCells = map[look.State]term.Cell{look.Well: {Text: "yes", State: "good"}, look.Later: {Text: "later", State: "attention"}, look.Bad: {Text: "NO", State: "bad"}, look.Unasked: {Text: "-", State: ""}}

func showSurvey(a *desk.App, answers []look.Answer) {
	head := []string{"machine"}
	for _, q := range look.Questions {
		head = append(head, string(q))
	}
	var rows [][]term.Cell
	for _, x := range answers {
		if x.Machine == "" {
			continue
		}
		if len(rows) == 0 || rows[len(rows)-1][0].Text != x.Machine {
			rows = append(rows, []term.Cell{term.Plain(x.Machine)})
		}
		rows[len(rows)-1] = append(rows[len(rows)-1], stateCells[x.State])
	}
	if len(rows) > 0 {
		a.UI.Table(head, rows)
		fmt.Fprintln(a.Out)
	}
	wrong, later := 0, 0
	rows = nil
	for _, x := range answers {
		switch x.State {
		case look.Bad:
			wrong++
			rows = append(rows, []term.Cell{term.Plain(cmp.Or(x.Machine, "site")), term.Plain(string(x.Question)), {Text: "NO", State: "bad"}, term.Plain(x.Found)}, term.Cells("", "", "", "what now: "+cmp.Or(x.Todo, "look at the machine")))
		case look.Later:
			later++
			rows = append(rows, []term.Cell{term.Plain(cmp.Or(x.Machine, "site")), term.Plain(string(x.Question)), {Text: "later", State: "attention"}, term.Plain(x.Found)})
		}
	}
	if len(rows) > 0 {
		a.UI.Table([]string{"where", "question", "answer", "found"}, rows)
		fmt.Fprintln(a.Out)
	}
	switch {
	case wrong > 0:
		fmt.Fprintf(a.Out, "%s somebody has to see to; converge does nothing with what they concern before that.\n", words.Count(wrong, "thing"))
	case later > 0:
		fmt.Fprintf(a.Out, "Nothing is in the way; converge sees to %s.\n", words.Count(later, "thing"))
	default:
		fmt.Fprintln(a.Out, "Everything is as the declaration needs it.")
	}
}
