package linux

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"

	"verbund/internal/core/topology"
	"verbund/internal/unit"
)

// The site's own addresses in its block, beside those that every site has.
const (
	atSite     = 1 // on this computer
	atRegistry = 2 // on this computer
	atGateway  = 3 // on the bridge: where machines send what is for nobody here, which ends there
)

// Network is the network of one site.
type Network struct {
	Name  string // of its namespace
	Block netip.Prefix
}

// networkDir is where namespaces have their names, as ip-netns(8) has it.
const networkDir = "/run/netns"

// prefix begins the names of everything that a site of this kind has on this computer.
const prefix = "verbund-"

// NetworkOf is the network of a site in a folder: no two have the same name.
func NetworkOf(folder string, block netip.Prefix) Network {
	return Network{prefix + short(folder), block}
}

// short tells sites by eight hexadecimal digits: names of network cards have 15 characters
// at most.
func short(folder string) string {
	sum := sha256.Sum256([]byte(filepath.Clean(folder)))
	return fmt.Sprintf("%x", sum[:4])
}

// uplink is the name of the card by which this computer is on the site's network.
func (n Network) uplink() string { return "vb" + n.Name[len(prefix):] }

const bridge = "bridge"

// ErrBlockInUse says that this computer uses addresses of the block already.
var ErrBlockInUse = errors.New("address block in use")

// Open makes the network: a namespace with a bridge, and one card of this computer on it. What
// an earlier site of the same folder left there is taken away first.
func (n Network) Open() error {
	if err := n.Close(); err != nil {
		return err
	}
	if err := n.free(); err != nil {
		return err
	}
	// A namespace belongs to the thread that makes it, and this one is not used for
	// anything else afterwards.
	made := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		ns, err := netns.NewNamed(n.Name)
		if err == nil {
			err = ns.Close()
		}
		made <- err
	}()
	if err := <-made; err != nil {
		return fmt.Errorf("making the network %s: %w", n.Name, err)
	}
	return n.wire()
}

func (n Network) wire() error {
	here, err := netlink.NewHandle()
	if err != nil {
		return err
	}
	defer here.Close()
	ns, err := netns.GetFromName(n.Name)
	if err != nil {
		return err
	}
	defer ns.Close()
	there, err := netlink.NewHandleAt(ns)
	if err != nil {
		return err
	}
	defer there.Close()
	br := &netlink.Bridge{LinkAttrs: netlink.LinkAttrs{Name: bridge}}
	up := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: n.uplink()}, PeerName: "uplink", PeerNamespace: netlink.NsFd(int(ns))}
	return first(
		func() error { return there.LinkAdd(br) },
		func() error { return set(there, bridge, n.at(atGateway)) },
		func() error { return set(there, "lo", netip.Prefix{}) },
		func() error { return here.LinkAdd(up) },
		func() error { return enslave(there, "uplink") },
		func() error { return set(here, n.uplink(), n.at(atSite), n.at(atRegistry)) },
	)
}

// first does one thing after the other until one fails.
func first(do ...func() error) error {
	for _, d := range do {
		if err := d(); err != nil {
			return err
		}
	}
	return nil
}

// at is an address of the block with the block's length.
func (n Network) at(i int) netip.Prefix {
	return netip.PrefixFrom(topology.SiteAddress(n.Block, i), n.Block.Bits())
}

// set gives a card addresses and switches it on.
func set(h *netlink.Handle, card string, addrs ...netip.Prefix) error {
	l, err := h.LinkByName(card)
	if err != nil {
		return fmt.Errorf("network card %s: %w", card, err)
	}
	for _, a := range addrs {
		if !a.IsValid() {
			continue
		}
		ip := &net.IPNet{IP: a.Addr().AsSlice(), Mask: net.CIDRMask(a.Bits(), 32)}
		if err := h.AddrReplace(l, &netlink.Addr{IPNet: ip}); err != nil {
			return fmt.Errorf("address %s of network card %s: %w", a, card, err)
		}
	}
	return h.LinkSetUp(l)
}

