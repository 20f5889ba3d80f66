package kubeapi_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	admissionregistrationv1 "k8s.io/api/admissionregistration/v1"
	appsv1 "k8s.io/api/apps/v1"
	authenticationv1 "k8s.io/api/authentication/v1"
	authorizationv1 "k8s.io/api/authorization/v1"
	certificatesv1 "k8s.io/api/certificates/v1"
	coordinationv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	policyv1 "k8s.io/api/policy/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/watch"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/kubernetes/fake"
	"k8s.io/client-go/rest"

	"verbund/internal/kubeapi"
	"verbund/internal/kubeapi/kubeapitest"
)

// recorder notes what is asked, and answers nothing.
type recorder struct {
	said  []string
	first func() // is called once, when the first has come
}

var errNobody = errors.New("nobody is there")

func (r *recorder) RoundTrip(q *http.Request) (*http.Response, error) {
	var body []byte
	if q.Body != nil {
		body, _ = io.ReadAll(q.Body)
	}
	r.said = append(r.said, fmt.Sprintf("%s %s accept %q as %q: %q", q.Method, q.URL, q.Header.Get("Accept"), q.Header.Get("Content-Type"), body))
	if len(r.said) == 1 && r.first != nil {
		r.first()
	}
	return nil, errNobody
}

// client is what the published clients and ours have in common.
type client[O, L any] interface {
	Create(context.Context, O, metav1.CreateOptions) (O, error)
	Update(context.Context, O, metav1.UpdateOptions) (O, error)
	Delete(context.Context, string, metav1.DeleteOptions) error
	DeleteCollection(context.Context, metav1.DeleteOptions, metav1.ListOptions) error
	Get(context.Context, string, metav1.GetOptions) (O, error)
	List(context.Context, metav1.ListOptions) (L, error)
	Watch(context.Context, metav1.ListOptions) (watch.Interface, error)
	Patch(context.Context, string, types.PatchType, []byte, metav1.PatchOptions, ...string) (O, error)
}

// asks calls everything of a client.
func asks[O, L any](c client[O, L], o O) {
	ctx := context.Background()
	secs := int64(7)
	some := metav1.ListOptions{LabelSelector: "work=x", FieldSelector: "spec.nodeName=n", Limit: 5, ResourceVersion: "3", TimeoutSeconds: &secs, AllowWatchBookmarks: true}
	c.Create(ctx, o, metav1.CreateOptions{FieldManager: "verbund"})
	c.Update(ctx, o, metav1.UpdateOptions{DryRun: []string{metav1.DryRunAll}})
	if s, ok := c.(interface {
		UpdateStatus(context.Context, O, metav1.UpdateOptions) (O, error)
	}); ok {
		s.UpdateStatus(ctx, o, metav1.UpdateOptions{})
	}
	c.Delete(ctx, "one", *metav1.NewPreconditionDeleteOptions("uid"))
	c.DeleteCollection(ctx, metav1.DeleteOptions{}, some)
	c.Get(ctx, "one", metav1.GetOptions{ResourceVersion: "0"})
	c.List(ctx, some)
	c.Watch(ctx, some)
	c.Patch(ctx, "one", types.StrategicMergePatchType, []byte(`{"a":1}`), metav1.PatchOptions{FieldManager: "verbund"}, "status")
}

