package nodeconf_test

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/coreos/go-systemd/v22/unit"
	"github.com/pelletier/go-toml/v2"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api/v1"
	proxyv1 "k8s.io/kube-proxy/config/v1alpha1"
	schedv1 "k8s.io/kube-scheduler/config/v1"
	kubeletv1 "k8s.io/kubelet/config/v1beta1"
	"sigs.k8s.io/yaml"

	"verbund/internal/core/coretest"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

var update = flag.Bool("update", false, "write the golden files anew")

func cluster(t testing.TB, version string) *topology.Cluster {
	t.Helper()
	c, err := coretest.Cluster(version, 3, 2, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// dump shows a machine's files as one text.
func dump(fs []nodeconf.File) string {
	var b strings.Builder
	for _, f := range fs {
		fmt.Fprintf(&b, "=== %s %o", f.Path, f.Mode)
		if f.Kind != nodeconf.Text {
			fmt.Fprintf(&b, " from %s", f.From)
		}
		if len(f.Restart) > 0 {
			fmt.Fprintf(&b, " restarts %s", strings.Join(f.Restart, " "))
		}
		if len(f.Reload) > 0 {
			fmt.Fprintf(&b, " reloads %s", strings.Join(f.Reload, " "))
		}
		b.WriteString("\n" + f.Content)
	}
	return b.String()
}

// golden holds what was rendered against a file, or writes it.
func golden(t *testing.T, name, got string) {
	t.Helper()
	file := filepath.Join("testdata", name+".txt")
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		t.Errorf("it differs from %s; read the difference after: go test ./internal/core/nodeconf -update", file)
	}
}

// Everything that one machine of each role gets, to be read.
func TestGolden(t *testing.T) {
	c := cluster(t, "v1.37.2")
	for _, m := range []topology.Machine{c.Of(versions.Control)[1], c.Of(versions.Worker)[0], c.Of(versions.Balancer)[0]} {
		o := nodeconf.Options{Resting: map[string]bool{"tidewatch-control-2": true}}
		got := dump(nodeconf.Render(c, m, o))
		if again := dump(nodeconf.Render(c, m, o)); again != got {
			t.Errorf("%s: two renderings differ", m.Name)
		}
		golden(t, string(m.Role), got)
	}
}

// The formats are the real components' own: the published types take them
// strictly, and a unit parser takes the units.
func TestFormats(t *testing.T) {
	for _, version := range versions.Shipped().Versions() {
		c := cluster(t, version)
		for _, m := range c.Machines {
			seen := map[string]int{}
			for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
				var into any
				kind := filepath.Base(f.Path)
				switch {
				case strings.HasSuffix(f.Path, ".service"):
					seen["unit"]++
					checkUnit(t, f)
					continue
				case strings.HasSuffix(f.Path, ".toml"):
					seen["toml"]++
					var any map[string]any
					if err := toml.Unmarshal([]byte(f.Content), &any); err != nil {
						t.Errorf("%s: %v", f.Path, err)
					}
					continue
				case strings.HasSuffix(f.Path, ".kubeconfig"):
					kind, into = "kubeconfig", &clientcmdapi.Config{}
				case kind == "kubelet.yaml":
					into = &kubeletv1.KubeletConfiguration{}
				case kind == "kube-proxy.yaml":
					into = &proxyv1.KubeProxyConfiguration{}
				case kind == "scheduler.yaml":
					into = &schedv1.KubeSchedulerConfiguration{}
				default:
					continue
				}
				seen[kind]++
				if err := yaml.UnmarshalStrict([]byte(f.Content), into); err != nil {
					t.Errorf("%s on %s: %v", f.Path, m.Name, err)
				}
				if strings.Contains(f.Content, "PRIVATE") || strings.Contains(f.Content, "-data:") {
					t.Errorf("%s contains a certificate or key instead of naming its file", f.Path)
				}
			}
			want := map[versions.Role]string{
				versions.Control:  "map[kube-proxy.yaml:1 kubeconfig:5 kubelet.yaml:1 scheduler.yaml:1 toml:2 unit:8]",
				versions.Worker:   "map[kube-proxy.yaml:1 kubeconfig:2 kubelet.yaml:1 toml:2 unit:3]",
				versions.Balancer: "map[unit:1]",
			}[m.Role]
			if got := fmt.Sprint(seen); got != want {
				t.Errorf("%s has %s, wanted %s", m.Name, got, want)
			}
		}
	}
}

func checkUnit(t *testing.T, f nodeconf.File) {
	t.Helper()
	opts, err := unit.DeserializeOptions(strings.NewReader(f.Content))
	if err != nil {
		t.Errorf("%s: %v", f.Path, err)
		return
	}
	start := slices.IndexFunc(opts, func(o *unit.UnitOption) bool { return o.Section == "Service" && o.Name == "ExecStart" })
	if start < 0 || !strings.HasPrefix(opts[start].Value, "/opt/verbund/active/bin/") {
		t.Errorf("%s: its program is not of the slot", f.Path)
	}
}

