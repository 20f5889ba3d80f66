package cli_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/rest"

	"verbund/internal/core/trust"
	"verbund/internal/store"
)

const matrixCluster = `schema: verbund/1
name: tidewatch
kubernetes: v1.37.2
site: estuary
endpoint: {name: api.tidewatch.test}
control: {count: 1, size: medium, datastore: {place: apart, count: 1}}
pools:
  - {name: keepers, count: 1, size: small}
  - {name: lamps, count: 1, size: small, enrolment: token}
`

// Where which private key lies: exactly there, and nowhere else.
var keyTable = map[string]string{
	"tidewatch-control-1": `etc/kubernetes/trust/api-server-datastore.key etc/kubernetes/trust/api-server-kubelet.key etc/kubernetes/trust/api-server.key etc/kubernetes/trust/cluster-signing.key
		etc/kubernetes/trust/controller-manager.key etc/kubernetes/trust/front-proxy.key etc/kubernetes/trust/kubelet-client.key etc/kubernetes/trust/proxy.key etc/kubernetes/trust/request-approver.key
		etc/kubernetes/trust/scheduler.key etc/kubernetes/trust/secrets-encryption.yaml etc/kubernetes/trust/service-account.key var/lib/kubelet/pki/kubelet-server-DATE.pem`,
	"tidewatch-datastore-1": "etc/kubernetes/trust/datastore-member.key etc/kubernetes/trust/datastore-peer.key",
	"tidewatch-keepers-1":   "etc/kubernetes/trust/kubelet-client.key etc/kubernetes/trust/proxy.key var/lib/kubelet/pki/kubelet-server-DATE.pem",
	"tidewatch-lamps-1":     "etc/kubernetes/trust/proxy.key var/lib/kubelet/pki/kubelet-client-DATE.pem var/lib/kubelet/pki/kubelet-server-DATE.pem",
}

// dated is how a kubelet's pair is called.
var dated = regexp.MustCompile(`-\d{4}-\d\d-\d\d-\d\d-\d\d-\d\d\.pem$`)

// purposes are what each kind of certificate has to be good for.
var serves = []string{"api-server", "datastore-member", "datastore-peer", "kubelet-server-current"}

// Every key is where the table says; every certificate is right by another
// program's judgement; what is wrong is refused on the wire; a node can do
// nothing to another one; and no secret appears anywhere.
func TestSecurity(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	if err := os.WriteFile(w.path("tidewatch.verbund.yaml"), []byte(matrixCluster), 0o644); err != nil {
		t.Fatal(err)
	}
	w.ok("converge", "--yes")
	disks := w.path(".verbund/sites/estuary/disks/")
	t.Run("keys", func(t *testing.T) { keysWhereTheyBelong(t, disks) })
	t.Run("openssl", func(t *testing.T) { certificatesByOpenSSL(t, w, disks) })
	tr, err := store.At(w.dir, "tidewatch", &store.Keys{Dir: w.keys}).Trust()
	if err != nil {
		t.Fatal(err)
	}
	t.Run("suites", func(t *testing.T) { onlySoundSuites(t, w) })
	t.Run("wire", func(t *testing.T) { refusedOnTheWire(t, w, tr) })
	t.Run("nodes", func(t *testing.T) { nodesAmongThemselves(t, w, disks) })
	t.Run("canaries", func(t *testing.T) { canariesStayHidden(t, w, disks, tr) })
}

// onlySoundSuites offers each server what Go still would speak by itself, and nothing
// tells its figures without TLS.
func onlySoundSuites(t *testing.T, w *world) {
	ms := w.machines()
	for name, ports := range map[string][]int{"tidewatch-control-1": {6443, 10257, 10259}, "tidewatch-keepers-1": {10250}, "tidewatch-datastore-1": {2379, 2380}} {
		for _, port := range ports {
			at := fmt.Sprintf("%s:%d", ms[name].Address, port)
			for _, x := range []struct {
				suites []uint16
				want   bool
			}{
				{[]uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256}, true},
				{[]uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA, tls.TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA, tls.TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA, tls.TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA}, false},
			} {
				// Who shows its certificate has agreed to a suite, whatever it wants then.
				agreed := false
				c, err := tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS12, CipherSuites: x.suites,
					VerifyPeerCertificate: func([][]byte, [][]*x509.Certificate) error { agreed = true; return nil }})
				if err == nil {
					c.Close()
				}
				if agreed != x.want {
					t.Errorf("%s with %s and the like: %v", at, tls.CipherSuiteName(x.suites[0]), err)
				}
			}
		}
		if c, err := net.DialTimeout("tcp", ms[name].Address+":2381", time.Second); err == nil {
			c.Close()
			t.Errorf("something answers at port 2381 of %s", name)
		}
	}
}

