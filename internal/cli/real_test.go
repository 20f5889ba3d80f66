package cli_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"verbund/internal/sim/linux"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/tools/clientcmd"
)

// newRealWorld drafts a cluster on machines that are real Linux systems, with the components
// in the folder that VERBUND_COMPONENTS names.
func newRealWorld(t *testing.T, shape, version string) *world {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can make machines that are real systems")
	}
	components := os.Getenv("VERBUND_COMPONENTS")
	if components == "" {
		t.Skip("VERBUND_COMPONENTS names no folder of real components; tools/components builds one")
	}
	w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir(), real: true}
	w.ok("draft", "tidewatch", "--shape", shape, "--kubernetes", version, "--linux", components)
	block := fmt.Sprintf("10.%d.%d.0/24", 80+os.Getpid()%100, worlds.Add(1)%256)
	w.edit("estuary.site.yaml", `addresses: .*`, "addresses: "+block)
	t.Cleanup(func() {
		if t.Failed() {
			w.tellMachines()
		}
		w.run("teardown", "--confirm", "tidewatch")
		w.run("site", "stop")
		w.nothingLeft()
	})
	return w
}

// tellMachines logs what a person would look at first: how pressed this computer is, and of
// each control-plane machine what the datastore and the API server said last.
func (w *world) tellMachines() {
	for _, of := range []string{"io", "cpu", "memory"} {
		b, err := os.ReadFile("/proc/pressure/" + of)
		w.Logf("pressure of %s: %q, %v", of, b, err)
	}
	for _, n := range []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3"} {
		out, err := w.onReal(n, "systemctl list-units --failed --plain --no-legend; uptime; for u in etcd kube-apiserver kubelet; do journalctl -q --no-pager -o cat -u $u -n 3 | cut -c -300; done; crictl ps -a 2>/dev/null; ip -br addr show dev eth0; ip route; ls /etc/cni/net.d")
		w.Logf("%s: %v\n%s", n, err, out)
	}
}

// nothingLeft looks for what a site of real machines might leave on this computer.
func (w *world) nothingLeft() {
	w.Helper()
	for _, p := range w.processes() {
		w.Errorf("still there: %s", p)
	}
	folder := w.machineFolder()
	left, err := linux.Left(folder)
	if err != nil || len(left) > 0 {
		w.Errorf("still there: cgroups of %v, %v", left, err)
	}
	n := linux.NetworkOf(folder, netip.Prefix{})
	if _, err := os.Stat("/run/netns/" + n.Name); !errors.Is(err, os.ErrNotExist) {
		w.Errorf("still there: network %s, %v", n.Name, err)
	}
	if b, err := os.ReadFile("/proc/mounts"); err != nil || strings.Contains(string(b), w.dir) {
		w.Errorf("something of %s is still mounted: %v", w.dir, err)
	}
}

// machineFolder is the folder of the site that has the real machines.
func (w *world) machineFolder() string {
	return cmp.Or(w.folder, w.path(".verbund/sites/estuary"))
}

// says asks an address over HTTP and returns what it says.
func says(ctx context.Context, url string) (string, error) {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return "", err
	}
	c := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	r, err := c.Do(q)
	if err != nil {
		return "", err
	}
	defer r.Body.Close()
	b, err := io.ReadAll(r.Body)
	if err == nil && r.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s: %s", r.Status, b)
	}
	return string(b), err
}

