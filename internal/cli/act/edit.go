package act

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/engine/converge"
	"verbund/internal/whole"
)

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
			return edit(a, fmt.Sprintf("scale %s %d", args[0], n), func(r *declare.Result) (string, func([]byte) ([]byte, error), error) {
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

// edit converges to the declaration with one value changed. value says which
// one it is and how the file is changed; no way to change it means that the
// declaration allows it already, and that the count of a pool is remembered. The
// file is written when the person has agreed, and when nothing is in the way.
func edit(a *desk.App, command string, value func(*declare.Result) (string, func([]byte) ([]byte, error), error), pool string, count int) error {
	path, err := a.FindDeclaration()
	if err != nil {
		return err
	}
	_, r, err := a.OpenPath(path, false)
	if err != nil {
		return err
	}
	if _, ok := term.IsTerminal(a.In); !ok && !a.Yes {
		return a.Ask("")
	}
	at, f, err := value(r)
	if err != nil {
		return err
	}
	if f == nil {
		s, r, err := a.OpenPath(path, true)
		if err != nil {
			return err
		}
		defer s.Close()
		s.Counts = map[string]int{pool: count}
		return a.Work(s, r).Converge(command, "", &converge.Change{Text: fmt.Sprintf("pool %s is to have %d machines, inside its declared range", pool, count), Write: func() error { return s.Store.SaveCount(pool, count) }})
	}
	if file, line, ok := r.Where(at); ok && file != r.File {
		return term.Usage("%s is given in line %d of %s, which this declaration extends and which others may extend too; change it there, or give it here", at, line, desk.Under(file))
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	i, err := os.Stat(path)
	if err != nil {
		return err
	}
	out, err := f(data)
	if errors.Is(err, declare.ErrElsewhere) {
		return term.Usage("%s does not stand in %s; write it there first", at, path)
	}
	if err != nil {
		return fmt.Errorf("changing %s in %s: %w", at, path, err)
	}
	s, r, err := a.OpenAs(path, out, true)
	if err != nil {
		return err
	}
	defer s.Close()
	if bytes.Equal(out, data) {
		return a.Work(s, r).Converge(command, "", nil)
	}
	return a.Work(s, r).Converge(command, "", &converge.Change{Text: fmt.Sprintf("changed %s in %s", at, path), Write: func() error {
		// Somebody may have written it meanwhile, while the question stood.
		now, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if !bytes.Equal(now, data) {
			return fmt.Errorf("%s was changed meanwhile by something else; nothing was written, run the same command again", path)
		}
		return whole.Write(path, out, i.Mode().Perm())
	}})
}
