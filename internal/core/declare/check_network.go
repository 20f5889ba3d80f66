package declare

import (
	"fmt"
	"maps"
	"math/bits"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

func (k *checker) endpoint() {
	e := k.c.Endpoint
	if !domain.MatchString(e.Name) {
		if k.named("endpoint.name") || k.has("dns.domain") {
			k.add("endpoint.name", "bad-name", fmt.Sprintf("endpoint.name %q is not a host name", e.Name), "write a name such as api.tidewatch.test")
		}
	} else if _, err := netip.ParseAddr(e.Name); err == nil {
		k.add("endpoint.name", "endpoint-address", fmt.Sprintf("the endpoint %s is an address: it stays where it is for as long as it has no name", e.Name), "use a name, which Verbund makes known on every machine")
	}
	k.port("endpoint.port", e.Port)
	ports := map[int]bool{e.Port: true}
	for i, p := range e.Also {
		at := fmt.Sprintf("endpoint.also[%d]", i)
		k.port(at, p)
		k.once(at, p, ports)
	}
	var kinds []string
	for _, x := range []struct {
		key   string
		given bool
	}{{"balancer", e.Balancer != nil}, {"existing", e.Existing != nil}, {"virtual", e.Virtual != nil}} {
		if x.given {
			kinds = append(kinds, x.key)
		}
	}
	moving := e.Balancer != nil && e.Virtual != nil && e.Existing == nil
	if moving {
		k.add("endpoint.virtual", "endpoint-both", "the balancer answers at the endpoint, and the virtual address is carried beside it", "converge, then take the balancer out: the endpoint moves to the virtual address without a gap")
		k.virtual()
	} else if len(kinds) > 1 {
		k.add("endpoint."+kinds[1], "endpoint-several", fmt.Sprintf("%s are to answer at the endpoint, and one can", joinWords(kinds)), "keep one of them")
		return
	}
	switch {
	case e.Balancer != nil:
		k.add("endpoint.balancer", "balancer-single", "the balancer is one machine; while it is down nobody reaches the API from outside", "accept it knowingly (control-plane machines use their own API servers meanwhile), or let them carry a virtual address")
		checkPlacing(k.document, k.site, "endpoint.balancer", e.Balancer.Size, nil)
		for i, f := range e.Balancer.Forward {
			p := fmt.Sprintf("endpoint.balancer.forward[%d]", i)
			k.port(p+".port", f.Port)
			if f.To < 30000 || f.To > 32767 {
				k.add(p+".to", "bad-node-port", fmt.Sprintf("%d is not a node port", f.To), "choose 30000 to 32767, and give the service that nodePort")
			}
			k.once(p+".port", f.Port, ports)
		}
	case e.Existing != nil:
		if a := e.Existing.Address; !a.Is4() || a.IsUnspecified() {
			k.add("endpoint.existing", "existing-address", "the existing balancer has no IPv4 address", "give the address at which it answers")
		}
	case e.Virtual != nil:
		k.virtual()
	case k.c.Control.Count > 1:
		k.add("endpoint", "balancer-missing", fmt.Sprintf("%d control-plane machines need something that answers for them at %s", k.c.Control.Count, e.Name), "add balancer: {size: …}, existing: {address: …} or virtual: {address: …} to endpoint")
	}
	if len(e.Also) > 0 && e.Balancer == nil && e.Virtual == nil {
		k.add("endpoint.also", "also-unserved", "nothing of ours answers at further ports", "let a balancer or a virtual address answer at the endpoint, or leave them out")
	}
}

// once checks that a port at the endpoint is used once.
func (k *checker) once(at string, port int, ports map[int]bool) {
	if ports[port] {
		k.add(at, "port-twice", fmt.Sprintf("port %d of the endpoint is used twice", port), "choose another")
	}
	ports[port] = true
}

func (k *checker) virtual() {
	v := k.c.Endpoint.Virtual
	a := v.Address
	at := "endpoint.virtual.address"
	todo := "choose a free address of " + k.c.Ranges.Machines.String() + " that is neither among the first ten nor the last"
	if k.listed() {
		todo = "choose an address of " + k.c.Ranges.Machines.String() + " that nobody has"
	}
	bad := func(what string) {
		k.add(at, "virtual-address", fmt.Sprintf("the virtual address %s", what), todo)
	}
	switch r := k.c.Ranges.Machines; {
	case !a.IsValid():
		bad("is missing")
	case !a.Is4():
		bad(a.String() + " is not an IPv4 address")
	case r.IsValid() && !r.Contains(a):
		bad(fmt.Sprintf("%s does not lie in the machines' subnet %s", a, r))
	case r.IsValid() && k.reserved(r, a):
		bad(a.String() + " belongs to the site itself")
	case k.listed() && isListed(k.site, a):
		bad(a.String() + " belongs to a machine of the list")
	}
	if k.c.Control.Count == 1 {
		k.add("endpoint.virtual", "virtual-single", "one control-plane machine is all that can carry the virtual address", "declare three, or accept it knowingly: further ones can be added later without any change of the address")
	}
}

func (k *checker) listed() bool { return k.site != nil && k.site.Kind == ListedSite }

func isListed(s *Site, a netip.Addr) bool {
	_, ok := s.ListedAt(a)
	return ok
}

// reserved says whether an address is the site's own.
func (k *checker) reserved(r netip.Prefix, a netip.Addr) bool {
	if k.listed() {
		return a == k.site.Registry
	}
	return reservedIn(r, a)
}

// reservedIn says whether an address is among the first ten or the last of a
// range: those belong to the site itself.
func reservedIn(r netip.Prefix, a netip.Addr) bool {
	n := r.Masked().Addr()
	for range 10 {
		if n == a {
			return true
		}
		n = n.Next()
	}
	return !r.Contains(a.Next())
}

func (k *checker) ranges() {
	pods, services := k.c.Ranges.Pods, k.c.Ranges.Services
	for _, x := range []struct {
		path string
		r    netip.Prefix
	}{{"ranges.pods", pods}, {"ranges.services", services}} {
		switch r := x.r; {
		case !r.IsValid():
		case !r.Addr().Is4():
			k.add(x.path, "range-family", fmt.Sprintf("%s is not an IPv4 range", r), "choose an IPv4 range")
		case r.Masked() != r:
			k.add(x.path, "range-host-bits", fmt.Sprintf("%s has bits set behind its length", r), "write "+r.Masked().String())
		case r.Addr().IsLoopback():
			k.add(x.path, "range-loopback", fmt.Sprintf("%s lies in the loopback range, which endpoints may not use", r), "choose a private range such as 10.172.0.0/15")
		}
	}
	if m := k.c.Ranges.Machines; k.site != nil && k.site.Addresses.IsValid() && m.IsValid() && (m.Masked() != m || !k.site.Addresses.Contains(m.Addr()) || m.Bits() < k.site.Addresses.Bits() || m.Bits() > 28) {
		k.add("ranges.machines", "range-machines", fmt.Sprintf("the machines' subnet %s does not lie in the site's block %s", m, k.site.Addresses), "choose a part of that block, of length 28 or less")
	}
	per := k.c.Ranges.PerNode
	if per < 16 || per > 4096 || bits.OnesCount(uint(per)) != 1 {
		k.add("ranges.perNode", "per-node", fmt.Sprintf("%d addresses a node are no range of their own", per), "choose 16, 32, 64, 128, 256, 512, 1024, 2048 or 4096")
		return
	}
	most := podsPerNode
	if v, ok := k.c.Components["kubelet"].Config["maxPods"].(int); ok {
		most = v
	}
	// The first and the last address of a node's range carry no pod.
	if per-2 < most {
		k.add("ranges.perNode", "per-node-pods", fmt.Sprintf("a node has %d addresses for the %d pods that it may run", per-2, most), "give each node more addresses, or its kubelet a lower maxPods")
	}
	if !pods.IsValid() || !services.IsValid() {
		return
	}
	for _, x := range []struct {
		path, what string
		r          netip.Prefix
	}{{"ranges.pods", "pod", pods}, {"ranges.services", "service", services}} {
		// Where both have one address, nodes send what is meant for the machine to the other.
		if k.site != nil && k.site.Addresses.IsValid() && x.r.Overlaps(k.site.Addresses) {
			k.add(x.path, "range-of-machines", fmt.Sprintf("%s %s and the addresses of the site's machines %s overlap: a machine and a %s could get the same one", x.path, x.r, k.site.Addresses, x.what), "choose a range outside of that block")
		}
	}
	if pods.Overlaps(services) {
		k.add("ranges.services", "ranges-overlap", fmt.Sprintf("ranges.services %s and ranges.pods %s overlap", services, pods), "choose ranges that share no address")
	}
	if services.Bits() > 28 || services.Bits() < 12 {
		k.add("ranges.services", "range-size", fmt.Sprintf("ranges.services %s has an unusable length", services), "choose a length of 12 to 28")
	}
	nodes := 0
	if k.c.Control.AsNodes() {
		nodes = k.c.Control.Count
	}
	for _, p := range k.c.Pools {
		nodes += max(p.Count.To, 0)
	}
	node := 32 - bits.TrailingZeros(uint(per))
	if pods.Addr().Is4() && (pods.Bits() > node || nodes > 1<<(node-pods.Bits())) {
		k.add("ranges.pods", "range-size", fmt.Sprintf("ranges.pods %s has not enough room for %d nodes of %d addresses each", pods, nodes, per), "choose a larger range, or fewer addresses for each node in ranges.perNode")
	}
}

// pluginSettings are what the network plugin can be told, with the bounds of
// each.
var pluginSettings = map[string][2]int{"mtu": {1280, 9000}, "verbosity": {0, 5}}

func (k *checker) network() {
	n := k.c.Network
	if n.Plugin != "fairway" {
		k.add("network.plugin", "unknown-plugin", fmt.Sprintf("network plugin %q is not in the catalogue", n.Plugin), "choose fairway")
		return
	}
	for _, s := range slices.Sorted(maps.Keys(n.Settings)) {
		at := "network.settings." + s
		bounds, ok := pluginSettings[s]
		if !ok {
			k.add(at, "plugin-setting", fmt.Sprintf("fairway has no setting %q", s), oneOf(s, slices.Sorted(maps.Keys(pluginSettings))))
			continue
		}
		if v, err := strconv.Atoi(n.Settings[s]); err != nil || v < bounds[0] || v > bounds[1] {
			k.add(at, "plugin-setting", fmt.Sprintf("%s of fairway cannot be %q", s, n.Settings[s]), fmt.Sprintf("choose a number from %d to %d, in quotes", bounds[0], bounds[1]))
		}
	}
	if p := n.Proxy; p != nil {
		u, err := url.Parse(p.URL)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil {
			k.add("network.proxy.url", "bad-proxy", fmt.Sprintf("the outbound proxy %q is no http or https URL without a password", p.URL), "write one such as http://proxy.seamark.test:3128")
		}
		for i, e := range p.Except {
			_, perr := netip.ParsePrefix(e)
			_, aerr := netip.ParseAddr(e)
			if perr != nil && aerr != nil && !domain.MatchString(strings.TrimPrefix(e, ".")) {
				k.add(fmt.Sprintf("network.proxy.except[%d]", i), "bad-proxy", fmt.Sprintf("the exception %q is no name, domain, address or range", e), "write one such as .seamark.test or 192.0.2.0/24")
			}
		}
	}
	for i, m := range n.Mirror {
		at := fmt.Sprintf("network.mirror[%d]", i)
		host, port, found := strings.Cut(m, ":")
		pn, err := strconv.Atoi(port)
		if !domain.MatchString(host) || found && (err != nil || pn < 1 || pn > 65535) {
			k.add(at, "bad-upstream", fmt.Sprintf("%q is not the host of a registry", m), "write a host name, with a port if it needs one")
		}
		if slices.Index(n.Mirror, m) < i {
			k.add(at, "name-twice", fmt.Sprintf("upstream %s is listed twice", m), "list it once")
		}
	}
}
