package act

import (
	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
)

// ConvergeCmd is verbund converge.
func ConvergeCmd(a *desk.App) *cobra.Command {
	var only string
	c := &cobra.Command{
		Use: "converge", Short: "Bring about what is declared: raise, grow, shrink, upgrade, repair", Args: term.NoArgs,
		Long: `Looks at what is there, does what is missing, and says what happened where and
how long it took. It can be interrupted at any moment and run again: it goes on.

With --only it does one part: control (control plane, datastore and what answers
at the endpoint), addons, or a pool. What the rest has to precede is refused, and
what is left is said.`,
		RunE: func(*cobra.Command, []string) error {
			s, r, err := a.OpenFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.Work(s, r).Converge("converge", only, nil)
		},
	}
	c.Flags().StringVar(&only, "only", "", "one part: control, addons, or the name of a pool")
	return a.Drains(c)
}
