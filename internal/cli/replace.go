package cli

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verbund/internal/engine/act"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"

	"github.com/spf13/cobra"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/trust"
)

func (a *app) trustRenewCmd() *cobra.Command {
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
			s, r, err := a.openFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			ids, err := a.chosen(s, args, machines, kinds, all)
			if err != nil {
				return err
			}
			command := strings.Join(append([]string{"trust renew"}, args...), " ")
			if len(ids) == 0 {
				return a.converge(s, r, command, "", nil)
			}
			if !s.Store.Exists() {
				return session.ErrNoTrust
			}
			s.Asking = ids
			return a.converge(s, r, command, "", &change{fmt.Sprintf("%s to be renewed", isAre(len(ids), "certificate")), func() error {
				s.Asking = nil // it is remembered from now on
				return s.Store.SaveAsked(ids, true)
			}})
		},
	}
	c.Flags().StringSliceVar(&machines, "machine", nil, "all certificates of this machine")
	c.Flags().StringSliceVar(&kinds, "kind", nil, "all certificates of this kind, such as proxy or api-server")
	c.Flags().BoolVar(&all, "all", false, "every certificate of the cluster")
	return a.asks(c)
}

// chosen finds the certificates that somebody named.
func (a *app) chosen(s *session.Session, names, machines, kinds []string, all bool) ([]string, error) {
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
			return nil, usage("there is no certificate, machine or kind %s; %s", n, cmp.Or(suggestion(n, append(known, slices.Collect(maps.Keys(found))...)), "trust list names them"))
		}
	}
	return ids, nil
}

func (a *app) trustReplaceCmd() *cobra.Command {
	var now, skip bool
	var pass int
	c := &cobra.Command{
		Use: "replace " + strings.Join(trust.Replaceable, "|"), Short: "Replace an authority or a key, in three passes and without a gap", Args: exactArgs(1, "one of "+strings.Join(trust.Replaceable, ", ")),
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
				return usage("%v", err)
			}
			if now && args[0] == trust.SecretsKey {
				return usage("--now cannot be said of %s: what it encrypted has to be read before it goes; without --now that is done, and the old key goes at the end", args[0])
			}
			if pass < 0 || pass > 3 || now && pass > 0 {
				return usage("--pass takes 1, 2 or 3, and not together with --now")
			}
			s, r, err := a.openFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			release, err := a.locked(s, r, "trust replace "+args[0])
			if err != nil {
				return err
			}
			defer release()
			x := &replacing{app: a, s: s, r: r, id: args[0], now: now, skip: skip, last: trust.Pass(cmp.Or(pass, 3))}
			return x.run()
		},
	}
	c.Flags().BoolVar(&now, "now", false, "distrust the old one first: its key was stolen")
	c.Flags().IntVar(&pass, "pass", 0, "stop after this pass")
	c.Flags().BoolVar(&skip, "skip-wait", false, "of service-account: do not wait for tokens that were asked for by hand")
	return a.asks(c)
}

// replacing is one run of a replacement.
type replacing struct {
	*app
	s    *session.Session
	r    *declare.Result
	id   string
	now  bool
	skip bool
	last trust.Pass

	verified bool // the steps of this pass that were carried out last ended with a look at everything
}

// steps carries steps of the present pass out.
func (x *replacing) steps(v *look.View, steps []plan.Step) error {
	x.verified = steps[len(steps)-1].Kind == plan.Verify
	return x.carryOut(x.s, v, "trust replace "+x.id, steps)
}

