package plan

import (
	"fmt"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// moved says whether a machine's address is another one than the cluster
// knows: the site leased it a new one, or the datastore still looks for its
// member where it was.
func (p *planner) moved(m topology.Machine) bool {
	if seen, ok := p.o.Members[m.Name]; ok && seen.Peer != "" && seen.Peer != nodeconf.Peer(m) {
		return true
	}
	return p.o.Machines[m.Name].Moved.IsValid()
}

// firstMoved is the machine to be repaired next: those with a member of the
// datastore come first.
func (p *planner) firstMoved() (topology.Machine, bool) {
	var first *topology.Machine
	for _, m := range p.c.Machines {
		if s := p.o.Machines[m.Name]; s.Reached && p.moved(m) && (first == nil || m.Is(versions.Member) && !first.Is(versions.Member)) {
			first = &m
		}
	}
	if first == nil {
		return topology.Machine{}, false
	}
	return *first, true
}

// repair plans how one machine takes up a new address: names, certificates,
// membership. Nothing else is touched until it is back; then the rest learns
// its new address, and the next machine follows.
func (p *planner) repair(m topology.Machine) {
	p.plan.More = true
	s := p.o.Machines[m.Name]
	was := "another one"
	if s.Moved.IsValid() {
		was = s.Moved.String()
	}
	p.plan.Differs = append(p.plan.Differs, fmt.Sprintf("machine %s is at %s, not at %s", m.Name, m.Address, was))
	step := Step{}
	text := "take up its new address " + m.Address.String()
	if m.Is(versions.Member) {
		text += ", and tell the datastore"
		step.Guards = []string{"every other member of the datastore is healthy"}
	}
	last := p.add(Move, m.Name, text, "the site leased it this one instead of "+was, step)
	last = p.add(Write, m.Name, "write its configuration, names and certificates for the new address", "they are for the old one", Step{Needs: []string{last}, Detail: s.Lines})
	for _, part := range m.Parts {
		kind, text := Node, "start container runtime, kubelet and proxy"
		switch part {
		case versions.Approver:
			continue // it starts with the API server
		case versions.Member:
			kind, text = Member, "start its datastore member"
		case versions.API:
			kind, text = Control, "start API server, controller manager and scheduler"
		case versions.Carrier:
			kind, text = Carry, "stand for election as carrier of "+p.c.Endpoint.Carried.String()
		case versions.Balances:
			kind, text = Balance, "start the balancer"
		}
		last = p.add(kind, m.Name, text, "it could not run at the old address", Step{Needs: []string{last}})
	}
}
