package cli_test

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/versions"
	"verbund/internal/sim/linux"

	"golang.org/x/net/dns/dnsmessage"
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
	w.ok("draft", "tidewatch", "--shape", shape, "--pools", poolsOf[shape], "--kubernetes", version, "--linux", components)
	block := fmt.Sprintf("10.%d.%d.0/24", 20+os.Getpid()%80, worlds.Add(1)%256)
	w.edit("estuary.site.yaml", `addresses: .*`, "addresses: "+block)
	t.Cleanup(func() {
		if t.Failed() {
			w.tellMachines()
			w.Logf("what failed: %s", strings.Join(w.failed, "\n"))
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

// What else a real cluster can be: the control plane carries a virtual address among itself,
// which another machine takes over when its holder loses power, and a worker that asks for its
// certificates itself is known by the key that it shows.
func TestRealVariants(t *testing.T) {
	w := newRealWorld(t, "available", "v1.37.2")
	w.declare(`(?s)  balancer:.*?\n\n`, "  virtual: {address: "+strings.TrimSuffix(w.realBlock(), "0/24")+"200}\n\n")
	w.declare(`(?s)    count: 3\n    size: small.*`, "    count: 1\n    size: small\n    enrolment: token\nbackup: {every: 30m}\n")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	w.until(time.Minute, "a machine to take a backup by itself", func() (bool, string) {
		out, errs, code := w.run("backup", "gather")
		return code == 0 && strings.Contains(out+errs, "read to its end"), out + errs
	})
	w.fails(0, []string{"a member that was raised from it holds"}, "backup", "verify", "newest", "--raise")
	file := w.path("kubeconfig")
	w.ok("access", "--merge", file)
	k, err := clientOf(file)
	if err != nil {
		t.Fatal(err)
	}
	// A copy beside it shows what the backup holds, and nothing in it acts on that.
	w.ok("backup", "restore", "newest", "--as", "then", "--yes")
	then := w.path("then.kubeconfig")
	w.ok("access", "--merge", then, "-f", "then")
	if c, err := clientOf(then); err != nil {
		t.Error(err)
	} else if l, err := c.CoreV1().Nodes().List(t.Context(), metav1.ListOptions{}); err != nil || len(l.Items) == 0 || !strings.HasPrefix(l.Items[0].Name, "tidewatch-control-") {
		t.Errorf("the copy's nodes are not those that the cluster had: %v, %v", l, err)
	}
	if out, err := w.onReal("then-control-1", "ps ax"); err != nil || !strings.Contains(out, "kube-apiserver") || strings.Contains(out, "kube-scheduler") || strings.Contains(out, "kube-controller-manager") {
		t.Errorf("what runs for the copy: %v\n%s", err, out)
	}
	w.ok("teardown", "-f", "then", "--yes", "--confirm", "then")
	carries := func() string {
		t.Helper()
		holder := ""
		for name := range w.machines() {
			if out, err := w.onReal(name, "ip -4 addr show eth0"); err == nil && strings.Contains(out, ".200/32") {
				holder += name
			}
		}
		if !strings.HasPrefix(holder, "tidewatch-control-") || len(holder) > len("tidewatch-control-1") {
			t.Fatalf("the address is carried by %q", holder)
		}
		return holder
	}
	holder := carries()
	// A zone that is cut off from the others takes nothing with it but itself: not the address,
	// not the quorum. The zone of whoever carries the address is cut.
	zone := w.machines()[holder].Zone
	w.ok("site", "fault", "cut-network", zone)
	if _, said, _ := w.run("machines"); !strings.Contains(said, "site fault mended-network "+zone+",") {
		t.Errorf("nobody is told of the cut:\n%s", said)
	}
	other := w.machines()["tidewatch-control-1"]
	if other.Zone == zone {
		other = w.machines()["tidewatch-control-2"]
	}
	if out, err := w.onReal(holder, "timeout 3 bash -c '</dev/tcp/"+other.Address+"/22'"); err == nil {
		t.Errorf("the cut lets through:\n%s", out)
	}
	w.until(time.Minute, "the API to take a write without a zone", func() (bool, string) {
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		defer cancel()
		_, err := k.CoreV1().ConfigMaps("default").Create(ctx, &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{GenerateName: "cut-"}}, metav1.CreateOptions{})
		return err == nil, fmt.Sprint(err)
	})
	w.fails(2, []string{"there is no zone"}, "site", "fault", "cut-network", "west,"+zone)
	w.ok("site", "fault", "mended-network", zone)
	w.soonWell("v1.37.2")
	holder = carries()

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
	// Whoever uses it gets answers from every node, also while a control-plane machine has no
	// power, and from the others while a zone is cut off.
	w.ok("prove", "--lose-control", "--yes")
	w.soonWell("v1.37.2") // a drill disturbs nothing that is not well, and the last pod may be on its way
	if out := w.ok("drill", "zone-cut", "holder-power", "--yes"); !strings.Contains(out, "2 of 2 drills hold") {
		t.Errorf("drills:\n%s", out)
	} else {
		t.Log(out)
	}
	w.soonWell("v1.37.2")
	w.forwards(file)
	// What the stand-in of the API server is held to is what a real one says.
	cfg, err := clientcmd.BuildConfigFromFlags("", file)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range askAll(t, cfg) {
		t.Error(d)
	}
	// A node that somebody deletes comes back with the next run, though its kubelet ran all the time.
	if err := k.CoreV1().Nodes().Delete(t.Context(), "tidewatch-gauges-1", metav1.DeleteOptions{}); err != nil {
		t.Fatal(err)
	}
	w.fails(3, []string{"machine tidewatch-gauges-1 is not a node"}, "status")
	w.fails(0, []string{"is started anew"}, "converge", "--yes")
	w.soonWell("v1.37.2")
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

// The whole life of a real cluster, as the demonstration lives it: raised, used, with a
// control-plane machine lost and back, moved by a minor, a worker, all certificates and an
// authority replaced, torn down. The application is asked all the time, and always answers.
func TestRealDemo(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make machines that are real systems")
	}
	w := &world{TB: t, dir: t.TempDir(), keys: t.TempDir(), real: true}
	w.fails(2, []string{"no catalogue of real components"}, "demo", "--linux", "nowhere")
	components := os.Getenv("VERBUND_COMPONENTS")
	if components == "" {
		t.Skip("VERBUND_COMPONENTS names no folder of real components; tools/components builds one")
	}
	before := networks(t)
	o, e, code := w.run("demo", "--linux", components)
	if code != 0 || !strings.Contains(o, "22 of 22 claims hold") || !strings.Contains(o, "and 0 failed") {
		t.Errorf("exit code %d\n%s\n%s", code, o, e)
		if _, file, ok := strings.Cut(e, "without secrets: "); ok {
			w.told(strings.TrimSpace(strings.SplitN(file, "\n", 2)[0]))
		}
	}
	for l := range strings.Lines(o) {
		if strings.Contains(l, "holds: of ") || strings.Contains(l, "(second ") || strings.Contains(l, "after the command") {
			t.Log(strings.TrimSpace(l))
		}
	}
	if after := networks(t); after != before {
		t.Errorf("networks of this computer before: %s, after: %s", before, after)
	}
	if b, err := os.ReadFile("/proc/mounts"); err != nil || strings.Contains(string(b), "verbund-demo") {
		t.Errorf("something of the demonstration is still mounted: %v", err)
	}
}

// told logs what the control plane and the kubelets said last, by an archive of collect, which
// is removed.
func (w *world) told(file string) {
	w.Helper()
	all := w.archive(file)
	if err := os.Remove(file); err != nil {
		w.Error(err)
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if !strings.Contains(name, "/logs/") || strings.Contains(name, "balancer") {
			continue
		}
		lines := strings.Split(strings.TrimSpace(all[name]), "\n")
		w.Logf("%s:\n%s", name, strings.Join(lines[max(0, len(lines)-40):], "\n"))
	}
}

// networks lists the network namespaces with names.
func networks(t *testing.T) string {
	t.Helper()
	es, err := os.ReadDir("/run/netns")
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		t.Fatal(err)
	}
	var out []string
	for _, e := range es {
		out = append(out, e.Name())
	}
	return strings.Join(out, " ")
}

// forwards has the cluster's DNS ask a name server of this computer for names that are not its
// own, and a pod find what that one knows.
func (w *world) forwards(file string) {
	w.Helper()
	here := strings.TrimSuffix(w.realBlock(), "0/24") + "1"
	udp, err := net.ListenPacket("udp4", here+":53")
	if err != nil {
		w.Fatal(err)
	}
	defer udp.Close()
	go answerAll(udp, netip.MustParseAddr(here))
	l, err := net.Listen("tcp4", here+":80")
	if err != nil {
		w.Fatal(err)
	}
	s := &http.Server{Handler: http.HandlerFunc(func(r http.ResponseWriter, _ *http.Request) { io.WriteString(r, "a buoy") })}
	defer s.Close()
	go s.Serve(l)
	w.deploy(file)
	ask := func() string {
		c := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
		r, err := c.Get("http://" + w.machines()["tidewatch-gauges-1"].Address + ":30080/ask?name=buoy.seamark.test")
		if err != nil {
			return err.Error()
		}
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		return fmt.Sprintf("%s %s %v", r.Status, b, err)
	}
	w.until(20*time.Second, "the pod to say that nobody knows the name", func() (bool, string) {
		got := ask()
		return strings.Contains(got, "no such host") || strings.Contains(got, "server misbehaving"), got
	})
	w.declare(`dns: \{`, "dns: {forward: ["+here+"], ")
	if out, errs, code := w.run("converge", "--yes"); code != 0 || !strings.Contains(out+errs, "tell cluster DNS its settings: forward "+here) {
		w.Errorf("exit code %d\n%s\n%s", code, out, errs)
	}
	w.until(time.Minute, "a pod to find another's name", func() (bool, string) {
		got := ask()
		return strings.Contains(got, "a buoy"), got
	})
}

// answerAll answers every question for an address with the same.
func answerAll(c net.PacketConn, a netip.Addr) {
	b := make([]byte, 1500)
	for {
		n, from, err := c.ReadFrom(b)
		if err != nil {
			return
		}
		var m dnsmessage.Message
		if m.Unpack(b[:n]) != nil || len(m.Questions) != 1 {
			continue
		}
		q := m.Questions[0]
		m.Response, m.Additionals = true, nil
		if q.Type == dnsmessage.TypeA {
			m.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Class: q.Class, TTL: 5}, Body: &dnsmessage.AResource{A: a.As4()}}}
		}
		if out, err := m.Pack(); err == nil {
			c.WriteTo(out, from)
		}
	}
}

