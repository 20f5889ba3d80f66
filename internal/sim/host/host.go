package host

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Spec is what the site knows of a machine; it does not change while it lives.
type Spec struct {
	Name     string     `json:"name"`
	Hardware string     `json:"hardware"` // hardware address
	Address  netip.Addr `json:"address"`
	Zone     string     `json:"zone"`
	Image    string     `json:"image"` // operating system
	CPUs     int        `json:"cpus"`
	Memory   int64      `json:"memory"` // bytes
	Disk     int64      `json:"disk"`   // bytes
	Root     string     `json:"root"`   // folder of the disk
	Login    string     `json:"login"`  // authorized_keys line
	HostKey  []byte     `json:"hostKey"`
	Registry netip.Addr `json:"registry"` // what registry.SITE.test resolves to before /etc/hosts is written
	Pace     int        `json:"pace"`
	Seed     uint64     `json:"seed"` // of what is random on the machine
	Faults   Faults     `json:"faults"`

	// Of machines that are real systems only.
	Block        netip.Prefix `json:"block,omitzero"`         // of the site's addresses
	Base         string       `json:"base,omitempty"`         // folder of the image's root file system
	RegistryName string       `json:"registryName,omitempty"` // what Registry is called
}

// Faults are what can be wrong with a machine while it runs.
type Faults struct {
	Full     bool          `json:"full"`     // the disk takes no more
	ClockOff time.Duration `json:"clockOff"` // its clock is ahead by so much
	Rights   string        `json:"rights"`   // of the login, when it may not do all
	Slow     bool          `json:"slow"`     // it takes long for everything
	SlowDisk bool          `json:"slowDisk"` // so does whatever is written to its disk
	Links    []Link        `json:"links"`    // of its network
	LostLead int           `json:"lostLead"` // how often whoever led there has lost its lease
}

// Program is a stand-in. It returns when ctx ends or when it cannot go on; an
// ExitError carries the exit code.
type Program func(ctx context.Context, e *Env) error

// Env is what a program can see of its machine.
type Env struct {
	Host    *Host
	Name    string
	Version string
	Args    []string
	Log     io.Writer
	Ready   func()          // tells the service manager that it serves
	Reload  <-chan struct{} // one value for each request to reload

	mu    sync.Mutex
	open  map[io.Closer]struct{}
	crash context.CancelCauseFunc // ends the program that had a panic
}

// Catch is deferred at the head of every goroutine of a program: a panic is written
// to its log and ends the program, with the exit code that a process would have,
// and nothing else on the machine or in its zone.
func (e *Env) Catch() {
	r := recover()
	if r == nil {
		return
	}
	e.Logf("panic: %v", r)
	for line := range strings.Lines(string(debug.Stack())) {
		e.Logf("%s", strings.TrimRight(line, "\n"))
	}
	if e.crash != nil {
		e.crash(&ExitError{2, fmt.Errorf("panic: %v", r)})
	}
}

// Listen opens a port for as long as the program runs: when it ends, its
// sockets are closed, as those of any process are.
func (e *Env) Listen(addr string) (net.Listener, error) {
	l, err := e.Host.Listen(addr)
	// Sockets of the run before this one are closed with it; the kernel may take
	// a moment to let go of them, as it would not with a process of its own.
	for until := time.Now().Add(time.Second); errors.Is(err, syscall.EADDRINUSE) && time.Now().Before(until); {
		select {
		case <-e.Host.ctx.Done():
			return nil, err
		case <-time.After(10 * time.Millisecond):
		}
		l, err = e.Host.Listen(addr)
	}
	if err != nil {
		return nil, err
	}
	e.keep(l)
	return &ownedListener{l, e}, nil
}

// Dial connects from the machine, for as long as the program runs.
func (e *Env) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	c, err := e.Host.Dial(ctx, network, addr)
	if err != nil {
		return nil, err
	}
	return e.own(c), nil
}

func (e *Env) keep(c io.Closer) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.open == nil {
		e.open = map[io.Closer]struct{}{}
	}
	e.open[c] = struct{}{}
}

func (e *Env) forget(c io.Closer) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.open, c)
}

func (e *Env) own(c net.Conn) net.Conn {
	e.keep(c)
	return &ownedConn{c, e}
}

// Comes says which machine a connection comes from that was let in, where its address does not.
func (e *Env) Comes(c net.Conn, from netip.Addr) {
	o, ok := c.(*ownedConn)
	if !ok {
		return
	}
	if in, ok := o.Conn.(*conn); ok && in.wire != nil {
		in.wire.poke(func() { in.wire.peer = from })
	}
}

