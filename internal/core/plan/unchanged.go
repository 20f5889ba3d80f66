package plan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"verbund/internal/core/topology"
)

// FactsOf is what of a cluster cannot change while it lives.
func FactsOf(c *topology.Cluster) topology.Facts {
	return topology.Facts{Endpoint: c.Endpoint.Name, Pods: c.Pods.String(), Services: c.Services.String(), Domain: c.Domain, PerNode: c.PerNode, Answers: c.Endpoint.Answers(),
		Members: map[bool]string{true: "apart", false: "beside"}[c.Apart], Control: map[bool]string{true: "nodes", false: "no nodes"}[c.Nodes], CopyOf: c.CopyOf}
}

// Unchanged refuses a declaration that differs from the living cluster in what
// cannot change while it lives; was is what it was raised with.
func Unchanged(c *topology.Cluster, was *topology.Facts) error {
	is := FactsOf(c)
	perNode := func(f topology.Facts) string { return strings.TrimPrefix(fmt.Sprint(f.PerNode), "0") }
	if err := endpointMoves(c, was, is); err != nil {
		return err
	}
	// In either direction: what controllers would find is not theirs.
	if was.CopyOf != is.CopyOf {
		return &Refusal{What: fmt.Sprintf("whether cluster %s is a copy, and of which cluster, cannot be changed while it lives", c.Name), Todo: "declare copyOf as it was; a copy is looked at, and torn down"}
	}
	for _, x := range []struct{ key, was, is string }{{"ranges.pods", was.Pods, is.Pods}, {"ranges.services", was.Services, is.Services}, {"dns.domain", was.Domain, is.Domain},
		{"ranges.perNode", perNode(*was), perNode(is)}, {"control.datastore.place", was.Members, is.Members}, {"control.nodes", was.Control, is.Control},
	} {
		if x.was != x.is && x.was != "" {
			return &Refusal{What: fmt.Sprintf("%s cannot be changed from %s to %s while the cluster lives", x.key, x.was, x.is), Todo: "declare it as it was, or raise a second cluster and move"}
		}
	}
	return nil
}

// endpointMoves refuses what cannot change at the endpoint, or not in one go.
func endpointMoves(c *topology.Cluster, was *topology.Facts, is topology.Facts) error {
	if was.Endpoint != is.Endpoint {
		_, err := netip.ParseAddr(was.Endpoint)
		switch {
		case err != nil:
			return &Refusal{What: fmt.Sprintf("endpoint.name cannot be changed from %s to %s while the cluster lives", was.Endpoint, is.Endpoint), Todo: "add the new name to control.names, where it works beside the old one"}
		case !slices.Contains(c.Names, was.Endpoint):
			return &Refusal{What: fmt.Sprintf("the endpoint goes from the address %s to the name %s, and whoever still uses the address would be refused", was.Endpoint, is.Endpoint), Todo: "add " + was.Endpoint + " to control.names until nobody does"}
		}
	}
	if was.Answers == is.Answers || was.Answers == "" {
		return nil
	}
	// Behind a name anything may come to answer: machines are told of it when it
	// does. An address is where people and certificates look for it.
	_, addr := netip.ParseAddr(is.Endpoint)
	if addr == nil || was.Endpoint != is.Endpoint {
		balancer, virtual := string(topology.ByBalancer), string(topology.ByCarrier)
		both := balancer + "+" + virtual
		if was.Answers == balancer && is.Answers == both || was.Answers == both && (is.Answers == virtual || is.Answers == balancer) {
			return nil
		}
		if was.Answers != balancer || is.Answers != virtual {
			return &Refusal{What: fmt.Sprintf("what answers at the endpoint cannot be changed from %s to %s while the cluster lives, for the endpoint is an address", was.Answers, is.Answers), Todo: "declare it as it was, or raise a second cluster and move"}
		}
	}
	return carrierMoves(was.Answers, is.Answers)
}

// carrierMoves refuses to point at a virtual address before somebody carries it,
// and to take it away before everybody was pointed elsewhere.
func carrierMoves(was, is string) error {
	virtual := string(topology.ByCarrier)
	words := map[string]string{string(topology.ByMachine): "control-plane machine", string(topology.ByExisting): "existing balancer"}
	switch {
	case is == virtual && !strings.HasSuffix(was, "+"+virtual):
		return &Refusal{What: fmt.Sprintf("the endpoint would move from the %s to a virtual address that nobody carries yet", cmp.Or(words[was], was)), Todo: "declare a balancer beside virtual and converge; then take the balancer out"}
	case was == virtual && !strings.HasSuffix(is, "+"+virtual):
		return &Refusal{What: fmt.Sprintf("the virtual address would go while the machines are still pointed at it, and the %s is to answer", cmp.Or(words[is], is)), Todo: "declare a balancer beside virtual and converge; then take virtual out"}
	}
	return nil
}
