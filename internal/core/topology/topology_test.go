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
