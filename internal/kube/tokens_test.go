package kube

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	certv1 "k8s.io/api/certificates/v1"
	corev1 "k8s.io/api/core/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes/fake"

	"verbund/internal/kubeapi/kubeapitest"
)

// A token is a Secret as Kubernetes has it; its uses are counted down, and one
// that somebody else made counts for nothing.
func TestTokens(t *testing.T) {
	ctx := context.Background()
	foreign := &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: "bootstrap-token-zzzzzz", Namespace: "kube-system"}, Type: corev1.SecretTypeBootstrapToken}
	c := Of(kubeapitest.Over(&fake.NewClientset(foreign).Fake))
	tok, text, err := c.IssueToken(ctx, Token{Pool: "gauges", Left: 2, Ends: time.Now().Add(time.Hour)})
	if err != nil || len(text) != 23 || !strings.HasPrefix(text, tok.ID+".") {
		t.Fatalf("%+v %q %v", tok, text, err)
	}
	s, err := c.CoreV1().Secrets("kube-system").Get(ctx, "bootstrap-token-"+tok.ID, metav1.GetOptions{})
	if err != nil || string(s.Data["token-secret"]) != text[7:] || string(s.Data["usage-bootstrap-authentication"]) != "true" || s.Type != corev1.SecretTypeBootstrapToken {
		t.Errorf("the secret %+v, %v", s, err)
	}
	ts, err := c.Tokens(ctx)
	if err != nil || len(ts) != 2 || !ts[0].Foreign || ts[1].Left != 2 || ts[1].Pool != "gauges" {
		t.Errorf("tokens %+v, %v", ts, err)
	}
	// One with a date that cannot be read is one more of somebody else's, and keeps nobody
	// from seeing the others.
	odd := &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: "bootstrap-token-odd000", Namespace: "kube-system", Annotations: map[string]string{tokenLeft: "5"}}, Type: corev1.SecretTypeBootstrapToken, Data: map[string][]byte{"expiration": []byte("next spring")}}
	if _, err := c.CoreV1().Secrets("kube-system").Create(ctx, odd, metav1.CreateOptions{}); err != nil {
		t.Fatal(err)
	}
	ts, err = c.Tokens(ctx)
	if i := slices.IndexFunc(ts, func(t Token) bool { return t.ID == "odd000" }); err != nil || len(ts) != 3 || i < 0 || !ts[i].Foreign || ts[i].Left != 0 {
		t.Errorf("tokens %+v, %v", ts, err)
	}
	for range 2 {
		if err := c.UseToken(ctx, tok.ID); err != nil {
			t.Error(err)
		}
	}
	if err := c.UseToken(ctx, tok.ID); err == nil || !strings.Contains(err.Error(), "used up") {
		t.Errorf("a third use: %v", err)
	}
	if d := (Token{ID: "x", Left: 3, Ends: time.Now().Add(-time.Second)}).ForDecision(); d.Left != 0 {
		t.Errorf("a token that has ended has %d uses left", d.Left)
	}
	if err := c.RevokeToken(ctx, tok.ID); err != nil {
		t.Error(err)
	}
	if err := c.RevokeToken(ctx, tok.ID); err == nil {
		t.Error("it was revoked twice")
	}
}

// A request is decided once.
func TestJudge(t *testing.T) {
	ctx := context.Background()
	c := Of(kubeapitest.Over(&fake.NewClientset(&certv1.CertificateSigningRequest{ObjectMeta: metav1.ObjectMeta{Name: "one"}, Spec: certv1.CertificateSigningRequestSpec{Username: "system:bootstrap:abcdef", SignerName: "s", Usages: []certv1.KeyUsage{certv1.UsageClientAuth}}}).Fake))
	rs, err := c.Requests(ctx)
	if err != nil || len(rs) != 1 || rs[0].State != "waits" || rs[0].Token() != "abcdef" || rs[0].ForDecision().Usages[0] != "client auth" {
		t.Fatalf("%+v, %v", rs, err)
	}
	if err := c.Judge(ctx, "one", false, "ByHand", "no"); err != nil {
		t.Fatal(err)
	}
	if rs, err = c.Requests(ctx); err != nil || rs[0].State != "denied" || rs[0].Why != "no" {
		t.Errorf("%+v, %v", rs, err)
	}
	if err := c.Judge(ctx, "one", true, "ByHand", "yes"); err == nil || !strings.Contains(err.Error(), "already denied: no") {
		t.Errorf("a second decision: %v", err)
	}
}

// What a person may do is told from role bindings, by name or by group.
func TestRights(t *testing.T) {
	c := Of(kubeapitest.Over(&fake.NewClientset(
		&rbacv1.ClusterRoleBinding{ObjectMeta: metav1.ObjectMeta{Name: "a"}, Subjects: []rbacv1.Subject{{Kind: "Group", Name: "readers"}}, RoleRef: rbacv1.RoleRef{Name: "view"}},
		&rbacv1.RoleBinding{ObjectMeta: metav1.ObjectMeta{Name: "b", Namespace: "tides"}, Subjects: []rbacv1.Subject{{Kind: "User", Name: "mara"}}, RoleRef: rbacv1.RoleRef{Name: "edit"}},
		&rbacv1.ClusterRoleBinding{ObjectMeta: metav1.ObjectMeta{Name: "c"}, Subjects: []rbacv1.Subject{{Kind: "User", Name: "nils"}, {Kind: "ServiceAccount", Name: "mara"}}, RoleRef: rbacv1.RoleRef{Name: "cluster-admin"}}).Fake))
	got, err := c.Rights(context.Background(), "mara", []string{"readers"})
	if want := "role view in the whole cluster, through group readers; role edit in namespace tides, by name"; err != nil || strings.Join(got, "; ") != want {
		t.Errorf("%q, %v", got, err)
	}
}
