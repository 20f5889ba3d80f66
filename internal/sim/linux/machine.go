package linux

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"verbund/internal/sim/host"
)

// Arg is the argument that makes the program a machine's first process, until systemd is.
const Arg = "linux-machine"

// self is the program's own image.
const self = "/proc/self/exe"

// sshPort is where machines of this kind are logged in to.
const sshPort = 22

// bootPatience is how long a machine may take until one can log in.
const bootPatience = 90 * time.Second

// offPatience is how long units may take to stop before the power goes.
const offPatience = 90 * time.Second

// life is what a machine is told of itself when it gets power.
type life struct {
	Spec    host.Spec
	Network Network
	Base    string // root file system of its image
	Console string // terminal that is its console
	Disk    string // block device, or file with a file system
}

// Machine is one that is on.
type Machine struct {
	Spec  host.Spec
	first *os.Process // its first process, as this computer sees it
	group group
	done  chan struct{} // closed when nothing of it runs any more
	asked bool          // to go off
	mu    sync.Mutex
}

// Boot gives a machine power and returns when one can log in. onReboot is called when it
// restarts itself.
func Boot(ctx context.Context, s host.Spec, onReboot func()) (*Machine, error) {
	folder := filepath.Dir(filepath.Dir(s.Root)) // of the site: disks lie in one of it
	if err := errors.Join(os.MkdirAll(filepath.Join(s.Root, "var/log"), 0o755), os.MkdirAll(filepath.Join(s.Root, "disk"), 0o755)); err != nil {
		return nil, fmt.Errorf("folder of %s: %w", s.Name, err)
	}
	console, err := os.OpenFile(consoleOf(s), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, err
	}
	// Both ends that are not the machine's own are closed when it has ended.
	closeConsole := func() { console.Close() }
	disk, err := makeDisk(ctx, s)
	if err != nil {
		closeConsole()
		return nil, err
	}
	master, slave, err := terminal()
	if err != nil {
		closeConsole()
		return nil, fmt.Errorf("console of %s: %w", s.Name, err)
	}
	g, err := openGroup(groupOf(folder, s.Name))
	if err != nil {
		closeConsole()
		master.Close()
		slave.Close()
		return nil, err
	}
	m := &Machine{Spec: s, group: g, done: make(chan struct{})}
	net := NetworkOf(folder, s.Block)
	err = m.start(net, life{s, net, s.Base, slave.Name(), disk}, console)
	if err != nil {
		closeConsole()
		master.Close()
		slave.Close()
		return nil, errors.Join(err, g.leave())
	}
	var copied sync.WaitGroup
	copied.Go(func() { stamp(console, master) })
	go func() {
		defer close(m.done)
		st, err := m.first.Wait()
		slave.Close() // what the machine wrote is read to its end
		copied.Wait()
		master.Close()
		again := err == nil && st.Sys().(syscall.WaitStatus).Signal() == syscall.SIGHUP
		if lerr := g.leave(); lerr != nil {
			fmt.Fprintf(console, "%s %v\n", time.Now().UTC().Format(stampForm), lerr)
		}
		fmt.Fprintf(console, "%s %s is off\n", time.Now().UTC().Format(stampForm), s.Name)
		closeConsole()
		m.mu.Lock()
		again = again && !m.asked
		m.mu.Unlock()
		// A first process that ends by this signal had asked the kernel to restart (reboot(2)).
		if again {
			go onReboot()
		}
	}()
	if err := m.reachable(ctx); err != nil {
		m.Off(true)
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(s.HostKey)
	if err != nil {
		m.Off(true)
		return nil, fmt.Errorf("host key of %s: %w", s.Name, err)
	}
	note(s, "SSH on %s:%d, host key %s", s.Address, sshPort, ssh.FingerprintSHA256(signer.PublicKey()))
	return m, nil
}

func consoleOf(s host.Spec) string { return filepath.Join(s.Root, "var/log/console") }

const stampForm = "2006-01-02T15:04:05.000Z07:00"

// note writes a line of the site's own to a machine's console.
func note(s host.Spec, format string, args ...any) {
	f, err := os.OpenFile(consoleOf(s), os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return
	}
	defer f.Close()
	fmt.Fprintf(f, "%s %s\n", time.Now().UTC().Format(stampForm), fmt.Sprintf(format, args...))
}

// stamp copies lines with the time at which they came, without what moves cursors.
func stamp(w io.Writer, r io.Reader) {
	for sc := bufio.NewScanner(r); sc.Scan(); {
		if l := strings.TrimSpace(plain(sc.Text())); l != "" {
			fmt.Fprintf(w, "%s %s\n", time.Now().UTC().Format(stampForm), l)
		}
	}
}

// plain is a line without control sequences (ECMA-48).
func plain(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == 0x1b && i+1 < len(s) && s[i+1] == '[' {
			for i += 2; i < len(s) && (s[i] < 0x40 || s[i] > 0x7e); i++ {
			}
			continue
		}
		if s[i] >= ' ' || s[i] == '\t' {
			b.WriteByte(s[i])
		}
	}
	return b.String()
}

