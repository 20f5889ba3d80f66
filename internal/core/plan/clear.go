package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Clear plans how machines become bare ones that are kept; with all of them the
// cluster itself ends, and the next converge raises it again. With gone the
// machines are given back to the site instead, dead ones too.
func Clear(c *topology.Cluster, o Observed, chosen []string, gone bool) (*Plan, error) {
	p := &planner{c: c, o: o, ids: map[string]bool{}, runs: map[string]bool{}, wants: map[string][]string{}}
	voters := 0
	for _, m := range o.Members {
		if !m.Learner {
			voters++
		}
	}
	var ms []topology.Machine
	for _, n := range chosen {
		m, declared := c.Machine(n)
		s, seen := o.Machines[n]
		switch {
		case !declared && !seen:
			return nil, &Misnamed{fmt.Sprintf("cluster %s has no machine %s", c.Name, n), near(n, slices.Concat(names(c), slices.Sorted(maps.Keys(o.Machines))), "verbund machines lists them")}
		case !seen || !s.Exists:
			return nil, &Refusal{fmt.Sprintf("machine %s is not there", n), "converge gets it anew"}
		case !declared:
			return nil, &Refusal{fmt.Sprintf("machine %s is not declared any more", n), "converge gives it back to the site"}
		case !gone && !s.Reached:
			return nil, &Refusal{fmt.Sprintf("machine %s cannot be cleared, because it is not reached: %s", n, s.Trouble), "switch it on first, or replace it: verbund replace " + n}
		case gone && m.Hardware != "":
			return nil, &Refusal{fmt.Sprintf("machine %s is the adopted %s, and no other can take its place by itself", n, m.Hardware), "declare another hardware address under adopt, or clear it"}
		}
		ms = append(ms, m)
	}
	everything := len(ms) == len(c.Machines) || !slices.ContainsFunc(c.With(versions.Member), func(m topology.Machine) bool { return !slices.Contains(chosen, m.Name) })
	if everything && o.Founded && !gone {
		if len(ms) < len(c.Machines) {
			return nil, &Refusal{"these are all machines with a member of the datastore, and without it nothing of the cluster is left", "clear the whole cluster: verbund clear without a machine"}
		}
		p.plan.Endangers = append(p.plan.Endangers, "everything will be lost; only backups remain")
	}
	last := ""
	for _, m := range ms {
		s := o.Machines[m.Name]
		var needs []string
		if !everything || gone {
			_, isNode := o.Nodes[m.Name]
			_, isMember := o.Members[m.Name]
			if isMember && voters <= 1 {
				return nil, &Refusal{fmt.Sprintf("machine %s has the only member of the datastore", m.Name), "add a control-plane machine first, or clear the whole cluster: verbund clear"}
			}
			if isNode && m.Role == versions.Worker && s.Reached {
				needs = []string{p.drain(m.Name, "it leaves the cluster for now", Step{})}
			}
			if isMember {
				last = p.add(Leave, m.Name, "take its member out of the datastore", "it joins anew later", Step{Needs: append(needs, last), Guards: []Guard{OthersWell}, Final: true, Waits: etcdWaits})
				needs = []string{last}
				p.plan.Endangers = append(p.plan.Endangers, fmt.Sprintf("until %s is back, the datastore has %d of %d members and survives the loss of %d", m.Name, voters-1, voters, max(voters-2, 0)/2))
			}
			if isNode && (!gone || s.Reached) {
				needs = []string{p.add(Unnode, m.Name, "take the node out of the cluster", "it leaves for now", Step{Needs: needs})}
			}
		}
		kind, text, why := Wipe, "stop everything and wipe its disk", "it is to be a bare machine again"
		if gone {
			kind, text, why = Release, givesBack(c.Listed), "a new one takes its place"
		}
		p.plan.Removes = append(p.plan.Removes, Removal{m.Name, fmt.Sprintf("what is on %s (%s, zone %s)", m.Name, cmp.Or(m.Pool, string(m.Role)), m.Zone)})
		out := p.add(kind, m.Name, text, why, Step{Needs: needs, Final: true})
		// Nobody can stop the kubelet of a machine that is not reached: while it lives it
		// would make the node known again.
		if _, isNode := o.Nodes[m.Name]; isNode && gone && !s.Reached {
			p.add(Unnode, m.Name, "take the node out of the cluster", "it leaves for now", Step{Needs: []string{out}})
		}
	}
	return p.ordered(), p.drains()
}

func names(c *topology.Cluster) []string {
	var out []string
	for _, m := range c.Machines {
		out = append(out, m.Name)
	}
	return out
}

// near says which of the known words may have been meant, or else what lists them.
func near(word string, known []string, otherwise string) string {
	if w := declare.Nearest(word, known); w != "" {
		return "did you mean " + w + "?"
	}
	return otherwise
}
