package plan

import (
	"fmt"
	"slices"

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

// movedNext are the machines to be repaired next: one that others need, members of the
// datastore first, then API servers, then what answers at the endpoint; when there is
// none, all workers, which are out of service anyway.
func (p *planner) movedNext() []topology.Machine {
	rank := func(m topology.Machine) int {
		for i, part := range []versions.Part{versions.Member, versions.API, versions.Balances} {
			if m.Is(part) {
				return i
			}
		}
		return 3
	}
	var next []topology.Machine
	for _, m := range p.c.Machines {
		if s := p.o.Machines[m.Name]; s.Reached && p.moved(m) && !p.fresh(m) {
			next = append(next, m)
		}
	}
	slices.SortStableFunc(next, func(a, b topology.Machine) int { return rank(a) - rank(b) })
	if len(next) > 0 && rank(next[0]) < 3 {
		return next[:1]
	}
	return next
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
		step.Guards = p.quorumGuard(m)
	}
	last := p.add(Move, m.Name, text, "the site leased it this one instead of "+was, step)
	last = p.add(Write, m.Name, "write its configuration, names and certificates for the new address", "they are for the old one", Step{Needs: []string{last}, Detail: s.Lines})
	for _, part := range m.Parts {
		kind, text := Node, "start container runtime, kubelet and proxy"
		switch part {
		case versions.Acting, versions.Approver, versions.Keeper:
			continue // it starts with the API server
		case versions.Member:
			kind, text = Member, "start its datastore member"
		case versions.API:
			kind, text = Control, startsControl(m)
		case versions.Carrier:
			kind, text = Carry, "stand for election as carrier of "+p.c.Endpoint.Carried.String()
		case versions.Balances:
			kind, text = Balance, "start the balancer"
		}
		last = p.add(kind, m.Name, text, "it could not run at the old address", Step{Needs: []string{last}})
	}
	p.plan.Steps[len(p.plan.Steps)-1].Arrives = true
}
