package cli_test

import (
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/nodeconf"
)

// rewrite replaces the declaration as a whole.
func (w *world) rewrite(name, text string) {
	w.Helper()
	if err := os.WriteFile(w.path(name), []byte(text), 0o644); err != nil {
		w.Fatal(err)
	}
}

// block is the site's address block without its last number: 127.1.2.
func (w *world) block() string {
	b, err := os.ReadFile(w.path("estuary.site.yaml"))
	if err != nil {
		w.Fatal(err)
	}
	m := regexp.MustCompile(`addresses: (127\.\d+\.\d+\.)0/24`).FindSubmatch(b)
	if m == nil {
		w.Fatal("the site file has no block")
	}
	return string(m[1])
}

// on reads a file of a machine's disk.
func (w *world) on(machine, file string) string {
	b, err := os.ReadFile(w.path(".verbund/sites/estuary/disks/" + machine + file))
	if err != nil {
		return ""
	}
	return string(b)
}

// within asks until the answer is nothing, and fails with the last one.
func within(t *testing.T, d time.Duration, ask func() string) {
	t.Helper()
	end, again := time.After(d), time.NewTicker(50*time.Millisecond)
	defer again.Stop()
	for {
		why := ask()
		if why == "" {
			return
		}
		select {
		case <-end:
			t.Fatalf("after %s: %s", d, why)
		case <-again.C:
		}
	}
}

const everything = `schema: verbund/1
name: tidewatch
kubernetes: v1.36.3
site: estuary
endpoint: {name: api.tidewatch.test, also: [7443], virtual: {address: BLOCK250}}
ranges: {perNode: 128}
dns: {domain: tidewatch.test}
network:
  settings: {mtu: "1450"}
  proxy: {url: "http://proxy.seamark.test:3128", except: [.seamark.test]}
  mirror: [images.seamark.test]
control:
  count: 3
  size: medium
  nodes: false
  names: [api.tidewatch.example]
  datastore: {place: apart, count: 3, size: small}
components:
  kube-apiserver: {flags: {audit-log-maxage: "30"}}
  kube-scheduler: {config: {parallelism: 8}}
  kubelet: {config: {maxPods: 90}}
  etcd: {config: {snapshot-count: 5000}}
images: {lean: {extras: [tcpdump]}}
system:
  timeZone: Etc/GMT-1
  people:
    - {name: maren, keys: ["KEY"]}
addOns: {coredns: {version: v1.14.5, reason: the older one answers slowly}}
pools:
  - {name: gauges, count: 2-4, size: small, image: lean, adopt: ["02:5e:00:00:00:01"]}
  - {name: forecast, count: 1, size: large, kubernetes: v1.35.4}
`

