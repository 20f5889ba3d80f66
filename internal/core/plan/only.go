package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"verbund/internal/core/topology"
)

// The parts of a cluster to which a run can be limited, beside its pools.
const (
	OnlyControl = "control" // control plane with datastore and what answers at the endpoint
	OnlyAddOns  = "addons"
)

// Parts lists what a run can be limited to.
func Parts(c *topology.Cluster) []string {
	out := []string{OnlyControl, OnlyAddOns}
	for _, m := range c.Machines {
		if m.Pool != "" && !slices.Contains(out, m.Pool) {
			out = append(out, m.Pool)
		}
	}
	return out
}

// CheckPart says whether a cluster has a part: a declared one, or one of which a
// machine is left.
func CheckPart(c *topology.Cluster, o Observed, part string) error {
	if slices.Contains(Parts(c), part) {
		return nil
	}
	for name := range o.Machines {
		if PartOf(c, name) == part {
			return nil
		}
	}
	return &Misnamed{fmt.Sprintf("cluster %s has no part %q", c.Name, part), near(part, Parts(c), "choose one of "+strings.Join(Parts(c), ", "))}
}

// partOf names the part to which a declared machine belongs.
func partOf(m topology.Machine) string { return cmp.Or(m.Pool, OnlyControl) }

// PartOf names the part to which a machine belongs, declared or not.
func PartOf(c *topology.Cluster, machine string) string {
	return (&Plan{}).part(c, Step{Kind: Get, Machine: machine})
}

// part names the part that a step belongs to; the last look at everything
// belongs to none.
func (p *Plan) part(c *topology.Cluster, s Step) string {
	switch s.Kind.About().Part {
	case OfAddOns:
		return OnlyAddOns
	case OfGroup:
		if topology.IsPool(s.Group) {
			return s.Group
		}
		return OnlyControl
	case OfNone:
		return ""
	}
	if m, ok := c.Machine(s.Machine); ok && m.Pool != "" {
		return partOf(m)
	}
	// A machine that is not declared any more belongs to what its name says.
	if pool := c.PoolOf(s.Machine); pool != "" {
		return pool
	}
	return OnlyControl
}

// onWhom is a step with the machine that it is about.
func onWhom(s Step) string {
	if s.Machine == "" {
		return s.Text
	}
	return s.Machine + ", " + s.Text
}

// Only keeps the steps of one part, and says what is left. Waiting until a
// node is Ready is left with the rest when something of the rest has to come
// before it; any other step that needs the rest is refused.
func (p *Plan) Only(c *topology.Cluster, part string) (*Plan, []Step, error) {
	out := *p
	out.Steps = nil
	kept, dropped := map[string]bool{}, map[string]Step{}
	var left []Step
	for _, s := range p.Steps {
		mine := p.part(c, s) == part
		if mine {
			for _, n := range s.Needs {
				d, is := dropped[n]
				if !is {
					continue
				}
				if s.Kind == Ready || s.Kind == Return || p.part(c, d) == part {
					mine = false // it waits, and what it waits for is left
					break
				}
				first := p.part(c, d)
				return nil, nil, &Refusal{fmt.Sprintf("of %s, this cannot be done: %s; before it comes, of %s: %s", part, onWhom(s), first, onWhom(d)), "run the same with --only " + first + " first, or without --only"}
			}
		}
		if !mine {
			dropped[s.ID] = s
			if s.Kind != Verify {
				left = append(left, s)
			}
			continue
		}
		kept[s.ID] = true
		out.Steps = append(out.Steps, s)
	}
	if len(left) == 0 {
		return p, nil, nil
	}
	out.Removes = slices.DeleteFunc(slices.Clone(p.Removes), func(r Removal) bool {
		return !slices.ContainsFunc(out.Steps, func(s Step) bool { return s.Machine == r.Machine && (s.Kind == Release || s.Kind == Unnode) })
	})
	if part != OnlyControl {
		out.Endangers = nil
	}
	return &out, left, nil
}
