package linux

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"

	"verbund/internal/site/protocol"
)

// System is the operating system that machines of this kind boot.
const System = "debian 12"

// suite and mirror are where it comes from.
const (
	suite  = "bookworm"
	mirror = "http://deb.debian.org/debian"
)

// packages are what a machine of a cluster needs beyond the base: what runs it, what one
// logs in by, and those programs that container runtime, network plugin and balancer need.
var packages = []string{"systemd", "systemd-sysv", "dbus", "libpam-systemd", "openssh-server", "sudo", "tzdata", "netbase", "iproute2", "iptables", "nftables", "kmod",
	"procps", "conntrack", "ca-certificates", "runc", "containernetworking-plugins", "haproxy"}

// form changes when the same packages are to be put together in another way.
const form = 1

// Images are the root file systems that were composed on this computer, for all its sites.
type Images struct{ Folder string }

// Digest tells an image by everything that it is composed of.
func (i Images) Digest(spec protocol.Image) (string, error) {
	if spec.System != System || spec.Architecture != runtime.GOARCH {
		return "", fmt.Errorf("an image of %q for %s cannot be composed here, only %q for %s", spec.System, spec.Architecture, System, runtime.GOARCH)
	}
	b, err := json.Marshal([]any{form, suite, packages, spec})
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("sha256:%x", sha256.Sum256(b)), nil
}

// Root is where an image's root file system lies, once it is composed.
func (i Images) Root(digest string) string {
	return filepath.Join(i.Folder, strings.ReplaceAll(digest, ":", "-"))
}

// Compose puts an image together, unless it is there already. It takes one to two minutes
// and about 400 MB, and is done by one process at a time.
func (i Images) Compose(ctx context.Context, spec protocol.Image) (digest string, err error) {
	if digest, err = i.Digest(spec); err != nil {
		return "", err
	}
	if err := os.MkdirAll(i.Folder, 0o755); err != nil {
		return "", err
	}
	lock, err := os.OpenFile(filepath.Join(i.Folder, "composing"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return "", err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return "", err
	}
	root := i.Root(digest)
	if _, err := os.Stat(root); err == nil {
		return digest, nil
	}
	tool, err := exec.LookPath("debootstrap")
	if err != nil {
		return "", errors.New("composing a machine image needs debootstrap, which is not here; on Debian: apt install debootstrap")
	}
	if err := room(i.Folder); err != nil {
		return "", err
	}
	tmp := root + ".new"
	if err := os.RemoveAll(tmp); err != nil { // of a run that was cut off
		return "", err
	}
	c := exec.CommandContext(ctx, tool, "--variant=minbase", "--include="+strings.Join(append(append([]string{}, packages...), spec.Extras...), ","), suite, tmp, mirror)
	out, err := c.CombinedOutput()
	if err != nil {
		last := bytes.TrimSpace(out[max(0, len(out)-400):])
		return "", errors.Join(fmt.Errorf("composing a machine image with debootstrap: %w: %s", err, last), os.RemoveAll(tmp))
	}
	if err := furnish(tmp); err != nil {
		return "", fmt.Errorf("composing a machine image: %w", err)
	}
	return digest, os.Rename(tmp, root)
}

// needed is the room on this computer's disk without which composing is not begun, in bytes.
const needed = 1 << 30

// ErrNoRoom says that this computer's disk is too full.
var ErrNoRoom = errors.New("no room")

func room(folder string) error {
	var d syscall.Statfs_t
	if err := syscall.Statfs(folder, &d); err != nil {
		return err
	}
	if free := int64(d.Bavail) * d.Bsize; free < needed {
		return fmt.Errorf("%w: %s has %d MB free, and a machine image needs %d MB; make room, or set VERBUND_CACHE to a folder on another disk", ErrNoRoom, folder, free>>20, int64(needed)>>20)
	}
	return nil
}

// furnish makes a machine's image of a root file system: nothing in it belongs to one machine,
// one logs in with keys alone, and packages' services do not start by themselves.
func furnish(root string) error {
	keys, err := filepath.Glob(filepath.Join(root, "etc/ssh/ssh_host_*"))
	if err != nil {
		return err
	}
	debs, err := filepath.Glob(filepath.Join(root, "var/cache/apt/archives/*.deb"))
	if err != nil {
		return err
	}
	for _, f := range append(append(keys, debs...), filepath.Join(root, "etc/machine-id"), filepath.Join(root, "var/lib/dbus/machine-id"),
		filepath.Join(root, "etc/systemd/system/multi-user.target.wants/haproxy.service"), filepath.Join(root, "etc/localtime")) {
		if err := os.Remove(f); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	for _, u := range []string{"console-getty.service", "getty@.service", "systemd-firstboot.service"} {
		if err := os.Symlink("/dev/null", filepath.Join(root, "etc/systemd/system", u)); err != nil && !errors.Is(err, os.ErrExist) {
			return err
		}
	}
	for name, text := range map[string]string{
		"etc/ssh/sshd_config.d/keys.conf": "# logins are by key alone\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nPermitRootLogin prohibit-password\nHostKey /etc/ssh/ssh_host_ed25519_key\n",
		"etc/machine-id":                  "",
		"etc/resolv.conf":                 "# names of the site and the cluster are in /etc/hosts\n",
	} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return os.MkdirAll(filepath.Join(root, "var/log/journal"), 0o755)
}
