package plan

import (
	"fmt"
	"slices"
	"strings"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

// rewriting plans how the files of living machines are brought up to date.
// What restarts something is done with care: on the control plane one machine
// after the other, each out of the balancer meanwhile; then the workers, in the
// waves of their pools. Certificates and keys keep that order also where they
// restart nothing: should new ones not work, that shows on few machines. What
// else restarts nothing is done at once.
type rewriting struct {
	*planner
	control string // last step of the control-plane machine before
}

// batched says whether a machine is written in the waves of its pool.
func (p *planner) batched(m topology.Machine, s MachineSeen) bool {
	return !p.o.Now && m.Role == versions.Worker && (len(s.Restarts) > 0 || s.Enrols || slices.ContainsFunc(s.Differs, func(f string) bool { return strings.HasPrefix(f, trust.Dir+"/") }))
}

// inWaves plans the machines that are written with care, group by group.
func (r *rewriting) inWaves(owed map[string][]string) {
	var after []string
	for _, name := range r.c.Groups() {
		g := r.group(name, r.saysOther)
		g.More = r.follows(name)
		ws := g.Waves()
		after = append(slices.Clone(after), owed[name]...)
		if r.arrives[name] {
			continue
		}
		for _, w := range ws {
			if w.Way == rollout.Replacement {
				break
			}
			if slices.ContainsFunc(w.Machines, func(n string) bool { return r.later[n] }) {
				continue
			}
			begun := r.begin(w, append(slices.Clone(after), r.control))
			var done []string
			for _, n := range w.Machines {
				m, _ := r.c.Machine(n)
				done = append(done, r.write(m, r.o.Machines[n], begun))
			}
			r.inWave = nil
			after = r.end(w, done)
		}
		if topology.IsPool(name) && (r.c.Together || r.o.Part != "") {
			after = nil
		}
	}
}

// write plans one machine, after the steps that are given, and returns the last step.
func (r *rewriting) write(m topology.Machine, s MachineSeen, after ...string) string {
	step := Step{Needs: append(after, id(Get, m.Name)), Detail: s.Lines}
	text, why := "write "+enumerate(s.Differs), "not as rendered"
	careful := !r.o.Now && len(s.Restarts) > 0
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
		if !r.o.Now {
			step.Needs = append(step.Needs, r.control)
		}
		if careful && slices.Contains(s.Restarts, nodeconf.UnitEtcd) {
			step.Guards = r.quorumGuard(m)
		}
	}
	if m.Role == versions.Worker && slices.Contains(s.Differs, nodeconf.Hosts) {
		r.pointed[m.Name] = true
	}
	if !careful {
		last := r.add(Write, m.Name, text, why, step)
		if m.Is(versions.API) || m.Is(versions.Member) {
			r.control = last
		}
		if r.batched(m, s) && s.Enrols {
			last = r.enrols(m, last)
		}
		r.settled = append(r.settled, last)
		return last
	}
	balancers := len(r.c.Of(versions.Balancer)) > 0
	rests := balancers && (m.Is(versions.API) && len(r.c.With(versions.API)) > 1 && slices.Contains(s.Restarts, nodeconf.UnitAPIServer) || m.Role == versions.Worker && len(r.c.Forward) > 0)
	if rests && !r.o.Resting[m.Name] {
		step.Needs = []string{r.add(Rest, m.Name, "take it out of the balancer", "no request may meet what is being restarted", Step{Needs: step.Needs, Guards: r.quorumGuard(m)})}
	}
	last := r.add(Write, m.Name, text, why, step)
	if s.Enrols && m.Role == versions.Worker {
		last = r.enrols(m, last)
	}
	if !m.Is(versions.Balances) && (s.Enrols || len(r.down(m, versions.Node)) == 0) || m.Is(versions.API) {
		if !r.ids[id(Ready, m.Name)] {
			last = r.add(Ready, m.Name, "wait until all of it is well", "the next one may go only when this one is back", Step{Needs: []string{last}})
		}
		if rests || r.o.Resting[m.Name] {
			last = r.add(Return, m.Name, "put it back into the balancer", "it serves again", Step{Needs: []string{last}})
		}
	}
	r.settled = append(r.settled, last)
	if m.Role != versions.Worker {
		r.control = last
	}
	return last
}

// enrols plans that a machine which is to ask for its first certificate does so, before
// another one's kubelet is stopped for it.
func (r *rewriting) enrols(m topology.Machine, last string) string {
	if _, known := r.o.Nodes[m.Name]; !known {
		return last // nothing of it serves yet, and nobody waits for it
	}
	last = r.add(Node, m.Name, "start container runtime, kubelet and proxy", "its kubelet asks for its certificate", Step{Needs: []string{last}})
	return r.add(Ready, m.Name, "wait until the node is Ready", "the next one may go only when this one is back", Step{Needs: []string{last}})
}

// pointedLast puts off what tells workers where the endpoint is until something
// answers there that is yet to be started.
func (p *planner) pointedLast() {
	fronts := slices.DeleteFunc(slices.Clone(p.fronts()), func(id string) bool { return !p.ids[id] || strings.HasPrefix(id, string(Write)) })
	if len(p.pointed) == 0 || len(fronts) == 0 || !p.o.API || p.o.Endpoint {
		return
	}
	var first, last []Step
	off := map[string]bool{}
	for _, s := range p.plan.Steps {
		if !p.pointed[s.Machine] && !slices.ContainsFunc(s.Needs, func(n string) bool { return off[n] }) {
			first = append(first, s)
			continue
		}
		if off[s.ID] = true; p.pointed[s.Machine] {
			s.Needs = slices.Compact(slices.Sorted(slices.Values(append(s.Needs, fronts...))))
		}
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
