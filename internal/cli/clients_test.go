package cli_test

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// kubectl finds an unmodified kubectl within one minor of v1.37, or builds one
// from the published library.
func kubectl(t *testing.T) string {
	t.Helper()
	if p, err := exec.LookPath("kubectl"); err == nil {
		out, _ := exec.Command(p, "version", "--client").Output()
		if m := regexp.MustCompile(`Client Version: v1\.(\d+)\.`).FindSubmatch(out); m != nil {
			if n, _ := strconv.Atoi(string(m[1])); n >= 36 && n <= 38 {
				return p
			}
		}
	}
	p := filepath.Join(t.TempDir(), "kubectl")
	cmd := exec.Command("go", "build", "-ldflags", "-X k8s.io/component-base/version.gitVersion=v1.37.2 -X k8s.io/component-base/version.gitMajor=1 -X k8s.io/component-base/version.gitMinor=37", "-o", p, ".")
	cmd.Dir = "../../tools/kubectl"
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=-mod=mod")
	if out, err := cmd.CombinedOutput(); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatalf("building kubectl: %v\n%s", err, out)
		}
		t.Skipf("there is no kubectl that fits, and none could be built: %v\n%s", err, out)
	}
	return p
}

const application = `
apiVersion: apps/v1
kind: Deployment
metadata: {name: tidetable}
spec:
  replicas: %d
  selector: {matchLabels: {app: tidetable}}
  template:
    metadata: {labels: {app: tidetable}}
    spec:
      containers:
        - name: tidetable
          image: images.seamark.test/tidetable:%s
          ports: [{containerPort: 8080}]
          readinessProbe: {httpGet: {path: /, port: 8080}}
---
apiVersion: v1
kind: Service
metadata: {name: tidetable}
spec:
  type: NodePort
  selector: {app: tidetable}
  ports: [{port: 80, targetPort: 8080, nodePort: 30080}]
---
apiVersion: policy/v1
kind: PodDisruptionBudget
metadata: {name: tidetable}
spec: {minAvailable: 1, selector: {matchLabels: {app: tidetable}}}
`

