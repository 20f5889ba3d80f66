package nodeconf

import (
	"fmt"
	"strings"
)

// Where a machine is told which modules of the kernel to load when it starts (modules-load.d(5)),
// and which settings to make (sysctl.d(5)).
const (
	KernelModules  = "/etc/modules-load.d/90-verbund.conf"
	KernelSettings = "/etc/sysctl.d/90-verbund.conf"
)

// Module is one of the kernel's that a node needs.
type Module struct {
	Name  string
	Shows string // a path that is there when the kernel has it, built in or loaded
	For   string
}

// Modules are those that a node needs. A stock kernel has them, and loads none of them before
// somebody asks.
var Modules = []Module{
	{"overlay", "/sys/module/overlay", "images lie in layers"},
	{"br_netfilter", "/proc/sys/net/bridge/bridge-nf-call-iptables", "a service whose pod is on the asker's own node is answered only where the bridge shows packets to the packet filter"},
	{"nf_conntrack", "/proc/sys/net/netfilter/nf_conntrack_max", "answers of services find their way back"},
}

// Setting is one of the kernel's.
type Setting struct{ Name, Value, For string }

// Path is where the kernel shows a setting (proc_sys(5)).
func (s Setting) Path() string { return "/proc/sys/" + strings.ReplaceAll(s.Name, ".", "/") }

// Settings are those that a node needs.
var Settings = []Setting{
	{"net.ipv4.ip_forward", "1", "pods are reached through the node"},
	{"net.bridge.bridge-nf-call-iptables", "1", "services also count between pods of one node"},
	{"net.bridge.bridge-nf-call-ip6tables", "1", "the same for IPv6"},
	// The larger of this and the card's own counts (ip-sysctl, rp_filter): strict, answers that
	// leave by another card than their question came by are dropped.
	{"net.ipv4.conf.all.rp_filter", "2", "answers may come by another card"},
}

// KernelLacks says what a node's kernel lacks of what it needs, by what lies at the paths of
// KernelAsks: nothing, where it has it all.
func KernelLacks(shown map[string][]byte) []string {
	var out []string
	for _, s := range Settings {
		b, ok := shown[s.Path()]
		switch {
		case !ok:
			out = append(out, fmt.Sprintf("there is no %s (%s)", s.Name, s.For))
		case strings.TrimSpace(string(b)) != s.Value:
			out = append(out, fmt.Sprintf("%s is %s, and %s is needed (%s)", s.Name, strings.TrimSpace(string(b)), s.Value, s.For))
		}
	}
	return out
}

// KernelAsks are the paths at which a kernel is looked at.
func KernelAsks() []string {
	var out []string
	for _, s := range Settings {
		out = append(out, s.Path())
	}
	return out
}

// KernelText is what the file of settings says.
func KernelText() string {
	t := "# what nodes of a cluster need of their kernel\n"
	for _, s := range Settings {
		t += fmt.Sprintf("# %s\n%s = %s\n", s.For, s.Name, s.Value)
	}
	return t
}

// kernel writes what a node's kernel is told.
func (r *renderer) kernel() {
	modules := "# what nodes of a cluster need of their kernel\n"
	for _, m := range Modules {
		modules += fmt.Sprintf("# %s\n%s\n", m.For, m.Name)
	}
	r.text(KernelModules, 0o644, modules, nil)
	r.text(KernelSettings, 0o644, KernelText(), nil)
}
