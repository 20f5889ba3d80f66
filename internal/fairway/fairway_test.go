package fairway

import (
	"encoding/json"
	"errors"
	"net"
	"net/netip"
	"os"
	"runtime"
	"strconv"
	"strings"
	"testing"

	"verbund/internal/kube"

	"github.com/google/nftables"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

func node(name, pods, at string) *corev1.Node {
	n := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: name}, Spec: corev1.NodeSpec{PodCIDR: pods}}
	if at != "" {
		n.Status.Addresses = []corev1.NodeAddress{{Type: corev1.NodeHostName, Address: name}, {Type: corev1.NodeInternalIP, Address: at}}
	}
	return n
}

func TestWork(t *testing.T) {
	self := node("one", "10.172.1.0/24", "10.81.7.11")
	p, err := Work("one", []*corev1.Node{node("three", "10.172.3.0/24", "10.81.7.13"), self, node("two", "10.172.2.0/24", "10.81.7.12"), node("unranged", "", "10.81.7.14"), node("unreached", "10.172.5.0/24", "")})
	if err != nil {
		t.Fatal(err)
	}
	want := []Route{{netip.MustParsePrefix("10.172.2.0/24"), netip.MustParseAddr("10.81.7.12")}, {netip.MustParsePrefix("10.172.3.0/24"), netip.MustParseAddr("10.81.7.13")}}
	if p.Own.String() != "10.172.1.0/24" || p.Self.String() != "10.81.7.11" || len(p.Routes) != 2 || p.Routes[0] != want[0] || p.Routes[1] != want[1] {
		t.Errorf("%+v", p)
	}
	for _, nodes := range [][]*corev1.Node{nil, {node("one", "", "10.81.7.11")}, {node("two", "10.172.2.0/24", "10.81.7.12")}} {
		if _, err := Work("one", nodes); !errors.Is(err, ErrNoRange) || !strings.Contains(err.Error(), "node one") {
			t.Errorf("without a range: %v", err)
		}
	}
}

func TestConfig(t *testing.T) {
	b, err := Config(netip.MustParsePrefix("10.172.1.0/24"), 1400)
	if err != nil {
		t.Fatal(err)
	}
	var c struct {
		CNIVersion string
		Plugins    []struct {
			Type   string
			MTU    int
			IPMasq bool
			IPAM   struct{ Ranges [][]struct{ Subnet string } }
		}
	}
	if err := json.Unmarshal(b, &c); err != nil {
		t.Fatal(err)
	}
	if c.CNIVersion != "1.0.0" || len(c.Plugins) != 2 || c.Plugins[0].Type != "bridge" || c.Plugins[0].MTU != 1400 || c.Plugins[0].IPMasq || c.Plugins[0].IPAM.Ranges[0][0].Subnet != "10.172.1.0/24" {
		t.Errorf("%s", b)
	}
}

// In a network namespace of its own: routes are those of the plan, also after nodes have come
// and gone; what others have set up stays.
func TestKernel(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make a network namespace")
	}
	runtime.LockOSThread() // and never unlocked: the thread ends with the test
	ns, err := netns.New()
	if err != nil {
		t.Skipf("no network namespace can be made here: %v", err)
	}
	defer ns.Close()
	card := &netlink.Veth{LinkAttrs: netlink.LinkAttrs{Name: "eth0"}, PeerName: "other"}
	_, subnet, _ := net.ParseCIDR("10.81.7.11/24")
	subnet.IP = net.ParseIP("10.81.7.11")
	foreign := &net.IPNet{IP: net.ParseIP("10.99.0.0").To4(), Mask: net.CIDRMask(16, 32)}
	other := func() error {
		l, err := netlink.LinkByName("other")
		if err == nil {
			err = netlink.LinkSetUp(l)
		}
		return err
	}
	if err := errors.Join(netlink.LinkAdd(card), other(), netlink.AddrAdd(card, &netlink.Addr{IPNet: subnet}), netlink.LinkSetUp(card), netlink.RouteAdd(&netlink.Route{LinkIndex: card.Index, Dst: foreign})); err != nil {
		t.Fatal(err)
	}
	told := Told{Pods: netip.MustParsePrefix("10.172.0.0/15")}
	if err := os.WriteFile(forwarding, []byte("0"), 0o644); err != nil {
		t.Skipf("this namespace's settings cannot be changed: %v", err)
	}
	if _, err := openKernel(told); err == nil || !strings.Contains(err.Error(), "does not forward packets") {
		t.Errorf("a node that does not forward: %v", err)
	}
	if err := os.WriteFile(forwarding, []byte("1"), 0o644); err != nil {
		t.Fatal(err)
	}
	k, err := openKernel(told)
	if err != nil {
		t.Fatal(err)
	}
	defer k.close()
	ways := func() map[string]string {
		rs, err := netlink.RouteList(nil, netlink.FAMILY_V4)
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]string{}
		for _, r := range rs {
			if r.Dst != nil {
				out[r.Dst.String()] = r.Gw.String()
			}
		}
		return out
	}
	two, three := Route{netip.MustParsePrefix("10.172.2.0/24"), netip.MustParseAddr("10.81.7.12")}, Route{netip.MustParsePrefix("10.172.3.0/24"), netip.MustParseAddr("10.81.7.13")}
	own := netip.MustParsePrefix("10.172.1.0/24")
	for _, x := range []struct {
		plan Plan
		want map[string]string
	}{
		{Plan{Own: own, Routes: []Route{two, three}}, map[string]string{"10.172.2.0/24": "10.81.7.12", "10.172.3.0/24": "10.81.7.13"}},
		{Plan{Own: own, Routes: []Route{{two.To, three.Via}}}, map[string]string{"10.172.2.0/24": "10.81.7.13", "10.172.3.0/24": ""}},
		{Plan{Own: own}, map[string]string{"10.172.2.0/24": ""}},
	} {
		for range 2 { // the second time there is nothing to do
			if err := k.keep(x.plan); err != nil {
				t.Fatal(err)
			}
		}
		have := ways()
		for to, via := range x.want {
			if have[to] != via {
				t.Errorf("%+v: to %s through %q, wanted %q", x.plan, to, have[to], via)
			}
		}
		if _, there := have[foreign.String()]; !there {
			t.Error("a route of somebody else was taken away")
		}
	}
	nft, err := nftables.New()
	if err != nil {
		t.Fatal(err)
	}
	chains, err := nft.ListChains()
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, c := range chains {
		if c.Table.Name == table {
			rules, err := nft.GetRules(c.Table, c)
			if n += len(rules); err != nil {
				t.Fatal(err)
			}
		}
	}
	if n != 1 {
		t.Errorf("%d rules in table %s", n, table)
	}
	if err := k.keep(Plan{Own: own, Routes: []Route{{two.To, netip.MustParseAddr("192.0.2.1")}}}); err == nil || !strings.Contains(err.Error(), "192.0.2.1") {
		t.Errorf("a node to which there is no way: %v", err)
	}
}

// The cluster asks the plugin where the plugin answers.
func TestHealthPort(t *testing.T) {
	if HealthPort != strconv.Itoa(kube.NetworkHealthPort) {
		t.Errorf("it answers at %s and is asked at %d", HealthPort, kube.NetworkHealthPort)
	}
}