// Whatever is asked through our clients is asked in the same words by the published ones.
func TestAsksAsThePublishedOnes(t *testing.T) {
	ours, theirs := &recorder{}, &recorder{}
	cfg := &rest.Config{Host: "https://api.tidewatch.test:6443", QPS: -1}
	c, err := kubeapi.NewForConfigAndClient(cfg, &http.Client{Transport: ours})
	if err != nil {
		t.Fatal(err)
	}
	k, err := kubernetes.NewForConfigAndClient(cfg, &http.Client{Transport: theirs})
	if err != nil {
		t.Fatal(err)
	}
	// Of what has no status the published clients have no method for it.
	ofStatus := func(s string) bool { return strings.HasPrefix(s, http.MethodPut) && strings.Contains(s, "/status") }
	compare := func(what string) {
		t.Helper()
		mine := slices.DeleteFunc(ours.said, func(s string) bool { return ofStatus(s) && !slices.ContainsFunc(theirs.said, ofStatus) })
		if len(mine) == 0 || !slices.Equal(mine, theirs.said) {
			t.Errorf("%s: ours ask\n%s\nand theirs\n%s", what, strings.Join(mine, "\n"), strings.Join(theirs.said, "\n"))
		}
		ours.said, theirs.said = nil, nil
	}
	meta := metav1.ObjectMeta{Name: "one", Namespace: "n", Labels: map[string]string{"work": "x"}}
	asks(c.CoreV1().ConfigMaps("n"), &corev1.ConfigMap{ObjectMeta: meta})
	asks(k.CoreV1().ConfigMaps("n"), &corev1.ConfigMap{ObjectMeta: meta})
	compare("config maps")
	asks(c.CoreV1().Events(""), &corev1.Event{ObjectMeta: meta})
	asks(k.CoreV1().Events(""), &corev1.Event{ObjectMeta: meta})
	compare("events")
	asks(c.CoreV1().Nodes(), &corev1.Node{ObjectMeta: meta})
	asks(k.CoreV1().Nodes(), &corev1.Node{ObjectMeta: meta})
	compare("nodes")
	asks(c.CoreV1().PersistentVolumes(), &corev1.PersistentVolume{ObjectMeta: meta})
	asks(k.CoreV1().PersistentVolumes(), &corev1.PersistentVolume{ObjectMeta: meta})
	compare("volumes")
	asks(c.CoreV1().PersistentVolumeClaims("n"), &corev1.PersistentVolumeClaim{ObjectMeta: meta})
	asks(k.CoreV1().PersistentVolumeClaims("n"), &corev1.PersistentVolumeClaim{ObjectMeta: meta})
	compare("claims")
	asks(c.CoreV1().Secrets("n"), &corev1.Secret{ObjectMeta: meta})
	asks(k.CoreV1().Secrets("n"), &corev1.Secret{ObjectMeta: meta})
	compare("secrets")
	asks(c.CoreV1().Pods(""), &corev1.Pod{ObjectMeta: meta})
	asks(k.CoreV1().Pods(""), &corev1.Pod{ObjectMeta: meta})
	compare("pods")
	asks(c.CoreV1().ServiceAccounts("n"), &corev1.ServiceAccount{ObjectMeta: meta})
	asks(k.CoreV1().ServiceAccounts("n"), &corev1.ServiceAccount{ObjectMeta: meta})
	compare("accounts")
	asks(c.AppsV1().DaemonSets("n"), &appsv1.DaemonSet{ObjectMeta: meta})
	asks(k.AppsV1().DaemonSets("n"), &appsv1.DaemonSet{ObjectMeta: meta})
	compare("daemon sets")
	asks(c.AppsV1().Deployments("n"), &appsv1.Deployment{ObjectMeta: meta})
	asks(k.AppsV1().Deployments("n"), &appsv1.Deployment{ObjectMeta: meta})
	compare("deployments")
	asks(c.AppsV1().ReplicaSets("n"), &appsv1.ReplicaSet{ObjectMeta: meta})
	asks(k.AppsV1().ReplicaSets("n"), &appsv1.ReplicaSet{ObjectMeta: meta})
	compare("replica sets")
	asks(c.AppsV1().StatefulSets("n"), &appsv1.StatefulSet{ObjectMeta: meta})
	asks(k.AppsV1().StatefulSets("n"), &appsv1.StatefulSet{ObjectMeta: meta})
	compare("stateful sets")
	asks(c.PolicyV1().PodDisruptionBudgets("n"), &policyv1.PodDisruptionBudget{ObjectMeta: meta})
	asks(k.PolicyV1().PodDisruptionBudgets("n"), &policyv1.PodDisruptionBudget{ObjectMeta: meta})
	compare("budgets")
	asks(c.RbacV1().ClusterRoles(), &rbacv1.ClusterRole{ObjectMeta: meta})
	asks(k.RbacV1().ClusterRoles(), &rbacv1.ClusterRole{ObjectMeta: meta})
	compare("roles")
	asks(c.RbacV1().ClusterRoleBindings(), &rbacv1.ClusterRoleBinding{ObjectMeta: meta})
	asks(k.RbacV1().ClusterRoleBindings(), &rbacv1.ClusterRoleBinding{ObjectMeta: meta})
	compare("bindings")
	asks(c.RbacV1().RoleBindings("n"), &rbacv1.RoleBinding{ObjectMeta: meta})
	asks(k.RbacV1().RoleBindings("n"), &rbacv1.RoleBinding{ObjectMeta: meta})
	compare("role bindings")
	asks(c.CoordinationV1().Leases("n"), &coordinationv1.Lease{ObjectMeta: meta})
	asks(k.CoordinationV1().Leases("n"), &coordinationv1.Lease{ObjectMeta: meta})
	compare("leases")
	asks(c.DiscoveryV1().EndpointSlices("n"), &discoveryv1.EndpointSlice{ObjectMeta: meta})
	asks(k.DiscoveryV1().EndpointSlices("n"), &discoveryv1.EndpointSlice{ObjectMeta: meta})
	compare("slices")
	asks(c.CertificatesV1().CertificateSigningRequests(), &certificatesv1.CertificateSigningRequest{ObjectMeta: meta})
	asks(k.CertificatesV1().CertificateSigningRequests(), &certificatesv1.CertificateSigningRequest{ObjectMeta: meta})
	compare("requests")
	asks(c.AdmissionregistrationV1().MutatingWebhookConfigurations(), &admissionregistrationv1.MutatingWebhookConfiguration{ObjectMeta: meta})
	asks(k.AdmissionregistrationV1().MutatingWebhookConfigurations(), &admissionregistrationv1.MutatingWebhookConfiguration{ObjectMeta: meta})
	compare("mutating webhooks")
	asks(c.AdmissionregistrationV1().ValidatingWebhookConfigurations(), &admissionregistrationv1.ValidatingWebhookConfiguration{ObjectMeta: meta})
	asks(k.AdmissionregistrationV1().ValidatingWebhookConfigurations(), &admissionregistrationv1.ValidatingWebhookConfiguration{ObjectMeta: meta})
	compare("validating webhooks")

	ctx := context.Background()
	for what, both := range map[string][2]func(){
		"binding": {
			func() {
				c.CoreV1().Pods("n").Bind(ctx, &corev1.Binding{ObjectMeta: meta, Target: corev1.ObjectReference{Kind: "Node", Name: "m"}}, metav1.CreateOptions{})
			},
			func() {
				k.CoreV1().Pods("n").Bind(ctx, &corev1.Binding{ObjectMeta: meta, Target: corev1.ObjectReference{Kind: "Node", Name: "m"}}, metav1.CreateOptions{})
			}},
		"logs": {
			func() {
				c.CoreV1().Pods("n").GetLogs("one", &corev1.PodLogOptions{Container: "c", Previous: true}).Do(ctx)
			},
			func() {
				k.CoreV1().Pods("n").GetLogs("one", &corev1.PodLogOptions{Container: "c", Previous: true}).Do(ctx)
			}},
		"token": {
			func() {
				c.CoreV1().ServiceAccounts("n").CreateToken(ctx, "one", &authenticationv1.TokenRequest{}, metav1.CreateOptions{})
			},
			func() {
				k.CoreV1().ServiceAccounts("n").CreateToken(ctx, "one", &authenticationv1.TokenRequest{}, metav1.CreateOptions{})
			}},
		"eviction": {
			func() { c.PolicyV1().Evictions("n").Evict(ctx, &policyv1.Eviction{ObjectMeta: meta}) },
			func() { k.PolicyV1().Evictions("n").Evict(ctx, &policyv1.Eviction{ObjectMeta: meta}) }},
		"approval": {
			func() {
				c.CertificatesV1().CertificateSigningRequests().UpdateApproval(ctx, "one", &certificatesv1.CertificateSigningRequest{ObjectMeta: meta}, metav1.UpdateOptions{})
			},
			func() {
				k.CertificatesV1().CertificateSigningRequests().UpdateApproval(ctx, "one", &certificatesv1.CertificateSigningRequest{ObjectMeta: meta}, metav1.UpdateOptions{})
			}},
		"review of oneself": {
			func() {
				c.AuthorizationV1().SelfSubjectAccessReviews().Create(ctx, &authorizationv1.SelfSubjectAccessReview{}, metav1.CreateOptions{})
			},
			func() {
				k.AuthorizationV1().SelfSubjectAccessReviews().Create(ctx, &authorizationv1.SelfSubjectAccessReview{}, metav1.CreateOptions{})
			}},
		"review": {
			func() {
				c.AuthorizationV1().SubjectAccessReviews().Create(ctx, &authorizationv1.SubjectAccessReview{}, metav1.CreateOptions{})
			},
			func() {
				k.AuthorizationV1().SubjectAccessReviews().Create(ctx, &authorizationv1.SubjectAccessReview{}, metav1.CreateOptions{})
			}},
	} {
		both[0]()
		both[1]()
		compare(what)
	}
}

