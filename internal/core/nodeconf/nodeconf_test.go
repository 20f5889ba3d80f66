package nodeconf_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
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

// Everything that one machine of each role gets, to be read.
func TestGolden(t *testing.T) {
	c := cluster(t, "v1.37.2")
	for _, m := range []topology.Machine{c.Of(versions.Control)[1], c.Of(versions.Worker)[0], c.Of(versions.Balancer)[0]} {
		o := nodeconf.Options{Resting: map[string]bool{"tidewatch-control-2": true}}
		got := dump(nodeconf.Render(c, m, o))
		if again := dump(nodeconf.Render(c, m, o)); again != got {
			t.Errorf("%s: two renderings differ", m.Name)
		}
		file := filepath.Join("testdata", string(m.Role)+".txt")
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
			t.Errorf("%s differs from %s; read the difference after: go test ./internal/core/nodeconf -update", m.Name, file)
		}
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
				versions.Control:  "map[kube-proxy.yaml:1 kubeconfig:4 kubelet.yaml:1 scheduler.yaml:1 toml:2 unit:7]",
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
