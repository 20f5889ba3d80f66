package plan

import (
	"slices"
	"time"

	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
)

// GroupPlan is what a roll-out comes to for one group of machines.
type GroupPlan struct {
	Group    string        `json:"group"`
	Machines int           `json:"machines"` // that change
	Of       int           `json:"of"`
	Way      rollout.Way   `json:"way"`
	Waves    int           `json:"waves"`
	Changes  []string      `json:"changes"` // what, in words
	Holds    int           `json:"holds"`   // how often a person's word is waited for
	Out      time.Duration `json:"-"`       // that a machine is out of service, the middle one
	From     time.Duration `json:"-"`       // when the first wave begins
	Until    time.Duration `json:"-"`       // when the last one is over

	OutSeconds   float64 `json:"outSeconds"`
	FromSeconds  float64 `json:"fromSeconds"`
	UntilSeconds float64 `json:"untilSeconds"`
}

// Summarise says what the waves of a plan come to, by group, and how long all of it takes,
// with the machines that are replaced after these steps: each of their waves is reckoned to
// take what its steps usually take. What is waited for from people takes no time here.
func Summarise(c *topology.Cluster, o Observed, p *Plan, slots []Slot, total time.Duration, usual func(Step) time.Duration) ([]GroupPlan, time.Duration) {
	pl := newPlanner(c, o)
	outages := OutagesOf(slots)
	var out []GroupPlan
	for _, name := range c.Groups() {
		g := pl.whole(name)
		x := GroupPlan{Group: name, Of: len(g.Machines), Changes: []string{}, From: -1}
		var outs []time.Duration
		now := 0
		for _, w := range p.Waves {
			if w.Group != name {
				continue
			}
			now++
			x.Way = w.Way
			x.Machines += len(w.Machines)
			for _, o := range outages {
				if !o.Gone && slices.Contains(w.Machines, o.Machine) {
					outs = append(outs, o.To-o.From)
				}
			}
		}
		for _, s := range slots {
			if s.Step.Group != name {
				continue
			}
			if x.From < 0 || s.From < x.From {
				x.From = s.From
			}
			x.Until = max(x.Until, s.To)
			if s.Step.Kind == Pause {
				x.Holds++
			}
		}
		later := slices.DeleteFunc(slices.Clone(p.Later), func(n string) bool { of, _ := c.GroupOf(n); return of != name })
		more := 0
		if len(later) > 0 {
			x.Way, x.Machines = rollout.Replacement, x.Machines+len(later)
			more = (len(later) + g.Policy.Surge - 1) / max(g.Policy.Surge, 1)
			if x.From < 0 {
				x.From = total
			}
			total = max(total, x.Until) + time.Duration(more)*replacementTakes(name, usual)
			x.Until = total
		}
		x.Waves = now + more
		if x.Waves == 0 && x.Holds == 0 {
			continue
		}
		for _, m := range g.Machines {
			for _, w := range append(slices.Clone(m.Must), m.May...) {
				if !slices.Contains(x.Changes, w) {
					x.Changes = append(x.Changes, w)
				}
			}
		}
		if len(outs) > 0 {
			slices.Sort(outs)
			x.Out = outs[len(outs)/2]
		}
		x.From = max(x.From, 0)
		x.OutSeconds, x.FromSeconds, x.UntilSeconds = x.Out.Seconds(), x.From.Seconds(), x.Until.Seconds()
		out = append(out, x)
	}
	return out, max(total, 0)
}

// replacementTakes is how long it usually takes that one machine takes the place of another.
func replacementTakes(group string, usual func(Step) time.Duration) time.Duration {
	kinds := []Kind{Get, Pull, Write, Node, Label, Ready, Drain, Unnode, Release}
	if !topology.IsPool(group) {
		kinds = append(kinds, Member, Control, Leave)
	}
	total := time.Duration(0)
	for _, k := range kinds {
		total += usual(Step{Kind: k, Machine: group})
	}
	return total
}