func keysWhereTheyBelong(t *testing.T, disks string) {
	machines, _ := filepath.Glob(disks + "/*/etc/hostname")
	for i, m := range machines {
		machines[i] = filepath.Dir(filepath.Dir(m))
	}
	if len(machines) != len(keyTable) {
		t.Errorf("%d machines, and the table has %d", len(machines), len(keyTable))
	}
	for _, m := range machines {
		var have []string
		filepath.WalkDir(m, func(p string, d os.DirEntry, err error) error {
			if err != nil || d.IsDir() || !d.Type().IsRegular() {
				return err
			}
			b, err := os.ReadFile(p)
			if err == nil && (bytes.Contains(b, []byte("PRIVATE KEY")) || bytes.Contains(b, []byte("- secretbox:"))) {
				rel, _ := filepath.Rel(m, p)
				// A kubelet's pair lies under its date, and a link leads to it.
				have = append(have, dated.ReplaceAllString(rel, "-DATE.pem"))
				if i, err := d.Info(); err != nil || i.Mode().Perm() != 0o600 {
					t.Errorf("%s has mode %v, %v", p, i.Mode(), err)
				}
			}
			return err
		})
		want := strings.Fields(keyTable[filepath.Base(m)])
		slices.Sort(have)
		if !slices.Equal(have, want) {
			t.Errorf("%s has the keys\n%v, wanted\n%v", filepath.Base(m), have, want)
		}
	}
}

func certificatesByOpenSSL(t *testing.T, w *world, disks string) {
	certs, _ := filepath.Glob(disks + "/*/etc/kubernetes/trust/*.crt")
	own, _ := filepath.Glob(disks + "/*/var/lib/kubelet/pki/*-current.pem")
	n := 0
	for _, file := range append(certs, own...) {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		cert, err := trust.DecodeCert(b)
		if err != nil {
			t.Fatal(err)
		}
		if cert.IsCA {
			openssl(t, "verify", "-x509_strict", "-CAfile", file, file)
			continue
		}
		ca := filepath.Join(t.TempDir(), "ca.crt")
		name := strings.TrimSuffix(strings.TrimSuffix(filepath.Base(file), ".crt"), ".pem")
		authority := "cluster-authority"
		switch name {
		case "front-proxy":
			authority = "front-proxy-authority"
		case "api-server-datastore", "datastore-member", "datastore-peer":
			authority = "datastore-authority"
		}
		if err := os.WriteFile(ca, []byte(w.ok("trust", "export", authority)), 0o600); err != nil {
			t.Fatal(err)
		}
		purpose := "sslclient"
		if slices.Contains(serves, name) {
			purpose = "sslserver"
		}
		openssl(t, "verify", "-x509_strict", "-purpose", purpose, "-CAfile", ca, file)
		for _, dns := range cert.DNSNames {
			openssl(t, "verify", "-x509_strict", "-purpose", purpose, "-CAfile", ca, "-verify_hostname", dns, file)
		}
		for _, ip := range cert.IPAddresses {
			openssl(t, "verify", "-x509_strict", "-purpose", purpose, "-CAfile", ca, "-verify_ip", ip.String(), file)
		}
		n++
	}
	if n < 18 {
		t.Errorf("only %d certificates were verified", n)
	}
}

// client makes a client's pair under an authority, changed as asked.
func client(t *testing.T, tr *store.Trust, authority, cn string, change func(*x509.Certificate)) tls.Certificate {
	t.Helper()
	ca, err := trust.DecodeCert(tr.Certs[authority])
	if err != nil {
		t.Fatal(err)
	}
	signer, err := trust.DecodeKey(tr.Keys[authority])
	if err != nil {
		t.Fatal(err)
	}
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: cn}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	if change != nil {
		change(c)
	}
	der, err := x509.CreateCertificate(rand.Reader, c, ca, k.Public(), signer)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: k}
}

// knock shows a certificate at a server: 0 when the handshake was refused,
// otherwise the status.
func knock(t *testing.T, addr, path string, pair tls.Certificate, header http.Header) int {
	t.Helper()
	tr := &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true, GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return &pair, nil }}}
	q, err := http.NewRequest(http.MethodGet, "https://"+addr+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	q.Header = header
	if q.Header == nil {
		q.Header = http.Header{}
	}
	r, err := tr.RoundTrip(q)
	if err != nil {
		if strings.Contains(err.Error(), "connection refused") {
			t.Fatalf("nobody is at %s: %v", addr, err)
		}
		return 0
	}
	defer r.Body.Close()
	io.Copy(io.Discard, r.Body)
	return r.StatusCode
}

