package act

import (
	"fmt"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
)

// ReplaceCmd is verbund replace.
func ReplaceCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "replace MACHINE", Short: "Put a new machine in the place of one that is beyond help", Args: term.ExactArgs(1, "a machine; machines lists them"),
		Long: `Takes the machine out of the cluster, dead or alive, gives it back to the site with
its disk, forgets its host key and its certificates, and converges: a new machine of
the same name takes its place. Interrupted, converge goes on with it, and so does
the same command.`,
		RunE: func(_ *cobra.Command, args []string) error {
			s, r, err := a.OpenFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			if !s.Store.Exists() {
				return fmt.Errorf("there is nothing of cluster %s here", s.Decl.Name)
			}
			return a.Work(s, r).Replace("replace "+args[0], args[0])
		},
	}
	return a.Drains(c)
}
