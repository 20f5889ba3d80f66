package linux

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"verbund/internal/whole"
)

// Main is a machine's first process, until systemd takes its place. It reads its life from
// standard input, which comes when its network and its cgroup are there.
func Main(in io.Reader) error {
	// The cgroup namespace is made by this thread, which also becomes systemd.
	runtime.LockOSThread()
	var l life
	if err := json.NewDecoder(in).Decode(&l); err != nil {
		return fmt.Errorf("a machine without a life: %w", err)
	}
	if err := l.wake(); err != nil {
		return fmt.Errorf("%s cannot boot: %w", l.Spec.Name, err)
	}
	return syscall.Exec("/lib/systemd/systemd", []string{"systemd", "--show-status=yes", "--unit=multi-user.target"},
		[]string{"container=verbund", "PATH=/usr/sbin:/usr/bin:/sbin:/bin", "TERM=dumb"})
}

func (l life) wake() error {
	if err := syscall.Unshare(unix.CLONE_NEWCGROUP); err != nil {
		return fmt.Errorf("cgroup namespace: %w", err)
	}
	if err := syscall.Sethostname([]byte(l.Spec.Name)); err != nil {
		return err
	}
	if err := l.Network.dress(l.Spec.Address); err != nil {
		return fmt.Errorf("network: %w", err)
	}
	// What is mounted here stays here.
	if err := syscall.Mount("", "/", "", syscall.MS_REC|syscall.MS_PRIVATE, ""); err != nil {
		return err
	}
	root, err := l.mountDisk()
	if err != nil {
		return err
	}
	if err := l.identity(root); err != nil {
		return err
	}
	if err := l.mountKernel(root); err != nil {
		return err
	}
	return enter(root)
}

// mountDisk mounts the machine's disk, and its root file system: what it writes lies over
// its image. What must not lie over another file system lies on the disk itself.
func (l life) mountDisk() (root string, err error) {
	disk := filepath.Join(l.Spec.Root, "disk")
	// The file system may be as it was when the power went: its journal is replayed here.
	// What the machine flushes goes as far as this computer's memory and no further, since
	// that outlives the machine's power: a datastore's every write would otherwise wait for
	// everything that all machines have written to one disk. The price: a crash of this
	// computer may damage a machine's file system.
	if out, err := exec.Command("mount", "-o", "loop,noatime,barrier=0", l.Disk, disk).CombinedOutput(); err != nil {
		return "", fmt.Errorf("mounting the disk: %w: %s", err, strings.TrimSpace(string(out)))
	}
	root = filepath.Join(disk, "root")
	for _, d := range append([]string{"root", "upper", "work"}, apart...) {
		if err := os.MkdirAll(filepath.Join(disk, filepath.Base(d)), 0o755); err != nil {
			return "", err
		}
	}
	if err := syscall.Mount("overlay", root, "overlay", 0, "lowerdir="+l.Base+",upperdir="+disk+"/upper,workdir="+disk+"/work"); err != nil {
		return "", fmt.Errorf("mounting the root file system: %w", err)
	}
	for _, d := range apart {
		at := filepath.Join(root, d)
		if err := os.MkdirAll(at, 0o755); err != nil {
			return "", err
		}
		if err := bind(filepath.Join(disk, filepath.Base(d)), at); err != nil {
			return "", err
		}
	}
	return root, nil
}

// apart are the folders that lie on the disk itself: overlays cannot be laid over overlays,
// and the datastore waits for the disk at every write.
var apart = []string{"/var/lib/containerd", "/var/lib/kubelet", "/var/lib/etcd"}

func bind(from, to string) error {
	if err := syscall.Mount(from, to, "", syscall.MS_BIND, ""); err != nil {
		return fmt.Errorf("mounting %s: %w", to, err)
	}
	return nil
}

// identity writes what belongs to this machine alone: its keys every time, for they may have
// changed; what others write later only when it boots for the first time.
func (l life) identity(root string) error {
	s := l.Spec
	always := []struct {
		name, text string
		mode       os.FileMode
	}{
		{"etc/ssh/ssh_host_ed25519_key", string(s.HostKey), 0o600},
		{"root/.ssh/authorized_keys", strings.TrimSpace(s.Login) + "\n", 0o600},
	}
	id := strings.ReplaceAll(s.Hardware, ":", "")
	once := []struct{ name, text string }{
		{"etc/machine-id", strings.Repeat("0", 32-len(id)) + id + "\n"},
		{"etc/hostname", s.Name + "\n"},
		{"etc/hosts", fmt.Sprintf("127.0.0.1 localhost\n%s %s\n%s %s\n", s.Address, s.Name, s.Registry, s.RegistryName)},
	}
	if err := os.MkdirAll(filepath.Join(root, "root/.ssh"), 0o700); err != nil {
		return err
	}
	for _, f := range always {
		if err := whole.Write(filepath.Join(root, f.name), []byte(f.text), f.mode); err != nil {
			return err
		}
	}
	born := filepath.Join(root, "var/lib/verbund-born")
	if _, err := os.Stat(born); err == nil {
		return nil
	}
	for _, f := range once {
		if err := whole.Write(filepath.Join(root, f.name), []byte(f.text), 0o644); err != nil {
			return err
		}
	}
	return whole.Write(born, nil, 0o644)
}

