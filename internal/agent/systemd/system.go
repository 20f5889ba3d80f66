package systemd

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/dbus"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"

	"verbund/internal/agent"
	"verbund/internal/core/nodeconf"
	"verbund/internal/machine/protocol"
	"verbund/internal/whole"
)

// System is this computer, as its agent sees it.
type System struct {
	manager *dbus.Conn
}

var _ agent.System = (*System)(nil)

// Open connects to the service manager. Only root may.
func Open(ctx context.Context) (*System, error) {
	c, err := dbus.NewSystemdConnectionContext(ctx)
	if err != nil {
		return nil, fmt.Errorf("reaching systemd: %w", err)
	}
	return &System{c}, nil
}

// Close hangs up.
func (s *System) Close() { s.manager.Close() }

// Path is the path itself: the agent is on the machine.
func (s *System) Path(p string) string { return filepath.Clean("/" + p) }

// Rights are those of root, or to look.
func (s *System) Rights() string {
	if os.Geteuid() == 0 {
		return ""
	}
	return "look"
}

// Facts asks the kernel and the file system.
func (s *System) Facts(context.Context) (*protocol.FactsReply, error) {
	host, err := os.Hostname()
	if err != nil {
		return nil, err
	}
	boot, err := bootID()
	if err != nil {
		return nil, err
	}
	r := &protocol.FactsReply{Name: host, BootID: boot, Image: image(), Clock: time.Now(), CPUs: processors(), Memory: memory()}
	var d syscall.Statfs_t
	if err := syscall.Statfs("/", &d); err != nil {
		return nil, fmt.Errorf("asking for the room on the disk: %w", err)
	}
	r.Disk = int64(d.Blocks) * d.Bsize
	r.DiskUsed = int64(d.Blocks-d.Bavail) * d.Bsize
	r.Cards, r.Hardware, err = cards()
	return r, err
}

// bootID is another one after every start of the machine. The kernel's alone does not do:
// where machines share a kernel, only the time tells at which their first process began.
func bootID() (string, error) {
	id, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "", err
	}
	stat, err := os.ReadFile("/proc/1/stat")
	if err != nil {
		return "", err
	}
	// proc(5): the 22nd field, and the second may hold blanks within brackets.
	f := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	if len(f) < 20 {
		return "", errors.New("/proc/1/stat cannot be read")
	}
	return strings.TrimSpace(string(id)) + "-" + f[19], nil
}

// image names the operating system, as os-release(5) does.
func image() string {
	b, err := os.ReadFile("/etc/os-release")
	if err != nil {
		return "unknown"
	}
	has := map[string]string{}
	for l := range strings.Lines(string(b)) {
		k, v, _ := strings.Cut(strings.TrimSpace(l), "=")
		has[k] = strings.Trim(v, `"`)
	}
	return strings.TrimSpace(has["ID"] + " " + has["VERSION_ID"])
}

// numberIn reads the n-th number of a file, if there is one.
func numberIn(file string, n int) (int64, bool) {
	b, err := os.ReadFile(file)
	if err != nil {
		return 0, false
	}
	f := strings.Fields(string(b))
	if len(f) <= n {
		return 0, false
	}
	v, err := strconv.ParseInt(f[n], 10, 64)
	return v, err == nil && v > 0
}

// processors are those that the machine may use: a machine that shares its kernel has a share.
func processors() int {
	n := runtime.NumCPU()
	quota, ok := numberIn("/sys/fs/cgroup/cpu.max", 0)
	period, have := numberIn("/sys/fs/cgroup/cpu.max", 1)
	if !ok || !have { // cgroup v1
		quota, ok = numberIn("/sys/fs/cgroup/cpu/cpu.cfs_quota_us", 0)
		period, have = numberIn("/sys/fs/cgroup/cpu/cpu.cfs_period_us", 0)
	}
	if ok && have {
		n = int((quota + period - 1) / period)
	}
	return n
}

// memory is what the machine may use, in bytes.
func memory() int64 {
	var all int64
	if b, err := os.ReadFile("/proc/meminfo"); err == nil {
		if f := strings.Fields(string(b)); len(f) > 1 {
			kib, _ := strconv.ParseInt(f[1], 10, 64)
			all = kib << 10
		}
	}
	for _, f := range []string{"/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes"} {
		if v, ok := numberIn(f, 0); ok && v < all {
			all = v
		}
	}
	return all
}

// cards are the network cards that are up, with their first address; the hardware address is
// that of the first.
func cards() (out []protocol.Card, hardware string, err error) {
	is, err := net.Interfaces()
	if err != nil {
		return nil, "", fmt.Errorf("asking for the network cards: %w", err)
	}
	for _, i := range is {
		if i.Flags&net.FlagLoopback != 0 || i.Flags&net.FlagUp == 0 || len(i.HardwareAddr) == 0 {
			continue
		}
		as, err := i.Addrs()
		if err != nil {
			return nil, "", err
		}
		for _, a := range as {
			if p, err := netip.ParsePrefix(a.String()); err == nil && p.Addr().Is4() {
				out = append(out, protocol.Card{Name: i.Name, Address: p.Addr()})
				if hardware == "" {
					hardware = i.HardwareAddr.String()
				}
				break
			}
		}
	}
	return out, hardware, nil
}

