package plan

import (
	"strings"
	"time"
)

// drain plans that a node is emptied, within the patience of its pool.
func (p *planner) drain(machine, why string, s Step) string {
	s.Guards = []Guard{Emptied}
	s.Within = p.c.PatienceOf(machine)
	return p.add(Drain, machine, "cordon it and evict its pods", why, s)
}

// Undrainable says why a node cannot be emptied, before anything is evicted; nil
// if it can.
func Undrainable(machine string, loses, stuck []string) *Refusal {
	switch {
	case len(loses) > 0:
		return &Refusal{"emptying node " + machine + " would lose something for good, so nothing was begun: " + enumerate(loses),
			"give a pod that has no controller one, or delete it; if a pod or its data may be lost, say so under mayLose in the declaration, or with --may-lose SELECTOR"}
	case len(stuck) > 0:
		return &Refusal{"node " + machine + " could never be emptied, so nothing was begun: " + strings.Join(stuck, "; "), "change the disruption budget or the application"}
	}
	return nil
}

// drains looks, before the first step, whether every node that is to be emptied
// can be. What is not part of a limited run is no bar to it.
func (p *planner) drains() error {
	for _, s := range p.plan.Steps {
		if s.Kind != Drain {
			continue
		}
		n := p.o.Nodes[s.Machine]
		r := Undrainable(s.Machine, n.Loses, n.Stuck)
		switch {
		case r == nil:
		case p.o.Part == "" || p.o.Part == p.plan.part(p.c, s):
			return r
		default:
			p.plan.Beside = append(p.plan.Beside, r.Error())
		}
	}
	return nil
}

// Limit is how long the step may take before it is given up.
func (s Step) Limit() time.Duration {
	return max(s.Kind.About().Worry, s.Within+slack)
}

// slack is what a step may take beside what it waits for.
const slack = 30 * time.Second
