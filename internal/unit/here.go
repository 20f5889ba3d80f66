package unit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/daemon"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"verbund/internal/whole"
)

// Here is this computer as a machine of a cluster, under systemd.
type Here struct{}

var _ Machine = Here{}

// ReadFile reads a file.
func (Here) ReadFile(p string) ([]byte, error) { return os.ReadFile(p) }

// Write writes a file.
func (Here) Write(p string, r io.Reader, size int64) error {
	if err := os.MkdirAll(filepath.Dir(p), 0o700); err != nil {
		return err
	}
	part := p + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(part)
	n, err := io.Copy(f, r)
	if err == nil && n != size {
		err = fmt.Errorf("writing %s: %d bytes came of %d", p, n, size)
	}
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return whole.Replace(part, p)
}

// Remove takes a file away.
func (Here) Remove(p string) error { return os.Remove(p) }

// Path is the path itself.
func (Here) Path(p string) string { return p }

// Dial connects.
func (Here) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	d := net.Dialer{Timeout: 5 * time.Second}
	return d.DialContext(ctx, network, addr)
}

// Listen opens a port.
func (Here) Listen(addr string) (net.Listener, error) { return net.Listen("tcp", addr) }

// Logf writes to the journal, by way of standard error.
func (Here) Logf(format string, args ...any) { fmt.Fprintf(os.Stderr, format+"\n", args...) }

// Ready tells systemd, if it waits for that.
func (Here) Ready() { daemon.SdNotify(false, daemon.SdNotifyReady) }

// An address that is carried goes by itself this long after its program has died, and is
// given anew well before.
const (
	carriedFor = 6 * time.Second
	carryAgain = carriedFor / 3
)

// Carry adds the address to the card that is on its network, and tells the neighbours (RFC
// 5227, 3). The kernel takes it away by itself when nobody gives it anew: of a program that
// was killed nothing is left.
func (Here) Carry(ctx context.Context, a netip.Addr) (func(), error) {
	card, err := cardOf(a)
	if err != nil {
		return nil, err
	}
	ip := &net.IPNet{IP: a.AsSlice(), Mask: net.CIDRMask(a.BitLen(), a.BitLen())}
	give := func() error {
		s := int(carriedFor / time.Second)
		if err := netlink.AddrReplace(card, &netlink.Addr{IPNet: ip, ValidLft: s, PreferedLft: s}); err != nil {
			return fmt.Errorf("giving %s to network card %s: %w", a, card.Attrs().Name, err)
		}
		return nil
	}
	if err := give(); err != nil {
		return nil, err
	}
	if err := Announce(card.Attrs().Index, card.Attrs().HardwareAddr, a); err != nil {
		return nil, errors.Join(err, netlink.AddrDel(card, &netlink.Addr{IPNet: ip}))
	}
	ctx, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		t := time.NewTicker(carryAgain)
		defer t.Stop()
		for {
			select {
			case <-t.C:
				if err := give(); err != nil {
					fmt.Fprintln(os.Stderr, err)
				}
			case <-ctx.Done():
				return
			}
		}
	}()
	return func() {
		stop()
		<-done
		netlink.AddrDel(card, &netlink.Addr{IPNet: ip})
	}, nil
}

// cardOf is the network card with an address in whose network another one lies.
func cardOf(a netip.Addr) (netlink.Link, error) {
	ls, err := netlink.LinkList()
	if err != nil {
		return nil, err
	}
	for _, l := range ls {
		as, err := netlink.AddrList(l, netlink.FAMILY_V4)
		if err != nil {
			return nil, err
		}
		for _, x := range as {
			if ones, _ := x.Mask.Size(); ones < 32 && x.Contains(a.AsSlice()) {
				return l, nil
			}
		}
	}
	return nil, fmt.Errorf("no network card of this machine is on the network of %s", a)
}

// Announce says to everybody on a card's network which hardware has an address now, so that
// nobody looks for another machine there any more.
func Announce(card int, hardware net.HardwareAddr, a netip.Addr) error {
	s, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM, 0)
	if err != nil {
		return fmt.Errorf("announcing %s: %w", a, err)
	}
	defer unix.Close(s)
	const arp = 0x0806 // EtherType
	ip := a.As4()
	// RFC 826: Ethernet, IPv4, request; who asks and who is asked are the same.
	p := append([]byte{0, 1, 8, 0, 6, 4, 0, 1}, hardware...)
	p = append(p, ip[:]...)
	p = append(p, make([]byte, 6)...)
	p = append(p, ip[:]...)
	to := &unix.SockaddrLinklayer{Protocol: arp>>8 | arp&0xff<<8, Ifindex: card, Halen: 6, Addr: [8]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}}
	for range 2 { // one may be lost
		if err := unix.Sendto(s, p, 0, to); err != nil {
			return fmt.Errorf("announcing %s: %w", a, err)
		}
	}
	return nil
}

// Main runs one of the programs, if this process was started under its name.
func Main(name string, args []string, programs map[string]Program) (handled bool, err error) {
	p := programs[filepath.Base(name)]
	if p == nil {
		return false, nil
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, os.Interrupt)
	defer stop()
	return true, p(ctx, Here{}, args)
}