func refusedOnTheWire(t *testing.T, w *world, tr *store.Trust) {
	ms := w.machines()
	at := func(machine, port string) string { return net.JoinHostPort(ms[machine].Address, port) }
	masters := func(c *x509.Certificate) { c.Subject.Organization = []string{"system:masters"} }
	also := func(fs ...func(*x509.Certificate)) func(*x509.Certificate) {
		return func(c *x509.Certificate) {
			for _, f := range fs {
				f(c)
			}
		}
	}
	ended := func(c *x509.Certificate) {
		c.NotBefore, c.NotAfter = time.Now().Add(-2*time.Hour), time.Now().Add(-time.Minute)
	}
	server := func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} }
	named := func(as string) func(*x509.Certificate) {
		return func(c *x509.Certificate) { c.DNSNames = []string{as + ".datastore.tidewatch"} }
	}
	member := func(c *x509.Certificate) {
		named(trust.DatastorePeer)(c)
		c.ExtKeyUsage = append(c.ExtKeyUsage, x509.ExtKeyUsageServerAuth)
		c.IPAddresses = []net.IP{net.IPv4(127, 0, 0, 1)}
	}
	for _, s := range []struct {
		what, addr, path, authority, cn string
		right                           func(*x509.Certificate)
		in                              []int // statuses of one who is let in
		another                         bool  // the common name says what one may; else another name says whether one is let in
	}{
		{"the API server", at("tidewatch-control-1", "6443"), "/api/v1/nodes", "cluster-authority", "maren", masters, []int{200}, true},
		{"the kubelet", at("tidewatch-keepers-1", "10250"), "/containerLogs/a/b/c", "cluster-authority", trust.APIServerKubeletClient, nil, []int{404}, true},
		{"the datastore, for clients", at("tidewatch-datastore-1", "2379"), "/version", "datastore-authority", "anybody", named(trust.DatastoreClient), []int{200}, false},
		{"the datastore, for members", at("tidewatch-datastore-1", "2380"), "/members", "datastore-authority", "tidewatch-datastore-1", member, []int{200}, false},
	} {
		if got := knock(t, s.addr, s.path, client(t, tr, s.authority, s.cn, s.right), nil); !slices.Contains(s.in, got) {
			t.Errorf("%s does not let the right one in: %d", s.what, got)
		}
		right := s.right
		if right == nil {
			right = func(*x509.Certificate) {}
		}
		for _, other := range []string{"cluster-authority", "datastore-authority", "front-proxy-authority"} {
			if got := knock(t, s.addr, s.path, client(t, tr, other, s.cn, right), nil); other != s.authority && got != 0 && got != 401 {
				t.Errorf("%s lets in a client of %s: %d", s.what, other, got)
			}
		}
		for name, change := range map[string]func(*x509.Certificate){"one that has ended": ended, "a server's": server} {
			if got := knock(t, s.addr, s.path, client(t, tr, s.authority, s.cn, also(right, change)), nil); got != 0 && got != 401 {
				t.Errorf("%s lets in %s: %d", s.what, name, got)
			}
		}
		if !s.another {
			for name, change := range map[string]func(*x509.Certificate){"no name": func(c *x509.Certificate) { c.DNSNames = nil }, "the name of another cluster": func(c *x509.Certificate) {
				c.DNSNames = []string{trust.DatastoreClient + ".datastore.lampwright", trust.DatastorePeer + ".datastore.lampwright"}
			}} {
				if got := knock(t, s.addr, s.path, client(t, tr, s.authority, s.cn, also(right, change)), nil); got != 0 {
					t.Errorf("%s lets in one with %s: %d", s.what, name, got)
				}
			}
			continue
		}
		if got := knock(t, s.addr, s.path, client(t, tr, s.authority, "somebody", nil), nil); got != 403 {
			t.Errorf("%s answers somebody without rights with %d", s.what, got)
		}
	}
	// Who stands in front of the API server is believed only with the right name,
	// under its own authority.
	says := http.Header{"X-Remote-User": {"maren"}, "X-Remote-Group": {"system:masters"}}
	api := at("tidewatch-control-1", "6443")
	if got := knock(t, api, "/api/v1/nodes", client(t, tr, "front-proxy-authority", trust.FrontProxyClient, nil), says.Clone()); got != 200 {
		t.Errorf("the front proxy is not believed: %d", got)
	}
	for name, pair := range map[string]tls.Certificate{
		"another name": client(t, tr, "front-proxy-authority", "somebody", nil), "another authority": client(t, tr, "cluster-authority", trust.FrontProxyClient, nil), "one that has ended": client(t, tr, "front-proxy-authority", trust.FrontProxyClient, ended),
	} {
		if got := knock(t, api, "/api/v1/nodes", pair, says.Clone()); got != 401 && got != 403 {
			t.Errorf("a front proxy with %s is believed: %d", name, got)
		}
	}
	// A server's certificate for another name is refused by those who connect.
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(tr.Certs["cluster-authority"])
	for _, name := range []string{"api.other.test", "tidewatch-keepers-1"} {
		if c, err := tls.Dial("tcp", api, &tls.Config{RootCAs: pool, ServerName: name}); err == nil {
			c.Close()
			t.Errorf("the API server is taken for %s", name)
		}
	}
}

