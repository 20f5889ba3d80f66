package cli_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
	"time"

	certv1 "k8s.io/api/certificates/v1"
	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/util/intstr"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/util/retry"

	"verbund/internal/core/trust"
)

// as is a client in somebody else's name.
func (q *questions) as(user string, groups ...string) (*kubernetes.Clientset, error) {
	cfg := rest.CopyConfig(q.cfg)
	cfg.Impersonate = rest.ImpersonationConfig{UserName: user, Groups: groups}
	return kubernetes.NewForConfig(cfg)
}

// tries says what came of things that somebody tries: yes, or the reason why not.
func tries(errs ...error) string {
	var out []string
	for _, err := range errs {
		out = append(out, reason(err))
	}
	return strings.Join(out, " ")
}

// reason is a short word for an answer.
func reason(err error) string {
	if err == nil {
		return "yes"
	}
	if r := string(apierrors.ReasonForError(err)); r != "" {
		return r
	}
	return err.Error()
}

// worker is a node of the cluster that is no control-plane machine, and another node.
func (q *questions) worker(ctx context.Context) (own, other string, err error) {
	ns, err := q.CoreV1().Nodes().List(ctx, metav1.ListOptions{})
	if err != nil {
		return "", "", err
	}
	for _, n := range ns.Items {
		if _, control := n.Labels["node-role.kubernetes.io/control-plane"]; control {
			other = n.Name
		} else {
			own = n.Name
		}
	}
	if own == "" || other == "" {
		return "", "", errors.New("there are no two nodes")
	}
	return own, other, nil
}

