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
	"verbund/internal/core/trust"
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
				return s.Store.SaveAsked(ids, true)
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
