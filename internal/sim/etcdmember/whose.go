package etcdmember

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"github.com/vishvananda/netlink"
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
	// As a rule it is one of those that were there the last time: looking at every process of
	// this computer costs much more than looking at two.
	for _, look := range []func() map[string]netip.Addr{known.were, known.are} {
		for proc, at := range look() {
			if has(proc, inode) {
				return at
			}
		}
	}
	return netip.Addr{}
}

// has says whether a process has a socket open.
func has(proc, inode string) bool {
	fds, err := os.ReadDir(filepath.Join(proc, "fd"))
	if err != nil {
		return false
	}
	for _, fd := range fds {
		if is, err := os.Readlink(filepath.Join(proc, "fd", fd.Name())); err == nil && is == "socket:["+inode+"]" {
			return true
		}
	}
	return false
}

// processes are the members' processes on this computer: the folder in which the kernel tells of
// each, and the address of its machine.
type processes struct {
	mu   sync.Mutex
	last map[string]netip.Addr
}

var known processes

// were are those that were there the last time and still are.
func (p *processes) were() map[string]netip.Addr {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := map[string]netip.Addr{}
	for proc, at := range p.last {
		// Its number may have gone to another one meanwhile.
		if now := machineOf(proc); now == at {
			out[proc] = at
		}
	}
	return out
}

// are are those that there are now.
func (p *processes) are() map[string]netip.Addr {
	out := map[string]netip.Addr{}
	procs, _ := filepath.Glob("/proc/[0-9]*")
	for _, proc := range procs {
		if at := machineOf(proc); at.IsValid() {
			out[proc] = at
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.last = out
	return maps.Clone(out)
}

// machineOf is the address of the machine whose member a process is; the zero address where it is
// none.
func machineOf(proc string) netip.Addr {
	b, err := os.ReadFile(filepath.Join(proc, "cmdline"))
	if err != nil || !strings.Contains(string(b), marked) {
		return netip.Addr{}
	}
	args := strings.Split(strings.TrimSuffix(string(b), "\x00"), "\x00")
	at, err := netip.ParseAddr(strings.TrimPrefix(args[len(args)-1], marked))
	if err != nil {
		return netip.Addr{}
	}
	return at
}

// marked precedes the machine's address, the last word of a member's command line.
const marked = "--address="

// socket is the kernel's number of the end of a connection that is at from; empty when it is not
// on this computer. The kernel is asked for the one (sock_diag(7)), or, where it does not answer
// such questions, for all there are.
func socket(from, to netip.AddrPort) string {
	s, err := netlink.SocketGet(net.TCPAddrFromAddrPort(from), net.TCPAddrFromAddrPort(to))
	// It goes by ports alone, which two connections between other addresses may have as well.
	if err != nil || !s.ID.Source.Equal(from.Addr().AsSlice()) || !s.ID.Destination.Equal(to.Addr().AsSlice()) {
		return listed(from, to)
	}
	if s.INode == 0 {
		return ""
	}
	return strconv.FormatUint(uint64(s.INode), 10)
}

// listed is socket by the kernel's list of all connections (proc_pid_net(5)).
func listed(from, to netip.AddrPort) string {
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
