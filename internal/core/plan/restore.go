package plan

import (
	"fmt"
	"maps"
	"slices"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/versions"
)

// Restores is a restoration that is underway, or asked for.
type Restores struct {
	ID     string // that tells the datastore founded by it from every other one
	Backup string // what it is founded from
	// Loses says what is lost by it, in words; empty if nothing is.
	Loses string
}

// restore plans how the datastore is founded from a backup: everything that serves from the
// old one stops first, everywhere, so that nobody is answered from both; then all members are
// made from the one snapshot, as a cluster of their own; then the API servers start. What else
// is otherwise than declared comes after, by a plan as any other.
//
// Cut off at any moment before the founding is over, all of it is done again: nothing has been
// written to the new datastore then, since no API server serves from it.
func (p *planner) restore() {
	r := p.o.Restores
	p.plan.More = true
	if r.Loses != "" {
		p.plan.Endangers = []string{r.Loses}
	}
	asleep := false
	for _, m := range p.c.Machines {
		if upholds(m) && !p.o.Machines[m.Name].Reached {
			text, why := fmt.Sprintf("get a machine of size %s in zone %s", m.Size, m.Zone), "the site does not have it"
			if p.asleep(m) {
				text, why, asleep = "switch it on and log in", "it was not reached: "+p.o.Machines[m.Name].Trouble, true
			}
			p.add(Get, m.Name, text, why, Step{})
		}
	}
	if asleep {
		return
	}
	// Everything is fetched before anything stops.
	var fetched []string
	for _, m := range p.c.Machines {
		if upholds(m) && (p.o.Machines[m.Name].Active == "" || p.differs(m)) {
			p.pull(m, "pull "+m.Carries(), "it is to run what the backup is of", Step{Needs: []string{id(Get, m.Name)}})
		}
		fetched = append(fetched, id(Get, m.Name), id(Pull, m.Name))
	}
	halts := p.halts(fetched)
	var ready []string
	for _, m := range p.c.Machines {
		if !upholds(m) {
			continue
		}
		s := p.o.Machines[m.Name]
		if s.Active == "" || p.differs(m) || len(s.Differs) > 0 {
			p.add(Write, m.Name, "write its configuration and certificates", "it has other ones", Step{Needs: append(slices.Clone(halts), id(Get, m.Name), id(Pull, m.Name))})
		}
		ready = append(ready, id(Write, m.Name), id(Get, m.Name))
	}
	ms := p.c.With(versions.Member)
	text := "found the datastore from backup " + r.Backup
	if len(ms) > 1 {
		text += fmt.Sprintf(", by its %d members at once", len(ms))
	}
	p.add(Found, "", text, "it is restored", Step{Needs: slices.Concat(halts, ready), Final: true})
	for _, m := range p.c.With(versions.API) {
		p.add(Control, m.Name, startsControl(m), "the datastore is restored", Step{Needs: []string{string(Found), id(Write, m.Name)}})
	}
}

// halts stop what serves from the old datastore, once what comes after it was fetched: API
// servers on all machines, before any member of the datastore stops, so that what they are being
// asked is answered. Members stop when they are made anew; of machines that are not declared any
// more they stop here.
func (p *planner) halts(fetched []string) []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(p.o.Machines)) {
		s, units, what := p.o.Machines[name], slices.Concat(nodeconf.UnitsOf(versions.API), nodeconf.UnitsOf(versions.Acting)), "stop the API server, and what goes with it"
		if !p.runs[name] {
			units, what = slices.Concat(units, nodeconf.UnitsOf(versions.Member)), what+", and the datastore's member"
		}
		if s.Reached && slices.ContainsFunc(units, func(u string) bool { return runs(s.Units[u]) }) {
			out = append(out, p.add(Halt, name, what, "nobody is to be answered from the old datastore", Step{Needs: fetched}))
		}
	}
	return out
}

// runs says of a unit's state whether anything of it runs, or will by itself.
func runs(state string) bool { return state != "" && state != "inactive" && state != "failed" }