// Write puts a file in its place when all of it is on the disk.
func (s *System) Write(p string, r io.Reader, size int64, mode fs.FileMode) error {
	p = s.Path(p)
	if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
		return err
	}
	if slices.Contains(systems, p) {
		if err := keep(p); err != nil {
			return fmt.Errorf("keeping %s as it was: %w", p, err)
		}
	}
	f, err := os.CreateTemp(filepath.Dir(p), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	n, err := io.Copy(f, r)
	if err == nil && n != size {
		err = fmt.Errorf("%d bytes came of %d", n, size)
	}
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("write %s: %w", p, err)
	}
	return whole.Replace(f.Name(), p)
}

// Version is what was written beside a program when it was fetched.
func (s *System) Version(p string) (string, error) {
	if _, err := os.Stat(s.Path(p)); err != nil {
		return "", err
	}
	b, err := os.ReadFile(s.Path(p + agent.OfVersion))
	return string(b), err
}

// Resolve asks the machine's own resolver.
func (s *System) Resolve(ctx context.Context, name string) error {
	_, err := net.DefaultResolver.LookupHost(ctx, name)
	return err
}

// dialPatience is how long a connection may take to come about.
const dialPatience = 5 * time.Second

// Dial connects from the machine.
func (s *System) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	d := net.Dialer{Timeout: dialPatience}
	return d.DialContext(ctx, network, addr)
}

