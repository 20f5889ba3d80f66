package plan

import (
	"maps"
	"slices"

	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Wake plans that machines are switched on whose members of the datastore count, where some
// machines are about to go: etcd lets nobody leave or join while another member is away. nil if
// none is off.
func Wake(c *topology.Cluster, o Observed, going []string) *Plan {
	p := newPlanner(c, o)
	if !p.wakes(func(name string) bool { return !slices.Contains(going, name) }, "its member of the datastore counts, and another one is to leave") {
		return nil
	}
	return &p.plan
}

// wakesLeaving does so with machines that are on their way out, where another one is to join:
// nothing else would switch them on.
func (p *planner) wakesLeaving() bool {
	joins := slices.ContainsFunc(p.c.With(versions.Member), func(m topology.Machine) bool { _, is := p.o.Members[m.Name]; return !is })
	return joins && (p.o.Part == "" || p.o.Part == OnlyControl) &&
		p.wakes(func(name string) bool { return !p.runs[name] }, "it is on its way out, and its member of the datastore counts until it has left")
}

// wakes plans it for those that are meant, and says whether any is off.
func (p *planner) wakes(meant func(name string) bool, why string) bool {
	if !p.o.Founded {
		return false
	}
	for _, name := range slices.Sorted(maps.Keys(p.o.Members)) {
		if s := p.o.Machines[name]; meant(name) && s.Exists && (s.Power == "off" || s.Power == "crashed") {
			p.add(Get, name, "switch it on", why, Step{})
			p.plan.More = true
		}
	}
	return p.plan.More
}
