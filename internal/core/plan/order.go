package plan

import (
	"container/heap"
	"slices"
)

// ordered is the plan with each step behind all after which it is to come, also such as were
// planned after it. Where two are to come after each other, the one that was planned first stays
// the first.
func (p *planner) ordered() *Plan {
	at := map[string]int{}
	for i, s := range p.plan.Steps {
		at[s.ID] = i
	}
	late := false
	for i := range p.plan.Steps {
		s := &p.plan.Steps[i]
		for _, want := range p.wants[s.ID] {
			if j, there := at[want]; there && j > i && !p.after(want, s.ID, at) {
				s.Needs, late = append(slices.Clip(s.Needs), want), true
				slices.Sort(s.Needs)
			}
		}
	}
	if late {
		p.plan.Steps = sorted(p.plan.Steps)
	}
	return &p.plan
}

// after says whether a step comes after another one by what it needs.
func (p *planner) after(step, other string, at map[string]int) bool {
	seen := map[string]bool{}
	var reaches func(id string) bool
	reaches = func(id string) bool {
		if id == other {
			return true
		}
		i, there := at[id]
		if seen[id] || !there {
			return false
		}
		seen[id] = true
		return slices.ContainsFunc(p.plan.Steps[i].Needs, reaches)
	}
	return reaches(step)
}

// sorted has steps in their order, but each behind what it needs.
func sorted(steps []Step) []Step {
	f := NewFlow(steps)
	out := make([]Step, 0, len(steps))
	for len(f.ready) > 0 {
		i := heap.Pop(&f.ready).(int)
		out = append(out, steps[i])
		f.end(i)
	}
	return out
}
