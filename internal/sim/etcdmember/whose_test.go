package etcdmember

import (
	"bufio"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"testing"
)

// A member's process is told by its end of a connection, and nobody else is taken for one.
func TestWhose(t *testing.T) {
	if to := os.Getenv("VERBUND_TEST_CONNECTS"); to != "" {
		c, err := net.Dial("tcp", to)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Println("connected")
		c.Read(make([]byte, 1)) // until the other one hangs up
		return
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	at := l.Addr().(*net.TCPAddr).AddrPort()
	own, err := net.Dial("tcp", at.String())
	if err != nil {
		t.Fatal(err)
	}
	defer own.Close()
	if m := whose(own.LocalAddr().(*net.TCPAddr).AddrPort(), at); m.IsValid() {
		t.Errorf("the test is taken for %s", m)
	}
	if s := socket(own.LocalAddr().(*net.TCPAddr).AddrPort(), at); s == "" || s != listed(own.LocalAddr().(*net.TCPAddr).AddrPort(), at) {
		t.Errorf("a connection that stands has number %q, and in the kernel's list %q", s, listed(own.LocalAddr().(*net.TCPAddr).AddrPort(), at))
	}
	if _, err := l.Accept(); err != nil {
		t.Fatal(err)
	}
	const machine = "127.91.7.7"
	c := exec.Command(os.Args[0], "-test.run=TestWhose", "--", marked+machine)
	c.Env = append(os.Environ(), "VERBUND_TEST_CONNECTS="+at.String())
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	defer c.Wait()
	in, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer in.Close()
	bufio.NewReader(out).ReadString('\n')
	if m := whose(in.RemoteAddr().(*net.TCPAddr).AddrPort(), at); m != netip.MustParseAddr(machine) {
		t.Errorf("the connection is taken for one of %s", m)
	}
	// It is known from then on, unless its number is another process's by now.
	if were := slices.Collect(maps.Values(known.were())); !slices.Contains(were, netip.MustParseAddr(machine)) {
		t.Errorf("known are %v", were)
	}
	known.last = map[string]netip.Addr{"/proc/self": netip.MustParseAddr(machine)}
	if m := whose(own.LocalAddr().(*net.TCPAddr).AddrPort(), at); m.IsValid() {
		t.Errorf("the test is taken for %s, whose number it has", m)
	}
}
