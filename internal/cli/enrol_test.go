package cli_test

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	certv1 "k8s.io/api/certificates/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/rest"

	"verbund/internal/core/nodeconf"
)

// endpoint is where the API answers, with what verifies it.
func (w *world) endpoint(file string) *rest.Config {
	w.Helper()
	b := w.ok("trust", "export", "cluster-authority")
	return &rest.Config{Host: "https://" + net.JoinHostPort(w.machines()["tidewatch-control-1"].Address, "6443"), TLSClientConfig: rest.TLSClientConfig{CAData: []byte(b), ServerName: "api.tidewatch.test"}, BearerToken: file}
}

// ask asks for a client certificate of a node with a token.
func ask(cfg *rest.Config, node string, key *ecdsa.PrivateKey) (string, error) {
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "system:node:" + node, Organization: []string{"system:nodes"}}}, key)
	if err != nil {
		return "", err
	}
	k, err := kubernetes.NewForConfig(cfg)
	if err != nil {
		return "", err
	}
	q, err := k.CertificatesV1().CertificateSigningRequests().Create(context.Background(), &certv1.CertificateSigningRequest{ObjectMeta: metav1.ObjectMeta{GenerateName: "by-hand-"}, Spec: certv1.CertificateSigningRequestSpec{
		Request: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), SignerName: "kubernetes.io/kube-apiserver-client-kubelet", Usages: []certv1.KeyUsage{certv1.UsageDigitalSignature, certv1.UsageClientAuth}}}, metav1.CreateOptions{})
	if err != nil {
		return "", err
	}
	return q.Name, nil
}