// Leave leaves a connection to the machine's kernel: it lives on when the
// program ends, for as long as the machine has power.
func (e *Env) Leave(c net.Conn) {
	if o, ok := c.(*ownedConn); ok {
		e.forget(o.Conn)
	}
}

// ended closes what the program left open.
func (e *Env) ended() {
	e.mu.Lock()
	open := e.open
	e.open = nil
	e.mu.Unlock()
	for c := range open {
		c.Close()
	}
}

type ownedListener struct {
	net.Listener
	e *Env
}

func (l *ownedListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return l.e.own(c), nil
}

func (l *ownedListener) Close() error { l.e.forget(l.Listener); return l.Listener.Close() }

type ownedConn struct {
	net.Conn
	e *Env
}

func (c *ownedConn) Close() error { c.e.forget(c.Conn); return c.Conn.Close() }

// CloseWrite ends one direction of a stream.
func (c *ownedConn) CloseWrite() error { return c.Conn.(*conn).CloseWrite() }

// Logf writes one log line.
func (e *Env) Logf(format string, args ...any) {
	fmt.Fprintf(e.Log, "%s %s\n", time.Now().UTC().Format(stampForm), fmt.Sprintf(format, args...))
}

// ExitError is the end of a program with an exit code.
type ExitError struct {
	Code int
	Err  error
}

func (e *ExitError) Error() string { return e.Err.Error() }
func (e *ExitError) Unwrap() error { return e.Err }

// Host is a machine that is on.
type Host struct {
	Spec     Spec
	BootID   string
	Net      *Net // the kernel's view of pod and service addresses
	programs map[string]Program
	manager  *manager
	console  io.Writer
	ctx      context.Context
	cancel   context.CancelCauseFunc
	wg       sync.WaitGroup
	usage    usage

	mu      sync.Mutex
	closers map[io.Closer]struct{}
	sockets map[string]any
	carried map[netip.Addr]bool
	off     bool
	changed chan struct{} // closed when something else is wrong with the machine
	SSHPort int
}

// errOff is why everything ends when a machine loses its power.
var errOff = errors.New("the machine is off")

// Boot starts a machine: console, SSH, then every enabled unit. It returns
// when one can log in. onReboot is called when something on the machine asked
// for a restart.
func Boot(ctx context.Context, spec Spec, programs map[string]Program, onReboot func()) (*Host, error) {
	id := make([]byte, 8)
	rand.Read(id)
	h := &Host{Spec: spec, BootID: hex.EncodeToString(id), programs: programs, closers: map[io.Closer]struct{}{}, sockets: map[string]any{}, carried: map[netip.Addr]bool{}, changed: make(chan struct{})}
	h.ctx, h.cancel = context.WithCancelCause(ctx)
	h.Net = NewNet(h)
	for _, d := range []string{"etc/systemd/system/multi-user.target.wants", "var/log/units", "var/lib", "opt/verbund/slots/a", "opt/verbund/slots/b", "run"} {
		if err := os.MkdirAll(filepath.Join(spec.Root, d), 0o755); err != nil {
			return nil, fmt.Errorf("disk of %s: %w", spec.Name, err)
		}
	}
	con, err := os.OpenFile(h.Path("/var/log/console"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return nil, fmt.Errorf("console of %s: %w", spec.Name, err)
	}
	h.console = con
	h.track(con)
	if err := pause(h.ctx, h.Scale(20*time.Second)); err != nil {
		return nil, err
	}
	if err := h.bootKernel(); err != nil {
		return nil, fmt.Errorf("kernel of %s: %w", spec.Name, err)
	}
	h.Console("%s booted, image %s", spec.Name, spec.Image)
	h.manager = newManager(h)
	if err := h.serveSSH(onReboot); err != nil {
		h.Off(true)
		return nil, err
	}
	h.manager.boot()
	return h, nil
}

// stampForm is how logs and the console tell the time (RFC 3339).
const stampForm = "2006-01-02T15:04:05.000Z07:00"

// Console writes a line to the machine's console log.
func (h *Host) Console(format string, args ...any) {
	fmt.Fprintf(h.console, "%s %s\n", time.Now().UTC().Format(stampForm), fmt.Sprintf(format, args...))
}

// Scale turns a duration of life into one of the simulation.
func (h *Host) Scale(d time.Duration) time.Duration {
	if h.faults().Slow {
		d *= slower
	}
	return d / time.Duration(max(h.Spec.Pace, 1))
}

// pause lets simulated work take its time; it ends early with the context.
func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-t.C:
		return nil
	}
}