// A cluster that uses every part of the declaration: the datastore apart, a
// virtual address, control-plane machines that are no nodes, an adopted machine
// with left-overs, a pool that is held back, people, settings.
func TestEverythingDeclared(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.36.3")
	key := w.path("maren")
	if out, err := exec.Command("ssh-keygen", "-t", "ed25519", "-N", "", "-q", "-f", key).CombinedOutput(); err != nil {
		t.Skipf("ssh-keygen: %v %s", err, out)
	}
	pub, err := os.ReadFile(key + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	text := strings.NewReplacer("BLOCK", w.block(), "KEY", strings.TrimSpace(string(pub))).Replace(everything)
	w.rewrite("tidewatch.verbund.yaml", text)
	w.edit("estuary.site.yaml", `zones:`, "bare: [{hardware: \"02:5e:00:00:00:01\", zone: south, size: small}]\nzones:")
	// The bare machine was once part of a cluster that is no more.
	past := w.path(".verbund/sites/estuary/disks/bare-025e00000001/etc/verbund")
	if err := os.MkdirAll(past, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(past, "machine.yaml"), []byte("cluster: lampwright\nmachine: lampwright-keepers-1\nfiles: [/etc/hosts]\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if o := w.ok("plan"); !strings.Contains(o, "adopt the bare machine 02:5e:00:00:00:01") {
		t.Errorf("plan does not adopt:\n%s", o)
	}
	w.fails(0, []string{"on tidewatch-gauges-1: wipe what cluster lampwright left on it", "pool forecast is held back on v1.35.4"}, "converge", "--yes")
	w.well("v1.36.3")
	for _, words := range []string{"its 3 machines are declared not to be nodes", "the datastore stands apart, on 3 machines", "pool forecast on v1.35.4", "coredns is on a version of its own, v1.14.5: the older one answers slowly"} {
		if o := w.ok("status"); !strings.Contains(o, words) {
			t.Errorf("status does not say %q:\n%s", words, o)
		}
	}
	vs := versionsOf(w)
	if len(vs) != 3 || vs["tidewatch-forecast-1"] != "v1.35.4" || vs["tidewatch-gauges-1"] != "v1.36.3" {
		t.Errorf("nodes are on %v", vs)
	}
	w.onMachines(t, key)

	// The count moves inside its range without a change of the file.
	w.fails(2, []string{"declared with 2-4 machines, and 5 is not among them"}, "scale", "gauges", "5", "--yes")
	w.ok("scale", "gauges", "3", "--yes")
	if len(versionsOf(w)) != 4 {
		t.Errorf("nodes after scaling: %v", versionsOf(w))
	}
	if b, _ := os.ReadFile(w.path("tidewatch.verbund.yaml")); string(b) != text {
		t.Error("scale inside a range changed the declaration")
	}

	w.carried(t)

	// One minor further: the datastore stays, the held-back pool too.
	w.ok("upgrade", "v1.37.2", "--yes")
	w.well("v1.37.2")
	vs = versionsOf(w)
	if vs["tidewatch-forecast-1"] != "v1.35.4" || vs["tidewatch-gauges-3"] != "v1.37.2" {
		t.Errorf("nodes are on %v", vs)
	}
	// Then the held-back pool jumps two minors with one drain.
	w.declare(`, kubernetes: v1\.35\.4`, "")
	if o := w.ok("plan"); strings.Count(o, "cordon it and evict its pods") != 1 || !strings.Contains(o, "Upgrade of tidewatch from v1.35.4 to v1.37.2") {
		t.Errorf("the plan of the jump:\n%s", o)
	}
	// A person who is taken out of the declaration cannot log in any more.
	w.declare(`  people:\n.*\n`, "")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	if out, err := w.login(key, "tidewatch-forecast-1", "ls /"); err == nil {
		t.Errorf("maren still logs in: %s", out)
	}
	if w.on("tidewatch-forecast-1", "/etc/ssh/authorized_keys.d/maren") != "" {
		t.Error("the key of maren is still there")
	}
	w.ok("teardown", "--confirm", "tidewatch")
	if w.on("bare-025e00000001", "/etc/kubernetes/trust/kubelet-client.key") != "" || w.on("bare-025e00000001", "/etc/verbund/machine.yaml") != "" {
		t.Error("the adopted machine kept keys after the teardown")
	}
}

// login runs a command on a machine as maren, with the ordinary ssh client.
func (w *world) login(key, machine, command string) (string, error) {
	m := w.machines()[machine]
	for _, port := range []string{"22", "2222"} {
		out, err := exec.Command("ssh", "-i", key, "-p", port, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR", "-o", "ConnectTimeout=5", "maren@"+m.Address, command).CombinedOutput()
		if err == nil || !strings.Contains(string(out), "Connection refused") {
			return string(out), err
		}
	}
	return "", fmt.Errorf("%s is not reached", machine)
}

// onMachines looks at what the declaration became on the machines.
func (w *world) onMachines(t *testing.T, key string) {
	t.Helper()
	for _, x := range []struct{ machine, file, want string }{
		{"tidewatch-forecast-1", "/etc/timezone", "Etc/GMT-1"},
		{"tidewatch-forecast-1", "/etc/containerd/certs.d/images.seamark.test/hosts.toml", `server = "https://images.seamark.test"`},
		{"tidewatch-forecast-1", "/opt/verbund/active/units/containerd.service", "Environment=HTTPS_PROXY=http://proxy.seamark.test:3128"},
		{"tidewatch-forecast-1", "/opt/verbund/active/etc/kubelet.yaml", "maxPods: 90"},
		{"tidewatch-control-1", "/opt/verbund/active/units/kube-apiserver.service", "--audit-log-maxage=30"},
		{"tidewatch-control-1", "/opt/verbund/active/etc/scheduler.yaml", "parallelism: 8"},
		{"tidewatch-datastore-2", "/opt/verbund/active/etc/etcd.yaml", "snapshot-count: 5000"},
		{"tidewatch-forecast-1", "/etc/cni/net.d/10-fairway.conflist", `"mtu": 1450`},
		{"bare-025e00000001", "/etc/verbund/machine.yaml", `cluster: "tidewatch"`},
		{"bare-025e00000001", "/var/log/console", "with tcpdump"},
	} {
		if got := w.on(x.machine, x.file); !strings.Contains(got, x.want) {
			t.Errorf("%s on %s lacks %q:\n%s", x.file, x.machine, x.want, got)
		}
	}
	// An API server's own machine holds no member and no kubelet's keys.
	for _, f := range []string{"/etc/kubernetes/trust/datastore-member.key", "/etc/kubernetes/trust/kubelet-client.key"} {
		if w.on("tidewatch-control-1", f) != "" {
			t.Errorf("control-1 has %s", f)
		}
	}
	if o := w.ok("nodes", "-o", "json"); !strings.Contains(o, `"podCIDR": "10.172.0.0/25"`) || !strings.Contains(o, `"pods": "90"`) {
		t.Error("nodes have other ranges or capacities than declared")
	}
	if out, err := w.login(key, "tidewatch-forecast-1", "cat /etc/timezone"); err != nil || !strings.Contains(out, "Etc/GMT-1") {
		t.Errorf("maren looks: %v %s", err, out)
	}
	if out, err := w.login(key, "tidewatch-forecast-1", "cat /etc/kubernetes/trust/kubelet-client.key"); err == nil {
		t.Errorf("maren reads a key: %s", out)
	}
}

// carried takes the holder of the virtual address away: another takes over,
// and the API answers at all of its ports.
func (w *world) carried(t *testing.T) {
	t.Helper()
	holder := ""
	within(t, 20*time.Second, func() string {
		var all, last []string
		for _, n := range []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3"} {
			if lines := strings.Split(strings.TrimSpace(w.on(n, "/var/log/units/endpoint-carrier.service.log")), "\n"); strings.Contains(lines[len(lines)-1], " carrying 127") && !strings.Contains(lines[len(lines)-1], "not carrying") {
				all = append(all, n)
				last = append(last, lines[max(0, len(lines)-4):]...)
			}
		}
		if len(all) != 1 {
			return fmt.Sprintf("the address is carried by %v:\n%s", all, strings.Join(last, "\n"))
		}
		holder = all[0]
		return ""
	})
	answers := func(port string) string {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		d := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true, ServerName: "api.tidewatch.example"}}
		c, err := d.DialContext(ctx, "tcp", net.JoinHostPort(w.block()+"250", port))
		if err != nil {
			return err.Error()
		}
		defer c.Close()
		if err := c.(*tls.Conn).ConnectionState().PeerCertificates[0].VerifyHostname("api.tidewatch.example"); err != nil {
			return err.Error()
		}
		return ""
	}
	for _, port := range []string{"6443", "7443"} {
		if why := answers(port); why != "" {
			t.Errorf("port %s: %s", port, why)
		}
	}
	w.ok("site", "power", holder, "cut")
	within(t, 20*time.Second, func() string { return answers("6443") })
	w.fails(3, []string{holder}, "status")
	w.ok("converge", "--yes")
	if s := w.status(); !s.Well {
		t.Errorf("after the holder's return: %+v", s)
	}
}

