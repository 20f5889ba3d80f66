package cli_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// openssl runs the program, which has to be there on CI.
func openssl(t *testing.T, args ...string) string {
	t.Helper()
	bin, err := exec.LookPath("openssl")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("there is no openssl")
		}
		t.Skip("there is no openssl")
	}
	out, err := exec.Command(bin, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("openssl %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

// intermediate makes a root and an authority below it.
func intermediate(t *testing.T, dir, name string) (cert, key string) {
	t.Helper()
	at := func(s string) string { return filepath.Join(dir, name+s) }
	if err := os.WriteFile(at(".ext"), []byte("basicConstraints=critical,CA:true,pathlen:0\nkeyUsage=critical,keyCertSign,cRLSign\nsubjectKeyIdentifier=hash\nauthorityKeyIdentifier=keyid\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	openssl(t, "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-keyout", at("-root.key"), "-out", at("-root.crt"), "-subj", "/CN=coast root", "-days", "3000")
	openssl(t, "req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-keyout", at(".key"), "-out", at(".csr"), "-subj", "/CN=tidewatch "+name)
	openssl(t, "x509", "-req", "-in", at(".csr"), "-CA", at("-root.crt"), "-CAkey", at("-root.key"), "-days", "2000", "-extfile", at(".ext"), "-out", at(".crt"))
	return at(".crt"), at(".key")
}

// The keys of the authorities are never here: requests go out, answers come
// back, and a wrong answer is refused by name.
func TestKeysOutside(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.declare(`name: tidewatch\n`, "name: tidewatch\ntrust: {keys: outside}\n")
	w.fails(1, []string{"cluster-authority: its certificate is not here yet", "trust adopt"}, "converge", "--yes")
	ca := t.TempDir()
	keys := map[string][2]string{}
	for _, a := range []string{"cluster-authority", "datastore-authority", "front-proxy-authority"} {
		cert, key := intermediate(t, ca, a)
		keys[a] = [2]string{cert, key}
		w.fails(2, []string{"leave --key out"}, "trust", "adopt", a, "--certificate", cert, "--key", key)
		w.ok("trust", "adopt", a, "--certificate", cert)
	}
	w.fails(1, []string{"have to be signed there", "trust request"}, "converge", "--yes")
	w.fails(0, []string{"wrote 16 requests"}, "trust", "request")
	if found, _ := filepath.Glob(w.path("tidewatch.requests/*/*.key")); len(found) > 0 {
		t.Errorf("keys went out: %v", found)
	}
	sign := func(csr, out string, more ...string) {
		a := keys[filepath.Base(filepath.Dir(csr))]
		openssl(t, append([]string{"x509", "-req", "-in", csr, "-CA", a[0], "-CAkey", a[1], "-days", "300", "-copy_extensions", "copyall", "-out", out}, more...)...)
	}
	// Wrong answers: another authority, too long a life, names left out, and
	// somebody else's key.
	api := w.path("tidewatch.requests/cluster-authority/tidewatch-control-1.api-server.csr")
	d := keys["datastore-authority"]
	openssl(t, "x509", "-req", "-in", api, "-CA", d[0], "-CAkey", d[1], "-days", "300", "-copy_extensions", "copyall", "-out", w.path("other.crt"))
	sign(api, w.path("long.crt"), "-days", "900")
	c := keys["cluster-authority"]
	openssl(t, "x509", "-req", "-in", api, "-CA", c[0], "-CAkey", c[1], "-days", "300", "-out", w.path("nameless.crt"))
	openssl(t, "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-keyout", w.path("x.key"), "-out", w.path("stranger.crt"), "-subj", "/CN=stranger", "-days", "9", "-addext", "basicConstraints=CA:false")
	for file, want := range map[string]string{"other.crt": "another authority signed it", "long.crt": "longer than the 365 days", "nameless.crt": "it lacks the name api.tidewatch.test", "stranger.crt": "no request waits for a certificate with its key"} {
		w.fails(1, []string{"refused", file, want, "accepted 0 certificates"}, "trust", "accept", w.path(file))
	}
	var all []string
	requests, _ := filepath.Glob(w.path("tidewatch.requests/*/*.csr"))
	for _, csr := range requests {
		out := strings.TrimSuffix(csr, ".csr") + ".crt"
		sign(csr, out)
		all = append(all, out)
	}
	w.fails(0, []string{"accepted 16 certificates, refused 0"}, append([]string{"trust", "accept"}, all...)...)
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
	w.accessSignedOutside(sign)
	w.fails(2, []string{"is outside"}, "token", "issue", "--pool", "keepers")
	// No machine, and not the store either, has an authority's key.
	if _, err := os.Stat(w.path(".verbund/sites/estuary/disks/tidewatch-control-1/etc/kubernetes/trust/cluster-signing.key")); err == nil {
		t.Error("an authority's key is on a machine")
	}
	// What is due goes out again.
	w.fails(1, []string{"have to be signed there: tidewatch-control-1/scheduler"}, "trust", "renew", "tidewatch-control-1/scheduler", "--yes")
	w.fails(0, []string{"wrote 1 request"}, "trust", "request", "--into", w.path("again"))
	sign(w.path("again/cluster-authority/tidewatch-control-1.scheduler.csr"), w.path("again.crt"))
	w.fails(0, []string{"accepted 1 certificate, refused 0"}, "trust", "accept", w.path("again.crt"))
	w.fails(0, []string{"scheduler.crt"}, "converge", "--yes")
	w.well("v1.37.2")
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
	w.fails(0, []string{"nothing of cluster tidewatch has to be signed"}, "trust", "request")

	// Another authority takes the place of each; its key is outside, too.
	for _, a := range []string{"cluster-authority", "datastore-authority", "front-proxy-authority"} {
		w.fails(1, []string{"bring its certificate with verbund trust adopt " + a}, "trust", "replace", a, "--yes")
		cert, key := intermediate(t, ca, "next-"+a)
		keys[a] = [2]string{cert, key}
		w.fails(0, []string{"it is the next one"}, "trust", "adopt", a, "--certificate", cert)
		w.fails(1, []string{"pass 2 of 3", "have to be signed there", "trust request"}, "trust", "replace", a, "--yes")
		into := w.path("next-" + a)
		w.ok("trust", "request", "--into", into)
		answers := []string{"trust", "accept"}
		requests, _ := filepath.Glob(into + "/*/*.csr")
		for _, csr := range requests {
			if got := filepath.Base(filepath.Dir(csr)); got != a {
				t.Errorf("%s is to be signed by %s", csr, got)
			}
			out := strings.TrimSuffix(csr, ".csr") + ".crt"
			sign(csr, out)
			answers = append(answers, out)
		}
		w.fails(0, []string{"refused 0"}, answers...)
		o := w.fails(0, []string{"going on with", "pass 3 of 3", "refuses what the old authority signed", "is replaced"}, "trust", "replace", a, "--yes")
		if strings.Contains(o, "DOES NOT HOLD") {
			t.Errorf("the proof of %s:\n%s", a, o)
		}
		w.fails(0, []string{"CN=tidewatch next-" + a}, "trust", "show", a)
	}
	w.well("v1.37.2")
	w.fails(0, []string{"0 things wrong"}, "trust", "list")
}

// accessSignedOutside gets a person access with a certificate that is signed
// where the key is.
func (w *world) accessSignedOutside(sign func(csr, out string, more ...string)) {
	w.Helper()
	w.fails(2, []string{"the key of cluster-authority is outside", "verbund access --request FILE.csr"}, "access")
	w.fails(2, []string{"--break-glass cannot be signed outside"}, "access", "--break-glass", "--reason", "x", "--request", w.path("x.csr"))
	// A signer sorts requests by the folder of their authority.
	if err := os.Mkdir(w.path("cluster-authority"), 0o755); err != nil {
		w.Fatal(err)
	}
	mara, crt, key := w.path("cluster-authority/mara.csr"), w.path("mara.crt"), w.path("cluster-authority/mara.key")
	w.fails(0, []string{"for 2 hours", "--certificate"}, "access", "--person", "mara", "--for", "2h", "--request", mara)
	w.fails(2, []string{"a key is never overwritten"}, "access", "--person", "mara", "--request", mara)
	if i, err := os.Stat(key); err != nil || i.Mode().Perm() != 0o600 {
		w.Errorf("the key: %v, %v", i, err)
	}
	sign(mara, crt, "-days", "9")
	w.fails(2, []string{"gives no access", "access is for 24 at most"}, "access", "--certificate", crt, "--key", key)
	sign(mara, crt, "-days", "1")
	w.fails(2, []string{"belong together"}, "access", "--certificate", crt)
	w.fails(2, []string{"who it is for, and until when, is in the certificate"}, "access", "--certificate", crt, "--key", key, "--for", "1h")
	w.ok("access", "--certificate", crt, "--key", key, "--merge", w.path("kubeconfig"))
	if err := asksAPI(w.path("kubeconfig"))(context.Background()); err != nil {
		w.Errorf("mara, signed outside: %v", err)
	}
	w.fails(0, []string{"mara  person", "verbund:operators"}, "access", "--list")
}

// An intermediate of one's own, with its encrypted key, is taken before the
// cluster is raised, and another one replaces it while it lives.
func TestOwnIntermediate(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	ca := t.TempDir()
	cert, key := intermediate(t, ca, "first")
	closed, pass := filepath.Join(ca, "closed.key"), filepath.Join(ca, "pass")
	if err := os.WriteFile(pass, []byte("ebb and flow\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	openssl(t, "pkcs8", "-topk8", "-v2", "aes-256-cbc", "-in", key, "-out", closed, "-passout", "file:"+pass)
	w.fails(2, []string{"is encrypted, and there is nobody to ask"}, "trust", "adopt", "cluster-authority", "--certificate", cert, "--key", closed)
	_, wrong := intermediate(t, ca, "wrong")
	w.fails(2, []string{"the key is not that of"}, "trust", "adopt", "cluster-authority", "--certificate", cert, "--key", wrong)
	w.fails(2, []string{"no authority"}, "trust", "adopt", "lamps", "--certificate", cert, "--key", key)
	w.converse(2, []turn{{"passphrase of ", "flood and flood"}}, []string{closed}, "trust", "adopt", "cluster-authority", "--certificate", cert, "--key", closed)
	w.ok("trust", "adopt", "cluster-authority", "--certificate", cert, "--key", closed, "--passphrase-file", pass)
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	bundle, err := os.ReadFile(w.path(".verbund/sites/estuary/disks/tidewatch-keepers-1/etc/kubernetes/trust/cluster-authority.crt"))
	if err != nil {
		t.Fatal(err)
	}
	root, err := os.ReadFile(filepath.Join(ca, "first-root.crt"))
	if err != nil {
		t.Fatal(err)
	}
	if n := strings.Count(string(bundle), "BEGIN"); n != 1 || strings.Contains(string(bundle), strings.TrimSpace(string(root))) {
		t.Errorf("the machines trust %d certificates, or the root", n)
	}
	second, skey := intermediate(t, ca, "second")
	w.fails(0, []string{"it is the next one"}, "trust", "adopt", "cluster-authority", "--certificate", second, "--key", skey)
	o := w.fails(0, []string{"is replaced"}, "trust", "replace", "cluster-authority", "--yes")
	if strings.Contains(o, "DOES NOT HOLD") {
		t.Error(o)
	}
	w.fails(0, []string{"CN=tidewatch second"}, "trust", "show", "cluster-authority")
	w.well("v1.37.2")
}