// Machines that enrol by token ask for their own certificates; a token alone
// lets nobody in.
func TestEnrolment(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	w.fails(2, []string{"no pool enrols by token", "--enable-bootstrap-token-auth"}, "token", "issue", "--pool", "keepers")
	// The living pool goes over to it: its machines enrol anew when they have to.
	w.declare(`}\n$`, ", enrolment: token}\n")
	w.declare(`count: 1, size: small`, "count: 2, size: small")
	// Declared is not told yet.
	w.fails(2, []string{"no token can work", "kube-apiserver.service of tidewatch-control-1 lacks --enable-bootstrap-token-auth=true", "run verbund converge first"}, "token", "issue", "--pool", "keepers")
	w.fails(0, []string{"issued token", "machine tidewatch-keepers-2 shows the same key"}, "converge", "--yes")
	w.well("v1.37.2")
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
	for _, gone := range []string{"etc/kubernetes/enrolment.kubeconfig", "etc/kubernetes/trust/kubelet-client.key"} {
		if _, err := os.Stat(w.path(".verbund/sites/estuary/disks/tidewatch-keepers-2/" + gone)); err == nil {
			t.Errorf("%s is left on the machine", gone)
		}
	}
	w.fails(0, []string{"there is no token"}, "token", "list")

	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	var tok struct{ Token, ID string }
	if err := json.Unmarshal([]byte(w.ok("token", "issue", "--pool", "keepers", "--uses", "3", "-o", "json")), &tok); err != nil {
		t.Fatal(err)
	}
	w.fails(0, []string{tok.ID + "  pool keepers  3          14 more minutes"}, "token", "list")
	cfg := w.endpoint(tok.Token)
	// Somebody has the token and claims to be a machine of the pool.
	name, err := ask(cfg, "tidewatch-keepers-1", key)
	if err != nil {
		t.Fatal(err)
	}
	stranger, err := ask(cfg, "tidewatch-keepers-9", key)
	if err != nil {
		t.Fatal(err)
	}
	w.fails(0, []string{name, "its key is not the one that machine tidewatch-keepers-1 shows: somebody else asks", stranger, "no node tidewatch-keepers-9 is declared"}, "requests", "list")
	w.fails(0, []string{"2 certificate requests for a person to decide"}, "status")
	w.ok("converge", "--yes")
	w.fails(0, []string{name + "  kube-apiserver-client-kubelet", "waits"}, "requests", "list")
	w.fails(2, []string{"lets whoever asked in as that node", "--confirm tidewatch"}, "requests", "approve", name)
	w.ok("requests", "deny", name, stranger, "--yes")
	w.fails(0, []string{"no request waits"}, "requests", "list")
	w.fails(0, []string{"denied"}, "requests", "list", "--all")
	w.fails(2, []string{"was decided already"}, "requests", "deny", name, "--yes")
	// With the token alone nothing else can be done.
	k, err := kubernetes.NewForConfig(cfg)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.CoreV1().Secrets("kube-system").List(context.Background(), metav1.ListOptions{}); err == nil || !strings.Contains(err.Error(), "forbidden") {
		t.Errorf("secrets with a token: %v", err)
	}
	w.ok("token", "revoke", tok.ID)
	if _, err := ask(cfg, "tidewatch-keepers-1", key); err == nil || !strings.Contains(err.Error(), "revoked") {
		t.Errorf("a revoked token: %v", err)
	}
	w.fails(1, []string{"there is no token " + tok.ID}, "token", "revoke", tok.ID)
	// One that has ended is refused, too, and the API server's log says which.
	if err := json.Unmarshal([]byte(w.ok("token", "issue", "--pool", "keepers", "-o", "json")), &tok); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(w.path("admin"), []byte(w.ok("access")), 0o600); err != nil {
		t.Fatal(err)
	}
	admin, err := clientOf(w.path("admin"))
	if err != nil {
		t.Fatal(err)
	}
	ended := []byte(`{"stringData":{"expiration":"2001-02-03T04:05:06Z"}}`)
	if _, err := admin.CoreV1().Secrets("kube-system").Patch(context.Background(), "bootstrap-token-"+tok.ID, types.MergePatchType, ended, metav1.PatchOptions{}); err != nil {
		t.Fatal(err)
	}
	if _, err := ask(w.endpoint(tok.Token), "tidewatch-keepers-1", key); err == nil || !strings.Contains(err.Error(), "has ended") {
		t.Errorf("a token that has ended: %v", err)
	}
	w.fails(0, []string{"refused enrolment token " + tok.ID + ": it ended at 2001-02-03"}, "logs", "tidewatch-control-1", "-u", "kube-apiserver")
	w.fails(0, []string{tok.ID, "ended at"}, "token", "list")
	w.ok("token", "revoke", tok.ID)
	for _, bad := range [][]string{{"--pool", "keeper"}, {"--pool", "keepers", "--for", "48h"}, {"--pool", "keepers", "--machine", "tidewatch-keepers-1"}, {"--machine", "tidewatch-control-1"}, {"--pool", "keepers", "--uses", "0"}} {
		w.fails(2, nil, append([]string{"token", "issue"}, bad...)...)
	}
	// What was done stands in the journal, without a secret.
	b, err := os.ReadFile(w.path(".verbund/tidewatch/journal.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"issued token " + tok.ID + " for pool keepers", "revoked token " + tok.ID, "denied request " + name} {
		if !strings.Contains(string(b), want) {
			t.Errorf("the journal does not say %q", want)
		}
	}
	if strings.Contains(string(b), tok.Token[7:]) {
		t.Error("the journal holds a token")
	}
}

// A machine that somebody sets up by hand, with a token of theirs, is let in by
// the next run if the policy has it so. With a token that is used up it is not,
// and gets one of its own.
func TestEnrolmentByHand(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.declare(`}\n$`, ", enrolment: token}\n")
	w.ok("converge", "--yes")
	const node = "tidewatch-keepers-1"
	var tok struct{ Token, ID string }
	if err := json.Unmarshal([]byte(w.ok("token", "issue", "--machine", node, "-o", "json")), &tok); err != nil {
		t.Fatal(err)
	}
	disk := w.path(".verbund/sites/estuary/disks/" + node)
	// byHand takes from the machine what it had, and leaves it a token.
	byHand := func(why string, said ...string) {
		t.Helper()
		w.ok("site", "power", node, "off")
		for _, gone := range []string{"/var/lib/kubelet/pki", nodeconf.OwnKubeconfig} {
			if err := os.RemoveAll(disk + gone); err != nil {
				t.Fatal(err)
			}
		}
		kc := fmt.Sprintf(`{"apiVersion": "v1", "kind": "Config", "current-context": "tidewatch", "contexts": [{"name": "tidewatch", "context": {"cluster": "tidewatch", "user": "enrolment"}}],
			"clusters": [{"name": "tidewatch", "cluster": {"server": "https://api.tidewatch.test:6443", "certificate-authority": "/etc/kubernetes/trust/cluster-authority.crt"}}], "users": [{"name": "enrolment", "user": {"token": %q}}]}`, tok.Token)
		if err := os.WriteFile(disk+nodeconf.Enrolment, []byte(kc), 0o600); err != nil {
			t.Fatal(err)
		}
		w.ok("site", "power", node, "on")
		w.until(30*time.Second, "what becomes of its token", func() (bool, string) {
			o, e, _ := w.run(said...)
			return strings.Contains(o, why), o + e
		})
	}
	byHand("the next converge approves it: machine "+node+" shows the same key", "requests", "list")
	o := w.fails(0, []string{"approved request"}, "converge", "--yes")
	if strings.Contains(o, "issued token") {
		t.Errorf("it got a token, and had one:\n%s", o)
	}
	w.well("v1.37.2")
	w.fails(0, []string{tok.ID, "used up"}, "token", "list")
	if _, err := os.Stat(disk + nodeconf.Enrolment); err == nil {
		t.Error("the token is left on the machine")
	}

	byHand("token "+tok.ID+" is used up", "requests", "list")
	w.fails(0, []string{"waits for a person: token " + tok.ID + " is used up", "issued token", "approved request"}, "converge", "--yes")
	w.well("v1.37.2")

	// No request comes of one that was revoked: the machine is not a node, and
	// status says why.
	w.ok("token", "revoke", tok.ID)
	refused := "its token " + tok.ID + " is refused: it is not known, or was revoked"
	w.ok("access", "--merge", w.path("admin"))
	admin, err := clientOf(w.path("admin"))
	if err != nil {
		t.Fatal(err)
	}
	if err := admin.CoreV1().Nodes().Delete(context.Background(), node, metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	byHand(node+" is not a node: "+refused, "status")
	w.fails(0, []string{refused, "issued token", "approved request"}, "converge", "--yes")
	w.well("v1.37.2")
	b, err := os.ReadFile(w.path(".verbund/tidewatch/journal.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"token " + tok.ID + " is used up", refused} {
		if !strings.Contains(string(b), want) {
			t.Errorf("the journal does not say %q", want)
		}
	}
	if strings.Contains(string(b), tok.Token[7:]) {
		t.Error("the journal holds a token's secret half")
	}
}

// People get access for hours, with groups; a broken glass has its reason.
func TestAccess(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.fails(1, []string{"no certificates"}, "access")
	w.ok("converge", "--yes")
	kc := w.path("mara")
	if err := os.WriteFile(kc, []byte(w.ok("access", "--person", "mara", "--groups", "readers", "--for", "2h")), 0o600); err != nil {
		t.Fatal(err)
	}
	w.fails(0, []string{"no role binding names mara, or groups readers"}, "access", "--person", "mara", "--groups", "readers")
	w.fails(0, []string{"role cluster-admin in the whole cluster, through group verbund:operators"}, "access", "--person", "nils")
	if err := asksAPI(kc)(context.Background()); err == nil || !strings.Contains(err.Error(), "forbidden") {
		t.Errorf("mara lists namespaces: %v", err)
	}
	w.fails(2, []string{"Kubernetes' own"}, "access", "--groups", "system:masters")
	w.fails(2, []string{"from 5m to 1d"}, "access", "--for", "30d")
	w.fails(2, []string{"cannot be used"}, "access", "--person", "a b")
	w.fails(2, []string{"wants a --reason"}, "access", "--break-glass")
	w.fails(2, []string{"from 5m to 1h"}, "access", "--break-glass", "--reason", "x", "--for", "2h")
	if err := os.WriteFile(kc, []byte(w.ok("access", "--break-glass", "--person", "mara", "--reason", "role bindings were deleted")), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := asksAPI(kc)(context.Background()); err != nil {
		t.Errorf("with a broken glass: %v", err)
	}
	w.fails(0, []string{"mara  break-glass  system:masters", "role bindings were deleted", "nils  person", "119 more minutes"}, "access", "--list")
	w.fails(0, []string{"access --break-glass"}, "history")

	w.ok("trust", "issue", "tidetable", "--names", "tidetable.tidewatch.test,192.0.2.7", "--for", "30d", "--into", w.path("certs"))
	for _, f := range []string{"tidetable.crt", "tidetable.key", "programs-authority.crt"} {
		if _, err := os.Stat(w.path("certs/" + f)); err != nil {
			t.Error(err)
		}
	}
	// Nothing of the cluster trusts it.
	certificate, err := os.ReadFile(w.path("certs/tidetable.crt"))
	if err != nil {
		t.Fatal(err)
	}
	p, _ := pem.Decode(certificate)
	x, err := x509.ParseCertificate(p.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(w.ok("trust", "export", "cluster-authority")))
	if _, err := x.Verify(x509.VerifyOptions{Roots: pool}); err == nil {
		t.Error("the cluster's authority vouches for a program")
	}
	own := x509.NewCertPool()
	own.AppendCertsFromPEM([]byte(w.ok("trust", "export")))
	if _, err := x.Verify(x509.VerifyOptions{Roots: own, DNSName: "tidetable.tidewatch.test"}); err != nil || time.Until(x.NotAfter) > 31*24*time.Hour {
		t.Errorf("its own authority: %v, until %s", err, x.NotAfter)
	}
	w.fails(2, []string{"is no server's"}, "trust", "issue", "lampbook")
	w.declare(`name: tidewatch\n`, "name: tidewatch\ntrust: {programs: [{name: lampbook, client: true}]}\n")
	w.fails(2, []string{"is declared"}, "trust", "issue", "lampbook", "--client")
	w.ok("trust", "issue", "lampbook", "--into", w.path("certs"))
	w.fails(0, []string{"programs/lampbook"}, "trust", "list", "--all")
	w.fails(0, []string{"fingerprint (SHA-256)", "update-ca-certificates"}, "trust", "export", "--into", w.path("ca.crt"))
}
