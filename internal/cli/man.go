package cli

import (
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
)

// manCmd writes the manual pages of all commands, made from their help.
func manCmd(a *desk.App, root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use: "man DIR", Short: "Write the manual pages of all commands into a folder", Args: term.ExactArgs(1, "a folder"),
		Example: "  verbund man ~/.local/share/man/man1",
		RunE: func(_ *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			root.DisableAutoGenTag = true
			// The same program writes the same pages.
			date := time.Unix(0, 0).UTC()
			if err := doc.GenManTree(root, &doc.GenManHeader{Title: "VERBUND", Section: "1", Date: &date, Source: "verbund", Manual: "Verbund"}, args[0]); err != nil {
				return fmt.Errorf("writing the manual pages: %w", err)
			}
			a.UI.Say("wrote the manual pages into %s", args[0])
			return nil
		},
	}
}
