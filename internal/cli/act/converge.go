package act

import (
	"path/filepath"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
)

// ConvergeCmd is verbund converge.
func ConvergeCmd(a *desk.App) *cobra.Command {
	var only, file string
	c := &cobra.Command{
		Use: "converge", Short: "Bring about what is declared: raise, grow, shrink, upgrade, repair", Args: term.NoArgs,
		Long: `Looks at what is there, does what is missing, and says what happened where and
how long it took. It can be interrupted at any moment and run again: it goes on.

With --only it does one part: control (control plane, datastore and what answers
at the endpoint), addons, or a pool. What the rest has to precede is refused, and
what is left is said.

With --plan it carries out a plan that plan --save has written: exactly that, or
nothing, and then it says what is different by now.`,
		RunE: func(*cobra.Command, []string) error {
			s, r, err := a.OpenFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			w := a.Work(s, r)
			if file == "" {
				return w.Converge("converge", only, nil)
			}
			if only != "" {
				return term.Usage("--plan and --only do not go together: the plan says of which part it is")
			}
			if w.Agreed, err = openPlan(file); err != nil {
				return err
			}
			return w.Converge("converge --plan "+filepath.Base(file), w.Agreed.Plan.Only, nil)
		},
	}
	c.Flags().StringVar(&only, "only", "", "one part: control, addons, or the name of a pool")
	c.Flags().StringVar(&file, "plan", "", "carry out the plan in this file, or nothing")
	return a.Drains(c)
}