// makeDisk makes a machine's disk: a file of its size, of which this computer holds only what
// was written, with a file system.
func makeDisk(ctx context.Context, s host.Spec) (string, error) {
	f := filepath.Join(s.Root, "disk.img")
	if _, err := os.Stat(f); err == nil {
		return f, nil
	}
	tmp := f + ".new"
	if err := os.WriteFile(tmp, nil, 0o600); err != nil {
		return "", err
	}
	if err := os.Truncate(tmp, s.Disk); err != nil {
		return "", fmt.Errorf("disk of %s: %w", s.Name, err)
	}
	out, err := exec.CommandContext(ctx, "mkfs.ext4", "-q", "-F", "-E", "lazy_itable_init=1,lazy_journal_init=1,nodiscard", tmp).CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("disk of %s: mkfs.ext4: %w: %s", s.Name, err, bytes.TrimSpace(out))
	}
	return f, os.Rename(tmp, f)
}

// terminal makes a terminal: the side of who watches, and the machine's, which is held open:
// while nobody has it open, who watches is told that it has ended.
func terminal() (master, slave *os.File, err error) {
	master, err = os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		return nil, nil, err
	}
	n, err := unix.IoctlGetInt(int(master.Fd()), unix.TIOCGPTN)
	if err == nil {
		err = unix.IoctlSetPointerInt(int(master.Fd()), unix.TIOCSPTLCK, 0)
	}
	if err != nil {
		master.Close()
		return nil, nil, err
	}
	if slave, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0); err != nil {
		master.Close()
		return nil, nil, err
	}
	return master, slave, nil
}

// starter starts processes from one thread that never ends: a machine is to die with the
// process that holds its zone, and the kernel takes the end of the thread for that.
var starter = sync.OnceValue(func() chan<- func() {
	c := make(chan func())
	go func() {
		runtime.LockOSThread()
		for f := range c {
			f()
		}
	}()
	return c
})

// start starts the machine's first process in namespaces of its own, and hands it its life
// when its network and its cgroup are there.
func (m *Machine) start(n Network, l life, console *os.File) error {
	cmd := exec.Command(self, Arg)
	cmd.Dir = "/"
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin"}
	cmd.Stdout, cmd.Stderr = console, console
	cmd.SysProcAttr = &syscall.SysProcAttr{
		Setsid: true, Pdeathsig: syscall.SIGKILL,
		Cloneflags: syscall.CLONE_NEWNS | syscall.CLONE_NEWPID | syscall.CLONE_NEWUTS | syscall.CLONE_NEWIPC | syscall.CLONE_NEWNET,
	}
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	started := make(chan error, 1)
	starter() <- func() { started <- cmd.Start() }
	if err := <-started; err != nil {
		return fmt.Errorf("starting %s in namespaces of its own: %w", m.Spec.Name, err)
	}
	m.first = cmd.Process
	hw, err := net.ParseMAC(m.Spec.Hardware)
	if err == nil {
		err = m.group.take(cmd.Process.Pid, m.Spec.CPUs, m.Spec.Memory)
	}
	if err == nil {
		err = n.Plug(cmd.Process.Pid, m.Spec.Address, hw)
	}
	if err == nil {
		err = json.NewEncoder(in).Encode(l)
	}
	if err = errors.Join(err, in.Close()); err != nil {
		cmd.Process.Kill()
		cmd.Process.Wait()
	}
	return err
}

// reachable waits until the machine's SSH server says its name (RFC 4253, 4.2).
func (m *Machine) reachable(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, bootPatience)
	defer cancel()
	at := netip.AddrPortFrom(m.Spec.Address, sshPort).String()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		d := net.Dialer{Timeout: time.Second}
		if c, err := d.DialContext(ctx, "tcp", at); err == nil {
			c.SetDeadline(time.Now().Add(2 * time.Second))
			head := make([]byte, 4)
			_, err := io.ReadFull(c, head)
			c.Close()
			if err == nil && string(head) == "SSH-" {
				return nil
			}
		}
		select {
		case <-tick.C:
		case <-m.done:
			return fmt.Errorf("it went off while it booted: %s", lastOf(m.Spec))
		case <-ctx.Done():
			return fmt.Errorf("nobody can log in to it %s after it was switched on: %s", bootPatience, lastOf(m.Spec))
		}
	}
}

// lastOf is what a console shows last.
func lastOf(s host.Spec) string {
	b, err := os.ReadFile(consoleOf(s))
	if err != nil {
		return "its console cannot be read"
	}
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return strings.Join(lines[max(0, len(lines)-3):], " | ")
}

// Off takes the power away: at once, or after its units were stopped.
func (m *Machine) Off(pulled bool) {
	m.mu.Lock()
	m.asked = true
	m.mu.Unlock()
	if !pulled {
		m.first.Signal(powerOff)
		t := time.NewTimer(offPatience)
		defer t.Stop()
		select {
		case <-m.done:
			return
		case <-t.C:
			note(m.Spec, "its units did not stop within %s; its power is cut", offPatience)
		}
	}
	m.first.Kill()
	<-m.done
}

// powerOff has systemd stop everything and power off (systemd(1), SIGRTMIN+4). The C library
// keeps the first two of the kernel's real-time signals, which begin with 32, for itself.
const powerOff = syscall.Signal(32 + 2 + 4)

// Port is where one logs in.
func (m *Machine) Port() int { return sshPort }

// Is says what the site knows of it.
func (m *Machine) Is() host.Spec { return m.Spec }

// Suffer does nothing: what can go wrong with a machine of this kind is done to its power,
// its address and its keys, which are the site's.
func (m *Machine) Suffer(host.Faults) {}