func (x *replacing) run() error {
	p, v, err := look.Plan(x.soft, x.s)
	if err != nil {
		return err
	}
	under, err := x.s.Store.Replacements()
	if err != nil {
		return err
	}
	rep, begun := under[x.id]
	for id, other := range under {
		if id != x.id {
			way := "verbund trust replace " + id
			if id == trust.ServiceAccountKey && other.Pass == trust.Reissue {
				way += " --skip-wait, which ends the tokens that somebody asked for by hand instead of waiting for their end"
			}
			return usage("the replacement of %s is in pass %d; finish that one first: %s", id, other.Pass, way)
		}
	}
	if !begun {
		if !v.Seen.Founded {
			return usage("cluster %s has not been raised; converge makes its authorities", x.s.Decl.Name)
		}
		if len(p.Steps) > 0 && !x.now {
			var left []string
			for _, s := range p.Steps {
				left = append(left, fmt.Sprintf("\n  %s: %s, because %s", cmp.Or(s.Machine, "cluster"), s.Text, s.Why))
			}
			return &exit{exitNotWell, fmt.Errorf("%s to what is declared in cluster %s; converge first, so that a replacement changes nothing else%s", count(len(p.Steps), "step"), x.s.Decl.Name, strings.Join(left, ""))}
		}
	}
	if err := x.agree(v, rep, begun); err != nil {
		return err
	}
	if begun {
		x.ui.say("going on with the replacement of %s in pass %d of 3: %s", x.id, rep.Pass, rep.Pass)
	}
	for {
		if !begun || !rep.Done.IsZero() {
			if rep.Pass == trust.Drop {
				break
			}
			if begun && rep.Pass >= x.last {
				x.ui.say("stopped after pass %d of 3: %s; the same command without --pass goes on", rep.Pass, rep.Pass)
				return nil
			}
			if rep.Pass == trust.Reissue && x.id == trust.ServiceAccountKey && !x.skip && !rep.Now {
				if free := rep.Done.Add(vouch.TokenLife); time.Now().Before(free) {
					x.ui.say("pass 3 waits: tokens that somebody asked for by hand, and that no kubelet renews, may be in use until %s", free.Local().Format("15:04"))
					x.ui.say("what now: the same command after that, or with --skip-wait, which ends them")
					return nil
				}
			}
			if rep, err = vouch.NextPass(x.s, v.Cluster, x.id, x.now, time.Now()); err != nil {
				return err
			}
			begun = true
			x.ui.say("pass %d of 3: %s", rep.Pass, rep.Pass)
		}
		if err := x.pass(v, rep); err != nil {
			return err
		}
		if !x.verified {
			// Everybody may have been cut off, or a run that did something may have been.
			v.Seen.Now = rep.Now
			if err := x.steps(v, []plan.Step{plan.Last(nil)}); err != nil {
				return err
			}
		}
		if rep, err = vouch.PassDone(x.s, x.id, rep, time.Now()); err != nil {
			return err
		}
	}
	return x.prove()
}

// agree asks, and says who will be cut off.
func (x *replacing) agree(v *look.View, rep trust.Replacement, begun bool) error {
	name := x.s.Decl.Name
	gs, err := x.s.Store.Givens()
	if err != nil {
		return err
	}
	var people []string
	for _, g := range gs {
		if x.id == string(trust.Cluster) && time.Now().Before(g.Until) && g.Kind != "program" {
			people = append(people, fmt.Sprintf("%s (until %s)", g.Name, g.Until.Local().Format("15:04")))
		}
	}
	slices.Sort(people)
	if len(people) > 0 {
		x.ui.say("access that was given out and ends with the old authority: %s", strings.Join(people, ", "))
	}
	if x.now && !begun {
		cut := map[string]string{
			string(trust.Cluster): "every kubeconfig that was given out, and every node and component until its machine is written", string(trust.Datastore): "the API, until the datastore and the API servers are written",
			string(trust.FrontProxy): "extension API servers, until they trust the new authority", trust.ServiceAccountKey: "every program in a pod that uses the API, until its node has given it a new token",
		}[x.id]
		return x.askByName(name, fmt.Sprintf("in cluster %s, %s is distrusted at once: this cuts off %s", name, x.id, cut))
	}
	if begun && x.confirm == name {
		return nil // the same command goes on that began it
	}
	return x.ask(fmt.Sprintf("Replace %s of cluster %s?", x.id, name))
}

// rounds is how often a pass is looked at again: what a node asked to be signed
// by a machine that was not yet written has to be asked for once more.
const rounds = 5

