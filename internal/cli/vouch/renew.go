package vouch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/memory"
	"verbund/internal/core/words"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
)

func trustRenewCmd(a *desk.App) *cobra.Command {
	var machines, kinds []string
	var all bool
	c := &cobra.Command{
		Use: "renew [CERTIFICATE…]", Short: "Make certificates anew, with new keys, before they end",
		Long: `Without arguments it renews what is due, as converge does. With names, machines or
kinds it renews those, due or not. New keys are made and staged first; then one
control-plane machine after the other takes them up, and the workers in the batches
of their pools. A machine that does not become well with its new pair gets the old
one back, and nothing else is touched. A kubelet that renews by itself is made to
ask anew.`,
		Example: "  verbund trust renew\n  verbund trust renew --machine tidewatch-control-1\n  verbund trust renew --kind proxy",
		RunE: func(_ *cobra.Command, args []string) error {
			s, r, err := a.OpenFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			ids, err := chosen(a, s, args, machines, kinds, all)
			if err != nil {
				return err
			}
			command := strings.Join(append([]string{"trust renew"}, args...), " ")
			if len(ids) == 0 {
				return a.Work(s, r).Converge(command, "", nil)
			}
			if !s.Store.Exists() {
				return session.ErrNoTrust
			}
			s.Asking = ids
			return a.Work(s, r).Converge(command, "", &converge.Change{Text: fmt.Sprintf("%s to be renewed", words.Are(len(ids), "certificate")), Write: func() error {
				s.Asking = nil // it is remembered from now on
				return s.Remember(func(st *memory.State) { st.Ask(ids...) })
			}})
		},
	}
	c.Flags().StringSliceVar(&machines, "machine", nil, "all certificates of this machine")
	c.Flags().StringSliceVar(&kinds, "kind", nil, "all certificates of this kind, such as proxy or api-server")
	c.Flags().BoolVar(&all, "all", false, "every certificate of the cluster")
	return a.Asks(c)
}

// chosen finds the certificates that somebody named.
func chosen(a *desk.App, s *session.Session, names, machines, kinds []string, all bool) ([]string, error) {
	if len(names)+len(machines)+len(kinds) == 0 && !all {
		return nil, nil
	}
	c, err := s.Topology()
	if err != nil {
		return nil, err
	}
	var known, ids []string
	found := map[string]bool{}
	for _, q := range vouch.Known(c) {
		known = append(known, q.ID)
		if all || slices.Contains(names, q.ID) || slices.Contains(machines, q.Machine) && q.Machine != "" || slices.Contains(kinds, q.Name) {
			ids = append(ids, q.ID)
		}
		found[q.ID], found[q.Machine], found[q.Name] = true, true, true
	}
	for _, n := range slices.Concat(names, machines, kinds) {
		if !found[n] {
			return nil, term.Usage("there is no certificate, machine or kind %s; %s", n, cmp.Or(term.Suggestion(n, append(known, slices.Collect(maps.Keys(found))...)), "trust list names them"))
		}
	}
	return ids, nil
}
