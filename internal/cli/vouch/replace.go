package vouch

import (
	"cmp"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/trust"
)

func trustReplaceCmd(a *desk.App) *cobra.Command {
	var now, skip bool
	var pass int
	c := &cobra.Command{
		Use: "replace " + strings.Join(trust.Replaceable, "|"), Short: "Replace an authority or a key, in three passes and without a gap", Args: term.ExactArgs(1, "one of "+strings.Join(trust.Replaceable, ", ")),
		Long: `First pass: old and new are trusted everywhere. Second: everything is signed anew by
the new one. Third: the old one is trusted nowhere any more, which is then proven.
Each pass goes over the whole cluster, machine by machine; interrupted, the same
command goes on where it was. Kubeconfig files into which access was merged are kept
working; others that were given away end with the third pass.

--pass 1 or 2 stops after that pass, to leave time for what others hold. --now is
for a key that was stolen: the old one is distrusted first, and everybody who has
not been given something new is cut off until then.`,
		Example: "  verbund trust replace cluster-authority\n  verbund trust replace datastore-authority --pass 1",
		RunE: func(_ *cobra.Command, args []string) error {
			if err := trust.CheckReplaceable(args[0]); err != nil {
				return term.Usage("%v", err)
			}
			if now && args[0] == trust.SecretsKey {
				return term.Usage("--now cannot be said of %s: what it encrypted has to be read before it goes; without --now that is done, and the old key goes at the end", args[0])
			}
			if pass < 0 || pass > 3 || now && pass > 0 {
				return term.Usage("--pass takes 1, 2 or 3, and not together with --now")
			}
			s, r, err := a.OpenFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.Work(s, r).ReplaceAuthority(args[0], now, skip, trust.Pass(cmp.Or(pass, 3)))
		},
	}
	c.Flags().BoolVar(&now, "now", false, "distrust the old one first: its key was stolen")
	c.Flags().IntVar(&pass, "pass", 0, "stop after this pass")
	c.Flags().BoolVar(&skip, "skip-wait", false, "of service-account: do not wait for tokens that were asked for by hand")
	return a.Asks(c)
}
