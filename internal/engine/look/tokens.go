package look

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"k8s.io/client-go/tools/clientcmd"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/kube"
)

// TokenOn reads which enrolment token lies on a machine, without its secret
// half; it is empty if none does.
func TokenOn(ctx context.Context, c session.Machine) (string, error) {
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

// Refusal says why a token lets nobody in; it is empty when it may.
func Refusal(ts []kube.Token, id string, now time.Time) string {
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

// LacksForTokens lists what the control-plane machines were not told yet, so that
// no machine can enrol with a token.
func LacksForTokens(ctx context.Context, s *session.Session, v *View) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
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
func lookAtTokens(ctx context.Context, s *session.Session, c *topology.Cluster, v *View) {
	v.Refused = map[string]string{}
	var ts []kube.Token
	var err error
	for name, m := range v.Seen.Machines {
		if m.Token == "" || !v.Seen.API {
			continue
		}
		if ts == nil && err == nil {
			ts, err = tokens(ctx, s, c)
		}
		if v.Refused[name] = Refusal(ts, m.Token, time.Now()); err != nil {
			v.Refused[name] = fmt.Sprintf("its token %s could not be looked up: %v", m.Token, err)
		}
	}
}

// tokens lists the cluster's enrolment tokens; the list is never nil without an
// error.
func tokens(ctx context.Context, s *session.Session, c *topology.Cluster) ([]kube.Token, error) {
	ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
	defer cancel()
	k, err := s.Kube(c)
	if err != nil {
		return nil, err
	}
	return k.Tokens(ctx)
}

// Requests lists the certificate requests of a cluster.
func Requests(ctx context.Context, s *session.Session, c *topology.Cluster) ([]kube.Request, error) {
	ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
	defer cancel()
	k, err := s.Kube(c)
	if err != nil {
		return nil, err
	}
	return k.Requests(ctx)
}

// WhyUnsigned says what became of the last request in which a node's kubelet asked for a
// certificate to serve with, and why the approver leaves it alone if it does.
func WhyUnsigned(qs []kube.Request, expected []trust.ExpectedNode, node string) string {
	for _, q := range slices.Backward(qs) {
		if q.Signer != trust.KubeletServingSigner || q.By != "system:node:"+node {
			continue
		}
		switch d := trust.Decide(q.ForDecision(), expected, nil, nil); {
		case q.State == "issued":
			return fmt.Sprintf("its request %s was signed, and it has yet to take the certificate up", q.Name)
		case q.State == "approved":
			return fmt.Sprintf("its request %s was approved, and the controller manager has yet to sign it", q.Name)
		case q.State != "waits":
			return fmt.Sprintf("its request %s was %s: %s", q.Name, q.State, q.Why)
		case d.Approve:
			return fmt.Sprintf("its request %s fits, and waits for the approver, which runs on the control plane", q.Name)
		default:
			return fmt.Sprintf("its request %s is left alone: %s", q.Name, d.Why)
		}
	}
	return "it has not asked for one, or its request is not there any more"
}

// lookAtUnsigned finds out why kubelets have no certificate to serve with.
func lookAtUnsigned(ctx context.Context, s *session.Session, c *topology.Cluster, v *View) {
	var qs []kube.Request
	looked := false
	for name, m := range v.Seen.Machines {
		if m.Unsigned == "" || !v.Seen.API {
			continue
		}
		if !looked {
			var err error
			if qs, err = Requests(ctx, s, c); err != nil {
				return // that the API does not answer is said elsewhere
			}
			looked = true
		}
		m.Unsigned += "; " + WhyUnsigned(qs, trust.ExpectedNodes(c), name)
		v.Seen.Machines[name] = m
	}
}

// OldTokens counts, by machine, the tokens of pods that another key than the
// present one signed.
func OldTokens(ctx context.Context, s *session.Session, v *View) (map[string]int, error) {
	now, err := vouch.TokenKey(s)
	if err != nil {
		return nil, err
	}
	out := map[string]int{}
	for _, m := range v.Cluster.Machines {
		if !m.IsNode() {
			continue
		}
		err := s.With(ctx, m.Name, func(c session.Machine) error {
			n, err := TokensNotBy(ctx, c, now)
			if n > 0 {
				out[m.Name] = n
			}
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("the tokens of pods on %s: %w", m.Name, err)
		}
	}
	return out, nil
}

// TokensNotBy counts the tokens of pods on a machine that another key than this one
// signed.
func TokensNotBy(ctx context.Context, c session.Machine, key string) (int, error) {
	shown, err := c.Show(ctx, vouch.PodTokens)
	n := 0
	for _, f := range shown {
		if f.SignedBy != key {
			n++
		}
	}
	return n, err
}
