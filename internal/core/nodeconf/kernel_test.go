package nodeconf

import (
	"strings"
	"testing"
)

// What a kernel lacks is named with what it is for; one that has it all lacks nothing.
func TestKernelLacks(t *testing.T) {
	shown := map[string][]byte{}
	for _, s := range Settings {
		shown[s.Path()] = []byte(s.Value + "\n")
	}
	if l := KernelLacks(shown); len(l) > 0 {
		t.Errorf("it lacks %q", l)
	}
	shown["/proc/sys/net/ipv4/ip_forward"] = []byte("0\n")
	delete(shown, "/proc/sys/net/bridge/bridge-nf-call-iptables")
	l := KernelLacks(shown)
	if len(l) != 2 || !strings.Contains(l[0], "ip_forward is 0, and 1 is needed") || !strings.Contains(l[1], "there is no net.bridge.bridge-nf-call-iptables") {
		t.Errorf("it lacks %q", l)
	}
	for _, p := range KernelAsks() {
		if _, ok := shown[p]; !ok && p != "/proc/sys/net/bridge/bridge-nf-call-iptables" {
			t.Errorf("nobody needs %s", p)
		}
	}
}