// Work lets a task of life's duration d pass at the machine's pace.
func (h *Host) Work(ctx context.Context, d time.Duration) error { return pause(ctx, h.Scale(d)) }

// Path is where a path of the machine lies on this computer.
func (h *Host) Path(p string) string { return filepath.Join(h.Spec.Root, filepath.Clean("/"+p)) }

// ReadFile reads a file of the machine.
func (h *Host) ReadFile(p string) ([]byte, error) {
	b, err := os.ReadFile(h.Path(p))
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = fmt.Errorf("%s %s: %w", pe.Op, p, pe.Err)
	}
	return b, err
}

// WriteFile writes a file of the machine whole, or not at all.
func (h *Host) WriteFile(p string, b []byte, mode fs.FileMode) error {
	return h.writeFrom(p, bytes.NewReader(b), int64(len(b)), mode)
}

// writeFrom does so with what is read, which has to be of a certain size.
func (h *Host) writeFrom(p string, r io.Reader, size int64, mode fs.FileMode) error {
	if err := h.room(size); err != nil {
		return fmt.Errorf("write %s: %w", p, err)
	}
	if h.faults().SlowDisk {
		if err := pause(h.ctx, Stall); err != nil {
			return fmt.Errorf("write %s: %w", p, err)
		}
	}
	full := h.Path(p)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(filepath.Dir(full), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	n, err := io.Copy(tmp, r)
	if err == nil && n != size {
		err = fmt.Errorf("write %s: %d bytes came of %d", p, n, size)
	}
	err = errors.Join(err, tmp.Chmod(mode), tmp.Close())
	if err != nil {
		return err
	}
	return os.Rename(tmp.Name(), full)
}

// room says whether the disk takes n more bytes.
func (h *Host) room(n int64) error {
	h.mu.Lock()
	full := h.Spec.Faults.Full
	h.mu.Unlock()
	if full || !h.usage.takes(n, h.Spec.Disk, h.Used) {
		return syscall.ENOSPC
	}
	return nil
}

// usage is how full a disk is supposed to be: as it was counted last, and what was written since.
type usage struct {
	mu      sync.Mutex
	counted time.Time
	bytes   int64
}

// usedFor is how long a count is gone by where there is room: looking through a disk for each
// file that is written is most of what writing costs.
const usedFor = time.Second

// takes says whether n more bytes fit onto a disk of a size, and supposes that they are written.
func (u *usage) takes(n, size int64, count func() int64) bool {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.bytes+n > size || time.Since(u.counted) > usedFor {
		u.bytes, u.counted = count(), time.Now()
	}
	if u.bytes+n > size {
		return false
	}
	u.bytes += n
	return true
}

// Stall is how long a slow disk takes for one write more than a good one.
const Stall = 150 * time.Millisecond

// Stalls says whether the machine's disk is slow, or all of it, and returns a channel that is
// closed when that may have changed.
func (h *Host) Stalls() (bool, <-chan struct{}) {
	f, changed := h.suffering()
	return f.SlowDisk || f.Slow, changed
}

// Full says whether the machine's disk takes no more, as a fault, and returns a channel that is
// closed when that may have changed.
func (h *Host) Full() (bool, <-chan struct{}) {
	f, changed := h.suffering()
	return f.Full, changed
}

// LeadsLost is how often whoever led on the machine was made to lose its lease.
func (h *Host) LeadsLost() int { return h.faults().LostLead }

// Suffer sets what is wrong with the machine.
func (h *Host) Suffer(f Faults) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.Spec.Faults = f
	close(h.changed)
	h.changed = make(chan struct{})
}

// faults is what is wrong with the machine.
func (h *Host) faults() Faults {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.Spec.Faults
}

// Used is how many bytes the disk holds.
func (h *Host) Used() int64 {
	var n int64
	filepath.WalkDir(h.Spec.Root, func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			if i, err := d.Info(); err == nil {
				n += i.Size()
			}
		}
		return nil
	})
	return n
}

