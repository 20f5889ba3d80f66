package etcdmember

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
)

// whose says which machine a connection to a member comes from. The member's library connects
// from whatever loopback address the kernel chooses, and its processes are those of this
// computer: the kernel knows which of them has the other end. The zero address means that it is
// none of them, as with the tool.
func whose(from, to netip.AddrPort) netip.Addr {
	inode := socket(from, to)
	if inode == "" {
		return netip.Addr{}
	}
	lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, l := range lines {
		b, err := os.ReadFile(l)
		if err != nil || !strings.Contains(string(b), marked) {
			continue
		}
		args := strings.Split(strings.TrimSuffix(string(b), "\x00"), "\x00")
		at, err := netip.ParseAddr(strings.TrimPrefix(args[len(args)-1], marked))
		if err != nil {
			continue
		}
		fds, _ := filepath.Glob(filepath.Join(filepath.Dir(l), "fd", "*"))
		for _, fd := range fds {
			if is, err := os.Readlink(fd); err == nil && is == "socket:["+inode+"]" {
				return at
			}
		}
	}
	return netip.Addr{}
}

// marked precedes the machine's address, the last word of a member's command line.
const marked = "--address="

// socket is the kernel's number of the end of a connection that is at from (proc_pid_net(5));
// empty when it is not on this computer.
func socket(from, to netip.AddrPort) string {
	f, err := os.Open("/proc/net/tcp")
	if err != nil {
		return ""
	}
	defer f.Close()
	// Which local, and which remote address: the end looked for is the other one's.
	want := " " + inHex(from) + " " + inHex(to) + " "
	for s := bufio.NewScanner(f); s.Scan(); {
		if line := s.Text(); strings.Contains(line, want) {
			if w := strings.Fields(line); len(w) > 9 && w[9] != "0" {
				return w[9]
			}
		}
	}
	return ""
}

// inHex is an IPv4 address and port as the kernel's table has them: the four bytes of the address
// as a number of this computer, and the port.
func inHex(a netip.AddrPort) string {
	b := a.Addr().As4()
	return fmt.Sprintf("%08X:%04X", binary.NativeEndian.Uint32(b[:]), a.Port())
}
