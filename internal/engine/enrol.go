package engine

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/kube"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

// enrolmentLife is how long a token lives that a run issues for one machine:
// long enough to start a kubelet, and no longer.
const enrolmentLife = 10 * time.Minute

// startNode starts a node's services. A kubelet that has no certificate yet
// and is to ask for one gets a token for that, and what it asks for is approved
// when the machine shows the same key.
func (r *Run) startNode(ctx context.Context, s plan.Step, m topology.Machine) error {
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		own, err := r.lookAtOwn(ctx, r.Cluster, m, c)
		if err != nil {
			return err
		}
		if !m.ByToken || own.client {
			return c.Do(ctx, protocol.UnitsStart, nodeconf.UnitsOf(versions.Node)...)
		}
		return r.withKube(func(k *kube.Client) error { return r.enrol(ctx, s, m, c, k) })
	})
}

// enrol has a kubelet ask for its first certificate, and approves that. One that
// asks already, because somebody set the machine up by hand or because an earlier
// run was cut off, is approved as it is, if the policy has it so; otherwise it
// gets a token of its own.
func (r *Run) enrol(ctx context.Context, s plan.Step, m topology.Machine, c *machine.Machine, k *kube.Client) error {
	a := &admitting{r: r, s: s, m: m, k: k, noted: map[string]string{}}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookTimeout)
		defer cancel()
		if _, err := c.Put(ctx, nil, []string{nodeconf.Enrolment}); err != nil {
			r.Note(s, fmt.Sprintf("taking its token from the disk: %v", err))
		}
	}()
	us, err := c.Units(ctx)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(us, func(u protocol.UnitState) bool { return u.Name == "kubelet.service" && u.State == "activating" }) {
		admitted, _, err := a.admit(ctx)
		if err != nil {
			return err
		}
		if admitted {
			return c.Do(ctx, protocol.UnitsStart, nodeconf.UnitsOf(versions.Node)...)
		}
		if err := r.noteRefused(ctx, s, c, k); err != nil {
			return err
		}
		if err := c.Do(ctx, protocol.UnitsStop, "kubelet.service"); err != nil {
			return err
		}
	}
	t, token, err := k.IssueToken(ctx, kube.Token{Machine: m.Name, Pool: m.Pool, Left: 1, Ends: time.Now().Add(enrolmentLife)})
	if err != nil {
		return fmt.Errorf("issuing its enrolment token: %w", err)
	}
	r.Note(s, fmt.Sprintf("issued token %s for it, until %s", t.ID, t.Ends.Local().Format("15:04")))
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookTimeout)
		defer cancel()
		if err := k.RevokeToken(ctx, t.ID); err != nil {
			r.Note(s, fmt.Sprintf("revoking its token: %v", err))
		}
	}()
	kc, err := enrolmentConfig(r.Cluster, token)
	if err != nil {
		return err
	}
	if _, err := c.Put(ctx, []protocol.File{{Path: nodeconf.Enrolment, Mode: 0o600, Content: kc}}, nil); err != nil {
		return err
	}
	// The kubelet is up only when it is enrolled: both go on side by side.
	started := make(chan error, 1)
	go func() { started <- c.Do(ctx, protocol.UnitsStart, nodeconf.UnitsOf(versions.Node)...) }()
	approved := until(ctx, "its request for a certificate, and the key that it shows", func(ctx context.Context) (string, error) {
		if own, err := r.lookAtOwn(ctx, r.Cluster, m, c); err != nil || own.client {
			return "", err
		}
		_, why, err := a.admit(ctx)
		return why, err
	})
	if err := <-started; err != nil {
		return fmt.Errorf("enrolling: %w; its request: %v", err, approved)
	}
	return approved
}

// tokenOn reads which enrolment token lies on a machine, without its secret
// half; it is empty if none does.
func tokenOn(ctx context.Context, c *machine.Machine) (string, error) {
	read, err := c.Read(ctx, nodeconf.Enrolment)
	if err != nil || read[nodeconf.Enrolment] == nil {
		return "", err
	}
	kc, err := clientcmd.Load(read[nodeconf.Enrolment])
	if err != nil {
		return "", nil // whoever set the machine up by hand wrote something else there
	}
	for _, a := range kc.AuthInfos {
		if part := trust.TokenForm.FindStringSubmatch(a.Token); part != nil {
			return part[1], nil
		}
	}
	return "", nil
}