// kept are settings of the kernel that it has only once, and that a kubelet or proxy changes:
// each machine has them for itself, as files.
var kept = []string{"vm/overcommit_memory", "vm/panic_on_oom", "kernel/panic", "kernel/panic_on_oops", "kernel/keys/root_maxkeys", "kernel/keys/root_maxbytes", "net/netfilter/nf_conntrack_max"}

// namespaced are settings of the kernel that each machine has for itself, since they belong to
// namespaces (namespaces(7)): of the network, of its name, and of what processes share.
var namespaced = []string{"net", "kernel/hostname", "kernel/domainname", "kernel/sem", "kernel/msgmax", "kernel/msgmnb", "kernel/msgmni",
	"kernel/shmall", "kernel/shmmax", "kernel/shmmni", "kernel/shm_rmid_forced", "fs/mqueue"}

// shut keeps a machine from changing what is not its own: every other setting of the kernel is
// this computer's, and would stay when the machine is gone. A system that cannot write one takes
// that for the ways of containers, and goes on (sysctl.d(5)).
func shut(root string) error {
	all := filepath.Join(root, "proc/sys")
	if err := bind(all, all); err != nil {
		return err
	}
	if err := syscall.Mount("", all, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""); err != nil {
		return fmt.Errorf("closing %s: %w", all, err)
	}
	for _, p := range namespaced {
		p = filepath.Join(all, p)
		if _, err := os.Stat(p); err != nil {
			continue // this kernel does not have it
		}
		if err := bind(p, p); err != nil {
			return err
		}
		if err := syscall.Mount("", p, "", syscall.MS_BIND|syscall.MS_REMOUNT, ""); err != nil {
			return fmt.Errorf("opening %s: %w", p, err)
		}
	}
	return nil
}

// devices are those of this computer that a machine has, too.
var devices = []string{"null", "zero", "full", "random", "urandom", "tty", "fuse"}

// mountKernel mounts what the kernel shows: it is long in steps, and each is one mount.
func (l life) mountKernel(root string) error {
	in := func(p string) string { return filepath.Join(root, p) }
	mount := func(kind, at, data string) error {
		if err := os.MkdirAll(in(at), 0o755); err != nil {
			return err
		}
		if err := syscall.Mount(kind, in(at), kind, 0, data); err != nil {
			return fmt.Errorf("mounting %s: %w", at, err)
		}
		return nil
	}
	hs, err := hierarchies()
	if err != nil {
		return err
	}
	if err := first(
		func() error { return mount("proc", "proc", "") },
		func() error { return mount("sysfs", "sys", "") },
		func() error { return mount("tmpfs", "run", "mode=755") },
		func() error { return mount("tmpfs", "tmp", "") },
		func() error { return mount("tmpfs", "dev", "mode=755") },
		func() error { return mount("devpts", "dev/pts", "newinstance,ptmxmode=0666,mode=620,gid=5") },
		func() error { return mount("tmpfs", "dev/shm", "") },
		func() error { return mount("mqueue", "dev/mqueue", "") },
	); err != nil {
		return err
	}
	if len(hs) > 1 || hs[0].options != "" {
		if err := mount("tmpfs", "sys/fs/cgroup", "mode=755"); err != nil {
			return err
		}
	}
	for _, h := range hs {
		kind := "cgroup2"
		if h.options != "" {
			kind = "cgroup"
		}
		if err := mount(kind, strings.TrimPrefix(h.at, "/"), h.options); err != nil {
			return err
		}
	}
	for _, d := range devices {
		if _, err := os.Stat("/dev/" + d); err != nil {
			continue
		}
		if err := touch(in("dev/" + d)); err != nil {
			return err
		}
		if err := bind("/dev/"+d, in("dev/"+d)); err != nil {
			return err
		}
	}
	if err := errors.Join(touch(in("dev/console")), bind(l.Console, in("dev/console")), os.Symlink("pts/ptmx", in("dev/ptmx")), os.Symlink("/proc/self/fd", in("dev/fd"))); err != nil {
		return err
	}
	// The kernel's log is every machine's and nobody's: what reads it reads nothing.
	if err := os.Symlink("null", in("dev/kmsg")); err != nil {
		return err
	}
	if err := shut(root); err != nil {
		return err
	}
	return l.showOwn(root)
}

// showOwn lets a machine see its own processors and memory, and what it is to keep as it is.
func (l life) showOwn(root string) error {
	own := filepath.Join(root, "run/verbund-kernel")
	if err := os.MkdirAll(own, 0o755); err != nil {
		return err
	}
	if err := showOwn(root, own, l.Spec.CPUs, l.Spec.Memory); err != nil {
		return err
	}
	for _, k := range kept {
		at := filepath.Join(root, "proc/sys", k)
		b, err := os.ReadFile(at)
		if err != nil {
			continue
		}
		f := filepath.Join(own, strings.ReplaceAll(k, "/", "."))
		if err := os.WriteFile(f, b, 0o644); err != nil {
			return err
		}
		if err := bind(f, at); err != nil {
			return err
		}
	}
	return nil
}

func touch(p string) error { return os.WriteFile(p, nil, 0o644) }

// enter makes a folder the root of this process and lets go of what was there before.
func enter(root string) error {
	if err := os.Chdir(root); err != nil {
		return err
	}
	if err := syscall.PivotRoot(".", "."); err != nil {
		return fmt.Errorf("entering the root file system: %w", err)
	}
	// pivot_root(2): the old root lies over the new one now, and this lets it go.
	if err := syscall.Unmount(".", syscall.MNT_DETACH); err != nil {
		return err
	}
	return os.Chdir("/")
}