// enslave puts a card on the bridge.
func enslave(h *netlink.Handle, card string) error {
	l, err := h.LinkByName(card)
	if err != nil {
		return err
	}
	br, err := h.LinkByName(bridge)
	if err != nil {
		return err
	}
	if err := h.LinkSetMaster(l, br); err != nil {
		return err
	}
	return h.LinkSetUp(l)
}

// free makes sure that nothing on this computer has addresses of the block, or a way there.
func (n Network) free() error {
	as, err := netlink.AddrList(nil, netlink.FAMILY_V4)
	if err != nil {
		return fmt.Errorf("asking for the addresses of this computer: %w", err)
	}
	for _, a := range as {
		p, ok := netip.AddrFromSlice(a.IP.To4())
		bits, _ := a.Mask.Size()
		if ok && netip.PrefixFrom(p, bits).Overlaps(n.Block) {
			return fmt.Errorf("%w: this computer has %s/%d itself, which overlaps %s", ErrBlockInUse, p, bits, n.Block)
		}
	}
	return nil
}

// Close takes the network away, if it is there. Machines that are still on it lose it.
func (n Network) Close() error {
	if l, err := netlink.LinkByName(n.uplink()); err == nil {
		if err := netlink.LinkDel(l); err != nil {
			return fmt.Errorf("taking network card %s away: %w", n.uplink(), err)
		}
	}
	if err := netns.DeleteNamed(n.Name); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("taking the network %s away: %w", n.Name, err)
	}
	return nil
}

// Plug puts a card named eth0 into the network namespace of a process, wired to the bridge.
func (n Network) Plug(pid int, a netip.Addr, hardware net.HardwareAddr) error {
	ns, err := netns.GetFromName(n.Name)
	if err != nil {
		return fmt.Errorf("the network %s: %w", n.Name, err)
	}
	defer ns.Close()
	h, err := netlink.NewHandleAt(ns)
	if err != nil {
		return err
	}
	defer h.Close()
	card := portOf(a)
	if l, err := h.LinkByName(card); err == nil { // of a life before that has not quite ended
		if err := h.LinkDel(l); err != nil {
			return err
		}
	}
	v := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: card}, PeerName: "eth0", PeerHardwareAddr: hardware, PeerNamespace: netlink.NsPid(pid)}
	if err := h.LinkAdd(v); err != nil {
		return fmt.Errorf("wiring %s: %w", a, err)
	}
	if err := enslave(h, card); err != nil {
		return err
	}
	br, err := h.LinkByName(bridge)
	if err != nil {
		return err
	}
	// Whoever knew another machine at this address would look for that one for a while. It is
	// said by the bridge, since a card that was just switched on does not carry anything yet.
	return within(ns, func() error { return unit.Announce(br.Attrs().Index, hardware, a) })
}

// within does something in a network namespace. Its thread is not used for anything else
// afterwards.
func within(ns netns.NsHandle, do func() error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		if err := netns.Set(ns); err != nil {
			done <- err
			return
		}
		done <- do()
	}()
	return <-done
}

// portOf is the bridge's port of a machine.
func portOf(a netip.Addr) string {
	b := a.As4()
	return fmt.Sprintf("p%02x%02x%02x%02x", b[0], b[1], b[2], b[3])
}

// dress gives the card of the machine in which this runs its address and its way out.
func (n Network) dress(a netip.Addr) error {
	h, err := netlink.NewHandle()
	if err != nil {
		return err
	}
	defer h.Close()
	if err := first(func() error { return set(h, "lo") }, func() error { return set(h, "eth0", netip.PrefixFrom(a, n.Block.Bits())) }); err != nil {
		return err
	}
	l, err := h.LinkByName("eth0")
	if err != nil {
		return err
	}
	gw := topology.SiteAddress(n.Block, atGateway)
	return h.RouteReplace(&netlink.Route{LinkIndex: l.Attrs().Index, Gw: gw.AsSlice()})
}
