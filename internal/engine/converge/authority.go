package converge

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/trust"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/kubeconfig"
	"verbund/internal/engine/look"
	"verbund/internal/engine/vouch"
)

// replacing is one run of a replacement.
type replacing struct {
	*Work
	id   string
	now  bool
	skip bool
	last trust.Pass

	verified bool // the steps of this pass that were carried out last ended with a look at everything
}

// steps carries steps of the present pass out.
func (x *replacing) steps(v *look.View, steps []plan.Step) error {
	x.verified = steps[len(steps)-1].Kind == plan.Verify
	return x.carryOut(v, "trust replace "+x.id, steps)
}

// ReplaceAuthority replaces an authority or a key in three passes, and proves that the old
// one is trusted nowhere any more. last is the pass to stop after; now distrusts the old
// one first; skip does not wait for tokens that were asked for by hand.
func (w *Work) ReplaceAuthority(id string, now, skip bool, last trust.Pass) error {
	release, err := w.locked("trust replace " + id)
	if err != nil {
		return err
	}
	defer release()
	defer w.quiet()
	return (&replacing{Work: w, id: id, now: now, skip: skip, last: last}).run()
}

func (x *replacing) run() error {
	p, v, err := look.PlanNow(x.Soft, x.Session)
	if err != nil {
		return err
	}
	under := v.Known.Replacements
	rep, begun := under[x.id]
	for id, other := range under {
		if id != x.id {
			way := "verbund trust replace " + id
			if id == trust.ServiceAccountKey && other.Pass == trust.Reissue {
				way += " --skip-wait, which ends the tokens that somebody asked for by hand instead of waiting for their end"
			}
			return mistake("the replacement of %s is in pass %d; finish that one first: %s", id, other.Pass, way)
		}
	}
	if !begun {
		if !v.Seen.Founded {
			return mistake("cluster %s has not been raised; converge makes its authorities", x.Decl.Name)
		}
		if len(p.Steps)+len(p.Later) > 0 && !x.now {
			var left []string
			for _, s := range p.Steps {
				left = append(left, fmt.Sprintf("\n  %s: %s, because %s", cmp.Or(s.Machine, "cluster"), s.Text, s.Why))
			}
			return &Pending{fmt.Errorf("%s to what is declared in cluster %s; converge first, so that a replacement changes nothing else%s", words.Count(len(p.Steps), "step"), x.Decl.Name, strings.Join(left, ""))}
		}
	}
	if err := x.agree(v, rep, begun); err != nil {
		return err
	}
	if err := x.backsUp(v, begun); err != nil {
		return err
	}
	if begun {
		x.Say("going on with the replacement of %s in pass %d of 3: %s", x.id, rep.Pass, rep.Pass)
	}
	for {
		if !begun || !rep.Done.IsZero() {
			if rep.Pass == trust.Drop {
				break
			}
			if begun && rep.Pass >= x.last {
				x.Say("stopped after pass %d of 3: %s; the same command without --pass goes on", rep.Pass, rep.Pass)
				return nil
			}
			if rep.Pass == trust.Reissue && x.id == trust.ServiceAccountKey && !x.skip && !rep.Now {
				if free := rep.Done.Add(vouch.TokenLife); time.Now().Before(free) {
					x.Say("pass 3 waits: tokens that somebody asked for by hand, and that no kubelet renews, may be in use until %s", free.Local().Format("15:04"))
					x.Say("what now: the same command after that, or with --skip-wait, which ends them")
					return nil
				}
			}
			if rep, err = vouch.NextPass(x.Session, v.Cluster, x.id, x.now, time.Now()); err != nil {
				return err
			}
			begun = true
			x.Say("pass %d of 3: %s", rep.Pass, rep.Pass)
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
		if rep, err = vouch.PassDone(x.Session, x.id, rep, time.Now()); err != nil {
			return err
		}
	}
	return x.prove()
}

// backsUp takes a backup before the first pass. What is distrusted at once was stolen: that
// does not wait for a datastore.
func (x *replacing) backsUp(v *look.View, begun bool) error {
	if begun {
		return nil
	}
	err := x.backupBefore(v, "the replacement of "+x.id)
	if err != nil && x.now && x.Soft.Err() == nil {
		x.Say("%v; it goes on without one", err)
		return nil
	}
	return err
}

// agree asks, and says who will be cut off.
func (x *replacing) agree(v *look.View, rep trust.Replacement, begun bool) error {
	name := x.Decl.Name
	var people []string
	for _, g := range v.Known.Givens {
		if x.id == string(trust.Cluster) && time.Now().Before(g.Until) && g.Kind != "program" {
			people = append(people, fmt.Sprintf("%s (until %s)", g.Name, g.Until.Local().Format("15:04")))
		}
	}
	slices.Sort(people)
	if len(people) > 0 {
		x.Say("access that was given out and ends with the old authority: %s", strings.Join(people, ", "))
	}
	if x.now && !begun {
		cut := map[string]string{
			string(trust.Cluster): "every kubeconfig that was given out, and every node and component until its machine is written", string(trust.Datastore): "the API, until the datastore and the API servers are written",
			string(trust.FrontProxy): "extension API servers, until they trust the new authority", trust.ServiceAccountKey: "every program in a pod that uses the API, until its node has given it a new token",
		}[x.id]
		return x.AskByName(name, fmt.Sprintf("in cluster %s, %s is distrusted at once: this cuts off %s", name, x.id, cut))
	}
	if begun && x.Named(name) {
		return nil // the same command goes on that began it
	}
	return x.Ask(fmt.Sprintf("Replace %s of cluster %s?", x.id, name))
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
		p, v, err := look.PlanNow(x.Soft, x.Session)
		if err != nil {
			return err
		}
		for _, m := range v.Cluster.Machines {
			if s := v.Seen.Machines[m.Name]; !s.Reached {
				return fmt.Errorf("machine %s cannot be reached (%s), and a pass is over only when every machine has taken it up; bring it back, or take it out of the declaration, and run the same command again", m.Name, cmp.Or(s.Trouble, "it is missing"))
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
		old, err := look.OldTokens(x.Soft, x.Session, v)
		if err != nil {
			return err
		}
		if steps := plan.Refreshing(v.Cluster, old); len(steps) > 0 {
			if err := x.steps(v, steps); err != nil {
				return err
			}
		}
	case x.id == trust.SecretsKey && rep.Pass == trust.Reissue:
		n, err := act.RewriteSecrets(x.Soft, x.Session, v.Cluster)
		if err != nil {
			return err
		}
		all, other, err := look.SecretsNotBy(x.Soft, x.Session, v.Cluster)
		if err != nil {
			return err
		}
		if other > 0 {
			return fmt.Errorf("%d of %d secrets lie in the datastore otherwise than encrypted with the new key; the old one stays, run the same command again", other, all)
		}
		x.Say("wrote %s anew: all are encrypted with the new key", words.Count(n, "secret"))
	case x.id == string(trust.Cluster) && x.Decl.Trust.Keys != "outside": // there access is signed outside, too
		return x.kubeconfigs(rep)
	}
	return nil
}

// kubeconfigs keeps the files working into which access was merged: they learn
// to trust the new authority, and their certificates are signed anew.
func (x *replacing) kubeconfigs(rep trust.Replacement) error {
	t, err := x.Trust()
	if err != nil {
		return err
	}
	name := x.Decl.Name
	return kubeconfig.Merged(x.Session, x.Say, func(kc *clientcmdapi.Config) (string, error) {
		cl := kc.Clusters[name]
		if cl == nil {
			return "", nil
		}
		cl.CertificateAuthorityData = trust.Bundle(t.Certs, string(trust.Cluster))
		said := "trusts the authorities of this pass"
		if rep.Pass < trust.Reissue {
			return said, nil
		}
		for _, user := range kubeconfig.Users(kc, name) {
			u := kc.AuthInfos[user]
			cert, err := trust.DecodeCert(u.ClientCertificateData)
			if err != nil {
				continue // somebody put another kind of access there
			}
			c, k, err := vouch.Resign(x.Session, cert)
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
			if err := x.Remember(func(st *memory.State) { st.Give(vouch.GivenBy(signed)) }); err != nil {
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
	_, v, err := look.PlanNow(x.Soft, x.Session)
	if err != nil {
		return err
	}
	proof, err := look.Prove(x.Soft, x.Session, v, x.id)
	if err != nil {
		return err
	}
	bad := 0
	for _, p := range proof {
		if !p.Holds {
			bad++
		}
	}
	if err := x.Proof(x.id, proof); err != nil {
		return err
	}
	if bad > 0 {
		return fmt.Errorf("%d of %d claims do not hold: the old %s may still be trusted; look at those machines, and run the same command again", bad, len(proof), x.id)
	}
	if err := vouch.Replaced(x.Session, x.id); err != nil {
		return err
	}
	x.Say("%s of cluster %s is replaced: nothing of the old one is accepted any more, %s looked at", x.id, x.Decl.Name, words.Count(len(proof), "place"))
	return nil
}

// sayReplacing reminds of a replacement that is underway.
func (w *Work) sayReplacing() {
	st, err := w.Store.Read()
	if err != nil {
		return
	}
	under := st.Replacements
	for _, id := range slices.Sorted(maps.Keys(under)) {
		w.Say("the replacement of %s is in pass %d of 3 (%s); it goes on with: verbund trust replace %s", id, under[id].Pass, under[id].Pass, id)
	}
}
