package act

import (
	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
)

// ClearCmd is verbund clear.
func ClearCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "clear [MACHINE…]", Short: "Take machines back to bare ones that are kept for the next try",
		Long: `Takes machines out of the cluster and wipes them; they are kept, with their
addresses and host keys, and the next converge brings them in again. Without a
machine it clears all of them: everything in the cluster is lost, and converge
raises the same cluster again, with the same authorities.`,
		Example: "  verbund clear tidewatch-gauges-2\n  verbund clear --confirm tidewatch",
		RunE: func(_ *cobra.Command, args []string) error {
			s, r, err := a.OpenFile(false)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.Work(s, r).Clear(args)
		},
	}
	return a.Drains(c)
}