// The whole life of a real cluster: raised, used, with a control-plane machine lost and back,
// moved by a minor, a worker replaced, certificates renewed, an authority replaced, torn down.
// From the first deployment on an application is asked all the time, and always answers.
func TestRealLife(t *testing.T) {
	w := newRealWorld(t, "available", "v1.36.3")
	w.fewer(3, 0)
	w.declare(`(?s)  - name: forecast.*`, "")
	took := func(what string, args ...string) {
		t.Helper()
		began := time.Now()
		w.ok(args...)
		t.Logf("%s: %s", what, time.Since(began).Round(100*time.Millisecond))
	}
	took("raised", "converge", "--yes")
	w.well("v1.36.3")
	file := w.path("kubeconfig")
	w.ok("access", "--merge", file)
	w.deploy(file)
	s := w.status()
	application := "http://" + net.JoinHostPort(s.Endpoint.Address, "8080") + "/"
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Minute)
	defer cancel()

	// Through every node, and from a pod by the service's name, which the cluster's DNS knows.
	for name, m := range w.machines() {
		if name == "tidewatch-balancer-1" {
			continue
		}
		if b, err := says(ctx, "http://"+net.JoinHostPort(m.Address, "30080")+"/ask?name=tidetable.default.svc.tidewatch.test"); err != nil || !strings.Contains(b, "tidetable 1.0 from tidetable-") {
			t.Errorf("through %s, and from there by name: %q, %v", name, b, err)
		}
	}
	k, err := clientOf(file)
	if err != nil {
		t.Fatal(err)
	}
	pods, err := k.CoreV1().Pods("default").List(ctx, metav1.ListOptions{})
	if err != nil {
		t.Fatal(err)
	}
	on := map[string]bool{}
	for _, p := range pods.Items {
		on[p.Spec.NodeName] = true
	}
	if len(on) < 2 {
		t.Errorf("the pods are on %v alone", on)
	}

	// A zone that is cut off from the others takes nothing with it but itself.
	w.ok("site", "fault", "cut-network", "south")
	if _, said, _ := w.run("machines"); !strings.Contains(said, "site fault mended-network south,north") {
		t.Errorf("nobody is told of the cut:\n%s", said)
	}
	if out, err := w.onReal("tidewatch-control-2", "timeout 3 bash -c '</dev/tcp/"+w.machines()["tidewatch-control-1"].Address+"/22'"); err == nil {
		t.Errorf("the cut lets through:\n%s", out)
	}
	w.until(30*time.Second, "the API to take a write without a zone", func() (bool, string) {
		ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
		defer cancel()
		_, err := k.CoreV1().ConfigMaps("default").Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{GenerateName: "cut-"}}, metav1.CreateOptions{})
		return err == nil, fmt.Sprint(err)
	})
	w.fails(2, []string{"there is no zone"}, "site", "fault", "cut-network", "west,south")
	w.ok("site", "fault", "mended-network", "south")
	w.soonWell("v1.36.3")

	l := startLoad(map[string]func(context.Context) error{"application": func(ctx context.Context) error {
		_, err := says(ctx, application)
		return err
	}})
	defer l.stop()

	// The API goes on while a control-plane machine is without power.
	w.ok("site", "power", "tidewatch-control-2", "cut")
	w.until(30*time.Second, "the API to answer without a control-plane machine", func() (bool, string) {
		_, err := k.CoreV1().Nodes().List(ctx, metav1.ListOptions{})
		return err == nil, fmt.Sprint(err)
	})
	took("control-plane machine back", "converge", "--yes")
	w.soonWell("v1.36.3")

	took("moved by a minor", "upgrade", "v1.37.2", "--yes")
	w.well("v1.37.2")
	nodes, err := k.CoreV1().Nodes().List(ctx, metav1.ListOptions{})
	if err != nil || len(nodes.Items) != 6 {
		t.Fatalf("%d nodes, %v", len(nodes.Items), err)
	}
	for _, n := range nodes.Items {
		if n.Status.NodeInfo.KubeletVersion != "v1.37.2" || n.Spec.Unschedulable {
			t.Errorf("%s is on %s, unschedulable %t", n.Name, n.Status.NodeInfo.KubeletVersion, n.Spec.Unschedulable)
		}
	}
	before := w.machines()["tidewatch-gauges-2"].Hardware
	took("worker replaced", "replace", "tidewatch-gauges-2", "--yes")
	if now := w.machines()["tidewatch-gauges-2"].Hardware; now == before {
		t.Errorf("gauges-2 is the machine from before, %s", now)
	}
	took("certificates renewed", "trust", "renew", "--all", "--yes")
	took("authority replaced and proven", "trust", "replace", "cluster-authority", "--yes")
	w.well("v1.37.2")
	l.stop()
	l.stopped.Wait()
	if len(l.bad) > 0 || l.good < 1000 {
		t.Errorf("%d requests answered, %d not: %s", l.good, len(l.bad), strings.Join(l.bad[:min(5, len(l.bad))], "\n"))
	}
	t.Logf("%d requests, %d failed", l.good+len(l.bad), len(l.bad))
	took("torn down", "teardown", "--confirm", "tidewatch")
	w.nothingLeft()
}

