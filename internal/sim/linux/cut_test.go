package linux

import (
	"net"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"

	"verbund/internal/core/topology"
)

// What is cut does not come through, in the direction in which it is cut, and everything does
// again afterwards; who is not cut notices nothing.
func TestSever(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make network namespaces")
	}
	n := NetworkOf(t.TempDir(), netip.MustParsePrefix("10.81.94.0/24"))
	if err := n.Open(); err != nil {
		t.Skipf("networks cannot be made here: %v", err)
	}
	t.Cleanup(func() {
		if err := n.Close(); err != nil {
			t.Error(err)
		}
	})
	var ends []end
	for i := range 3 {
		c := exec.Command("sleep", "120")
		c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Process.Kill(); c.Wait() })
		ns, err := netns.GetFromPid(c.Process.Pid)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { ns.Close() })
		a := topology.SiteAddress(n.Block, 21+i)
		if err := n.Plug(c.Process.Pid, a, net.HardwareAddr{2, 0, 0, 0, 1, byte(i)}); err != nil {
			t.Fatal(err)
		}
		h, err := netlink.NewHandleAt(ns)
		if err != nil {
			t.Fatal(err)
		}
		err = set(h, "eth0", netip.PrefixFrom(a, n.Block.Bits()))
		h.Close()
		if err != nil {
			t.Fatal(err)
		}
		ends = append(ends, end{a, ns})
	}
	want := func(what, expected string) {
		t.Helper()
		s := ""
		// A card that was just plugged in may not carry anything yet.
		for end := time.Now().Add(10 * time.Second); s != expected && time.Now().Before(end); {
			var got []string
			for i, from := range ends {
				for j, to := range ends {
					if i != j && from.send(t, to, 20) > 0 {
						got = append(got, string(rune('a'+i))+string(rune('a'+j)))
					}
				}
			}
			s = strings.Join(got, " ")
		}
		if s != expected {
			t.Errorf("%s: %s, wanted %s", what, s, expected)
		}
	}
	sever := func(cuts ...Cut) {
		t.Helper()
		if err := n.Sever(cuts); err != nil {
			t.Fatal(err)
		}
	}
	a, b := []netip.Addr{ends[0].at}, []netip.Addr{ends[1].at}
	want("whole", "ab ac ba bc ca cb") // and whoever is asked by ARP is known from now on
	sever(Cut{a, b, 100}, Cut{b, a, 100})
	want("cut", "ac bc ca cb")
	sever(Cut{a, b, 100})
	want("one way", "ac ba bc ca cb")
	sever(Cut{a, b, 50}, Cut{b, a, 50})
	want("lossy", "ab ac ba bc ca cb")
	if came := ends[0].send(t, ends[1], 100); came < 10 || came > 90 {
		t.Errorf("%d of 100 came on a way that loses half", came)
	}
	sever()
	want("mended", "ab ac ba bc ca cb")
}

// end is one machine's card.
type end struct {
	at netip.Addr
	ns netns.NsHandle
}

// send sends datagrams to another, and counts those that come.
func (e end) send(t *testing.T, to end, n int) (came int) {
	t.Helper()
	var in, out net.PacketConn
	err := first(
		func() error {
			return within(to.ns, func() (err error) { in, err = net.ListenPacket("udp4", to.at.String()+":7000"); return err })
		},
		func() error {
			return within(e.ns, func() (err error) { out, err = net.ListenPacket("udp4", e.at.String()+":0"); return err })
		})
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	defer out.Close()
	for range n {
		out.WriteTo([]byte("x"), &net.UDPAddr{IP: to.at.AsSlice(), Port: 7000})
	}
	b := make([]byte, 10)
	for came < n {
		in.SetReadDeadline(time.Now().Add(200 * time.Millisecond))
		if _, _, err := in.ReadFrom(b); err != nil {
			break
		}
		came++
	}
	return came
}