// An existing balancer is waited for, named when it does not pass anything on,
// and used when it does.
func TestExistingBalancer(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	stop := passOn(t, w.block()+"251:6443", w.block()+"10:6443")
	w.declare(`endpoint: .*`, "endpoint: {name: api.tidewatch.test, existing: {address: "+w.block()+"251}}")
	if o := w.ok("plan"); !strings.Contains(o, "wait until "+w.block()+"251 answers for the API on port 6443") {
		t.Errorf("plan:\n%s", o)
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	stop()
	w.fails(3, []string{"the API does not answer at the endpoint " + w.block() + "251:6443"}, "status")
}

// Machines get new addresses, a member of the datastore among them; names,
// certificates and membership follow, one machine at a time.
func TestMovedMachines(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.ok("converge", "--yes")
	before, vouched := w.machines(), w.vouches()
	moved := []string{"tidewatch-control-2", "tidewatch-gauges-1", "tidewatch-balancer-1"}
	for _, n := range moved {
		w.ok("site", "fault", "new-lease", n)
	}
	within(t, 20*time.Second, func() string {
		for _, n := range moved {
			if m := w.machines()[n]; m.Power != "on" {
				return n + " is " + m.Power
			}
		}
		return ""
	})
	if o := w.ok("plan"); !strings.Contains(o, "take up its new address") || strings.Contains(o, " tidewatch-gauges-1  ") {
		t.Errorf("the plan does not begin with the member alone:\n%s", o)
	}
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	after := w.machines()
	// What answers at the endpoint has moved, and no certificate had to know.
	for id, e := range w.vouches() {
		if m, _, _ := strings.Cut(id, "/"); e.Serial != vouched[id].Serial && !slices.Contains(moved, m) {
			t.Errorf("%s was made anew", id)
		}
	}
	for _, n := range moved {
		if after[n].Address == before[n].Address || after[n].Hardware != before[n].Hardware {
			t.Errorf("%s was %+v and is %+v", n, before[n], after[n])
		}
		if hosts := w.on("tidewatch-forecast-1", "/etc/hosts"); !strings.Contains(hosts, after[n].Address+" "+n) {
			t.Errorf("forecast-1 does not know where %s is:\n%s", n, hosts)
		}
	}
	if o := w.ok("survey"); !strings.Contains(o, "Everything is as the declaration needs it") {
		t.Errorf("survey:\n%s", o)
	}

	// A control-plane machine is beyond help: another takes its place, and that
	// the datastore is weaker meanwhile is said and wants the cluster's name.
	w.fails(2, []string{"until tidewatch-control-3 is back, the datastore has 2 of 3 members and survives the loss of 0", "--confirm tidewatch"}, "replace", "tidewatch-control-3", "--yes")
	w.ok("replace", "tidewatch-control-3", "--yes", "--confirm", "tidewatch")
	w.well("v1.37.2")
	if m := w.machines()["tidewatch-control-3"]; m.Hardware == after["tidewatch-control-3"].Hardware {
		t.Errorf("the replaced machine is the same: %+v", m)
	}
}

// Another version is declared, and before it is carried out machines move and are
// lost: the moved ones are repaired as what they run, a new one joins on what the API
// servers run, and all of them are upgraded then, in one converge.
func TestUpgradeMeetsOtherChanges(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	w.ok("converge", "--yes")
	moved := []string{"tidewatch-control-2", "tidewatch-gauges-1"}
	for _, n := range moved {
		w.ok("site", "fault", "new-lease", n)
	}
	w.ok("site", "fault", "lost-machine", "tidewatch-gauges-2")
	within(t, 20*time.Second, func() string {
		for _, n := range moved {
			if m := w.machines()[n]; m.Power != "on" {
				return n + " is " + m.Power
			}
		}
		return ""
	})
	// What runs that were cut off had not restarted yet, one of them something that is
	// not there any more.
	pending := map[string]string{"tidewatch-gauges-3": "kubelet.service", "tidewatch-control-1": "gone.service"}
	for n, unit := range pending {
		if err := os.WriteFile(w.path(".verbund/sites/estuary/disks/"+n+nodeconf.Pending), []byte(unit+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	w.declare(`kubernetes: v1.36.3`, "kubernetes: v1.37.2")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	for n := range pending {
		if _, err := os.Stat(w.path(".verbund/sites/estuary/disks/" + n + nodeconf.Pending)); err == nil {
			t.Errorf("converge is done, and something on %s still waits to be restarted", n)
		}
	}
	o := w.ok("history", w.lastRun())
	if !strings.Contains(o, "switch from v1.36.3 to v1.37.2") {
		t.Errorf("the last run is no upgrade:\n%s", o)
	}
	early := ""
	for _, r := range w.runs() {
		if h := w.ok("history", r); strings.Contains(h, "pull v1.36.3 into its first slot") {
			early = h
		}
	}
	if !strings.Contains(early, "tidewatch-gauges-2") || strings.Contains(early, "v1.37.2") {
		t.Errorf("the new worker was not raised on what the API servers run:\n%s", early)
	}
}

// A machine with components of its own is levelled with its pool; one of
// another living cluster is refused.
func TestMachinesWithAPast(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.edit("estuary.site.yaml", `zones:`, "bare:\n  - {hardware: \"02:5e:00:00:00:01\", zone: north, size: small}\n  - {hardware: \"02:5e:00:00:00:02\", zone: south, size: small}\nzones:")
	disk := w.path(".verbund/sites/estuary/disks/bare-025e00000001")
	put := func(file, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(disk+file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(disk+file, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	put("/opt/verbund/slots/a/bin/kubelet", `{"standIn":"kubelet","version":"v1.35.3"}`)
	put("/opt/verbund/slots/a/bin/containerd", `{"standIn":"containerd","version":"v2.2.1"}`)
	if err := os.Symlink("slots/a", disk+"/opt/verbund/active"); err != nil {
		t.Fatal(err)
	}
	w.ok("converge", "--yes")
	w.declare(`pools:\n.*\n`, "pools:\n  - {name: keepers, count: 2, size: small}\n  - {name: lamps, count: 1, size: small, adopt: ['02:5e:00:00:00:01']}\n")
	w.ok("converge", "--yes")
	w.well("v1.37.2")
	if o := w.ok("history", w.lastRun()); !strings.Contains(o, "level it with its group: pull v1.37.2") {
		t.Errorf("the journal does not tell of the levelling:\n%s", o)
	}
	if vs := versionsOf(w); vs["tidewatch-lamps-1"] != "v1.37.2" {
		t.Errorf("nodes are on %v", vs)
	}
	// A second cluster wants a machine that the first one has.
	w.rewrite("lampwright.verbund.yaml", "schema: verbund/1\nname: lampwright\nkubernetes: v1.37.2\nsite: estuary\npools: [{name: keepers, count: 1, adopt: ['02:5e:00:00:00:01']}]\n")
	w.fails(1, []string{"machine 02:5e:00:00:00:01 belongs to cluster tidewatch as tidewatch-lamps-1"}, "converge", "--yes", "-f", "lampwright.verbund.yaml")
	// Or one whose disk says that it is part of the first one.
	disk = w.path(".verbund/sites/estuary/disks/bare-025e00000002")
	put("/etc/verbund/machine.yaml", "cluster: tidewatch\nmachine: tidewatch-keepers-9\nfiles: []\n")
	w.edit("lampwright.verbund.yaml", "00:01'", "00:02'")
	w.fails(1, []string{"machine lampwright-keepers-1 belongs to cluster tidewatch, which lives"}, "converge", "--yes", "-f", "lampwright.verbund.yaml")
}

// passOn is somebody's balancer: what comes to one address goes to the other.
func passOn(t *testing.T, from, to string) (stop func()) {
	t.Helper()
	l, err := net.Listen("tcp", from)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.DialTimeout("tcp", to, time.Second)
				if err != nil {
					return
				}
				defer out.Close()
				go io.Copy(out, in)
				io.Copy(in, out)
			}()
		}
	}()
	return func() { l.Close() }
}
