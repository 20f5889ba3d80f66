package act

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
	"verbund/internal/machine/protocol"
)

// enrolmentLife is how long a token lives that a run issues for one machine:
// long enough to start a kubelet, and no longer.
const enrolmentLife = 10 * time.Minute

// startNode starts a node's services. A kubelet that has no certificate yet
// and is to ask for one gets a token for that, and what it asks for is approved
// when the machine shows the same key.
func (r *Run) startNode(ctx context.Context, s plan.Step, m topology.Machine) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
		own, err := look.Own(ctx, r.Session, r.Cluster, m, c)
		if err != nil {
			return err
		}
		if !m.ByToken || own.Client {
			return r.register(ctx, s, m, c)
		}
		return r.withKube(func(k *kube.Client) error { return r.enrol(ctx, s, m, c, k) })
	})
}

// register starts what a node runs. A kubelet makes its node when it starts, and never again: one
// that runs, and whose node somebody deleted or a backup does not have, is started anew.
func (r *Run) register(ctx context.Context, s plan.Step, m topology.Machine, c session.Machine) error {
	us, err := c.Units(ctx)
	if err != nil {
		return err
	}
	ran := slices.ContainsFunc(us, func(u protocol.UnitState) bool { return u.Name == nodeconf.UnitKubelet && u.State == "active" })
	if err := c.Do(ctx, protocol.UnitsStart, nodeconf.UnitsOf(versions.Node)...); err != nil || !ran {
		return err
	}
	gone := false
	if err := r.withKube(func(k *kube.Client) error {
		_, err := k.CoreV1().Nodes().Get(ctx, m.Name, metav1.GetOptions{})
		if gone = apierrors.IsNotFound(err); gone {
			return nil
		}
		return err
	}); err != nil || !gone {
		return err
	}
	r.Note(s, "its kubelet runs and its node is not there; it registers when it starts, and is started anew")
	return c.Do(ctx, protocol.UnitsRestart, nodeconf.UnitKubelet)
}

// enrol has a kubelet ask for its first certificate, and approves that. One that
// asks already, because somebody set the machine up by hand or because an earlier
// run was cut off, is approved as it is, if the policy has it so; otherwise it
// gets a token of its own.
func (r *Run) enrol(ctx context.Context, s plan.Step, m topology.Machine, c session.Machine, k *kube.Client) error {
	a := &admitting{r: r, s: s, m: m, k: k, noted: map[string]string{}}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), session.LookTimeout)
		defer cancel()
		if _, err := c.Put(ctx, nil, []string{nodeconf.Enrolment}); err != nil {
			r.Note(s, fmt.Sprintf("taking its token from the disk: %v", err))
		}
	}()
	us, err := c.Units(ctx)
	if err != nil {
		return err
	}
	// One that renews by itself runs while it waits for its first certificate: that it is
	// active does not mean that it is enrolled, and a new token it reads only when it starts.
	if slices.ContainsFunc(us, func(u protocol.UnitState) bool {
		return u.Name == nodeconf.UnitKubelet && (u.State == "activating" || u.State == "active")
	}) {
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
		if err := c.Do(ctx, protocol.UnitsStop, nodeconf.UnitKubelet); err != nil {
			return err
		}
	}
	t, token, err := k.IssueToken(ctx, kube.Token{Machine: m.Name, Pool: m.Pool, Left: 1, Ends: time.Now().Add(enrolmentLife)})
	if err != nil {
		return fmt.Errorf("issuing its enrolment token: %w", err)
	}
	r.Note(s, fmt.Sprintf("issued token %s for it, until %s", t.ID, t.Ends.Local().Format("15:04")))
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), session.LookTimeout)
		defer cancel()
		if err := k.RevokeToken(ctx, t.ID); err != nil {
			r.Note(s, fmt.Sprintf("revoking its token: %v", err))
		}
	}()
	kc, err := enrolmentConfig(r.Cluster, token)
	if err != nil {
		return err
	}
	showing, usual, err := showingKey(ctx, c)
	if err != nil {
		return err
	}
	if _, err := c.Put(ctx, []protocol.File{{Path: nodeconf.Enrolment, Mode: 0o600, Content: kc}, showing}, nil); err != nil {
		return err
	}
	// The kubelet is up only when it is enrolled: both go on side by side.
	started := make(chan error, 1)
	go func() { started <- c.Do(ctx, protocol.UnitsStart, nodeconf.UnitsOf(versions.Node)...) }()
	approved := session.Until(ctx, "its request for a certificate, and the key that it shows", func(ctx context.Context) (string, error) {
		if own, err := look.Own(ctx, r.Session, r.Cluster, m, c); err != nil || own.Client {
			return "", err
		}
		_, why, err := a.admit(ctx)
		return why, err
	})
	if err := <-started; err != nil {
		return fmt.Errorf("enrolling: %w; its request: %v", err, approved)
	}
	if approved != nil {
		return approved
	}
	if _, err := c.Put(ctx, []protocol.File{usual}, nil); err != nil {
		return err
	}
	return c.Do(ctx, protocol.UnitsRestart, nodeconf.UnitKubelet)
}

// showingKey is a kubelet's configuration with which it shows the key for which it asks for its
// first certificate: one that renews by itself keeps that key in memory until it has the
// certificate, and a machine that shows no key is believed nothing. usual is the configuration
// as it is declared, to which it goes back; should that be cut off, the next run finds another
// file than it should.
func showingKey(ctx context.Context, c session.Machine) (showing, usual protocol.File, err error) {
	b, err := c.Read(ctx, nodeconf.KubeletConfig)
	if err != nil {
		return showing, usual, err
	}
	usual = protocol.File{Path: nodeconf.KubeletConfig, Mode: 0o644, Content: b[nodeconf.KubeletConfig]}
	showing = usual
	showing.Content = bytes.Replace(usual.Content, []byte("rotateCertificates: true"), []byte("rotateCertificates: false"), 1)
	return showing, usual, nil
}

// noteRefused writes to the journal that the token is refused with which a
// machine, set up by hand, tries to enrol. The API server does not say so to
// the one who tries, and no request comes of a token that has ended.
func (r *Run) noteRefused(ctx context.Context, s plan.Step, c session.Machine, k *kube.Client) error {
	id, err := look.TokenOn(ctx, c)
	if err != nil || id == "" {
		return err
	}
	ts, err := k.Tokens(ctx)
	if err != nil {
		return err
	}
	if why := look.Refusal(ts, id, time.Now()); why != "" {
		r.Note(s, why)
	}
	return nil
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
		d, err := look.Judge(ctx, a.r.Session, a.r.Cluster, a.k, q)
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
		if err := Approve(ctx, a.r.Session, a.k, q, d); err != nil {
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
			d, err := look.Judge(ctx, r.Session, r.Cluster, k, q)
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

// Approve approves a request that the policy lets pass, and counts the use of
// its token first: what is used up lets nobody in.
func Approve(ctx context.Context, s *session.Session, k *kube.Client, q kube.Request, d trust.Decision) error {
	if d.Enrols {
		if err := k.UseToken(ctx, q.Token()); err != nil {
			return err
		}
	}
	return k.Judge(ctx, q.Name, true, "ExpectedNode", strings.TrimSuffix(d.Why, "."))
}