// Resolve looks a name up as the machine would: addresses as they are, names
// in /etc/hosts on its disk.
func (h *Host) Resolve(name string) (string, error) {
	if _, err := netip.ParseAddr(name); err == nil {
		return name, nil
	}
	b, _ := h.ReadFile("/etc/hosts")
	sc := bufio.NewScanner(strings.NewReader(string(b)))
	for sc.Scan() {
		line, _, _ := strings.Cut(sc.Text(), "#")
		f := strings.Fields(line)
		for _, n := range f[min(1, len(f)):] {
			if n == name {
				return f[0], nil
			}
		}
	}
	if strings.HasPrefix(name, "registry.") {
		return h.Spec.Registry.String(), nil
	}
	return "", &net.DNSError{Err: "not in /etc/hosts of " + h.Spec.Name, Name: name, IsNotFound: true}
}

// Dial connects from the machine.
func (h *Host) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	name, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	ip, err := h.Resolve(name)
	if err != nil {
		return nil, err
	}
	// It comes from the machine's own address, so that whoever is asked knows who asks.
	d := net.Dialer{Timeout: connects, LocalAddr: &net.TCPAddr{IP: h.Spec.Address.AsSlice()}}
	if to, err := netip.ParseAddr(ip); err == nil {
		if err := h.connect(ctx, to); err != nil {
			return nil, &net.OpError{Op: "dial", Net: network, Addr: net.TCPAddrFromAddrPort(netip.AddrPortFrom(to, 0)), Err: err}
		}
	}
	c, err := d.DialContext(ctx, network, net.JoinHostPort(ip, port))
	if err != nil {
		return nil, err
	}
	return h.conn(c, nil)
}

// Owns says whether the machine has the address of HOST:PORT. This computer
// would let anybody listen at any loopback address.
func (h *Host) Owns(addr string) error {
	a, err := netip.ParseAddrPort(addr)
	if err != nil {
		return fmt.Errorf("listen %s: %w", addr, err)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if a.Addr() != h.Spec.Address && !h.carried[a.Addr()] {
		return fmt.Errorf("listen tcp %s: bind: %w", addr, syscall.EADDRNOTAVAIL)
	}
	return nil
}

// Carry adds an address to the machine's card, until it is let go. That nobody
// else has it shows when something listens there.
func (h *Host) Carry(a netip.Addr) (letGo func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.carried[a] = true
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.carried, a)
	}
}

// Listen opens a port of the machine.
func (h *Host) Listen(addr string) (net.Listener, error) {
	if err := h.Owns(addr); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, err
	}
	tl := &listener{Listener: l, h: h}
	if !h.track(tl) {
		l.Close()
		return nil, errOff
	}
	return tl, nil
}

type listener struct {
	net.Listener
	h *Host
}

func (l *listener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return l.h.conn(c, newWire(l.h, c.RemoteAddr()))
}

func (l *listener) Close() error { l.h.untrack(l); return l.Listener.Close() }

func (h *Host) track(c io.Closer) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.off {
		return false
	}
	h.closers[c] = struct{}{}
	return true
}

func (h *Host) untrack(c io.Closer) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.closers, c)
}

// Offer puts a service on a local socket of the machine, by its path.
func (h *Host) Offer(path string, service any) (withdraw func()) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.sockets[path] = service
	return func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.sockets[path] == service {
			delete(h.sockets, path)
		}
	}
}

// Local finds the service on a local socket.
func (h *Host) Local(path string) (any, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if s, ok := h.sockets[strings.TrimPrefix(path, "unix://")]; ok {
		return s, nil
	}
	return nil, fmt.Errorf("connect %s: no such socket", path)
}

// Off takes the power away: at once, as when the plug is pulled, or after the
// units were stopped.
func (h *Host) Off(pulled bool) {
	if !pulled && h.manager != nil {
		h.manager.shutdown()
	}
	h.mu.Lock()
	h.off = true
	cs := h.closers
	h.closers = map[io.Closer]struct{}{}
	h.mu.Unlock()
	for c := range cs {
		switch c := c.(type) {
		case *listener:
			c.Listener.Close()
		case *conn:
			// Whoever's plug is pulled says nothing more, and what was said before is lost
			// where it had not arrived; one that shuts down hangs up.
			if t, ok := c.Conn.(*net.TCPConn); ok && pulled {
				t.SetLinger(0)
			}
			c.Conn.Close()
		default:
			c.Close()
		}
	}
	h.cancel(errOff)
	if h.manager != nil {
		h.manager.wait()
	}
	h.wg.Wait()
}

// Pulled says whether the machine has lost its power.
func (h *Host) Pulled() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.off
}

// Port is where one logs in.
func (h *Host) Port() int { return h.SSHPort }

// Is says what the site knows of it.
func (h *Host) Is() Spec { return h.Spec }
