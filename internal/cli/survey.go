package cli

import (
	"cmp"
	"fmt"
	"slices"

	"verbund/internal/core/words"
	"verbund/internal/engine/look"

	"github.com/spf13/cobra"
)

func (a *app) surveyCmd() *cobra.Command {
	return &cobra.Command{
		Use: "survey", Short: "Hold the machines against what the declaration needs", Args: noArgs,
		Long: `Logs in to every declared machine, all in parallel, and asks: login, host key,
rights, size, versions component by component, clock, address, ports, the other
machines, names, the registry's artefacts under their digests, room for two slots,
left-overs of an earlier life. And the site: credential and capacity.

"later" is what converge sees to. Exit code 3 when something is wrong that it does
not see to. It changes nothing; converge asks the same before it changes anything.`,
		RunE: func(*cobra.Command, []string) error {
			s, v, err := a.view()
			if err != nil {
				return err
			}
			defer s.Close()
			if err := look.Unseen(s, v); err != nil {
				return err
			}
			answers := look.Survey(a.soft, s, v, look.SurveyOptions{})
			if a.output == "json" {
				err = a.ui.json(answers)
			} else {
				a.showSurvey(answers)
			}
			if err == nil && slices.ContainsFunc(answers, bad) {
				return &exit{code: exitNotWell}
			}
			return err
		},
	}
}

func bad(x look.Answer) bool { return x.State == look.Bad }

// words of the states, and how they count.
var stateCells = map[look.State]cell{look.Well: {"yes", "good"}, look.Later: {"later", "attention"}, look.Bad: {"NO", "bad"}, look.Unasked: {"-", ""}}

func (a *app) showSurvey(answers []look.Answer) {
	head := []string{"machine"}
	for _, q := range look.Questions {
		head = append(head, string(q))
	}
	var rows [][]cell
	for _, x := range answers {
		if x.Machine == "" {
			continue
		}
		if len(rows) == 0 || rows[len(rows)-1][0].text != x.Machine {
			rows = append(rows, []cell{plain(x.Machine)})
		}
		rows[len(rows)-1] = append(rows[len(rows)-1], stateCells[x.State])
	}
	if len(rows) > 0 {
		a.ui.table(head, rows)
		fmt.Fprintln(a.out)
	}
	wrong, later := 0, 0
	rows = nil
	for _, x := range answers {
		switch x.State {
		case look.Bad:
			wrong++
			rows = append(rows, []cell{plain(cmp.Or(x.Machine, "site")), plain(string(x.Question)), {"NO", "bad"}, plain(x.Found)}, cells("", "", "", "what now: "+cmp.Or(x.Todo, "look at the machine")))
		case look.Later:
			later++
			rows = append(rows, []cell{plain(cmp.Or(x.Machine, "site")), plain(string(x.Question)), {"later", "attention"}, plain(x.Found)})
		}
	}
	if len(rows) > 0 {
		a.ui.table([]string{"where", "question", "answer", "found"}, rows)
		fmt.Fprintln(a.out)
	}
	switch {
	case wrong > 0:
		fmt.Fprintf(a.out, "%s somebody has to see to; converge would stop before changing anything.\n", words.Count(wrong, "thing"))
	case later > 0:
		fmt.Fprintf(a.out, "Nothing is in the way; converge sees to %s.\n", words.Count(later, "thing"))
	default:
		fmt.Fprintln(a.out, "Everything is as the declaration needs it.")
	}
}