// An unmodified kubectl with the printed kubeconfig does what people do with it.
func TestRealClients(t *testing.T) {
	t.Parallel()
	inLane(t)
	bin := kubectl(t)
	w := newWorld(t, "small", "v1.37.2")
	w.declare(`name: keepers, count: 1`, "name: keepers, count: 2")
	w.ok("converge", "--yes")
	kc := w.path("kubeconfig")
	if err := os.WriteFile(kc, []byte(w.ok("access", "--person", "mara")), 0o600); err != nil {
		t.Fatal(err)
	}
	try := func(stdin string, args ...string) (string, error) {
		cmd := exec.Command(bin, append([]string{"--kubeconfig", kc, "--cache-dir", w.path("cache"), "--request-timeout", "20s"}, args...)...)
		cmd.Stdin = strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	do := func(want, stdin string, args ...string) string {
		t.Helper()
		out, err := try(stdin, args...)
		if err != nil || !regexp.MustCompile(want).MatchString(out) {
			t.Errorf("kubectl %s: %v, wanted %q in\n%s", strings.Join(args, " "), err, want, out)
		}
		return out
	}
	do(`Server Version: v1\.37\.2`, "", "version")
	do(`control plane.* is running at`, "", "cluster-info")
	do(`tidewatch-keepers-2 +Ready .* v1\.37\.2 +127\.`, "", "get", "nodes", "-o", "wide")
	do(`cluster-dns-\S+ +1/1 +Running`, "", "get", "pods", "-A")
	do(`(?s)node-role.kubernetes.io/control-plane:NoSchedule.*kubelet is posting ready status`, "", "describe", "node", "tidewatch-control-1")
	do(`Username +mara`, "", "auth", "whoami")

	do(`deployment.apps/tidetable created`, fmt.Sprintf(application, 2, "1.0"), "apply", "-f", "-")
	do(`successfully rolled out`, "", "rollout", "status", "deployment/tidetable", "--timeout=30s")
	do(`deployment.apps/tidetable configured`, fmt.Sprintf(application, 3, "1.0"), "apply", "-f", "-")
	do(`successfully rolled out`, "", "rollout", "status", "deployment/tidetable", "--timeout=30s")
	if out, err := try(strings.Replace(fmt.Sprintf(application, 2, "1.0"), "replicas:", "replica:", 1), "apply", "-f", "-"); err == nil || !strings.Contains(out, "unknown field") {
		t.Errorf("a misspelt field was taken: %v\n%s", err, out)
	}
	do(`tidetable 1.0 serves on port 8080`, "", "logs", "deployment/tidetable")
	do(`(?s)tidetable.*1 +N/A +2`, "", "get", "pdb")
	for _, m := range w.machines() {
		if strings.Contains(m.Name, "balancer") {
			continue
		}
		if body, err := get(net.JoinHostPort(m.Address, "30080")); err != nil || !strings.Contains(body, "tidetable 1.0 answers") {
			t.Errorf("node port of %s: %v, %q", m.Name, err, body)
		}
	}

	// Two nodes pulled the image; it came over the line once.
	if o := w.ok("site", "mirror"); !regexp.MustCompile(`images\.seamark\.test +[1-9]\d* +2 `).MatchString(o) {
		t.Errorf("the mirror:\n%s", o)
	}

	// A watch sees a node being cordoned.
	watch := exec.Command(bin, "--kubeconfig", kc, "--cache-dir", w.path("cache"), "get", "nodes", "--watch")
	var seen bytes.Buffer
	pipe, err := watch.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := watch.Start(); err != nil {
		t.Fatal(err)
	}
	found := make(chan bool, 1)
	go func() {
		b := make([]byte, 4096)
		for {
			n, err := pipe.Read(b)
			seen.Write(b[:n])
			if strings.Contains(seen.String(), "SchedulingDisabled") {
				found <- true
				return
			}
			if err != nil {
				found <- false
				return
			}
		}
	}()
	do(`cordoned`, "", "cordon", "tidewatch-keepers-1")
	select {
	case ok := <-found:
		if !ok {
			t.Errorf("the watch ended without it:\n%s", seen.String())
		}
	case <-time.After(20 * time.Second):
		t.Error("the watch saw nothing")
	}
	watch.Process.Kill()
	watch.Wait()

	do(`drained`, "", "drain", "tidewatch-keepers-1", "--ignore-daemonsets", "--timeout=40s")
	if out := do(`tidetable`, "", "get", "pods", "-o", "wide"); strings.Contains(strings.ReplaceAll(out, "Terminating", ""), "tidewatch-keepers-1") {
		t.Errorf("pods are left on a drained node:\n%s", out)
	}
	// Somebody else's cordon is not ours to lift.
	w.ok("converge", "--yes")
	do(`SchedulingDisabled`, "", "get", "node", "tidewatch-keepers-1")
	do(`uncordoned`, "", "uncordon", "tidewatch-keepers-1")
	do(`deployment.apps "tidetable" deleted`, fmt.Sprintf(application, 3, "1.0"), "delete", "-f", "-")

	// Without rights nothing is given away.
	if out, err := exec.Command(bin, "--kubeconfig", "/dev/null", "--server", "https://"+w.machines()["tidewatch-control-1"].Address+":6443", "--insecure-skip-tls-verify", "get", "secrets", "-A").CombinedOutput(); err == nil {
		t.Errorf("an anonymous client read secrets:\n%s", out)
	}
}

func get(addr string) (string, error) {
	c := http.Client{Timeout: 5 * time.Second}
	resp, err := c.Get("http://" + addr + "/")
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	return string(b), err
}

// A person can log in with the ordinary ssh client, and the host key is the one
// that the console showed.
func TestOrdinarySSH(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("ssh"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("there is no ssh client")
		}
		t.Skip("there is no ssh client")
	}
	w := newWorld(t, "small", "v1.37.2")
	w.ok("converge", "--yes")
	key := w.path("login")
	if err := os.WriteFile(key, []byte(w.ok("access", "--login-key")), 0o600); err != nil {
		t.Fatal(err)
	}
	m := w.machines()["tidewatch-control-1"]
	ports := regexp.MustCompile(`control-1 .* (22|2222) `).FindStringSubmatch(w.ok("machines"))
	if ports == nil {
		t.Fatal("machines shows no SSH port")
	}
	out, err := exec.Command("ssh", "-i", key, "-p", ports[1], "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile="+w.path("known"), "-o", "LogLevel=ERROR", "root@"+m.Address, "units").CombinedOutput()
	if err != nil || !strings.Contains(string(out), "kubelet.service") {
		t.Errorf("ssh: %v\n%s", err, out)
	}
	if out, err := exec.Command("ssh-keygen", "-l", "-f", w.path("known")).CombinedOutput(); err == nil {
		print := regexp.MustCompile(`SHA256:\S+`).FindString(string(out))
		if console := w.ok("site", "console", "tidewatch-control-1"); print == "" || !strings.Contains(console, print) {
			t.Errorf("the host key is %q, and the console shows\n%s", print, console)
		}
	}
}

