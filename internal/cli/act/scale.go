package act

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
)

// ScaleCmd is verbund scale.
func ScaleCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{
		Use: "scale POOL COUNT", Short: "Change the count of a pool in the declaration, then converge", Args: term.ExactArgs(2, "a pool and a count"),
		Long: `Changes just that value in the declaration: comments, order, quotes and blank
lines stay as they are. Where the declaration gives a range, the count moves inside
it without a change of the file. Then it converges.`,
		Example: "  verbund scale gauges 5",
		RunE: func(_ *cobra.Command, args []string) error {
			n, err := strconv.Atoi(args[1])
			if err != nil || n < 0 {
				return term.Usage("%q is not a number of machines", args[1])
			}
			return a.Edit(fmt.Sprintf("scale %s %d", args[0], n), desk.Wish{}, func(r *declare.Result) (string, func([]byte) ([]byte, error), error) {
				i := slices.IndexFunc(r.Decl.Pools, func(p declare.Pool) bool { return p.Name == args[0] })
				if i < 0 {
					var known []string
					for _, p := range r.Decl.Pools {
						known = append(known, p.Name)
					}
					return "", nil, term.Usage("cluster %s has no pool %q; it has %s", r.Decl.Name, args[0], strings.Join(known, ", "))
				}
				if now := r.Decl.Pools[i].Count; now.IsRange() {
					if n < now.From || n > now.To {
						return "", nil, term.Usage("pool %s is declared with %s machines, and %d is not among them; change the range there", args[0], now, n)
					}
					return "", nil, nil // it is remembered
				}
				return "pools[" + args[0] + "].count", func(b []byte) ([]byte, error) { return declare.SetCount(b, args[0], n) }, nil
			}, args[0], n)
		},
	}
	return a.Drains(c)
}