// soonWell waits until the cluster is well: a machine that had no power for a moment shorter
// than the cluster notices says only some seconds after it is back which of its pods are not.
func (w *world) soonWell(version string) {
	w.Helper()
	w.until(3*time.Minute, "the cluster to be well", func() (bool, string) {
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

// Simulated machines with a real control plane: light nodes, and the API as it is in life. It
// is raised, moved by a minor, loses its power without a process left, and comes back.
func TestRealControl(t *testing.T) {
	components := os.Getenv("VERBUND_COMPONENTS")
	if os.Geteuid() != 0 || components == "" {
		t.Skip("needs root, and VERBUND_COMPONENTS")
	}
	w := newWorld(t, "small", "v1.36.3")
	if err := errors.Join(os.Remove(w.path("tidewatch.verbund.yaml")), os.Remove(w.path("estuary.site.yaml"))); err != nil {
		t.Fatal(err)
	}
	w.fails(2, []string{"choose one of --linux, --listed and --real-control"}, "draft", "tidewatch", "--linux", components, "--real-control", components)
	w.ok("draft", "tidewatch", "--shape", "small", "--pools", "keepers", "--kubernetes", "v1.36.3", "--real-control", components)
	w.edit("estuary.site.yaml", `addresses: .*`, fmt.Sprintf("addresses: 127.%d.%d.0/24", 128+os.Getpid()%120, worlds.Add(1)%256))
	began := time.Now()
	w.ok("converge", "--yes")
	t.Logf("raised after %s", time.Since(began).Round(time.Second))
	w.well("v1.36.3")
	if out, said, _ := w.run("machines"); !strings.Contains(said, "these are real: kube-apiserver, kube-controller-manager, kube-scheduler") {
		t.Errorf("nobody says what is real:\n%s\n%s", out, said)
	}
	if out := w.ok("status"); !strings.Contains(out, "these are real: kube-apiserver") {
		t.Errorf("status does not say what is real:\n%s", out)
	}
	processes := func() (all []string) {
		exes, err := filepath.Glob("/proc/[0-9]*/root")
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range exes {
			if to, err := os.Readlink(e); err == nil && strings.HasPrefix(to, w.dir) {
				all = append(all, e)
			}
		}
		return all
	}
	if ps := processes(); len(ps) != 3 {
		t.Errorf("%d processes have the machine's disk as their root: %v", len(ps), ps)
	}
	file := w.path("kubeconfig")
	w.ok("access", "--merge", file)
	w.deploy(file)
	w.ok("upgrade", "v1.37.2", "--yes")
	w.well("v1.37.2")
	w.ok("site", "power", "tidewatch-control-1", "cut")
	if ps := processes(); len(ps) > 0 {
		t.Errorf("without power there are %v", ps)
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	// What needs a machine of its own is refused in words.
	w.declare(`catalogue-light.yaml`, "catalogue.yaml")
	b, err := os.ReadFile(filepath.Join(components, "catalogue.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	w.declare(`digest: ".*"`, `digest: "`+versions.DigestOf(b)+`"`)
	w.ok("teardown", "--confirm", "tidewatch")
	if ps := processes(); len(ps) > 0 {
		t.Errorf("after the teardown there are %v", ps)
	}
	w.ok("versions", "--refresh", "--yes")
	w.fails(1, []string{"a real etcd needs a machine that is a real system"}, "converge", "--yes")
}