// refusal says why a token lets nobody in; it is empty when it may.
func refusal(ts []kube.Token, id string, now time.Time) string {
	i := slices.IndexFunc(ts, func(t kube.Token) bool { return t.ID == id })
	switch {
	case i < 0:
		return fmt.Sprintf("its token %s is refused: it is not known, or was revoked", id)
	case ts[i].Foreign:
		return fmt.Sprintf("its token %s is refused: verbund did not make it", id)
	case !ts[i].Ends.IsZero() && !now.Before(ts[i].Ends):
		return fmt.Sprintf("its token %s is refused: it ended at %s", id, ts[i].Ends.Local().Format("15:04 on 2006-01-02"))
	case ts[i].Left < 1:
		return fmt.Sprintf("its token %s is refused: it is used up", id)
	}
	return ""
}

// noteRefused writes to the journal that the token is refused with which a
// machine, set up by hand, tries to enrol. The API server does not say so to
// the one who tries, and no request comes of a token that has ended.
func (r *Run) noteRefused(ctx context.Context, s plan.Step, c *machine.Machine, k *kube.Client) error {
	id, err := tokenOn(ctx, c)
	if err != nil || id == "" {
		return err
	}
	ts, err := k.Tokens(ctx)
	if err != nil {
		return err
	}
	if why := refusal(ts, id, time.Now()); why != "" {
		r.Note(s, why)
	}
	return nil
}

// LacksForTokens lists what the control-plane machines were not told yet, so that
// no machine can enrol with a token.
func (s *Session) LacksForTokens(ctx context.Context, v *View) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	var out []string
	for _, m := range v.Cluster.With(versions.API) {
		if !v.Seen.Machines[m.Name].Reached {
			continue // status says so
		}
		c, err := s.Machine(ctx, m.Name, 0)
		if err != nil {
			return nil, err
		}
		units := slices.Sorted(maps.Keys(nodeconf.EnrolmentNeeds))
		read, err := c.Read(ctx, units...)
		if err != nil {
			return nil, err
		}
		for _, u := range units {
			for _, flag := range nodeconf.EnrolmentNeeds[u] {
				if !strings.Contains(string(read[u]), flag) {
					out = append(out, fmt.Sprintf("%s of %s lacks %s", path.Base(u), m.Name, strings.TrimSuffix(flag, "=")))
				}
			}
		}
	}
	return out, nil
}

// lookAtTokens finds out why machines that try to enrol are not let in.
func (s *Session) lookAtTokens(ctx context.Context, c *topology.Cluster, v *View) {
	v.Refused = map[string]string{}
	var ts []kube.Token
	var err error
	for name, m := range v.Seen.Machines {
		if m.Token == "" || !v.Seen.API {
			continue
		}
		if ts == nil && err == nil {
			ts, err = s.tokens(ctx, c)
		}
		if v.Refused[name] = refusal(ts, m.Token, time.Now()); err != nil {
			v.Refused[name] = fmt.Sprintf("its token %s could not be looked up: %v", m.Token, err)
		}
	}
}

// tokens lists the cluster's enrolment tokens; the list is never nil without an
// error.
func (s *Session) tokens(ctx context.Context, c *topology.Cluster) ([]kube.Token, error) {
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	k, err := s.Kube(c)
	if err != nil {
		return nil, err
	}
	return k.Tokens(ctx)
}

// enrolmentConfig is the kubeconfig with which a machine enrols.
func enrolmentConfig(c *topology.Cluster, token string) ([]byte, error) {
	kc := clientcmdapi.NewConfig()
	kc.Clusters[c.Name] = &clientcmdapi.Cluster{Server: c.Server(), CertificateAuthority: trust.Dir + "/" + string(trust.Cluster) + ".crt"}
	kc.AuthInfos["enrolment"] = &clientcmdapi.AuthInfo{Token: token}
	kc.Contexts[c.Name] = &clientcmdapi.Context{Cluster: c.Name, AuthInfo: "enrolment"}
	kc.CurrentContext = c.Name
	return clientcmd.Write(*kc)
}

// admitting approves what one machine asks for with a token.
type admitting struct {
	r     *Run
	s     plan.Step
	m     topology.Machine
	k     *kube.Client
	noted map[string]string // what was said of requests, each once
}

