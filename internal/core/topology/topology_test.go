package topology_test

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

func TestNamesZonesAddresses(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 3, 2, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, m := range c.Machines {
		got = append(got, m.Name+" "+m.Zone+" "+m.Address.String())
	}
	want := []string{"tidewatch-control-1 north 127.80.0.10", "tidewatch-control-2 south 127.80.0.11", "tidewatch-control-3 island 127.80.0.12",
		"tidewatch-gauges-1 north 127.80.0.13", "tidewatch-gauges-2 south 127.80.0.14", "tidewatch-balancer-1 north 127.80.0.15"}
	if !slices.Equal(got, want) {
		t.Errorf("machines are\n%s\nwanted\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if c.Endpoint.Address.String() != "127.80.0.15" {
		t.Errorf("the endpoint is at %s", c.Endpoint.Address)
	}
	if a := c.ServiceAddress(10); a.String() != "10.112.0.10" {
		t.Errorf("DNS is at %s", a)
	}
	for _, line := range []string{"127.80.0.15 api.tidewatch.test", "127.80.0.2 registry.estuary.test", "127.80.0.13 tidewatch-gauges-1"} {
		if !strings.Contains(c.Hosts(), line+"\n") {
			t.Errorf("the hosts file lacks %q:\n%s", line, c.Hosts())
		}
	}
	if m := c.Of(versions.Control)[2]; !slices.Equal(m.Members, []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3"}) {
		t.Errorf("the third member is born into %v", m.Members)
	}
}

// What was fixed once stays; new machines get what is free.
func TestMemory(t *testing.T) {
	mem := topology.Memory{
		Addresses: map[string]netip.Addr{"tidewatch-control-1": netip.MustParseAddr("127.80.0.77"), "gone": netip.MustParseAddr("127.80.0.10")},
		Members:   map[string][]string{"tidewatch-control-1": {"tidewatch-control-1", "other"}},
	}
	c, err := coretest.Cluster("v1.37.2", 1, 1, mem)
	if err != nil {
		t.Fatal(err)
	}
	if a := c.Machines[0].Address.String(); a != "127.80.0.77" {
		t.Errorf("control-1 moved to %s", a)
	}
	if a := c.Machines[1].Address.String(); a != "127.80.0.11" {
		t.Errorf("gauges-1 is at %s, but .10 is taken and .11 is free", a)
	}
	if len(c.Machines[0].Members) != 2 {
		t.Errorf("members at birth are %v", c.Machines[0].Members)
	}
}

func TestAddressesAreUnique(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 3, 2000, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	seen := map[netip.Addr]string{}
	for _, m := range c.Machines {
		if o, dup := seen[m.Address]; dup {
			t.Fatalf("%s and %s share %s", o, m.Name, m.Address)
		}
		if b := m.Address.As4()[3]; b == 0 || b == 255 {
			t.Errorf("%s has %s", m.Name, m.Address)
		}
		seen[m.Address] = m.Name
	}
}

func TestBlockFull(t *testing.T) {
	mem := topology.Memory{Addresses: map[string]netip.Addr{}}
	a := netip.MustParseAddr("127.80.0.10")
	for i := range 65536 {
		mem.Addresses[fmt.Sprint(i)] = a
		a = a.Next()
	}
	if _, err := coretest.Cluster("v1.37.2", 1, 1, mem); !errors.Is(err, topology.ErrBlockFull) {
		t.Errorf("error is %v", err)
	}
}

const head = "schema: verbund/1\nname: tidewatch\nkubernetes: v1.37.2\nsite: estuary\n"

func declared(t *testing.T, text string, mem topology.Memory) *topology.Cluster {
	t.Helper()
	c, err := coretest.Declare(head+text, mem)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Every machine's parts follow from the shape, and its components from them.
func TestShapes(t *testing.T) {
	for _, x := range []struct{ name, text, want string }{
		{"one machine", "", "control-1 [member api acting approver node]"},
		{"no nodes", "control: {nodes: false}\n", "control-1 [member api acting approver]"},
		{"a copy", "copyOf: coast\ncontrol: {nodes: false}\n", "control-1 [member api]"},
		{"virtual address", "endpoint: {virtual: {address: 127.80.0.250}}\n", "control-1 [member api acting carrier approver node]"},
		{"datastore apart", "control: {datastore: {place: apart, count: 1}}\n", "control-1 [api acting approver node] datastore-1 [member]"},
		{"everything", "control: {nodes: false, datastore: {place: apart, count: 1}}\nendpoint: {balancer: {}}\npools: [{name: gauges}]\n",
			"control-1 [api acting approver] datastore-1 [member] gauges-1 [node] balancer-1 [balances]"},
	} {
		var got []string
		for _, m := range declared(t, x.text, topology.Memory{}).Machines {
			got = append(got, strings.TrimPrefix(m.Name, "tidewatch-")+" "+fmt.Sprint(m.Parts))
		}
		if g := strings.Join(got, " "); g != x.want {
			t.Errorf("%s: %s, wanted %s", x.name, g, x.want)
		}
	}
	c := declared(t, "control: {datastore: {place: apart, count: 1}}\n", topology.Memory{})
	var names []string
	for _, k := range c.Of(versions.Datastore)[0].Components() {
		names = append(names, k.Ref())
	}
	if fmt.Sprint(names) != "[etcd:v3.7.3]" {
		t.Errorf("a datastore machine runs %v", names)
	}
	if ms := c.With(versions.Member); len(ms) != 1 || ms[0].Role != versions.Datastore {
		t.Errorf("members are on %v", ms)
	}
}

func TestWhatAnswersAtTheEndpoint(t *testing.T) {
	for _, x := range []struct{ text, address, by string }{
		{"", "127.80.0.10", "machine"},
		{"endpoint: {balancer: {}}\n", "127.80.0.11", "balancer"},
		{"endpoint: {existing: {address: 192.0.2.7}}\n", "192.0.2.7", "existing"},
		{"endpoint: {virtual: {address: 127.80.0.250}, also: [7443, 443]}\n", "127.80.0.250", "virtual"},
	} {
		c := declared(t, x.text, topology.Memory{})
		if c.Endpoint.Address.String() != x.address || string(c.Endpoint.By) != x.by {
			t.Errorf("%q: %+v", x.text, c.Endpoint)
		}
		if !strings.Contains(c.Hosts(), x.address+" "+c.Endpoint.Name+"\n") {
			t.Errorf("%q: machines are not told where the endpoint is", x.text)
		}
		if len(c.Endpoint.Also) == 2 && fmt.Sprint(c.Endpoint.Ports()) != "[6443 7443 443]" {
			t.Errorf("ports are %v", c.Endpoint.Ports())
		}
	}
}

// Pools have versions, images, batches and counts of their own.
func TestPools(t *testing.T) {
	text := "images: {lean: {extras: [tcpdump], architecture: arm64}}\npools:\n" +
		"  - {name: gauges, count: 2-6, rollout: {batch: 50%}, image: lean, adopt: ['02:5e:00:00:00:01']}\n" +
		"  - {name: forecast, kubernetes: v1.36.3}\n"
	for given, want := range map[int]int{0: 2, 1: 2, 4: 4, 9: 6} {
		mem := topology.Memory{}
		if given > 0 {
			mem.Counts = map[string]int{"gauges": given}
		}
		c := declared(t, text, mem)
		n := 0
		for _, m := range c.Machines {
			if m.Pool == "gauges" {
				n++
				if c.Policies["gauges"].Batch != want/2 || m.Image.Architecture != "arm64" || m.Image.System != m.Set.Image || fmt.Sprint(m.Image.Extras) != "[tcpdump]" {
					t.Errorf("%d machines: %+v", want, m)
				}
			}
		}
		if n != want {
			t.Errorf("%d remembered give %d machines, wanted %d", given, n, want)
		}
	}
	c := declared(t, text, topology.Memory{})
	first, _ := c.Machine("tidewatch-gauges-1")
	held, _ := c.Machine("tidewatch-forecast-1")
	if first.Hardware != "02:5e:00:00:00:01" || first.Zone != "south" {
		t.Errorf("the adopted machine is %+v", first)
	}
	if held.Set.Kubernetes != "v1.36.3" || held.Set.Containerd != "v2.3.6" || held.Image.System != "skerry 2026.09" {
		t.Errorf("the held-back machine runs %+v", held.Set)
	}
}

// Addresses: declared ones first, then what a machine has, then what is free
// and belongs to nobody else at the site.
func TestWhoGetsWhichAddress(t *testing.T) {
	text := "ranges: {machines: 127.80.4.0/24}\nsystem: {addresses: {tidewatch-gauges-1: 127.80.4.99}}\nendpoint: {virtual: {address: 127.80.4.10}}\npools: [{name: gauges, count: 2}]\n"
	c := declared(t, text, topology.Memory{
		Addresses: map[string]netip.Addr{"tidewatch-gauges-1": netip.MustParseAddr("127.80.4.50"), "tidewatch-gauges-2": netip.MustParseAddr("127.80.4.51")},
		Taken:     []netip.Addr{netip.MustParseAddr("127.80.4.11")},
	})
	got := ""
	for _, m := range c.Machines {
		got += m.Address.String() + " "
	}
	if want := "127.80.4.12 127.80.4.99 127.80.4.51 "; got != want {
		t.Errorf("addresses are %s, wanted %s", got, want)
	}
}

// Add-ons on versions of their own, by digest; settings as arguments.
func TestAddOns(t *testing.T) {
	c := declared(t, "addOns: {coredns: {version: v1.14.2, reason: tried}}\nnetwork: {settings: {verbosity: '2', mtu: '1450'}}\n", topology.Memory{})
	digest := versions.Shipped().Digest("coredns:v1.14.2")
	if got, want := c.ImageRef(c.Set.Images()[1]), "registry.estuary.test:5000/coredns:v1.14.2@"+digest; got != want {
		t.Errorf("image %s, wanted %s", got, want)
	}
	if got := fmt.Sprint(c.PluginArgs()); got != "[--mtu=1450 --verbosity=2]" {
		t.Errorf("arguments %s", got)
	}
}

// A machine that is not declared any more has the role and the pool that its name says, by
// the whole name of its group.
func TestByName(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 1, 1, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]struct {
		role versions.Role
		pool string
	}{
		"tidewatch-gauges-1": {versions.Worker, "gauges"}, "tidewatch-gauges-7": {versions.Worker, "gauges"}, "tidewatch-control-3": {versions.Control, ""},
		"tidewatch-control-rooms-2": {versions.Worker, "control-rooms"}, "tidewatch-datastore-1": {versions.Datastore, ""}, "tidewatch-balancer-9": {versions.Balancer, ""},
		"lampwright-gauges-1": {versions.Worker, ""}, "tidewatch": {versions.Worker, ""}, "": {versions.Worker, ""},
	} {
		if r, p := c.RoleOf(name), c.PoolOf(name); r != want.role || p != want.pool {
			t.Errorf("%q is a %s of pool %q", name, r, p)
		}
	}
}

// A machine stays where it is when zones are added or another pool comes before its own, and
// has to move only when its zone is not declared any more.
func TestZonesStay(t *testing.T) {
	is := map[string]string{"tidewatch-gauges-1": "north", "tidewatch-gauges-2": "south", "tidewatch-control-1": "island"}
	zonesOf := func(text string) string {
		out := ""
		for _, m := range declared(t, text, topology.Memory{Zones: is}).Machines {
			if m.Pool == "gauges" || m.Role == versions.Control {
				out += m.Name + " " + m.Zone + ", "
			}
		}
		return out
	}
	for text, want := range map[string]string{
		"pools: [{name: gauges, count: 2, zones: [north, south]}]":                           "tidewatch-control-1 island, tidewatch-gauges-1 north, tidewatch-gauges-2 south, ",
		"pools: [{name: forecast}, {name: gauges, count: 2, zones: [island, north, south]}]": "tidewatch-control-1 island, tidewatch-gauges-1 north, tidewatch-gauges-2 south, ",
		"pools: [{name: gauges, count: 3, zones: [south]}]":                                  "tidewatch-control-1 island, tidewatch-gauges-1 south, tidewatch-gauges-2 south, tidewatch-gauges-3 south, ",
		"control: {zones: [north]}\npools: [{name: gauges, count: 1, zones: [north]}]":       "tidewatch-control-1 north, tidewatch-gauges-1 north, ",
	} {
		if got := zonesOf(text); got != want {
			t.Errorf("%s: %s wanted %s", text, got, want)
		}
	}
}

// The only member of a restored datastore founds nothing: it had its data before it started, and
// is not restarted to be told otherwise.
func TestRestoredAlone(t *testing.T) {
	mem := topology.Memory{Members: map[string][]string{"tidewatch-control-1": {"tidewatch-control-1"}}}
	if m := declared(t, "", mem).Machines[0]; m.Founds {
		t.Errorf("%s founds", m.Name)
	}
	mem.Founders = []string{"tidewatch-control-1"}
	if m := declared(t, "", mem).Machines[0]; !m.Founds {
		t.Errorf("%s founded it, and that is forgotten", m.Name)
	}
}
