package act

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/engine/session"
)

// TeardownCmd is verbund teardown.
func TeardownCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "teardown", Short: "Remove the cluster and everything that it left", Args: term.NoArgs,
		Long: "Gives back every machine with its disk and address, takes the cluster's entry out\nof the kubeconfig files that it was merged into, and stops the site if nobody else\nuses it. What stays: the declaration with its pins and its schema for editors, the\nsite file, the journal, and backups with what opens them: a file beside them, which\nthe key of the store opens. Of a copy, which backup restore --as raised, nothing stays.",
		RunE: func(*cobra.Command, []string) error {
			path, err := a.FindDeclaration()
			if err != nil {
				return err
			}
			s, r, err := a.OpenPath(path, false)
			if err != nil {
				return err
			}
			defer s.Close()
			remembered := s.Store.Exists() // then its name is asked for
			if err := a.Work(s, r).Teardown(); err != nil || s.Decl.CopyOf == "" {
				return err
			}
			if !remembered {
				if err := a.Ask(fmt.Sprintf("Remove %s, which declares the copy?", path)); err != nil {
					return err
				}
			}
			return forget(a, s, path, r.PinsFile)
		},
	}
	return a.Asks(c)
}

// forget removes what is left here of a copy that is torn down: all of it can be had again from
// the backup that it was raised from.
func forget(a *desk.App, s *session.Session, path, pins string) error {
	for _, f := range []string{s.Store.Folder(), pins, path} {
		if f == "" {
			continue
		}
		if err := os.RemoveAll(f); err != nil {
			return fmt.Errorf("removing what is left of copy %s: %w", s.Decl.Name, err)
		}
	}
	a.UI.Say("removed %s, and what was remembered of the copy", path)
	return nil
}