// Whatever listens names its address: machines that share a computer must not
// collide. And what must not know an authority's key does not get it.
func TestEveryMachineHasItsOwn(t *testing.T) {
	c := cluster(t, "v1.37.2")
	for _, m := range c.Machines {
		for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
			if strings.Contains(f.Content, "0.0.0.0") {
				t.Errorf("%s on %s listens everywhere", f.Path, m.Name)
			}
			if f.Kind == nodeconf.Key && (f.Mode != 0o600 || m.Role != versions.Control && strings.Contains(f.From, "authority")) {
				t.Errorf("%s on %s: key %s with mode %o", f.Path, m.Name, f.From, f.Mode)
			}
			if f.Kind == nodeconf.Key && strings.Contains(f.From, "/") && !strings.HasPrefix(f.From, m.Name+"/") {
				t.Errorf("%s gets the key %s of another machine", m.Name, f.From)
			}
			if m.Role == versions.Control && strings.HasSuffix(f.Path, ".kubeconfig") && !strings.Contains(f.Content, "https://"+m.Address.String()+":6443") {
				t.Errorf("%s on %s does not use the machine's own API server", f.Path, m.Name)
			}
			if m.Role == versions.Worker && strings.HasSuffix(f.Path, ".kubeconfig") && !strings.Contains(f.Content, "https://api.tidewatch.test:6443") {
				t.Errorf("%s on %s does not use the endpoint's name", f.Path, m.Name)
			}
		}
	}
}

// full uses everything that ends up in files.
const full = `schema: verbund/1
name: tidewatch
kubernetes: KUBERNETES
site: estuary
endpoint: {name: api.tidewatch.test, also: [7443], virtual: {address: 127.80.0.250}}
ranges: {perNode: 512}
dns: {domain: tidewatch.test}
network:
  proxy: {url: "http://proxy.seamark.test:3128", except: [.seamark.test, 192.0.2.0/24]}
  mirror: [images.seamark.test]
control: {count: 2, nodes: false, datastore: {place: apart, count: 2}}
components:
  kube-apiserver: {flags: {audit-log-maxage: "30", audit-log-path: "/var/log/audit log"}}
  kube-controller-manager: {flags: {concurrent-service-syncs: "2"}}
  kube-scheduler: {flags: {v: "2"}, config: {parallelism: 8}}
  kubelet: {config: {maxPods: 200, evictionHard: {memory.available: 5%}, featureGates: {}}}
  kube-proxy: {config: {conntrack: {maxPerCore: 1024}}}
  etcd: {config: {snapshot-count: 5000, log-level: warn}}
system:
  timeZone: Etc/GMT-1
  people:
    - {name: maren, keys: ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPzCRUHnIMgTJz1wQfUr0+aUe0ZCx6n6d0hIyVJfKZ0K a"], rights: act}
    - {name: jorid, keys: ["ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPzCRUHnIMgTJz1wQfUr0+aUe0ZCx6n6d0hIyVJfKZ0K b"]}
pools: [{name: gauges}]
`

