package act

import (
	"context"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/topology"
	"verbund/internal/engine/session"
)

// RewriteSecrets has the API write every Secret once more, so that each is
// encrypted with the key that is the first now; it returns how many there are.
func RewriteSecrets(ctx context.Context, s *session.Session, c *topology.Cluster) (int, error) {
	k, err := s.Kube(c)
	if err != nil {
		return 0, err
	}
	l, err := k.CoreV1().Secrets("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return 0, err
	}
	for i := range l.Items {
		sec := &l.Items[i]
		err := session.Until(ctx, "secret "+sec.Namespace+"/"+sec.Name+" to be written", func(ctx context.Context) (string, error) {
			return "", k.RewriteSecret(ctx, sec.Namespace, sec.Name)
		})
		if err != nil {
			return 0, err
		}
	}
	return len(l.Items), nil
}