// identities are asked as those whose certificates the tool makes: what each may, and may not.
var identities = []asked{
	{"a kubelet, of its own node and others", "yes yes Forbidden Forbidden Forbidden", func(ctx context.Context, q *questions) (string, error) {
		own, other, err := q.worker(ctx)
		if err != nil {
			return "", err
		}
		k, err := q.as("system:node:"+own, "system:nodes", "system:authenticated")
		if err != nil {
			return "", err
		}
		patch := func(node, what string) error {
			_, err := k.CoreV1().Nodes().Patch(ctx, node, types.MergePatchType, []byte(what), metav1.PatchOptions{})
			return err
		}
		_, get := k.CoreV1().Nodes().Get(ctx, own, metav1.GetOptions{})
		return tries(get, patch(own, `{"metadata":{"annotations":{"seamark.test/asked":"1"}}}`), patch(other, `{"metadata":{"annotations":{"seamark.test/asked":"1"}}}`),
			patch(own, `{"metadata":{"labels":{"node-restriction.kubernetes.io/asked":"1"}}}`), k.CoreV1().Nodes().Delete(ctx, own, metav1.DeleteOptions{})), nil
	}},
	{"a kubelet, of secrets and pods", "Forbidden Forbidden Forbidden Forbidden yes", func(ctx context.Context, q *questions) (string, error) {
		own, _, err := q.worker(ctx)
		if err != nil {
			return "", err
		}
		k, err := q.as("system:node:"+own, "system:nodes", "system:authenticated")
		if err != nil {
			return "", err
		}
		_, all := k.CoreV1().Secrets(q.ns).List(ctx, metav1.ListOptions{})
		_, one := k.CoreV1().Secrets(q.ns).Get(ctx, "text", metav1.GetOptions{})
		_, pod := k.CoreV1().Pods(q.ns).Create(ctx, &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: "mine"}, Spec: corev1.PodSpec{Containers: []corev1.Container{{Name: "one", Image: "images.test/one:1"}}}}, metav1.CreateOptions{})
		_, token := k.CoreV1().ServiceAccounts(q.ns).List(ctx, metav1.ListOptions{})
		_, list := k.CoreV1().Pods("").List(ctx, metav1.ListOptions{FieldSelector: "spec.nodeName=" + own})
		return tries(all, one, pod, token, list), nil
	}},
	{"the scheduler", "yes Forbidden Forbidden", func(ctx context.Context, q *questions) (string, error) {
		k, err := q.as("system:kube-scheduler", "system:authenticated")
		if err != nil {
			return "", err
		}
		_, list := k.CoreV1().Pods("").List(ctx, metav1.ListOptions{})
		_, secrets := k.CoreV1().Secrets(q.ns).List(ctx, metav1.ListOptions{})
		return tries(list, secrets, k.CoreV1().Nodes().Delete(ctx, "none", metav1.DeleteOptions{})), nil
	}},
	{"the controller manager", "yes yes Forbidden", func(ctx context.Context, q *questions) (string, error) {
		k, err := q.as("system:kube-controller-manager", "system:authenticated")
		if err != nil {
			return "", err
		}
		_, secrets := k.CoreV1().Secrets(q.ns).List(ctx, metav1.ListOptions{})
		_, maps := k.CoreV1().ConfigMaps(q.ns).List(ctx, metav1.ListOptions{})
		_, binds := k.RbacV1().ClusterRoleBindings().Patch(ctx, "cluster-admin", types.MergePatchType, []byte(`{"metadata":{"labels":{"asked":"1"}}}`), metav1.PatchOptions{})
		return tries(secrets, maps, binds), nil
	}},
	{"the proxy", "yes yes yes Forbidden Forbidden", func(ctx context.Context, q *questions) (string, error) {
		k, err := q.as("system:kube-proxy", "system:authenticated")
		if err != nil {
			return "", err
		}
		_, services := k.CoreV1().Services("").List(ctx, metav1.ListOptions{})
		_, slices := k.DiscoveryV1().EndpointSlices("").List(ctx, metav1.ListOptions{})
		_, nodes := k.CoreV1().Nodes().List(ctx, metav1.ListOptions{})
		_, secrets := k.CoreV1().Secrets("").List(ctx, metav1.ListOptions{})
		_, pods := k.CoreV1().Pods("").List(ctx, metav1.ListOptions{})
		return tries(services, slices, nodes, secrets, pods), nil
	}},
	{"somebody without a name", "Forbidden", func(ctx context.Context, q *questions) (string, error) {
		k, err := kubernetes.NewForConfig(rest.AnonymousClientConfig(q.cfg))
		if err != nil {
			return "", err
		}
		_, err = k.CoreV1().Namespaces().List(ctx, metav1.ListOptions{})
		return "", err
	}},
	{"a request for a certificate that is none", "Invalid", func(ctx context.Context, q *questions) (string, error) {
		return "", q.requests(ctx, "none", []byte("nothing"))
	}},
	{"a request that is approved", "waits, then issued", func(ctx context.Context, q *questions) (string, error) {
		return q.judged(ctx, "approved", certv1.CertificateApproved)
	}},
	{"a request that is denied", "waits, then nothing", func(ctx context.Context, q *questions) (string, error) {
		return q.judged(ctx, "denied", certv1.CertificateDenied)
	}},
	{"an event is found by what it is about", "1 of 2", func(ctx context.Context, q *questions) (string, error) {
		for _, about := range []string{"one", "other"} {
			_, err := q.CoreV1().Events(q.ns).Create(ctx, &corev1.Event{ObjectMeta: metav1.ObjectMeta{GenerateName: about + "-"}, InvolvedObject: corev1.ObjectReference{Kind: "ConfigMap", APIVersion: "v1", Namespace: q.ns, Name: "asked-" + about}, Reason: "Asked", Message: "somebody asked", Type: "Normal"}, metav1.CreateOptions{})
			if err != nil {
				return "", err
			}
		}
		one, err := q.CoreV1().Events(q.ns).List(ctx, metav1.ListOptions{FieldSelector: "involvedObject.name=asked-one"})
		if err != nil {
			return "", err
		}
		all, err := q.CoreV1().Events(q.ns).List(ctx, metav1.ListOptions{FieldSelector: "reason=Asked"})
		return fmt.Sprintf("%d of %d", len(one.Items), len(all.Items)), err
	}},
	{"eviction of what is not there", "NotFound", func(ctx context.Context, q *questions) (string, error) {
		return "", q.evict(ctx, "none")
	}},
	{"eviction past a budget", "TooManyRequests, then yes", func(ctx context.Context, q *questions) (string, error) {
		l := map[string]string{"app": "evicted"}
		one := intstr.FromInt32(1)
		if _, err := q.PolicyV1().PodDisruptionBudgets(q.ns).Create(ctx, &policyv1.PodDisruptionBudget{ObjectMeta: metav1.ObjectMeta{Name: "evicted"}, Spec: policyv1.PodDisruptionBudgetSpec{MinAvailable: &one, Selector: &metav1.LabelSelector{MatchLabels: l}}}, metav1.CreateOptions{}); err != nil {
			return "", err
		}
		if _, err := q.CoreV1().Pods(q.ns).Create(ctx, &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: "evicted", Labels: l}, Spec: corev1.PodSpec{Containers: []corev1.Container{{Name: "one", Image: "images.seamark.test/tidetable:1.0"}}}}, metav1.CreateOptions{}); err != nil {
			return "", err
		}
		err := q.wait(ctx, "the pod and its budget", func() (bool, error) {
			p, err := q.CoreV1().Pods(q.ns).Get(ctx, "evicted", metav1.GetOptions{})
			if err != nil || p.Status.Phase != corev1.PodRunning {
				return false, err
			}
			b, err := q.PolicyV1().PodDisruptionBudgets(q.ns).Get(ctx, "evicted", metav1.GetOptions{})
			return err == nil && b.Status.CurrentHealthy == 1 && b.Status.ObservedGeneration == b.Generation, err
		})
		if err != nil {
			return "", err
		}
		first := reason(q.evict(ctx, "evicted"))
		if err := q.PolicyV1().PodDisruptionBudgets(q.ns).Delete(ctx, "evicted", metav1.DeleteOptions{}); err != nil {
			return "", err
		}
		return first + ", then " + reason(q.evict(ctx, "evicted")), nil
	}},
}

