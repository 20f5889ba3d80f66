package plan

import (
	"fmt"
	"maps"
	"slices"

	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// AsItRuns is a machine with the set and the parts that it has in the slot in use,
// where these are of another set than the declared one; have is what the slot
// holds, by component. ok is false when that is no set of the catalogue: then
// nothing can be rendered for what runs there.
func AsItRuns(m topology.Machine, have map[string]string, cat *versions.Catalogue) (as topology.Machine, ok bool) {
	fits := func(set versions.Set, parts []versions.Part) bool {
		return len(parts) > 0 && !slices.ContainsFunc(set.Components(parts), func(c versions.Component) bool { return have[c.Name] != c.Version })
	}
	if fits(m.Set, m.Parts) {
		return m, true
	}
	// What it is to gain it does not have yet.
	parts := slices.DeleteFunc(slices.Clone(m.Parts), func(p versions.Part) bool {
		return slices.ContainsFunc(m.Set.Components([]versions.Part{p}), func(c versions.Component) bool { return have[c.Name] == "" })
	})
	for _, set := range slices.Backward(cat.Sets) {
		if fits(set, parts) {
			set.Fairway, set.DNS = m.Set.Fairway, m.Set.DNS // add-ons are the cluster's
			m.Set, m.Parts = set, parts
			return m, true
		}
	}
	return m, false
}

// joined says whether a machine is part of the cluster already, or that it cannot
// be said whether it is.
func (p *planner) joined(m topology.Machine) bool {
	s := p.o.Machines[m.Name]
	switch {
	case !s.Exists || p.foreign(m):
		return false
	case m.Is(versions.Member):
		seen, is := p.o.Members[m.Name]
		return is && !seen.Learner || len(p.o.Members) == 0
	case m.IsNode():
		_, known := p.o.Nodes[m.Name]
		return known || !p.o.API
	}
	return s.Active != "" && s.Owner == p.c.Name
}

// forNow has machines that are yet to join a living cluster do so on what its API
// servers run: nothing there may be newer than they are (Kubernetes' policy of version
// skew), and a datastore is not upgraded by who joins it. The change to the
// declared version is planned when they are there.
func (p *planner) forNow(cat *versions.Catalogue) error {
	low := Version(p.c, p.o)
	if !p.o.Founded || low == "" {
		return nil
	}
	set, ok := cat.Set(low)
	if ok && p.unraised() && versions.Compare(p.c.Set.Kubernetes, low) > 0 {
		// What was begun is raised first, at what it was begun with: a hold, or the hours, keep a
		// change from beginning, and would leave it without a network for as long.
		for _, m := range p.c.Machines {
			if m.Role != versions.Balancer && versions.Compare(m.Set.Kubernetes, low) > 0 && !p.asleep(m) {
				m.Set = set
				p.stand(m)
			}
		}
		now := *p.c
		now.Set = set // and of the add-ons what fits
		p.c, p.fits = &now, &topology.Machine{Set: set}
		return nil
	}
	// A control plane that is replaced as a whole becomes the new version that way.
	whole := slices.ContainsFunc(p.c.With(versions.API), func(m topology.Machine) bool { return p.outdated(m) && p.replaces(m) })
	for _, m := range p.c.Machines {
		if whole && upholds(m) {
			continue
		}
		if m.Role == versions.Balancer || versions.Compare(m.Set.Kubernetes, low) <= 0 || p.asleep(m) || p.joined(m) {
			continue
		}
		if !ok {
			return &Refusal{fmt.Sprintf("machine %s is to join a control plane that runs %s, which the catalogue does not have", m.Name, low), "bring a catalogue that has it, or upgrade the control plane first: verbund converge --only " + OnlyControl}
		}
		as := m
		as.Set = set
		as.Set.Fairway, as.Set.DNS = m.Set.Fairway, m.Set.DNS
		if !slices.Equal(as.Components(), m.Components()) {
			p.stand(as)
		}
	}
	return nil
}

// unraised says whether the raising of a founded cluster was cut off: no network plugin was ever
// installed, or no API server runs that could say.
func (p *planner) unraised() bool {
	if p.c.CopyOf != "" || p.o.Now {
		return false
	}
	if p.o.API {
		return p.o.AddOns[versions.NetworkAddOn].Version == ""
	}
	return !slices.ContainsFunc(p.c.With(versions.API), func(m topology.Machine) bool {
		return p.asleep(m) || len(p.down(m, versions.API)) == 0
	})
}

// stand has a machine planned for as it is to be for now.
func (p *planner) stand(as topology.Machine) {
	p.c = p.c.Instead(as)
	clear(p.groups) // they were worked out for the one that is declared
	if p.as == nil {
		p.as = map[string]topology.Machine{}
	}
	p.as[as.Name] = as
}

// asRun has a machine whose address changed repaired as what it runs, also when
// another version is declared by now.
func (p *planner) asRun(m topology.Machine, cat *versions.Catalogue) (topology.Machine, error) {
	if !p.differs(m) {
		return m, nil
	}
	s := p.o.Machines[m.Name]
	as, ok := AsItRuns(m, s.Versions, cat)
	if !ok {
		return m, &Refusal{fmt.Sprintf("machine %s has another address, and runs %s, which is no set of the catalogue: no configuration can be written for it", m.Name, held(s.Versions)),
			"have the site give it its old address again, or replace it: verbund replace " + m.Name}
	}
	p.stand(as)
	return as, nil
}

// held lists what a slot holds, in words.
func held(have map[string]string) string {
	if len(have) == 0 {
		return "nothing"
	}
	var out []string
	for _, n := range slices.Sorted(maps.Keys(have)) {
		out = append(out, n+" "+have[n])
	}
	return enumerate(out)
}