// pass carries the present pass out over the whole cluster.
func (x *replacing) pass(v *look.View, rep trust.Replacement) error {
	x.verified = false
	if rep.Now {
		v.Seen.Now = true
		if err := x.steps(v, plan.AllAtOnce(v.Cluster)); err != nil {
			return err
		}
	}
	done := false
	for range rounds {
		p, v, err := look.Plan(x.soft, x.s)
		if err != nil {
			return err
		}
		for _, m := range v.Cluster.Machines {
			if s := v.Seen.Machines[m.Name]; !s.Reached {
				return &exit{exitFailed, fmt.Errorf("machine %s cannot be reached (%s), and a pass is over only when every machine has taken it up; bring it back, or take it out of the declaration, and run the same command again", m.Name, cmp.Or(s.Trouble, "it is missing"))}
			}
		}
		if len(p.Steps) == 0 {
			done = true
			break
		}
		if err := x.steps(v, p.Steps); err != nil {
			return err
		}
	}
	if !done {
		return errors.New("machines go on to differ from what this pass needs; plan shows how")
	}
	switch {
	case x.id == trust.ServiceAccountKey && (rep.Pass == trust.Reissue || rep.Now):
		old, err := look.OldTokens(x.soft, x.s, v)
		if err != nil {
			return err
		}
		if steps := plan.Refreshing(v.Cluster, old); len(steps) > 0 {
			if err := x.steps(v, steps); err != nil {
				return err
			}
		}
	case x.id == trust.SecretsKey && rep.Pass == trust.Reissue:
		n, err := act.RewriteSecrets(x.soft, x.s, v.Cluster)
		if err != nil {
			return err
		}
		all, other, err := look.SecretsNotBy(x.soft, x.s, v.Cluster)
		if err != nil {
			return err
		}
		if other > 0 {
			return fmt.Errorf("%d of %d secrets lie in the datastore otherwise than encrypted with the new key; the old one stays, run the same command again", other, all)
		}
		x.ui.say("wrote %s anew: all are encrypted with the new key", count(n, "secret"))
	case x.id == string(trust.Cluster) && x.s.Decl.Trust.Keys != "outside": // there access is signed outside, too
		return x.kubeconfigs(rep)
	}
	return nil
}

// kubeconfigs keeps the files working into which access was merged: they learn
// to trust the new authority, and their certificates are signed anew.
func (x *replacing) kubeconfigs(rep trust.Replacement) error {
	t, err := x.s.Trust()
	if err != nil {
		return err
	}
	name := x.s.Decl.Name
	return x.mergedFiles(x.s, func(kc *clientcmdapi.Config) (string, error) {
		cl := kc.Clusters[name]
		if cl == nil {
			return "", nil
		}
		cl.CertificateAuthorityData = trust.Bundle(t.Certs, string(trust.Cluster))
		said := "trusts the authorities of this pass"
		if rep.Pass < trust.Reissue {
			return said, nil
		}
		for _, user := range usersOf(kc, name) {
			u := kc.AuthInfos[user]
			cert, err := trust.DecodeCert(u.ClientCertificateData)
			if err != nil {
				continue // somebody put another kind of access there
			}
			c, k, err := vouch.Resign(x.s, cert)
			if err != nil {
				return "", err
			}
			if c == nil {
				continue
			}
			signed, err := trust.DecodeCert(c)
			if err != nil {
				return "", err
			}
			// It is remembered before it is given.
			if err := x.s.Store.SaveGiven(givenBy(signed)); err != nil {
				return "", err
			}
			u.ClientCertificateData, u.ClientKeyData = c, k
			said += fmt.Sprintf(", and has a certificate for %s of the new one", cert.Subject.CommonName)
		}
		return said, nil
	})
}

// prove shows that the old one is not trusted any more, and ends the
// replacement if that holds.
func (x *replacing) prove() error {
	_, v, err := look.Plan(x.soft, x.s)
	if err != nil {
		return err
	}
	proof, err := look.Prove(x.soft, x.s, v, x.id)
	if err != nil {
		return err
	}
	bad := 0
	var rows [][]cell
	for _, p := range proof {
		state := cell{"holds", "good"}
		if !p.Holds {
			bad++
			state = cell{"DOES NOT HOLD", "bad"}
		}
		rows = append(rows, []cell{plain(p.Where), plain(p.What), state, plain(p.Found)})
	}
	if x.output == "json" {
		if err := x.ui.json(replacedSaid{x.id, list(proof), bad == 0}); err != nil {
			return err
		}
	} else {
		x.ui.table([]string{"where", "claim", "", "found"}, rows)
	}
	if bad > 0 {
		return &exit{exitFailed, fmt.Errorf("%d of %d claims do not hold: the old %s may still be trusted; look at those machines, and run the same command again", bad, len(proof), x.id)}
	}
	if err := vouch.Replaced(x.s, x.id); err != nil {
		return err
	}
	x.ui.say("%s of cluster %s is replaced: nothing of the old one is accepted any more, %s looked at", x.id, x.s.Decl.Name, count(len(proof), "place"))
	return nil
}

// sayReplacing reminds of a replacement that is underway.
func (a *app) sayReplacing(s *session.Session) {
	under, err := s.Store.Replacements()
	if err != nil {
		return
	}
	for _, id := range slices.Sorted(maps.Keys(under)) {
		a.ui.say("the replacement of %s is in pass %d of 3 (%s); it goes on with: verbund trust replace %s", id, under[id].Pass, under[id].Pass, id)
	}
}
