package host

import (
	"context"
	"net"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/nodeconf"
)

// A machine boots with a stock kernel: a service whose pod is on the asker's own node is not
// answered until the module is loaded that shows the bridge's packets to the packet filter, and
// what is written for it holds after the next start, too.
func TestServiceOnTheOwnNode(t *testing.T) {
	h, _ := boot(t)
	here := netip.MustParseAddrPort("10.172.1.9:8080")
	h.Net.AddPod(here.Addr()).Listen(here.Port(), func(c net.Conn) { c.Close() })
	service := netip.MustParseAddrPort("10.112.0.9:80")
	h.Net.SetServices(map[netip.AddrPort][]netip.AddrPort{service: {here}})
	ask := func(within time.Duration) error {
		ctx, cancel := context.WithTimeout(t.Context(), within)
		defer cancel()
		c, err := h.Net.DialFromPod(ctx, service)
		if err == nil {
			c.Close()
		}
		return err
	}
	if err := ask(50 * time.Millisecond); err == nil || !strings.Contains(err.Error(), "timed out") {
		t.Errorf("on a stock kernel: %v", err)
	}
	// Whoever does not come over the bridge is answered.
	if c, err := h.Net.DialPod(t.Context(), service); err != nil {
		t.Error(err)
	} else {
		c.Close()
	}
	shows := func() []string {
		out := map[string][]byte{}
		for _, p := range nodeconf.KernelAsks() {
			if b, err := h.ReadFile(p); err == nil {
				out[p] = b
			}
		}
		return nodeconf.KernelLacks(out)
	}
	if l := shows(); len(l) == 0 {
		t.Error("a stock kernel lacks nothing")
	}
	modules := "# what nodes need\n"
	for _, m := range nodeconf.Modules {
		modules += m.Name + "\n"
	}
	for p, text := range map[string]string{nodeconf.KernelModules: modules + "no_such_module\n", nodeconf.KernelSettings: nodeconf.KernelText()} {
		if err := h.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	sys := system{h, nil}
	if err := sys.Written(t.Context(), []string{"/etc/hosts"}); err != nil || len(shows()) == 0 {
		t.Errorf("another file was written: %v, %q", err, shows())
	}
	if err := sys.Written(t.Context(), []string{nodeconf.KernelModules, nodeconf.KernelSettings}); err != nil || len(shows()) > 0 {
		t.Errorf("%v; it lacks %q", err, shows())
	}
	for _, m := range nodeconf.Modules {
		if _, err := os.Stat(h.Path(m.Shows)); err != nil {
			t.Errorf("module %s: %v", m.Name, err)
		}
	}
	if err := ask(10 * time.Second); err != nil {
		t.Error(err)
	}
	if err := h.bootKernel(); err != nil || len(shows()) > 0 {
		t.Errorf("after the next start: %v, it lacks %q", err, shows())
	}
}
