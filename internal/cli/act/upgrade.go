package act

import (
	"errors"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
)

// UpgradeCmd is verbund upgrade.
func UpgradeCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "upgrade VERSION", Short: "Change the version in the declaration, then converge", Args: term.ExactArgs(1, "a version; versions lists them"),
		Long: `Changes just the version in the declaration: comments, order, quotes and blank
lines stay as they are. Then it converges: backup, control plane, add-ons, pools.`,
		Example: "  verbund upgrade v1.37.2",
		RunE: func(_ *cobra.Command, args []string) error {
			return edit(a, "upgrade "+args[0], func(r *declare.Result) (string, func([]byte) ([]byte, error), error) {
				if _, ok := r.Catalogue.Set(args[0]); !ok {
					return "", nil, term.Usage("Kubernetes %s is not in the catalogue; choose one of %s", args[0], strings.Join(r.Catalogue.Versions(), ", "))
				}
				if err := r.Catalogue.Hop(r.Decl.Kubernetes, args[0]); err != nil {
					var ref *versions.Refusal
					if errors.As(err, &ref) {
						return "", nil, term.Usage("%v; verbund versions --from %s --to %s shows the way", err, r.Decl.Kubernetes, args[0])
					}
					return "", nil, err
				}
				return "kubernetes", func(b []byte) ([]byte, error) { return declare.SetKubernetes(b, args[0]) }, nil
			}, "", 0)
		},
	}
	return a.Drains(c)
}
