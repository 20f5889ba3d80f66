package plan

import (
	"fmt"
	"slices"
	"strings"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

// rewriting plans how the files of living machines are brought up to date.
// What restarts something is done with care: on the control plane one machine
// after the other, each out of the balancer meanwhile; then the workers, in the
// batches of their pools. Certificates and keys keep that order also where they
// restart nothing: should new ones not work, that shows on few machines. What
// else restarts nothing is done at once.
type rewriting struct {
	*planner
	control string              // last step of the control-plane machine before
	batch   map[string][]string // last steps of the batch underway, by pool
	before  map[string][]string // of the batch before that
}

// batched says whether a machine is written in the batches of its pool.
func (r *rewriting) batched(m topology.Machine, s MachineSeen) bool {
	return !r.o.Now && m.Role == versions.Worker && (len(s.Restarts) > 0 || slices.ContainsFunc(s.Differs, func(f string) bool { return strings.HasPrefix(f, trust.Dir+"/") }))
}

func (r *rewriting) write(m topology.Machine, s MachineSeen) {
	step := Step{Needs: []string{id(Get, m.Name)}, Detail: s.Lines}
	text, why := "write "+enumerate(s.Differs), "not as rendered"
	careful := !r.o.Now && len(s.Restarts) > 0
	batched := r.batched(m, s)
	if len(s.Restarts) > 0 {
		text += fmt.Sprintf(", and restart %s", enumerate(s.Restarts))
	}
	switch {
	case m.Is(versions.Balances):
		// A machine enters the balancer once it can serve.
		for _, cm := range r.c.With(versions.API) {
			step.Needs = append(step.Needs, id(Control, cm.Name))
		}
	case m.Is(versions.API) || m.Is(versions.Member):
		step.Needs = append(step.Needs, r.control)
		if r.o.Now {
			step.Needs = step.Needs[:1]
		}
		if careful && slices.Contains(s.Restarts, nodeconf.UnitEtcd) {
			step.Guards = r.quorumGuard(m)
		}
	case batched:
		if len(r.batch[m.Pool]) >= max(m.Batch, 1) {
			r.before[m.Pool], r.batch[m.Pool] = r.batch[m.Pool], nil
		}
		step.Needs = append(append(step.Needs, r.control), r.before[m.Pool]...)
	}
	if m.Role == versions.Worker && slices.Contains(s.Differs, nodeconf.Hosts) {
		r.pointed[m.Name] = true
	}
	if !careful {
		last := r.add(Write, m.Name, text, why, step)
		if m.Is(versions.API) || m.Is(versions.Member) {
			r.control = last
		}
		if batched {
			r.batch[m.Pool] = append(r.batch[m.Pool], last)
		}
		r.settled = append(r.settled, last)
		return
	}
	balancers := len(r.c.Of(versions.Balancer)) > 0
	rests := balancers && (m.Is(versions.API) && len(r.c.With(versions.API)) > 1 && slices.Contains(s.Restarts, nodeconf.UnitAPIServer) || m.Role == versions.Worker && len(r.c.Forward) > 0)
	if rests && !r.o.Resting[m.Name] {
		step.Needs = []string{r.add(Rest, m.Name, "take it out of the balancer", "no request may meet what is being restarted", Step{Needs: step.Needs, Guards: r.quorumGuard(m)})}
	}
	last := r.add(Write, m.Name, text, why, step)
	if !m.Is(versions.Balances) && !s.Enrols && len(r.down(m, versions.Node)) == 0 || m.Is(versions.API) {
		last = r.add(Ready, m.Name, "wait until all of it is well", "the next one may go only when this one is back", Step{Needs: []string{last}})
		if rests || r.o.Resting[m.Name] {
			last = r.add(Return, m.Name, "put it back into the balancer", "it serves again", Step{Needs: []string{last}})
		}
	}
	r.settled = append(r.settled, last)
	if m.Role == versions.Worker {
		r.batch[m.Pool] = append(r.batch[m.Pool], last)
		return
	}
	r.control = last
}

// pointedLast puts off what tells workers where the endpoint is until something
// answers there that is yet to be started.
func (p *planner) pointedLast() {
	fronts := slices.DeleteFunc(slices.Clone(p.fronts()), func(id string) bool { return !p.ids[id] || strings.HasPrefix(id, string(Write)) })
	if len(p.pointed) == 0 || len(fronts) == 0 || !p.o.API || p.o.Endpoint {
		return
	}
	var first, last []Step
	for _, s := range p.plan.Steps {
		if !p.pointed[s.Machine] {
			first = append(first, s)
			continue
		}
		s.Needs = slices.Compact(slices.Sorted(slices.Values(append(s.Needs, fronts...))))
		last = append(last, s)
	}
	p.plan.Steps = append(first, last...)
}

// namesFirst plans that certificates with new names are taken up everywhere
// before the configuration of the datastore's members asks for those names:
// else the first member that does would refuse all others.
func (p *planner) namesFirst() bool {
	if !p.o.Founded || p.o.Now {
		return false
	}
	asks := false
	var lack []topology.Machine
	for _, m := range p.c.Machines {
		if !m.Is(versions.Member) && !m.Is(versions.API) {
			continue
		}
		s := p.o.Machines[m.Name]
		if !s.Reached {
			return false // it is woken first, and then all of this is planned anew
		}
		asks = asks || m.Is(versions.Member) && slices.Contains(s.Differs, nodeconf.DatastoreConfig)
		if slices.ContainsFunc(trust.Requests(p.c, m), func(q trust.Request) bool {
			return q.Authority == trust.Datastore && slices.Contains(s.Differs, trust.Dir+"/"+q.Name+".crt")
		}) {
			lack = append(lack, m)
		}
	}
	if !asks || len(lack) == 0 {
		return false
	}
	p.plan.More = true
	last := ""
	for _, m := range lack {
		p.plan.Differs = append(p.plan.Differs, fmt.Sprintf("machine %s: its certificates for the datastore", m.Name))
		last = p.add(Vouch, m.Name, "take up its new certificates", "the datastore's members are about to ask for what only these have", Step{Needs: []string{last}, Detail: p.o.Machines[m.Name].Lines})
	}
	return true
}
