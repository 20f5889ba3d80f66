package act

import (
	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
)

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

func TeardownCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "teardown", Short: "Remove the cluster and everything that it left", Args: term.NoArgs,
		Long: "Gives back every machine with its disk and address, takes the cluster's entry out\nof the kubeconfig files that it was merged into, and stops the site if nobody else\nuses it. What stays: the declaration with its pins and its schema for editors, the\nsite file, the journal, and backups with what opens them: a file beside them, which\nthe key of the store opens.",
		RunE: func(*cobra.Command, []string) error {
			s, r, err := a.OpenFile(false)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.Work(s, r).Teardown()
		},
	}
	return a.Asks(c)
}
