package daemon

import (
	"context"
	"net"
	"net/netip"
	"strings"
	"testing"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/site/protocol"
)

// Machines of a list are somebody's or nobody's; whether one answers is all that is known of
// their power, which nobody here can switch.
func TestMachinesOfAList(t *testing.T) {
	folder, b := t.TempDir(), block()
	at := func(n int) netip.Addr { return topology.SiteAddress(b, n) }
	l, err := net.Listen("tcp", netip.AddrPortFrom(at(21), 0).String())
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	answers := int(l.Addr().(*net.TCPAddr).Port)
	list := []declare.Listed{{Address: at(21), Port: answers, Zone: "north", Size: "small"}, {Address: at(22), Port: answers, Zone: "north", Size: "small"}}
	file := &declare.Site{Name: "estuary", Kind: declare.ListedSite, Addresses: b, Registry: at(2), Machines: list, Zones: []declare.Zone{{Name: "north", Machines: 2}}, Sizes: map[string]declare.Size{"small": {CPUs: 2, Memory: 4 << 30, Disk: 20 << 30}}}
	c, stop := startFile(t, folder, file)
	ctx := context.Background()
	order := protocol.Order{Cluster: "tidewatch", Zone: "north", Size: "small", Image: protocol.Image{System: "debian 12", Architecture: "amd64"}, Address: at(21), Login: login(t)}
	m, err := c.Order(ctx, "one", order)
	if err != nil || !m.Adopted || m.Hardware != "" || m.SSHPort != answers || m.Fingerprint != "" {
		t.Fatalf("%+v, %v", m, err)
	}
	other := order
	other.Address = at(23)
	if _, err := c.Order(ctx, "two", other); err == nil || !strings.Contains(err.Error(), "has no machine "+at(23).String()) {
		t.Errorf("one that is not listed: %v", err)
	}
	other.Address, other.Cluster = at(21), "lampwright"
	if _, err := c.Order(ctx, "two", other); err == nil || !strings.Contains(err.Error(), "is leased to one") {
		t.Errorf("one that is somebody's: %v", err)
	}
	other = order
	other.Address = at(22)
	if _, err := c.Order(ctx, "two", other); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"one": protocol.PowerOn, "two": protocol.PowerSilent} {
		if m := power(t, c, name, want); (m.Trouble != "") != (want == protocol.PowerSilent) {
			t.Errorf("%+v", m)
		}
	}
	for what, err := range map[string]error{"power": c.Power(ctx, "one", "cut"), "fault": c.Fault(ctx, protocol.LostMachine, "one"), "console": func() error { _, err := c.Console(ctx, "one"); return err }()} {
		if err == nil || !strings.Contains(err.Error(), "list") {
			t.Errorf("%s: %v", what, err)
		}
	}
	if err := c.Release(ctx, "two"); err != nil {
		t.Fatal(err)
	}
	stop()
	// Whose they are outlives the site's process.
	c, stop = startFile(t, folder, file)
	defer stop()
	if inv, err := c.Inventory(ctx); err != nil || len(inv.Machines) != 1 || inv.Machines[0].Name != "one" || inv.Machines[0].Power != protocol.PowerOn {
		t.Errorf("%+v, %v", inv, err)
	}
}