func fullCluster(t *testing.T, kubernetes string) *topology.Cluster {
	t.Helper()
	c, err := coretest.Declare(strings.Replace(full, "KUBERNETES", kubernetes, 1), topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Everything that the shapes of a declaration add, to be read.
func TestGoldenShapes(t *testing.T) {
	c := fullCluster(t, "v1.37.2")
	for name, m := range map[string]topology.Machine{"apart-control": c.Of(versions.Control)[1], "apart-datastore": c.Of(versions.Datastore)[1], "apart-worker": c.Of(versions.Worker)[0]} {
		got := dump(nodeconf.Render(c, m, nodeconf.Options{}))
		golden(t, name, got)
	}
}

// What is asked for before a token is issued is what is rendered where a pool
// enrols by token, and only there.
func TestEnrolmentNeeds(t *testing.T) {
	for enrolment, want := range map[string]bool{"issued": false, "token": true} {
		text := strings.Replace(full, "pools: [{name: gauges}]", "pools: [{name: gauges, enrolment: "+enrolment+"}]", 1)
		c, err := coretest.Declare(strings.Replace(text, "KUBERNETES", "v1.37.2", 1), topology.Memory{})
		if err != nil {
			t.Fatal(err)
		}
		units, all := 0, true
		for _, f := range nodeconf.Render(c, c.Of(versions.Control)[0], nodeconf.Options{}) {
			for _, flag := range nodeconf.EnrolmentNeeds[f.Path] {
				units++
				all = all && strings.Contains(f.Content, flag)
			}
		}
		if units != 3 || all != want {
			t.Errorf("enrolment %s: %d flags looked for, all there %v", enrolment, units, all)
		}
	}
}

// Declared settings reach the components' files in the components' own format,
// and what Verbund derives stays beside them.
func TestSettingsAreLaidOver(t *testing.T) {
	for _, version := range versions.Shipped().Versions() {
		c := fullCluster(t, version)
		read := func(m topology.Machine, path string) string {
			for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
				if f.Path == path {
					return f.Content
				}
			}
			t.Fatalf("%s has no %s", m.Name, path)
			return ""
		}
		var kubelet kubeletv1.KubeletConfiguration
		worker, control := c.Of(versions.Worker)[0], c.Of(versions.Control)[0]
		if err := yaml.UnmarshalStrict([]byte(read(worker, nodeconf.Active+"etc/kubelet.yaml")), &kubelet); err != nil {
			t.Fatal(err)
		}
		if kubelet.MaxPods != 200 || kubelet.EvictionHard["memory.available"] != "5%" || kubelet.Address != worker.Address.String() || kubelet.ClusterDomain != "tidewatch.test" {
			t.Errorf("%s: kubelet: %+v", version, kubelet)
		}
		var proxy proxyv1.KubeProxyConfiguration
		if err := yaml.UnmarshalStrict([]byte(read(worker, nodeconf.Active+"etc/kube-proxy.yaml")), &proxy); err != nil {
			t.Fatal(err)
		}
		if proxy.Conntrack.MaxPerCore == nil || *proxy.Conntrack.MaxPerCore != 1024 || proxy.BindAddress != worker.Address.String() {
			t.Errorf("%s: proxy: %+v", version, proxy.Conntrack)
		}
		var sched schedv1.KubeSchedulerConfiguration
		if err := yaml.UnmarshalStrict([]byte(read(control, nodeconf.Active+"etc/scheduler.yaml")), &sched); err != nil {
			t.Fatal(err)
		}
		if sched.Parallelism == nil || *sched.Parallelism != 8 || sched.ClientConnection.Kubeconfig == "" {
			t.Errorf("%s: scheduler: %+v", version, sched)
		}
		api := read(control, nodeconf.Active+"units/kube-apiserver.service")
		for _, want := range []string{`--audit-log-path="/var/log/audit log"`, "--audit-log-maxage=30", "--etcd-servers=https://127.80.0.12:2379,https://127.80.0.13:2379"} {
			if !strings.Contains(api, want) {
				t.Errorf("%s: the API server's unit lacks %s:\n%s", version, want, api)
			}
		}
	}
}

var flagName = regexp.MustCompile(`(?m)^  --([a-z0-9-]+)=`)

// ownChoice are settings that are rendered unless others are declared.
var ownChoice = []string{"systemReserved", "kubeReserved", "tls-cipher-suites", "tlsCipherSuites"}

// Declared cipher suites take the place of ours; nobody is told of both.
func TestDeclaredSuites(t *testing.T) {
	const one = "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384"
	c, err := coretest.Declare("schema: verbund/1\nname: tidewatch\nkubernetes: v1.37.2\nsite: estuary\ncomponents: {kube-apiserver: {flags: {tls-cipher-suites: "+one+"}}, kubelet: {config: {tlsCipherSuites: ["+one+"]}}, etcd: {config: {cipher-suites: ["+one+"]}}}\n", topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range nodeconf.Render(c, c.Of(versions.Control)[0], nodeconf.Options{}) {
		n := strings.Count(f.Content, "TLS_ECDHE_")
		switch filepath.Base(f.Path) {
		case "kube-apiserver.service", "kubelet.yaml", "etcd.yaml":
			if n != 1 || !strings.Contains(f.Content, one) {
				t.Errorf("%s has %d suites", f.Path, n)
			}
		case "kube-scheduler.service", "kube-controller-manager.service":
			if n != 6 || strings.Contains(f.Content, "CBC") {
				t.Errorf("%s has %d suites", f.Path, n)
			}
		}
		if strings.Contains(f.Content, "listen-metrics-urls") {
			t.Errorf("%s has the datastore tell its figures to everybody", f.Path)
		}
	}
}

// What is rendered is known to the component of each minor, and is what cannot
// be declared: the two lists are one.
func TestRenderedSettingsAreOwned(t *testing.T) {
	table := versions.Shipped().Settings
	for _, version := range versions.Shipped().Versions() {
		c := cluster(t, version)
		minor := versions.Minor(version)
		for _, m := range []topology.Machine{c.Of(versions.Control)[0]} {
			for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
				component := strings.TrimSuffix(filepath.Base(f.Path), ".service")
				if table[component]["flag"] == nil || !strings.HasSuffix(f.Path, ".service") {
					continue
				}
				seen := map[string]bool{}
				for _, x := range flagName.FindAllStringSubmatch(f.Content, -1) {
					seen[x[1]] = true
					if !versions.IsOwned(component, x[1]) && !slices.Contains(ownChoice, x[1]) {
						t.Errorf("--%s of %s is rendered and could be declared", x[1], component)
					}
					if !slices.Contains(table[component]["flag"][x[1]].Minors, minor) {
						t.Errorf("--%s is rendered and not known to %s of %s", x[1], component, version)
					}
				}
				for _, o := range versions.Owned[component] {
					if _, isFlag := table[component]["flag"][o]; isFlag && !seen[o] {
						t.Errorf("--%s of %s cannot be declared and is not rendered", o, component)
					}
				}
			}
			for component, file := range map[string]string{"kubelet": "kubelet.yaml", "kube-proxy": "kube-proxy.yaml", "etcd": "etcd.yaml", "kube-scheduler": "scheduler.yaml"} {
				for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
					if f.Path != nodeconf.Active+"etc/"+file {
						continue
					}
					var keys map[string]any
					if err := yaml.Unmarshal([]byte(f.Content), &keys); err != nil {
						t.Fatal(err)
					}
					for k := range keys {
						_, known := table[component]["config"][k]
						if k != "kind" && k != "apiVersion" && (!known || !versions.IsOwned(component, k) && component != "etcd" && !slices.Contains(ownChoice, k)) {
							t.Errorf("%s of %s: known %v, owned %v", k, component, known, versions.IsOwned(component, k))
						}
					}
				}
			}
		}
	}
}

