package look

import (
	"context"
	"strings"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
)

// SecretsNotBy counts the Secrets that lie in the datastore otherwise than
// encrypted with the present key.
func SecretsNotBy(ctx context.Context, s *session.Session, c *topology.Cluster) (all, other int, err error) {
	t, err := s.Trust()
	if err != nil {
		return 0, 0, err
	}
	d, err := s.Datastore(c)
	if err != nil {
		return 0, 0, err
	}
	heads, err := d.Heads(ctx, "/registry/", "/secrets/", 64)
	if err != nil {
		return 0, 0, err
	}
	want := "k8s:enc:secretbox:v1:" + trust.SecretsKeyName(t.Keys[trust.SecretsKey]) + ":"
	for _, h := range heads {
		if all++; !strings.HasPrefix(h, want) {
			other++
		}
	}
	return all, other, nil
}