func (q *questions) evict(ctx context.Context, pod string) error {
	return q.PolicyV1().Evictions(q.ns).Evict(ctx, &policyv1.Eviction{ObjectMeta: metav1.ObjectMeta{Name: pod, Namespace: q.ns}})
}

// wait waits until something is so.
func (q *questions) wait(ctx context.Context, what string, ok func() (bool, error)) error {
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for end := time.Now().Add(40 * time.Second); ; {
		is, err := ok()
		if is {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("waited for %s: %w", what, errors.Join(err, context.DeadlineExceeded))
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// requests asks for a certificate of a kubelet's, which is what the cluster signs, as a machine
// with an enrolment token does: what an administrator asks for so is approved by itself.
func (q *questions) requests(ctx context.Context, name string, csr []byte) error {
	k, err := q.as("system:bootstrap:asked1", trust.TokenGroup, "system:bootstrappers", "system:authenticated")
	if err != nil {
		return err
	}
	_, err = k.CertificatesV1().CertificateSigningRequests().Create(ctx, &certv1.CertificateSigningRequest{ObjectMeta: metav1.ObjectMeta{Name: q.ns + "-" + name},
		Spec: certv1.CertificateSigningRequestSpec{Request: csr, SignerName: certv1.KubeAPIServerClientKubeletSignerName, Usages: []certv1.KeyUsage{certv1.UsageDigitalSignature, certv1.UsageClientAuth}}}, metav1.CreateOptions{})
	return err
}

// judged asks for a certificate and has it judged, and says what came of it.
func (q *questions) judged(ctx context.Context, name string, as certv1.RequestConditionType) (string, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", err
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "system:node:nobody-" + name, Organization: []string{"system:nodes"}}}, key)
	if err != nil {
		return "", err
	}
	if err := q.requests(ctx, name, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})); err != nil {
		return "", err
	}
	rs := q.CertificatesV1().CertificateSigningRequests()
	defer rs.Delete(ctx, q.ns+"-"+name, metav1.DeleteOptions{})
	var r *certv1.CertificateSigningRequest
	out := "judged"
	// Others look at it as well, and may write what they saw of it.
	err = retry.RetryOnConflict(retry.DefaultBackoff, func() (err error) {
		if r, err = rs.Get(ctx, q.ns+"-"+name, metav1.GetOptions{}); err != nil {
			return err
		}
		if len(r.Status.Conditions) == 0 && len(r.Status.Certificate) == 0 {
			out = "waits"
		}
		r.Status.Conditions = append(r.Status.Conditions, certv1.CertificateSigningRequestCondition{Type: as, Status: corev1.ConditionTrue, Reason: "Asked", Message: "somebody asked"})
		_, err = rs.UpdateApproval(ctx, r.Name, r, metav1.UpdateOptions{})
		return err
	})
	if err != nil {
		return "", err
	}
	if as == certv1.CertificateDenied {
		if r, err = rs.Get(ctx, r.Name, metav1.GetOptions{}); err != nil || len(r.Status.Certificate) > 0 {
			return out + ", then issued", err
		}
		return out + ", then nothing", nil
	}
	err = q.wait(ctx, "the certificate", func() (bool, error) {
		r, err := rs.Get(ctx, r.Name, metav1.GetOptions{})
		return err == nil && len(r.Status.Certificate) > 0, err
	})
	return out + ", then issued", err
}
