package act

import (
	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
)

// UpgradeCmd is verbund upgrade.
func UpgradeCmd(a *desk.App) *cobra.Command {
	var only, toHop string
	c := &cobra.Command{
		Use: "upgrade VERSION", Short: "Change the version in the declaration, then converge", Args: term.ExactArgs(1, "a version; versions lists them"),
		Long: `Changes just the version in the declaration: comments, order, quotes and blank
lines stay as they are. Then it converges: backup, control plane, add-ons, pools.

Over several minors it goes hop by hop in one run: the control plane minor by minor,
each after a backup and with the add-ons that fit it, and the workers as late as the
skew rules allow, so that each is drained as few times as can be. It is asked about
once, and can be interrupted at any hop and run again.`,
		Example: "  verbund upgrade v1.37.2\n  verbund upgrade v1.37.2 --to-hop v1.36\n  verbund upgrade v1.37.2 --only control",
		RunE: func(_ *cobra.Command, args []string) error {
			return a.Edit("upgrade "+args[0], desk.Wish{Only: only, ToHop: toHop}, func(r *declare.Result) (string, func([]byte) ([]byte, error), error) {
				if err := desk.Reachable(r, args[0]); err != nil {
					return "", nil, err
				}
				if m := versions.Minor(toHop); toHop != "" && (m <= versions.Minor(r.Decl.Kubernetes)-1 || m > versions.Minor(args[0])) {
					return "", nil, term.Usage("%s is no hop on the way from %s to %s; write a minor such as v1.%d", toHop, r.Decl.Kubernetes, args[0], versions.Minor(args[0])-1)
				}
				return "kubernetes", func(b []byte) ([]byte, error) { return declare.SetKubernetes(b, args[0]) }, nil
			}, "", 0)
		},
	}
	c.Flags().StringVar(&only, "only", "", "one part: control, addons, or the name of a pool")
	c.Flags().StringVar(&toHop, "to-hop", "", "stop when the control plane runs this minor, and is well")
	return a.Drains(c)
}