// Ask writes a line to a socket and reads until the other side hangs up.
func (s *System) Ask(ctx context.Context, socket, line string) (string, error) {
	c, err := s.Dial(ctx, "unix", socket)
	if err != nil {
		return "", err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	c.SetDeadline(time.Now().Add(dialPatience))
	if _, err := io.WriteString(c, line+"\n"); err != nil {
		return "", err
	}
	b, err := io.ReadAll(io.LimitReader(c, protocol.MaxRead))
	return string(b), err
}

// Artefact finds an artefact in a registry.
func (s *System) Artefact(ctx context.Context, registry, ref string) (v1.Image, error) {
	r, err := name.ParseReference(registry+"/"+ref, name.Insecure, name.WithDefaultTag("latest"))
	if err != nil {
		return nil, err
	}
	return remote.Image(r, remote.WithContext(ctx), remote.WithTransport(&http.Transport{DialContext: s.Dial, DisableKeepAlives: true}))
}

// applied says which of the system's own tools makes what lies under a path hold, in order:
// settings may be those of a module.
var applied = []struct {
	path string // or the folder of files
	tool func(file string) []string
}{
	{"/etc/hostname", func(f string) []string { return []string{"hostname", "-F", f} }},
	{"/etc/sysusers.d/", func(f string) []string { return []string{"systemd-sysusers", f} }},
	{"/etc/tmpfiles.d/", func(f string) []string { return []string{"systemd-tmpfiles", "--create", f} }},
	{"/etc/modules-load.d/", func(f string) []string { return []string{"/lib/systemd/systemd-modules-load", f} }},
	{"/etc/sysctl.d/", func(f string) []string { return []string{"/lib/systemd/systemd-sysctl", f} }},
	{"/etc/ssh/sshd_config.d/", func(string) []string { return []string{"systemctl", "reload", "ssh.service"} }},
}

// Written has the system's own tools apply what was written. What was taken away is not
// undone: it stays as it is until the machine starts anew.
func (s *System) Written(ctx context.Context, changed []string) error {
	for _, a := range applied {
		for _, p := range changed {
			if p != a.path && !(strings.HasSuffix(a.path, "/") && strings.HasPrefix(p, a.path)) {
				continue
			}
			if _, err := os.Stat(p); err != nil {
				continue
			}
			err := run(ctx, a.tool(p)...)
			if p == nodeconf.KernelModules || p == nodeconf.KernelSettings {
				// What is built into a kernel cannot be loaded, and what cannot be set is passed
				// over without a word: what the kernel shows afterwards decides.
				err = kernelHas(p, err)
			}
			if err != nil {
				return fmt.Errorf("applying %s: %w", p, err)
			}
		}
	}
	for _, p := range changed {
		if p == "/etc/timezone" {
			return zone(ctx)
		}
	}
	return nil
}

// kernelHas looks whether the kernel has what a file asks of it; tool is how its application ended.
func kernelHas(file string, tool error) error {
	var lacks []string
	if file == nodeconf.KernelModules {
		for _, m := range nodeconf.Modules {
			if _, err := os.Stat(m.Shows); err != nil {
				lacks = append(lacks, fmt.Sprintf("the kernel has no %s (%s)", m.Name, m.For))
			}
		}
	} else {
		shown := map[string][]byte{}
		for _, p := range nodeconf.KernelAsks() {
			if b, err := os.ReadFile(p); err == nil {
				shown[p] = b
			}
		}
		lacks = nodeconf.KernelLacks(shown)
	}
	if len(lacks) == 0 {
		return nil
	}
	return errors.Join(errors.New(strings.Join(lacks, "; ")), tool)
}

// zone sets the clock's zone to the one that was written.
func zone(ctx context.Context) error {
	b, err := os.ReadFile("/etc/timezone")
	if err != nil {
		return err
	}
	return run(ctx, "timedatectl", "set-timezone", strings.TrimSpace(string(b)))
}

// run runs one of the system's tools, and tells what it said when it failed.
func run(ctx context.Context, command ...string) error {
	out, err := exec.CommandContext(ctx, command[0], command[1:]...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", strings.Join(command, " "), err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Note writes to the journal.
func (s *System) Note(format string, args ...any) {
	c := exec.Command("systemd-cat", "-t", "verbund-agent")
	c.Stdin = strings.NewReader(fmt.Sprintf(format, args...) + "\n")
	c.Run()
}

// Restart restarts the machine.
func (s *System) Restart() { run(context.Background(), "systemctl", "--no-block", "reboot") }

// brought are the folders of which everything is ours, or was written by what we ran.
var brought = append([]string{"/opt/verbund/slots", protocol.ActiveSlot, "/var/log/pods", "/var/log/containers"}, nodeconf.Own...)

// systems are files that a system has of its own: they are put back as they were before the
// first of ours was written.
var systems = []string{"/etc/hostname", nodeconf.Hosts, "/etc/timezone"}

// before is where they are kept meanwhile.
const before = "/opt/verbund/agent/before"

// keep keeps a file of the system's as it is, unless one is kept already.
func keep(p string) error {
	if _, err := os.Stat(before + p); err == nil {
		return nil
	}
	b, err := os.ReadFile(p)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(before+p), 0o755); err != nil {
		return err
	}
	return whole.Write(before+p, b, 0o644)
}

// putBack puts the system's own files back; one that it never had stays, since others may
// need it now. What they say holds when the machine has started anew.
func putBack() error {
	for _, p := range systems {
		b, err := os.ReadFile(before + p)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if err := errors.Join(whole.Write(p, b, 0o644), os.Remove(before+p)); err != nil {
			return fmt.Errorf("putting %s back: %w", p, err)
		}
	}
	return nil
}

// Wipe stops our units and what they left running, and takes away what we brought. The
// agent and the login stay. What lies on in the kernel's memory (rules, routes, mounts) goes
// when the machine restarts.
func (s *System) Wipe(ctx context.Context) error {
	us, err := s.Units(ctx)
	if err != nil {
		return err
	}
	for _, u := range us {
		if err := s.Stop(ctx, u.Name); err != nil {
			return err
		}
	}
	if err := s.endContainers(ctx); err != nil {
		return err
	}
	for _, u := range us {
		if err := s.forget(ctx, u.Name); err != nil {
			return err
		}
	}
	// The record names what was written elsewhere, who may log in and become the administrator
	// among it; it goes last of all, so that a wipe that was cut off knows what is left.
	record, err := os.ReadFile(nodeconf.Record)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if o := nodeconf.ReadRecord(record); o != nil {
		for _, f := range o.Files {
			if f == nodeconf.Record || slices.Contains(systems, f) {
				continue
			}
			if err := os.Remove(f); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("taking away %s: %w", f, err)
			}
		}
	}
	if err := putBack(); err != nil {
		return err
	}
	for _, d := range brought {
		if err := empty(d); err != nil {
			return err
		}
	}
	return s.manager.ReloadContext(ctx)
}

// empty takes what is in a folder away, what is mounted in it first. The folder itself may
// be a mount of the machine and stays.
func empty(folder string) error {
	b, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return err
	}
	var inside []string
	for sc := bufio.NewScanner(bytes.NewReader(b)); sc.Scan(); {
		if f := strings.Fields(sc.Text()); len(f) > 4 && strings.HasPrefix(f[4], folder+"/") {
			inside = append(inside, f[4])
		}
	}
	for i := len(inside) - 1; i >= 0; i-- {
		if err := syscall.Unmount(inside[i], syscall.MNT_DETACH); err != nil {
			return fmt.Errorf("unmounting %s: %w", inside[i], err)
		}
	}
	i, err := os.Lstat(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if !i.IsDir() {
		return os.Remove(folder)
	}
	es, err := os.ReadDir(folder)
	for _, e := range es {
		err = errors.Join(err, os.RemoveAll(filepath.Join(folder, e.Name())))
	}
	return err
}