// What else a real cluster can be: the control plane carries a virtual address among itself,
// which another machine takes over when its holder loses power, and a worker that asks for its
// certificates itself is known by the key that it shows.
func TestRealVariants(t *testing.T) {
	w := newRealWorld(t, "available", "v1.37.2")
	w.declare(`(?s)  balancer:.*?\n\n`, "  virtual: {address: "+strings.TrimSuffix(w.realBlock(), "0/24")+"200}\n\n")
	w.declare(`(?s)    count: 3\n    size: small.*`, "    count: 1\n    size: small\n    enrolment: token\n")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	file := w.path("kubeconfig")
	w.ok("access", "--merge", file)
	k, err := clientOf(file)
	if err != nil {
		t.Fatal(err)
	}
	holder := ""
	for name := range w.machines() {
		if out, err := w.onReal(name, "ip -4 addr show eth0"); err == nil && strings.Contains(out, ".200/32") {
			holder += name
		}
	}
	if !strings.HasPrefix(holder, "tidewatch-control-") || len(holder) > len("tidewatch-control-1") {
		t.Fatalf("the address is carried by %q", holder)
	}
	w.ok("site", "power", holder, "cut")
	began := time.Now()
	w.until(30*time.Second, "another machine to carry the address", func() (bool, string) {
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		defer cancel()
		_, err := k.CoreV1().Nodes().List(ctx, metav1.ListOptions{})
		return err == nil, fmt.Sprint(err)
	})
	t.Logf("the API answers again after %s", time.Since(began).Round(100*time.Millisecond))
	w.ok("converge", "--yes")
	w.soonWell("v1.37.2")
	if out, err := w.onReal("tidewatch-gauges-1", "ls /var/lib/kubelet/pki"); err != nil || !strings.Contains(out, "kubelet-client-current.pem") {
		t.Errorf("the pair of a kubelet that asked for it: %v\n%s", err, out)
	}
	// What the stand-in of the API server is held to is what a real one says.
	cfg, err := clientcmd.BuildConfigFromFlags("", file)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range askAll(t, cfg) {
		t.Error(d)
	}
	// A component that does not start shows why, from its own journal.
	w.declare(`failCgroupV1: false`, "failCgroupV1: false, nodeStatusMaxImages: -7")
	w.fails(1, []string{"kubelet.service", "nodeStatusMaxImages"}, "converge", "--yes")
	w.declare(`, nodeStatusMaxImages: -7`, "")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	w.ok("clear", "tidewatch-gauges-1", "--yes")
	if out, err := w.onReal("tidewatch-gauges-1", "ls /var/lib/kubelet /opt/verbund/slots /etc/kubernetes 2>/dev/null; ps ax"); err != nil || strings.Contains(out, "pki") || strings.Contains(out, "kubelet-client") || strings.Contains(out, "containerd") {
		t.Errorf("a cleared machine: %v\n%s", err, out)
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
}

// soonWell waits until the cluster is well: a machine that had no power for a moment shorter
// than the cluster notices says only some seconds after it is back which of its pods are not.
func (w *world) soonWell(version string) {
	w.Helper()
	w.until(time.Minute, "the cluster to be well", func() (bool, string) {
		s := w.status()
		return s.Well && s.Pending == 0 && s.Running == version, fmt.Sprintf("%+v", s)
	})
}

// realBlock is the site's block of addresses.
func (w *world) realBlock() string {
	w.Helper()
	b, err := os.ReadFile(w.path("estuary.site.yaml"))
	if err != nil {
		w.Fatal(err)
	}
	m := regexp.MustCompile(`(?m)^addresses: (\S+)`).FindSubmatch(b)
	if m == nil {
		w.Fatal("the site file has no block")
	}
	return string(m[1])
}

// onReal runs a command on a machine, in its namespaces: its own SSH server knows nobody but
// the tool.
func (w *world) onReal(name, command string) (string, error) {
	w.Helper()
	ps, err := filepath.Glob("/proc/[0-9]*/cmdline")
	if err != nil {
		return "", err
	}
	for _, p := range ps {
		b, err := os.ReadFile(p)
		if err != nil || !strings.HasPrefix(string(b), "systemd\x00--show-status=yes") {
			continue
		}
		pid := filepath.Base(filepath.Dir(p))
		// Another site on this computer may have a machine of this name.
		groups, err := os.ReadFile("/proc/" + pid + "/cgroup")
		if err != nil || !strings.Contains(string(groups), linux.NetworkOf(w.machineFolder(), netip.Prefix{}).Name+"-"+name+"/") {
			continue
		}
		out, err := exec.Command("nsenter", "-t", pid, "-m", "-n", "-p", "-u", "--", "sh", "-c", command).CombinedOutput()
		return string(out), err
	}
	return "", fmt.Errorf("machine %s does not run", name)
}