// nodesAmongThemselves tries with one node's certificate what belongs to others.
func nodesAmongThemselves(t *testing.T, w *world, disks string) {
	kc := w.path("admin")
	if err := os.WriteFile(kc, []byte(w.ok("access")), 0o600); err != nil {
		t.Fatal(err)
	}
	admin, err := clientOf(kc)
	if err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	for _, s := range []string{"mine", "theirs"} {
		if _, err := admin.CoreV1().Secrets("default").Create(ctx, &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: s}, StringData: map[string]string{"tide": "high"}}, metav1.CreateOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	for node, secret := range map[string]string{"tidewatch-lamps-1": "mine", "tidewatch-keepers-1": "theirs"} {
		if _, err := admin.CoreV1().Pods("default").Create(ctx, &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: "on-" + node}, Spec: corev1.PodSpec{NodeName: node, Containers: []corev1.Container{{Name: "c", Image: "images.seamark.test/tidetable:1.0",
			Env: []corev1.EnvVar{{Name: "TIDE", ValueFrom: &corev1.EnvVarSource{SecretKeyRef: &corev1.SecretKeySelector{LocalObjectReference: corev1.LocalObjectReference{Name: secret}, Key: "tide"}}}}}}}}, metav1.CreateOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	file := filepath.Join(disks, "tidewatch-lamps-1/var/lib/kubelet/pki/kubelet-client-current.pem")
	k, err := kubernetes.NewForConfig(&rest.Config{Host: "https://" + net.JoinHostPort(w.machines()["tidewatch-control-1"].Address, "6443"),
		TLSClientConfig: rest.TLSClientConfig{CertFile: file, KeyFile: file, CAData: []byte(w.ok("trust", "export", "cluster-authority")), ServerName: "api.tidewatch.test"}})
	if err != nil {
		t.Fatal(err)
	}
	if s, err := k.CoreV1().Secrets("default").Get(ctx, "mine", metav1.GetOptions{}); err != nil || string(s.Data["tide"]) != "high" {
		t.Errorf("a node cannot read what its own pod needs: %v", err)
	}
	if _, err := k.CoreV1().Nodes().Patch(ctx, "tidewatch-lamps-1", types.MergePatchType, []byte(`{"metadata":{"annotations":{"a":"b"}}}`), metav1.PatchOptions{}); err != nil {
		t.Errorf("a node cannot change itself: %v", err)
	}
	for what, try := range map[string]func() error{
		"read another node's secret": func() error {
			_, err := k.CoreV1().Secrets("default").Get(ctx, "theirs", metav1.GetOptions{})
			return err
		},
		"list secrets": func() error {
			_, err := k.CoreV1().Secrets("").List(ctx, metav1.ListOptions{})
			return err
		},
		"change another node": func() error {
			_, err := k.CoreV1().Nodes().Patch(ctx, "tidewatch-keepers-1", types.MergePatchType, []byte(`{"metadata":{"labels":{"a":"b"}}}`), metav1.PatchOptions{})
			return err
		},
		"make another node": func() error {
			_, err := k.CoreV1().Nodes().Create(ctx, &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "tidewatch-lamps-9"}}, metav1.CreateOptions{})
			return err
		},
		"take the control plane's label": func() error {
			_, err := k.CoreV1().Nodes().Patch(ctx, "tidewatch-lamps-1", types.MergePatchType, []byte(`{"metadata":{"labels":{"node-role.kubernetes.io/control-plane":""}}}`), metav1.PatchOptions{})
			return err
		},
		"delete another node's pod": func() error {
			return k.CoreV1().Pods("default").Delete(ctx, "on-tidewatch-keepers-1", metav1.DeleteOptions{})
		},
		"renew another node's lease": func() error {
			_, err := k.CoordinationV1().Leases("kube-node-lease").Patch(ctx, "tidewatch-keepers-1", types.MergePatchType, []byte(`{"metadata":{"labels":{"a":"b"}}}`), metav1.PatchOptions{})
			return err
		},
		"approve requests": func() error {
			_, err := k.CertificatesV1().CertificateSigningRequests().Patch(ctx, "x", types.MergePatchType, []byte(`{}`), metav1.PatchOptions{}, "approval")
			return err
		},
	} {
		if err := try(); !apierrors.IsForbidden(err) {
			t.Errorf("a node may %s: %v", what, err)
		}
	}
}