func TestRecord(t *testing.T) {
	c := cluster(t, "v1.37.2")
	m := c.Of(versions.Worker)[0]
	fs := nodeconf.Render(c, m, nodeconf.Options{})
	last := fs[len(fs)-1]
	o := nodeconf.ReadRecord([]byte(last.Content))
	if last.Path != nodeconf.Record || o == nil || o.Cluster != "tidewatch" || o.Machine != m.Name || len(o.Files) != len(fs)-1 {
		t.Fatalf("the record is %+v in %s", o, last.Path)
	}
	for i, f := range fs[:len(fs)-1] {
		if o.Files[i] != f.Path {
			t.Errorf("the record lists %s, wanted %s", o.Files[i], f.Path)
		}
		sum := fmt.Sprintf("%x", sha256.Sum256([]byte(f.Content)))
		if f.Shown() != o.Wrote(f.Path, sum) || o.Wrote(f.Path, strings.Repeat("0", 64)) || o.Wrote(f.Path, "") {
			t.Errorf("%s was written by the record: %v, wanted %v", f.Path, o.Wrote(f.Path, sum), f.Shown())
		}
	}
	for _, bad := range []string{"", "cluster: [", "machine: x\n", "\x00"} {
		if nodeconf.ReadRecord([]byte(bad)) != nil {
			t.Errorf("%q was taken for a record", bad)
		}
	}
}

// On machines with a way out the site's registry is asked first, and what it does not have comes
// from where its name says; without one, nothing else is asked.
func TestRegistries(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 1, 1, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	for _, listed := range []bool{false, true} {
		c.Listed = listed
		found := false
		for _, f := range nodeconf.Render(c, c.Machines[0], nodeconf.Options{}) {
			if f.Path != "/etc/containerd/certs.d/_default/hosts.toml" {
				continue
			}
			found = true
			if strings.Contains(f.Content, "server = ") == listed || !strings.Contains(f.Content, `[host."http://registry.estuary.test:5000"]`) {
				t.Errorf("listed %t:\n%s", listed, f.Content)
			}
		}
		if !found {
			t.Errorf("listed %t: there is no such file", listed)
		}
	}
}

// Kubelets of a wide site report as seldom as real ones do, and are waited for as long.
func TestPatience(t *testing.T) {
	for workers, want := range map[int]struct{ report, lease, grace string }{
		3: {"nodeStatusUpdateFrequency: 4s", "nodeLeaseDurationSeconds: 12", "--node-monitor-grace-period=12s"}, 200: {"nodeStatusUpdateFrequency: 10s", "nodeLeaseDurationSeconds: 50", "--node-monitor-grace-period=50s"},
	} {
		c, err := coretest.Cluster("v1.37.2", 3, workers, topology.Memory{})
		if err != nil {
			t.Fatal(err)
		}
		all := ""
		for _, m := range []topology.Machine{c.Of(versions.Control)[0], c.Of(versions.Worker)[0]} {
			for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
				all += f.Content
			}
		}
		for _, w := range []string{want.report, want.lease, want.grace} {
			if !strings.Contains(all, w) {
				t.Errorf("with %d workers nothing says %s", workers, w)
			}
		}
	}
}
