package node

import (
	"context"
	"fmt"
	"os"
	"path"
	"time"

	authnv1 "k8s.io/api/authentication/v1"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
)

// podsDir is where a kubelet keeps what it mounts into pods.
const podsDir = "/var/lib/kubelet/pods"

// tokenFile is where a pod finds the token of its service account.
func tokenFile(uid types.UID) string {
	return podsDir + "/" + string(uid) + "/volumes/kubernetes.io~projected/kube-api-access/token"
}

// podTokens keeps the tokens of pods fresh. What it knows of them it forgets
// when the kubelet restarts: then each pod gets a new one, as in life.
type podTokens struct {
	k     *kubelet
	known map[types.UID]time.Time // when each is to be asked for anew
}

// write gives a pod a token, or a new one when four fifths of its life are over.
func (t *podTokens) write(ctx context.Context, p *corev1.Pod) error {
	t.k.mu.Lock()
	again, ok := t.known[p.UID]
	t.k.mu.Unlock()
	if ok && time.Now().Before(again) {
		return nil
	}
	began := time.Now()
	tok, err := t.k.c.CoreV1().ServiceAccounts(p.Namespace).CreateToken(ctx, p.Spec.ServiceAccountName, &authnv1.TokenRequest{Spec: authnv1.TokenRequestSpec{
		BoundObjectRef: &authnv1.BoundObjectReference{APIVersion: "v1", Kind: "Pod", Name: p.Name, UID: p.UID}}}, metav1.CreateOptions{})
	if err != nil {
		return fmt.Errorf("service-account token: %w", err)
	}
	if err := t.k.e.Host.WriteFile(tokenFile(p.UID), []byte(tok.Status.Token), 0o600); err != nil {
		return err
	}
	t.k.mu.Lock()
	defer t.k.mu.Unlock()
	t.known[p.UID] = began.Add(tok.Status.ExpirationTimestamp.Sub(began) * 4 / 5)
	return nil
}

// sweep takes away what belonged to pods that are not here any more.
func (t *podTokens) sweep(here map[types.UID]bool) {
	es, err := os.ReadDir(t.k.e.Host.Path(podsDir))
	if err != nil {
		return
	}
	for _, e := range es {
		if uid := types.UID(e.Name()); !here[uid] && t.k.rt.find(uid) == nil {
			os.RemoveAll(t.k.e.Host.Path(path.Join(podsDir, e.Name())))
		}
	}
}
