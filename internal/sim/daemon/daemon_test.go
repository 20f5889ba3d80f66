package daemon

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/sim/host"
	"verbund/internal/sim/zone"
	sites "verbund/internal/site"
	"verbund/internal/site/protocol"
	"verbund/internal/site/simulated"
)

// The test's own program is the zones' process, too.
func TestMain(m *testing.M) {
	if len(os.Args) > 1 && os.Args[1] == "zone" {
		if err := zone.Run(context.Background(), os.Stdin, os.Stdout, func(ctx context.Context, s host.Spec, onReboot func()) (zone.Machine, error) {
			return host.Boot(ctx, s, nil, onReboot)
		}); err != nil {
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// start runs a site in a folder until stop.
func start(t *testing.T, folder string, block netip.Prefix) (c *simulated.Client, stop func()) {
	t.Helper()
	file := &declare.Site{Name: "estuary", Addresses: block, Pace: 1000, Zones: []declare.Zone{{Name: "north", Machines: 2}, {Name: "south", Machines: 1}}, Sizes: map[string]declare.Size{"small": {CPUs: 2, Memory: 4 << 30, Disk: 20 << 30}}}
	return startFile(t, folder, file)
}

// startFile runs a site of any shape.
func startFile(t *testing.T, folder string, file *declare.Site) (c *simulated.Client, stop func()) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(folder, CredentialFile), []byte("secret\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		ended <- Run(ctx, folder, file, t.TempDir(), []string{os.Args[0], "zone"}, func(string) { close(ready) })
	}()
	select {
	case <-ready:
	case err := <-ended:
		t.Fatal(err)
	}
	return simulated.NewClient(folder), func() {
		cancel()
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			t.Error("the site does not end")
		}
	}
}

func block() netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{127, 251, byte(os.Getpid()), 0}), 24)
}

func login(t *testing.T) string {
	t.Helper()
	_, k, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return string(ssh.MarshalAuthorizedKey(s.PublicKey()))
}

func power(t *testing.T, c *simulated.Client, name, want string) protocol.Machine {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for {
		inv, err := c.Inventory(ctx)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range inv.Machines {
			if m.Name == name && m.Power == want {
				return m
			}
		}
	}
}