// A cache has what there is, and follows what happens; one of a part asks for that alone.
func TestCache(t *testing.T) {
	f := fake.NewClientset(&corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "there"}})
	c := kubeapitest.Over(&f.Fake)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	nodes := c.CoreV1().Nodes().Cache()
	kubeapi.Run(ctx, nodes)
	has := func(name string, want bool) {
		t.Helper()
		for {
			if _, ok, _ := nodes.GetStore().GetByKey(name); ok == want {
				return
			}
			select {
			case <-ctx.Done():
				t.Fatalf("whether %s is there is not %v", name, want)
			case <-time.After(time.Millisecond):
			}
		}
	}
	has("there", true)
	if _, err := c.CoreV1().Nodes().Create(ctx, &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "comes"}}, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	has("comes", true)
	if err := c.CoreV1().Nodes().Delete(ctx, "there", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	has("there", false)

	asked := make(chan struct{})
	r := &recorder{first: func() { close(asked) }}
	of, err := kubeapi.NewForConfigAndClient(&rest.Config{Host: "https://api.tidewatch.test:6443"}, &http.Client{Transport: r})
	if err != nil {
		t.Fatal(err)
	}
	part := of.CoreV1().Pods("").CacheOf(func(o *metav1.ListOptions) {
		o.FieldSelector = "spec.nodeName=n"
	})
	pctx, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() { defer close(done); part.RunWithContext(pctx) }()
	<-asked
	stop()
	<-done
	for _, s := range r.said {
		if !strings.Contains(s, "fieldSelector=spec.nodeName%3Dn") {
			t.Errorf("asked was %s", s)
		}
	}
}