// admit approves the machine's request if the policy has it so; otherwise why
// is what is waited for.
func (a *admitting) admit(ctx context.Context) (admitted bool, why string, err error) {
	qs, err := a.k.Requests(ctx)
	if err != nil {
		return false, "", err
	}
	why = "it has not asked yet"
	for _, q := range qs {
		if q.Token() == "" || q.State == "approved" || q.State == "issued" {
			continue
		}
		d, err := a.r.Judge(ctx, a.r.Cluster, a.k, q)
		if err != nil {
			return false, "", err
		}
		if d.Node != a.m.Name {
			continue
		}
		if q.State != "waits" {
			why = fmt.Sprintf("its request %s is %s: %s", q.Name, q.State, q.Why)
			continue
		}
		if !d.Approve {
			if why = d.Why; a.noted[q.Name] != why {
				a.noted[q.Name] = why
				a.r.Note(a.s, fmt.Sprintf("request %s waits for a person: %s", q.Name, why))
			}
			continue
		}
		if err := a.r.Approve(ctx, a.k, q, d); err != nil {
			return false, "", err
		}
		a.r.Note(a.s, fmt.Sprintf("approved request %s: %s", q.Name, d.Why))
		return true, "its request was just approved", nil
	}
	return false, why, nil
}

// noteWaiting writes to the journal which requests wait for a person, and why:
// among them those of tokens that are used up, have ended or were revoked.
func (r *Run) noteWaiting(ctx context.Context) error {
	return r.withKube(func(k *kube.Client) error {
		qs, err := k.Requests(ctx)
		if err != nil {
			return err
		}
		for _, q := range qs {
			if q.State != "waits" {
				continue
			}
			d, err := r.Judge(ctx, r.Cluster, k, q)
			if err != nil {
				return err
			}
			if !d.Approve {
				r.Remark(fmt.Sprintf("request %s of %s waits for a person: %s", q.Name, q.By, d.Why))
			}
		}
		return nil
	})
}

// Judge says what the approval policy says of a request. Where a key has to be
// compared, the machine is asked for it, over the connection whose host key is
// known.
func (s *Session) Judge(ctx context.Context, c *topology.Cluster, k *kube.Client, q kube.Request) (trust.Decision, error) {
	ts, err := k.Tokens(ctx)
	if err != nil {
		return trust.Decision{}, err
	}
	var tokens []trust.Token
	for _, t := range ts {
		if !t.Foreign {
			tokens = append(tokens, t.ForDecision())
		}
	}
	expected := trust.ExpectedNodes(c)
	d := trust.Decide(q.ForDecision(), expected, tokens, nil)
	if !d.NeedsKey {
		return d, nil
	}
	m, err := s.Machine(ctx, d.Node, 0)
	if err != nil {
		d.Why = fmt.Sprintf("machine %s cannot be asked for its key: %v", d.Node, err)
		return d, nil
	}
	shown, err := m.Show(ctx, trust.KubeletDir+"/*")
	if err != nil {
		d.Why = fmt.Sprintf("machine %s cannot be asked for its key: %v", d.Node, err)
		return d, nil
	}
	for _, f := range shown {
		key, err := publicKey(f.Public)
		if err != nil {
			continue
		}
		if got := trust.Decide(q.ForDecision(), expected, tokens, key); got.Approve {
			return got, nil
		} else {
			d.Why = got.Why
		}
	}
	if len(shown) == 0 {
		d.Why = "machine " + d.Node + " shows no key"
	}
	return d, nil
}

func publicKey(b []byte) (crypto.PublicKey, error) {
	p, _ := pem.Decode(b)
	if p == nil {
		return nil, fmt.Errorf("there is no public key")
	}
	return x509.ParsePKIXPublicKey(p.Bytes)
}

// Approve approves a request that the policy lets pass, and counts the use of
// its token first: what is used up lets nobody in.
func (s *Session) Approve(ctx context.Context, k *kube.Client, q kube.Request, d trust.Decision) error {
	if d.Enrols {
		if err := k.UseToken(ctx, q.Token()); err != nil {
			return err
		}
	}
	return k.Judge(ctx, q.Name, true, "ExpectedNode", strings.TrimSuffix(d.Why, "."))
}