// canariesStayHidden looks for pieces of every private key in everything that
// the tool writes and says.
func canariesStayHidden(t *testing.T, w *world, disks string, tr *store.Trust) {
	var canaries []string
	add := func(b []byte) {
		p, _ := pem.Decode(b)
		if p == nil {
			canaries = append(canaries, base64.StdEncoding.EncodeToString(b))
			return
		}
		// The head of a key is the same in all of them: what follows is secret.
		if text := base64.StdEncoding.EncodeToString(p.Bytes); len(text) > 80 {
			canaries = append(canaries, text[52:76])
		}
	}
	for _, k := range tr.Keys {
		add(k)
	}
	tokens, _ := filepath.Glob(disks + "/*/var/lib/kubelet/pods/*/volumes/*/*/token")
	for _, f := range tokens {
		if b, err := os.ReadFile(f); err == nil {
			canaries = append(canaries, string(b[strings.LastIndexByte(string(b), '.')+1:]))
		}
	}
	if len(canaries) < 20 || len(tokens) == 0 {
		t.Fatalf("%d canaries, %d tokens", len(canaries), len(tokens))
	}
	look := func(where string, b []byte) {
		for _, c := range canaries {
			if bytes.Contains(b, []byte(c)) {
				t.Errorf("%s holds a secret", where)
				return
			}
		}
	}
	// A key where nothing needs it, and one pasted where others can read it.
	stolen, err := os.ReadFile(filepath.Join(disks, "tidewatch-control-1/etc/kubernetes/trust/cluster-signing.key"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"etc/kubernetes/trust/stray.key", "etc/hostname"} {
		if err := os.WriteFile(filepath.Join(disks, "tidewatch-keepers-1", f), stolen, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, args := range [][]string{{"status"}, {"status", "-o", "json"}, {"plan", "--verbose"}, {"plan", "-o", "json"}, {"machines", "-o", "json"}, {"nodes", "-o", "json"}, {"survey"}, {"trust", "list", "-o", "json"}, {"trust", "show", "cluster-authority"},
		{"trust", "graph", "-o", "json"}, {"requests", "list", "--all", "-o", "json"}, {"token", "list"}, {"access", "--list", "-o", "json"}, {"store", "show"}, {"render"}, {"collect", "--to", w.path("all.tar.gz")},
		{"trust", "accept", w.path("estuary.site.yaml")}, {"trust", "adopt", "cluster-authority", "--certificate", filepath.Join(disks, "tidewatch-control-1/etc/kubernetes/trust/cluster-signing.key"), "--key", w.path("admin")},
		{"trust", "renew", "nothing"}, {"converge", "--yes", "--verbose"}, {"history"}} {
		o, e, _ := w.run(args...)
		look("the output of "+strings.Join(args, " "), []byte(o+e))
	}
	for _, m := range []string{"tidewatch-control-1", "tidewatch-keepers-1", "tidewatch-lamps-1", "tidewatch-datastore-1"} {
		look("the logs of "+m, []byte(w.ok("logs", m)))
	}
	seen := 0
	filepath.WalkDir(w.dir, func(p string, d os.DirEntry, err error) error {
		if err != nil || p == filepath.Clean(disks) || p == w.path("admin") {
			if d != nil && d.IsDir() {
				return filepath.SkipDir
			}
			return nil
		}
		if !d.IsDir() && d.Type().IsRegular() {
			if b, err := os.ReadFile(p); err == nil {
				seen++
				look(p, unzipped(b))
			}
		}
		return nil
	})
	if seen < 50 {
		t.Errorf("only %d files were looked at", seen)
	}
	logs, _ := filepath.Glob(disks + "/*/var/log/*/*")
	for _, f := range logs {
		if b, err := os.ReadFile(f); err == nil {
			look(f, b)
		}
	}
	if len(logs) == 0 {
		t.Error("no machine wrote a log")
	}
}

// unzipped is what an archive holds, or the bytes themselves.
func unzipped(b []byte) []byte {
	z, err := gzip.NewReader(bytes.NewReader(b))
	if err != nil {
		return b
	}
	out, err := io.ReadAll(z)
	if err != nil {
		return b
	}
	return out
}
