package look

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"fmt"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
)

// Judge says what the approval policy says of a request. Where a key has to be
// compared, the machine is asked for it, over the connection whose host key is
// known.
func Judge(ctx context.Context, s *session.Session, c *topology.Cluster, k *kube.Client, q kube.Request) (trust.Decision, error) {
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