// Machines are ordered once, live, lose and get power, outlive their site, and
// are given back without a trace.
func TestMachinesOfASite(t *testing.T) {
	folder, b := t.TempDir(), block()
	c, stop := start(t, folder, b)
	ctx := context.Background()
	at := func(n int) netip.Addr {
		a := b.Addr().As4()
		a[3] = byte(n)
		return netip.AddrFrom4(a)
	}
	order := protocol.Order{Cluster: "tidewatch", Zone: "north", Size: "small", Image: protocol.Image{System: "skerry 2026.11", Architecture: "amd64"}, Address: at(10), Login: login(t)}
	m, err := c.Order(ctx, "one", order)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := c.Order(ctx, "one", order); err != nil || again.Hardware != m.Hardware {
		t.Errorf("ordered again: %+v, %v", again, err)
	}
	for _, x := range []struct {
		name   string
		change func(*protocol.Order)
		want   string
	}{
		{"one", func(o *protocol.Order) { o.Cluster = "lampwright" }, "belongs to cluster tidewatch"},
		{"two", func(*protocol.Order) {}, "is leased to one"},
		{"two", func(o *protocol.Order) { o.Address = netip.MustParseAddr("127.1.1.1") }, "is not of this site"},
		{"two", func(o *protocol.Order) { o.Zone = "west" }, "there is no zone west"},
		{"two", func(o *protocol.Order) { o.Size = "huge" }, "there is no size huge"},
	} {
		o := order
		x.change(&o)
		var r *sites.Refused
		if _, err := c.Order(ctx, x.name, o); !errors.As(err, &r) || !strings.Contains(r.What, x.want) || r.Todo == "" {
			t.Errorf("%v, wanted %q", err, x.want)
		}
	}
	second := order
	second.Address = at(11)
	if _, err := c.Order(ctx, "two", second); err != nil {
		t.Error(err)
	}
	o := order
	o.Address = at(12)
	if _, err := c.Order(ctx, "three", o); err == nil || !strings.Contains(err.Error(), "zone north is full") {
		t.Errorf("a third machine: %v", err)
	}

	if err := c.Power(ctx, "one", "on"); err != nil {
		t.Fatal(err)
	}
	on := power(t, c, "one", protocol.PowerOn)
	con, err := c.Console(ctx, "one")
	if err != nil || on.SSHPort == 0 || !strings.Contains(con, on.Fingerprint) {
		t.Errorf("port %d, fingerprint %s, console %q, %v", on.SSHPort, on.Fingerprint, con, err)
	}
	// Losing the zone is losing its machines' power.
	if err := c.Fault(ctx, "lost-zone", "north"); err != nil {
		t.Fatal(err)
	}
	if m := power(t, c, "one", protocol.PowerCrashed); m.Trouble != "its zone was lost" {
		t.Errorf("after losing the zone: %+v", m)
	}
	if err := c.Power(ctx, "one", "on"); err != nil {
		t.Fatal(err)
	}
	power(t, c, "one", protocol.PowerOn)
	if err := c.Fault(ctx, "new-host-key", "one"); err != nil {
		t.Fatal(err)
	}
	if m := power(t, c, "one", protocol.PowerOn); m.Fingerprint == on.Fingerprint {
		t.Error("the host key is the old one")
	}
	for _, f := range [][2]string{{"earthquake", "one"}, {"full-disk", "nobody"}, {"lost-machine", "nobody"}, {"lost-zone", "south"}} {
		if err := c.Fault(ctx, f[0], f[1]); err == nil {
			t.Errorf("%+v was taken", f)
		}
	}

	// The site ends and comes again: what had power gets it back.
	stop()
	if _, err := c.Inventory(ctx); !errors.Is(err, sites.ErrNotRunning) {
		t.Errorf("a site that ended answers: %v", err)
	}
	c, stop = start(t, folder, b)
	defer stop()
	if m := power(t, c, "one", protocol.PowerOn); m.Hardware != on.Hardware {
		t.Errorf("it came back as %+v", m)
	}
	power(t, c, "two", protocol.PowerOff)
	for range 2 {
		if err := c.Release(ctx, "one"); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := os.Stat(filepath.Join(folder, "disks", "one")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("its disk is still there: %v", err)
	}
	renewed, err := c.Order(ctx, "one", order)
	if err != nil || renewed.Hardware == m.Hardware {
		t.Errorf("a new machine under an old name is %+v, %v", renewed, err)
	}

	// Nobody else may ask, and nobody else may have the block.
	if i, err := os.Stat(filepath.Join(folder, SocketFile)); err != nil || i.Mode().Perm()&0o077 != 0 {
		t.Errorf("socket: %v %v", i.Mode(), err)
	}
	if err := os.WriteFile(filepath.Join(folder, CredentialFile), []byte("guess\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var r *sites.Refused
	if _, err := c.Inventory(ctx); !errors.As(err, &r) || r.Status != http.StatusUnauthorized {
		t.Errorf("with a wrong credential: %v", err)
	}
	other := &declare.Site{Name: "lagoon", Addresses: b, Pace: 1, Zones: []declare.Zone{{Name: "z", Machines: 1}}}
	if err := Run(ctx, t.TempDir(), other, t.TempDir(), nil, func(string) {}); !errors.Is(err, ErrBlockTaken) || !strings.Contains(fmt.Sprint(err), b.String()) {
		t.Errorf("a second site on the block: %v", err)
	}
}

// Images are composed once; bare machines are adopted as they are and keep
// their disk; a new lease is another address of the block.
func TestImagesAdoptionAndLeases(t *testing.T) {
	folder, b := t.TempDir(), block()
	file := &declare.Site{Name: "estuary", Addresses: b, Pace: 1000, Zones: []declare.Zone{{Name: "north", Machines: 9}}, Sizes: map[string]declare.Size{"small": {CPUs: 2, Memory: 4 << 30, Disk: 20 << 30}},
		Bare: []declare.Bare{{Hardware: "02:5e:00:00:00:01", Zone: "north", Size: "small"}, {Hardware: "02:5e:00:00:00:02", Zone: "north", Size: "small"}}}
	c, stop := startFile(t, folder, file)
	defer stop()
	ctx := context.Background()
	at := func(n int) netip.Addr {
		a := b.Addr().As4()
		a[3] = byte(n)
		return netip.AddrFrom4(a)
	}
	lean := protocol.Image{System: "skerry 2026.11", Architecture: "amd64", Extras: []string{"tcpdump"}}
	order := func(name string, n int, change func(*protocol.Order)) (*protocol.Machine, error) {
		o := protocol.Order{Cluster: "tidewatch", Zone: "north", Size: "small", Image: lean, Address: at(n), Login: login(t)}
		if change != nil {
			change(&o)
		}
		return c.Order(ctx, name, o)
	}
	one, err := order("one", 20, nil)
	if err != nil {
		t.Fatal(err)
	}
	two, err := order("two", 21, nil)
	if err != nil || two.Image != one.Image || !strings.HasPrefix(one.Image, "sha256:") {
		t.Errorf("images %s and %s, %v", one.Image, two.Image, err)
	}
	three, err := order("three", 22, func(o *protocol.Order) { o.Image.Extras = nil })
	if err != nil || three.Image == one.Image {
		t.Errorf("another image has the digest %s, %v", three.Image, err)
	}
	if _, err := order("four", 23, func(o *protocol.Order) { o.Image.System = "" }); err == nil || !strings.Contains(err.Error(), "cannot be composed") {
		t.Errorf("an image without a system: %v", err)
	}

	adopt := func(hardware string) func(*protocol.Order) {
		return func(o *protocol.Order) { o.Hardware = hardware }
	}
	disk := filepath.Join(folder, "disks", "bare-025e00000001")
	if err := os.MkdirAll(disk, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(disk, "kept"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	m, err := order("adopted", 30, adopt("02:5e:00:00:00:01"))
	if err != nil || m.Hardware != "02:5e:00:00:00:01" || !m.Adopted {
		t.Fatalf("adopted: %+v, %v", m, err)
	}
	for what, x := range map[string]struct {
		hardware, want string
		change         func(*protocol.Order)
	}{
		"unknown":       {"02:5e:00:00:00:09", "has no bare machine", nil},
		"taken":         {"02:5e:00:00:00:01", "belongs to cluster tidewatch as adopted", nil},
		"another shape": {"02:5e:00:00:00:02", "there is no size", func(o *protocol.Order) { o.Size = "large" }},
	} {
		_, err := order(what, 31, func(o *protocol.Order) {
			o.Hardware = x.hardware
			if x.change != nil {
				x.change(o)
			}
		})
		if err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v, wanted %q", what, err, x.want)
		}
	}
	inv, err := c.Inventory(ctx)
	if err != nil || len(inv.Bare) != 1 || inv.Bare[0].Hardware != "02:5e:00:00:00:02" || len(inv.Images) != 2 {
		t.Errorf("bare %+v, images %+v, %v", inv.Bare, inv.Images, err)
	}
	if err := c.Release(ctx, "adopted"); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(filepath.Join(disk, "kept")); err != nil {
		t.Errorf("a bare machine lost its disk: %v", err)
	}

	if err := c.Power(ctx, "one", "on"); err != nil {
		t.Fatal(err)
	}
	before := power(t, c, "one", protocol.PowerOn)
	if err := c.Fault(ctx, "new-lease", "one"); err != nil {
		t.Fatal(err)
	}
	after := power(t, c, "one", protocol.PowerOn)
	if after.Address == before.Address || !b.Contains(after.Address) || after.Fingerprint != before.Fingerprint || after.Hardware != before.Hardware {
		t.Errorf("before %+v, after %+v", before, after)
	}
}

// A site is taken down only when nobody has a machine there, and gives nobody one after
// it has said so; whoever starts it meanwhile gets a new one.
func TestLeave(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "site")
	if err := os.Mkdir(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	c, stop := start(t, folder, block())
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	order := protocol.Order{Cluster: "lampwright", Zone: "north", Size: "small", Image: protocol.Image{System: "s", Architecture: "amd64"}, Address: topology.SiteAddress(block(), 20), Login: login(t)}
	if _, err := c.Order(ctx, "one", order); err != nil {
		t.Fatal(err)
	}
	if gone, err := c.Leave(ctx); gone || err != nil {
		t.Errorf("with a machine of another cluster: gone %v, %v", gone, err)
	}
	if _, err := c.Inventory(ctx); err != nil {
		t.Errorf("it does not answer any more: %v", err)
	}
	if err := c.Release(ctx, "one"); err != nil {
		t.Fatal(err)
	}
	// This site lives in the test's own process, which does not end: what is asked is
	// the site alone.
	s := emptySite(t.TempDir())
	if err := s.leave(); err != nil {
		t.Fatal(err)
	}
	if _, err := s.make("two", order, "x"); err == nil || !strings.Contains(err.Error(), "is being taken down") {
		t.Errorf("ordered from a site that is on its way out: %v", err)
	}
}
