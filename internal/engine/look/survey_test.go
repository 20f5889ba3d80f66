package look

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/api/resource"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/coretest"
	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
	"verbund/internal/machine/protocol"
	"verbund/internal/sim/host"
	"verbund/internal/site"
	"verbund/internal/site/simulated"
	"verbund/internal/store"
)

// surveyed is a session that knows one real simulated machine: the worker of a
// small cluster.
type surveyed struct {
	*testing.T
	s    *session.Session
	v    *View
	host *host.Host
	name string
}

func newSurveyed(t *testing.T) *surveyed {
	t.Helper()
	c, err := coretest.Cluster("v1.37.2", 1, 1, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(t.TempDir(), "tidewatch", &store.Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	s := &session.Session{Store: st, Cat: versions.Shipped(), Site: simulated.NewClient(t.TempDir()), Parallel: 4,
		Decl:     &declare.Declaration{Name: "tidewatch"},
		SiteFile: &declare.Site{Addresses: netip.MustParsePrefix("127.0.0.0/8"), Sizes: map[string]declare.Size{"small": {CPUs: 2, Memory: 4 << 30, Disk: 20 << 30}}}}
	t.Cleanup(s.Close)
	if err := vouch.Ensure(s, c, time.Now()); err != nil {
		t.Fatal(err)
	}
	sg, err := s.Signer()
	if err != nil {
		t.Fatal(err)
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	hostKey, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	m := &c.Machines[1]
	m.Address = netip.AddrFrom4([4]byte{127, 249, byte(os.Getpid() >> 8), byte(os.Getpid()) | 1})
	h, err := host.Boot(context.Background(), host.Spec{Name: m.Name, Address: m.Address, Root: t.TempDir(), Login: string(ssh.MarshalAuthorizedKey(sg.PublicKey())), HostKey: pem.EncodeToMemory(block),
		CPUs: 2, Memory: 4 << 30, Disk: 20 << 30, Pace: 1000, Registry: m.Address}, nil, func() {})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Off(true) })
	sessiontest.Remember(t, s, func(st *memory.State) {
		st.Machines[m.Name] = memory.Machine{Address: m.Address, Fingerprint: ssh.FingerprintSHA256(hostKey.PublicKey())}
	})
	v := &View{Cluster: c, Seen: plan.Observed{Machines: map[string]plan.MachineSeen{m.Name: {Exists: true, Reached: true}}, Clusters: map[string]bool{"lampwright": true}},
		Inventory: &site.Inventory{Zones: []site.Zone{{Name: "north", Room: 9}, {Name: "south", Room: 9}},
			Machines: []site.Machine{{Name: m.Name, Cluster: "tidewatch", Power: site.PowerOn, Address: m.Address, SSHPort: h.SSHPort, Size: "small", Zone: "south"}}}}
	return &surveyed{t, s, v, h, m.Name}
}

// ask surveys the one machine and finds one answer.
func (x *surveyed) ask(q Question) Answer {
	x.Helper()
	for _, a := range Survey(context.Background(), x.s, x.v, SurveyOptions{Only: map[string]bool{x.name: true}}) {
		if a.Machine == x.name && a.Question == q {
			return a
		}
	}
	x.Fatalf("%s was not asked", q)
	return Answer{}
}

func (x *surveyed) want(q Question, state State, found string) {
	x.Helper()
	a := x.ask(q)
	if a.State != state || !strings.Contains(a.Found, found) {
		x.Errorf("%s: %+v, wanted %s with %q", q, a, state, found)
	}
	if a.State == Bad && a.Todo == "" {
		x.Errorf("%s: there is no way out of %q", q, a.Found)
	}
}

// A machine as it should be, and everything that can be wrong with one.
func TestSurveyOfAMachine(t *testing.T) {
	x := newSurveyed(t)
	for _, q := range []Question{AskLogin, AskHostKey, AskRights, AskSize, AskClock, AskAddress, AskPorts, AskPeers, AskDisk, AskPast} {
		x.want(q, Well, "")
	}
	x.want(AskVersions, Later, "nothing is installed yet")
	x.want(AskNames, Later, "its names are not written yet")
	// Nothing serves as a registry here.
	x.want(AskRegistry, Bad, "containerd@sha256:")

	put := func(path, text string) {
		t.Helper()
		if err := x.host.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("/etc/verbund/machine.yaml", "cluster: buoys\nmachine: buoys-1\nfiles: [/etc/hosts, /etc/x]\n")
	x.want(AskPast, Later, "cluster buoys left 2 files on it")
	put("/etc/verbund/machine.yaml", "cluster: lampwright\nmachine: lampwright-1\nfiles: []\n")
	x.want(AskPast, Bad, "belongs to cluster lampwright, which lives")
	put("/etc/verbund/machine.yaml", "cluster: tidewatch\nmachine: "+x.name+"\nfiles: []\n")
	x.want(AskPast, Well, "")

	for name, v := range map[string]string{"kubelet": "v1.36.3", "kube-proxy": "v1.37.2"} {
		put(protocol.SlotDir+"a/bin/"+name, `{"standIn":"`+name+`","version":"`+v+`"}`)
	}
	if err := os.Symlink("slots/a", x.host.Path("/opt/verbund/active")); err != nil {
		t.Fatal(err)
	}
	x.want(AskVersions, Later, "containerd none, declared v2.4.2; kubelet v1.36.3, declared v1.37.2")

	x.want(AskKernel, Later, "not written yet")
	put(nodeconf.KernelSettings, nodeconf.KernelText())
	x.want(AskKernel, Bad, "net.ipv4.ip_forward is 0, and 1 is needed")
	for _, k := range nodeconf.Settings {
		put(k.Path(), k.Value+"\n")
	}
	x.want(AskKernel, Well, "")
	put("/proc/sys/net/bridge/bridge-nf-call-iptables", "0\n")
	x.want(AskKernel, Bad, "net.bridge.bridge-nf-call-iptables is 0")

	x.host.Suffer(host.Faults{Full: true})
	x.want(AskDisk, Bad, "of 20GiB are free, and two slots may need 2GiB")
	x.host.Suffer(host.Faults{ClockOff: -3 * time.Minute})
	x.want(AskClock, Bad, "its clock is -3m")
	x.host.Suffer(host.Faults{Rights: "look"})
	x.want(AskRights, Bad, "the login may only look")
	x.host.Suffer(host.Faults{})
	x.want(AskRights, Well, "")

	busy, err := x.host.Listen(netip.AddrPortFrom(x.host.Spec.Address, 10250).String())
	if err != nil {
		t.Fatal(err)
	}
	x.want(AskPorts, Bad, ":10250: ")
	busy.Close()

	x.v.Nodes = []corev1.Node{{ObjectMeta: metav1.ObjectMeta{Name: x.name}, Status: corev1.NodeStatus{Capacity: corev1.ResourceList{corev1.ResourceMemory: resource.MustParse("4Gi")}}}}
	x.want(AskSize, Well, "")
	x.v.Nodes[0].Status.Capacity[corev1.ResourceMemory] = resource.MustParse("24Gi")
	x.want(AskSize, Bad, "Kubernetes is told that it has 24GiB memory, and it may use 4GiB")
	x.v.Nodes = nil
	x.s.SiteFile.Sizes["small"] = declare.Size{CPUs: 4, Memory: 4 << 30, Disk: 20 << 30}
	x.want(AskSize, Bad, "it has 2 processors, 4GiB memory, 20GiB disk; size small means 4")
	x.s.SiteFile.Sizes["small"] = declare.Size{CPUs: 2, Memory: 4 << 30, Disk: 20 << 30}

	x.s.Decl.Ranges.Machines = netip.MustParsePrefix("127.80.0.0/16")
	x.want(AskAddress, Bad, "does not lie in 127.80.0.0/16")
	x.s.Decl.Ranges.Machines = netip.Prefix{}

	// Once it is set up, it has to know the endpoint's name.
	seen := x.v.Seen.Machines[x.name]
	seen.Owner = "tidewatch"
	x.v.Seen.Machines[x.name] = seen
	x.want(AskNames, Later, "api.tidewatch.test")
	put("/etc/hosts", "127.80.0.12 api.tidewatch.test\n"+x.host.Spec.Address.String()+" "+x.name+"\n")
	x.want(AskNames, Well, "")
}

// What cannot be reached is said once; the other questions are left unasked.
func TestSurveyOfWhatIsNotReached(t *testing.T) {
	x := newSurveyed(t)
	im := &x.v.Inventory.Machines[0]
	im.Power, im.Trouble = site.PowerCrashed, "its zone was lost"
	x.want(AskLogin, Later, "it has crashed: its zone was lost")
	x.want(AskDisk, Unasked, "")
	im.Power = site.PowerOn

	known := sessiontest.Known(t, x.s).Machines[x.name]
	known.Fingerprint = "SHA256:another"
	sessiontest.Remember(t, x.s, func(st *memory.State) { st.Machines[x.name] = known })
	x.s.Close()
	x.want(AskHostKey, Bad, "and SHA256:another is known")
	x.want(AskLogin, Unasked, "")

	known.Fingerprint = ""
	sessiontest.Remember(t, x.s, func(st *memory.State) { st.Machines[x.name] = known })
	x.want(AskLogin, Later, "not logged in to yet")

	x.v.Inventory.Machines = nil
	x.want(AskLogin, Later, "the site does not have it yet")
	if n := Needed(&plan.Plan{Steps: []plan.Step{{Machine: "a"}, {}, {Machine: "a"}, {Machine: "b"}}}); len(n) != 2 || !n["a"] || !n["b"] {
		t.Errorf("needed: %v", n)
	}
}

// Ports are to be free where nothing of a part runs yet. A scheduler that starts again beside its
// API server has its port.
func TestToBeFree(t *testing.T) {
	m := topology.Machine{Address: netip.MustParseAddr("127.0.0.9"), Parts: []versions.Part{versions.Member, versions.API, versions.Acting}}
	for _, x := range []struct {
		runs string
		want int
	}{{"", 5}, {"etcd.service", 3}, {"kube-apiserver.service", 2}, {"kube-scheduler.service", 3}} {
		if got := toBeFree(m, map[string]bool{x.runs: true}); len(got) != x.want || x.want == 2 && strings.Contains(strings.Join(got, " "), ":10259") {
			t.Errorf("with %q: %v", x.runs, got)
		}
	}
}
