package host

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"verbund/internal/whole"
)

// stock are the settings of a kernel as one boots, by the module that brings them: a stock kernel
// has no module loaded that nobody asked for. Only what something here acts on, or asks for, is
// among them.
var stock = map[string]map[string]string{
	"":             {"net/ipv4/ip_forward": "0", "net/ipv4/conf/all/rp_filter": "0"},
	"overlay":      {},
	"br_netfilter": {"net/bridge/bridge-nf-call-iptables": "1", "net/bridge/bridge-nf-call-ip6tables": "1"},
	"nf_conntrack": {"net/netfilter/nf_conntrack_max": "65536"},
}

// bridged is where the kernel says whether packets between pods of one machine pass the packet
// filter, in which services are.
const bridged = "/proc/sys/net/bridge/bridge-nf-call-iptables"

// kernel is what a machine's kernel shows of itself, as files of its disk that are made anew when
// it boots: modules first, settings then, as systemd does.
func (h *Host) bootKernel() error {
	for _, d := range []string{"/proc", "/sys"} {
		if err := os.RemoveAll(h.Path(d)); err != nil {
			return err
		}
	}
	return errors.Join(h.load(""), h.tellKernel())
}

// load loads a module; one that there is not is left out, as a message in a log that nobody reads.
func (h *Host) load(module string) error {
	settings, ok := stock[module]
	at := h.Path("/sys/module/" + module)
	if _, err := os.Stat(at); !ok || module != "" && err == nil {
		return nil
	}
	if err := os.MkdirAll(at, 0o755); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		if err := h.show(name, settings[name]); err != nil {
			return err
		}
	}
	return nil
}

func (h *Host) show(setting, value string) error {
	p := h.Path("/proc/sys/" + setting)
	return errors.Join(os.MkdirAll(filepath.Dir(p), 0o755), whole.Write(p, []byte(value+"\n"), 0o644))
}

// tellKernel has the kernel do what is written (modules-load.d(5), sysctl.d(5)).
func (h *Host) tellKernel() error {
	for l := range h.lines("/etc/modules-load.d") {
		if err := h.load(l); err != nil {
			return err
		}
	}
	for l := range h.lines("/etc/sysctl.d") {
		name, value, _ := strings.Cut(l, "=")
		name = strings.ReplaceAll(strings.TrimSpace(name), ".", "/")
		if _, err := os.Stat(h.Path("/proc/sys/" + name)); errors.Is(err, fs.ErrNotExist) {
			continue // this kernel has no such setting, or not yet
		}
		if err := h.show(name, strings.TrimSpace(value)); err != nil {
			return err
		}
	}
	return nil
}

// lines are those of the configuration files in a folder, without comments.
func (h *Host) lines(folder string) func(func(string) bool) {
	return func(yield func(string) bool) {
		for _, f := range whole.Named(h.Path(folder), ".conf") {
			b, err := os.ReadFile(f)
			if err != nil {
				continue
			}
			for l := range strings.Lines(string(b)) {
				if l = strings.TrimSpace(l); l != "" && l[0] != '#' && l[0] != ';' && !yield(l) {
					return
				}
			}
		}
	}
}

// bridges says whether services count between pods of this machine.
func (h *Host) bridges() bool {
	b, err := h.ReadFile(bridged)
	return err == nil && bytes.Equal(bytes.TrimSpace(b), []byte("1"))
}

// Written tells the kernel what was written for it; whoever reads other files on a simulated
// machine reads them anew.
func (s system) Written(_ context.Context, changed []string) error {
	if !slices.ContainsFunc(changed, func(p string) bool {
		return strings.HasPrefix(p, "/etc/modules-load.d/") || strings.HasPrefix(p, "/etc/sysctl.d/")
	}) {
		return nil
	}
	return s.tellKernel()
}
