package fairway

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netlink"
)

// mark tells our routes from those of others (rtnetlink(7), rtm_protocol): any number that
// nobody else uses.
const mark = 118

// table is ours in the kernel's packet filter.
const table = "fairway"

// kernel is the network of the node.
type kernel struct {
	h    *netlink.Handle
	pods netip.Prefix
	now  netip.Prefix // range for which addresses are hidden outside
}

// forwarding is the setting without which a node carries no packets for its pods.
const forwarding = "/proc/sys/net/ipv4/ip_forward"

func openKernel(t Told) (*kernel, error) {
	b, err := os.ReadFile(forwarding)
	if err != nil {
		return nil, err
	}
	if strings.TrimSpace(string(b)) != "1" {
		return nil, fmt.Errorf("this node does not forward packets (%s is %s); set net.ipv4.ip_forward=1", forwarding, strings.TrimSpace(string(b)))
	}
	h, err := netlink.NewHandle()
	return &kernel{h: h, pods: t.Pods}, err
}

func (k *kernel) close() { k.h.Close() }

func ipNet(p netip.Prefix) *net.IPNet {
	return &net.IPNet{IP: p.Masked().Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

// keep makes the kernel's routes those of the plan, and nothing beyond.
func (k *kernel) keep(p Plan) error {
	want := map[string]bool{}
	var errs []error
	for _, r := range p.Routes {
		// Through the card on which the other node is reached; between two networks the
		// route to it says which that is.
		ways, err := k.h.RouteGet(r.Via.AsSlice())
		if err != nil || len(ways) == 0 {
			errs = append(errs, fmt.Errorf("there is no way to node %s, which has the pods of %s: %w", r.Via, r.To, err))
			continue
		}
		want[r.To.String()] = true
		if err := k.h.RouteReplace(&netlink.Route{Dst: ipNet(r.To), Gw: r.Via.AsSlice(), LinkIndex: ways[0].LinkIndex, Protocol: mark}); err != nil {
			errs = append(errs, fmt.Errorf("route to %s through %s: %w", r.To, r.Via, err))
		}
	}
	have, err := k.h.RouteListFiltered(netlink.FAMILY_V4, &netlink.Route{Protocol: mark}, netlink.RT_FILTER_PROTOCOL)
	if err != nil {
		return fmt.Errorf("asking for routes: %w", err)
	}
	for _, r := range have {
		if r.Dst != nil && !want[r.Dst.String()] {
			if err := k.h.RouteDel(&r); err != nil {
				errs = append(errs, fmt.Errorf("taking away the route to %s: %w", r.Dst, err))
			}
		}
	}
	if p.Own != k.now {
		if err := k.hide(p.Own); err != nil {
			errs = append(errs, fmt.Errorf("hiding addresses of pods from machines that are no nodes: %w", err))
		} else {
			k.now = p.Own
		}
	}
	return errors.Join(errs...)
}

// hide lets pods of this node reach those that know no way back to them, under the node's own
// address: everybody who is not a pod. Between pods addresses stay as they are.
func (k *kernel) hide(own netip.Prefix) error {
	c, err := nftables.New()
	if err != nil {
		return err
	}
	t := &nftables.Table{Family: nftables.TableFamilyIPv4, Name: table}
	c.AddTable(t) // deleting what is not there is an error
	c.DelTable(t)
	c.AddTable(t)
	accept := nftables.ChainPolicyAccept
	chain := c.AddChain(&nftables.Chain{Name: "out", Table: t, Type: nftables.ChainTypeNAT, Hooknum: nftables.ChainHookPostrouting, Priority: nftables.ChainPriorityNATSource, Policy: &accept})
	const source, destination = 12, 16 // RFC 791, 3.1: where addresses stand in a packet
	within := func(at uint32, p netip.Prefix, op expr.CmpOp) []expr.Any {
		return []expr.Any{
			&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseNetworkHeader, Offset: at, Len: 4},
			&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Mask: net.CIDRMask(p.Bits(), 32), Xor: make([]byte, 4)},
			&expr.Cmp{Op: op, Register: 1, Data: p.Masked().Addr().AsSlice()},
		}
	}
	rule := append(within(source, own, expr.CmpOpEq), within(destination, k.pods, expr.CmpOpNeq)...)
	c.AddRule(&nftables.Rule{Table: t, Chain: chain, Exprs: append(rule, &expr.Masq{})})
	return c.Flush()
}