// Rendering is the same every time, holds no key unless asked, and openssl
// verifies what was signed.
func TestRender(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.ok("render", "--to", "one")
	w.ok("render", "--to", "two")
	one, two := tree(t, w.path("one")), tree(t, w.path("two"))
	if len(one) < 100 || len(one) != len(two) {
		t.Fatalf("%d and %d files", len(one), len(two))
	}
	for p, b := range one {
		if two[p] != b {
			t.Errorf("%s differs between two runs", p)
		}
		if strings.Contains(b, "PRIVATE KEY") || strings.HasSuffix(p, ".key") {
			t.Errorf("%s holds a private key", p)
		}
	}
	w.ok("render", "--with-keys", "--to", "two")
	ignore, err := os.ReadFile(w.path("two/.gitignore"))
	if err != nil || !strings.Contains(string(ignore), "*.key") {
		t.Errorf("ignore file: %v %q", err, ignore)
	}
	if i, err := os.Stat(w.path("two/tidewatch-control-1/etc/kubernetes/trust/api-server.key")); err != nil || i.Mode().Perm() != 0o600 {
		t.Errorf("a rendered key: %v %v", err, i)
	}
	if err := os.MkdirAll(w.path("others/tidewatch-control-1/etc"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(w.path("others/tidewatch-control-1/etc/hosts"), []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.fails(2, []string{"that verbund render did not write"}, "render", "--to", "others")

	if _, err := exec.LookPath("openssl"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("there is no openssl")
		}
		t.Skip("there is no openssl")
	}
	dir := w.path("one/tidewatch-control-1/etc/kubernetes/trust")
	under := map[string]string{"front-proxy": "front-proxy-authority", "datastore-member": "datastore-authority", "datastore-peer": "datastore-authority", "api-server-datastore": "datastore-authority"}
	certs, _ := filepath.Glob(dir + "/*.crt")
	if len(certs) != 15 {
		t.Errorf("%d certificates on a control-plane machine, wanted 15", len(certs))
	}
	for _, c := range certs {
		name := strings.TrimSuffix(filepath.Base(c), ".crt")
		ca := under[name]
		if strings.HasSuffix(name, "authority") {
			ca = name
		} else if ca == "" {
			ca = "cluster-authority"
		}
		out, err := exec.Command("openssl", "verify", "-x509_strict", "-CAfile", filepath.Join(dir, ca+".crt"), c).CombinedOutput()
		if err != nil {
			t.Errorf("openssl verify %s under %s: %v\n%s", name, ca, err, out)
		}
		for _, other := range []string{"cluster-authority", "datastore-authority", "front-proxy-authority"} {
			if other != ca && exec.Command("openssl", "verify", "-CAfile", filepath.Join(dir, other+".crt"), c).Run() == nil {
				t.Errorf("%s verifies under %s too", name, other)
			}
		}
	}
}

func tree(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(p)
		rel, _ := filepath.Rel(root, p)
		out[rel] = string(b)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// Merging access keeps what is there and leaves a copy.
func TestAccessMerge(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.fails(1, []string{"no certificates yet"}, "access")
	w.ok("render")
	old := "apiVersion: v1\nkind: Config\ncurrent-context: other\nclusters: [{name: other, cluster: {server: 'https://192.0.2.1'}}]\ncontexts: [{name: other, context: {cluster: other, user: other}}]\nusers: [{name: other, user: {token: abc}}]\n"
	kc := w.path("kubeconfig")
	if err := os.WriteFile(kc, []byte(old), 0o600); err != nil {
		t.Fatal(err)
	}
	w.ok("access", "--merge", kc)
	b, err := os.ReadFile(kc)
	if err != nil {
		t.Fatal(err)
	}
	for _, word := range []string{"current-context: other", "https://192.0.2.1", "token: abc", "tls-server-name: api.tidewatch.test", "name: tidewatch"} {
		if !strings.Contains(string(b), word) {
			t.Errorf("after merging, %q is not in\n%s", word, b)
		}
	}
	copies, _ := filepath.Glob(kc + ".*.before")
	if len(copies) != 1 {
		t.Fatalf("copies: %v", copies)
	}
	if c, _ := os.ReadFile(copies[0]); string(c) != old {
		t.Errorf("the copy is\n%s", c)
	}
	// An entry of another cluster of the same name, or context, is nobody's to overwrite;
	// the own one is, also through a link.
	for _, x := range []struct{ text, want string }{
		{"clusters: [{name: tidewatch, cluster: {server: 'https://192.0.2.9:6443'}}]\n", "of another cluster (https://192.0.2.9:6443)"},
		{"contexts: [{name: operator@tidewatch, context: {cluster: harbour, user: x}}]\n", "for cluster harbour"},
	} {
		text := "apiVersion: v1\nkind: Config\n" + x.text
		other := w.path("other")
		if err := os.WriteFile(other, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		w.fails(2, []string{x.want, "left alone"}, "access", "--merge", other)
		if b, err := os.ReadFile(other); err != nil || string(b) != text {
			t.Errorf("%v\n%s", err, b)
		}
	}
	link := w.path("link")
	if err := os.Symlink(kc, link); err != nil {
		t.Fatal(err)
	}
	w.ok("access", "--merge", link)
	if i, err := os.Lstat(link); err != nil || i.Mode().IsRegular() {
		t.Errorf("the link is %v, %v", i, err)
	}
	if err := os.WriteFile(kc, []byte("not: [a kubeconfig"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.fails(1, []string{"is not a kubeconfig and was left alone"}, "access", "--merge", kc)
}

// The demonstration holds all its claims. It runs alone: it measures requests.
func TestDemo(t *testing.T) {
	inLane(t)
	w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
	o, e, code := w.run("demo")
	if code != 0 || !strings.Contains(o, "20 of 20 claims hold") || !strings.Contains(o, "and 0 failed") {
		t.Errorf("exit code %d\n%s\n%s", code, o, e)
	}
}

// A demonstration that fails puts aside what there was to see, and gives everything back.
func TestDemoFails(t *testing.T) {
	t.Parallel()
	inLane(t)
	w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
	cmd := w.command("demo")
	cmd.Env = append(cmd.Env, "TMPDIR="+w.dir)
	var said strings.Builder
	cmd.Stderr = &said
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	raised := false
	for s := bufio.NewScanner(out); s.Scan(); {
		if raised || !strings.Contains(s.Text(), "nodes are Ready on") {
			continue
		}
		raised = true
		for _, p := range w.processes() {
			if strings.Contains(p, "simulated-site") {
				if err := syscall.Kill(atoi(strings.Split(p, "/")[2]), syscall.SIGKILL); err != nil {
					t.Error(err)
				}
			}
		}
	}
	if err := cmd.Wait(); err == nil || !raised {
		t.Fatalf("raised: %t, ended with %v\n%s", raised, err, said.String())
	}
	_, file, ok := strings.Cut(said.String(), "without secrets: ")
	if !ok {
		t.Fatalf("nothing was put aside:\n%s", said.String())
	}
	all := w.archive(strings.TrimSpace(strings.SplitN(file, "\n", 2)[0]))
	if !strings.Contains(all["tidewatch/journal.jsonl"], `"step-done"`) || all["tidewatch/declared/tidewatch.verbund.yaml"] == "" {
		t.Errorf("put aside was %v", slices.Sorted(maps.Keys(all)))
	}
	left, err := filepath.Glob(w.path("verbund-demo-*"))
	if err != nil || len(left) != 1 {
		t.Errorf("left are %v, %v", left, err)
	}
	w.until(10*time.Second, "the machines to end", func() (bool, string) { ps := w.processes(); return len(ps) == 0, strings.Join(ps, " ") })
}
