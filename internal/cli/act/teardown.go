package act

import (
	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
)

// TeardownCmd is verbund teardown.
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
