package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// must lists what a living machine cannot become while it lives, in words.
func (p *planner) must(m topology.Machine) []string {
	s := p.o.Machines[m.Name] // of one that is not there nothing is known
	var out []string
	if s.Size != "" && s.Size != m.Size {
		out = append(out, fmt.Sprintf("size %s instead of %s", m.Size, s.Size))
	}
	if s.Zone != "" && s.Zone != m.Zone {
		out = append(out, fmt.Sprintf("zone %s instead of %s", m.Zone, s.Zone))
	}
	if s.Image != nil && !p.c.Listed && m.Hardware == "" && !sameImage(m, *s.Image) {
		out = append(out, fmt.Sprintf("image %s instead of %s", imageInWords(m.Image), imageInWords(*s.Image)))
	}
	return out
}

// sameImage says whether a machine booted from what is declared for it. The system of a set
// moves with each set; a machine gets it when it is made, and keeps it.
func sameImage(m topology.Machine, was declare.Image) bool {
	if m.OwnSystem && was.System != m.Image.System || was.Architecture != m.Image.Architecture {
		return false
	}
	return slices.Equal(slices.Sorted(slices.Values(was.Extras)), slices.Sorted(slices.Values(m.Image.Extras)))
}

func imageInWords(i declare.Image) string {
	text := i.System + " for " + i.Architecture
	if len(i.Extras) > 0 {
		text += " with " + strings.Join(i.Extras, ", ")
	}
	return text
}

// fixed says why no other machine can take the place of one; empty when one can.
func (p *planner) fixed(m topology.Machine) string {
	switch {
	case m.Hardware != "":
		return "it is the adopted " + m.Hardware
	case m.Role == versions.Balancer:
		return "the endpoint's address is its own"
	}
	return ""
}

// careful says whether writing a machine's files has to be done in waves.
func (p *planner) careful(m topology.Machine) bool {
	s := p.o.Machines[m.Name]
	return !p.o.Now && s.Reached && !p.outdated(m) && !p.fresh(m) && len(s.Differs) > 0 && (len(s.Restarts) > 0 && !m.Is(versions.Balances) || p.batched(m, s))
}

// due says what is to change on a machine, as far as it is counted here.
type due func(m topology.Machine) (may []string)

// runsOther is that it runs something else than declared.
func (p *planner) runsOther(m topology.Machine) []string {
	if !p.outdated(m) || p.asleep(m) {
		return nil
	}
	if lacks := p.lacks(m); len(lacks) > 0 && p.o.Machines[m.Name].Running() == m.Set.Kubernetes {
		return []string{"it gets " + enumerate(lacks)}
	}
	return []string{m.Carries()}
}

// saysOther is that files are to be written with care.
func (p *planner) saysOther(m topology.Machine) []string {
	if !p.careful(m) {
		return nil
	}
	return []string{"its configuration"}
}

// group is a group of machines as the rules of roll-outs see it.
func (p *planner) group(name string, may ...due) rollout.Group {
	g := rollout.Group{Name: name, Policy: p.c.Policies[name]}
	if o, ok := p.o.Open[name]; ok {
		g.Open = &o
	}
	ms := p.c.OfGroup(name)
	for _, m := range ms {
		x := rollout.Machine{Name: m.Name, Number: m.Index, Zone: m.Zone, Exists: p.o.Machines[m.Name].Exists, Must: p.must(m), Fixed: p.fixed(m), Last: leads(p.o.Members[m.Name])}
		for _, f := range may {
			x.May = append(x.May, f(m)...)
		}
		if x.Fixed != "" {
			x.Must = nil // it is refused elsewhere
		}
		x.Written = len(p.runsOther(m)) == 0
		g.Machines = append(g.Machines, x)
	}
	var free []place // of which the machine is yet to come, or to go
	for i, m := range ms {
		if !g.Machines[i].Exists || p.replaces(m) {
			free = append(free, place{i, m})
		}
	}
	for _, n := range slices.Sorted(maps.Keys(p.o.Machines)) {
		if of, number := p.c.GroupOf(n); of == name && !p.runs[n] && p.o.Machines[n].Exists {
			g.Leaving = append(g.Leaving, number)
			if i := p.returns(free, n, may); i >= 0 {
				if g.Returns == nil {
					g.Returns = map[int]int{}
				}
				g.Returns[free[i].at] = number
				free = slices.Delete(free, i, i+1)
			}
		}
	}
	return g
}

// whole is a group with all that is to change in it, worked out once for each plan.
func (p *planner) whole(name string) rollout.Group {
	g, known := p.groups[name]
	if !known {
		g = p.group(name, p.runsOther, p.saysOther)
		p.groups[name] = g
	}
	return g
}

// place is where a machine of a group belongs.
type place struct {
	at int // of those of its group
	topology.Machine
}

// returns is which of some places of a group a machine on its way out can have again, since it
// is as declared for it; less than 0 is none. One that has left the cluster in part comes back
// as new ones do.
func (p *planner) returns(free []place, name string, may []due) int {
	s := p.o.Machines[name]
	i := slices.IndexFunc(free, func(f place) bool { return f.Hardware == "" && (s.Zone == "" || s.Zone == f.Zone) })
	if i < 0 || !s.Reached || s.Role != free[i].Role {
		return -1
	}
	// Places of one group and zone differ in their numbers alone: where one does not suit, none does.
	as := free[i].Machine
	as.Name = name
	if len(p.must(as)) > 0 || slices.ContainsFunc(may, func(f due) bool { return len(f(as)) > 0 }) {
		return -1
	}
	return i
}

// replaces says whether a machine is to give way to a new one. What is only written to it,
// its configuration and certificates, is written in either way.
func (p *planner) replaces(m topology.Machine) bool {
	if !p.o.Machines[m.Name].Exists || p.fixed(m) != "" || !p.o.Founded || p.stray(m) {
		return false
	}
	if len(p.must(m)) > 0 {
		return true
	}
	return p.c.Policies[m.Group()].Way == rollout.Replacement && len(p.runsOther(m)) > 0
}

// Turn is the numbers of those groups of which machines get new ones next, by place: they
// take free numbers, so that the new ones come before the old ones go. It is empty when
// none does, or not yet: workers go when the control plane is as declared, and unless they
// go together, one pool after the other.
func Turn(c *topology.Cluster, o Observed) map[string][]int {
	p := newPlanner(c, o)
	if !o.Founded || !o.API || o.Held || o.Now || len(o.Members) == 0 || p.movedNext() != nil {
		return nil
	}
	for _, m := range c.Machines {
		if p.asleep(m) {
			return nil // what they need shows when they are awake
		}
	}
	out := map[string][]int{}
	for _, name := range c.Groups() {
		if o.Part != "" && o.Part != OnlyControl && name != o.Part || o.Part == OnlyControl && topology.IsPool(name) {
			continue
		}
		g := p.whole(name)
		g.More = p.follows(name)
		now := g.Swaps()
		for i, m := range g.Machines {
			if now[i] != m.Number {
				out[name] = now
			}
		}
		settled := len(g.Waves()) == 0 && len(g.Leaving) == 0 && !slices.ContainsFunc(g.Machines, func(m rollout.Machine) bool { return !m.Exists })
		if soak, hold := g.Owed(); !settled || soak > 0 || hold {
			if !topology.IsPool(name) || !c.Together && o.Part == "" {
				return out
			}
		}
	}
	return out
}

// follows says whether anything is to change in a group that comes after one.
func (p *planner) follows(group string) bool {
	all := p.c.Groups()
	return slices.ContainsFunc(all[slices.Index(all, group)+1:], func(name string) bool { return len(p.whole(name).Waves()) > 0 })
}

// gate adds a step that belongs to a group and to no machine.
func (p *planner) gate(k Kind, group string, n int, text, why string, s Step) string {
	s.Group, s.Wave = group, n
	return p.add(k, "", text, why, s)
}

// begin adds the step with which a wave begins: whether one may at this hour, and whether a
// person has told the roll-out to hold, is asked there.
func (p *planner) begin(w rollout.Wave, needs []string) string {
	// One that was cut off goes on under its number.
	if o := p.o.Open[w.Group]; !w.GoesOn || p.waves[w.Group] != o.Number {
		p.waves[w.Group]++
	}
	text := fmt.Sprintf("begin wave %d of %s: %s", p.waves[w.Group], topology.GroupInWords(w.Group), enumerate(w.Machines))
	if w.Trial {
		text += ", on trial"
	}
	if w.Zone != "" {
		text += ", in zone " + w.Zone
	}
	p.plan.Waves = append(p.plan.Waves, w)
	p.inWave = map[string]string{}
	for _, n := range w.Machines {
		p.inWave[n] = w.Group
	}
	last := p.gate(Wave, w.Group, p.waves[w.Group], text, w.Why, Step{Needs: needs, Guards: []Guard{MayBegin}, Opens: &rollout.Open{Number: p.waves[w.Group], Before: p.ranBefore(w.Group), Machines: w.Machines, Trial: w.Trial}})
	p.begun = append(p.begun, last)
	return last
}

// end adds what has to be waited for after a wave. It returns the steps after which the next
// one may begin.
func (p *planner) end(w rollout.Wave, done []string) []string {
	return p.await(w.Group, w.Machines, w.Soak, w.Hold, done)
}

func (p *planner) await(group string, machines []string, soak time.Duration, hold bool, done []string) []string {
	if soak > 0 {
		done = []string{p.gate(Soak, group, p.waves[group], fmt.Sprintf("see %s stay well for %s", enumerate(machines), declare.Duration(soak)), "what is wrong with a change often shows only after a while",
			Step{Needs: done, Waits: soak, Within: soak, Machines: machines})}
	}
	if hold {
		done = []string{p.gate(Pause, group, p.waves[group], "wait for a person's word, before "+topology.GroupInWords(group)+" goes on", "it is declared that the roll-out holds here", Step{Needs: done})}
	}
	return done
}

// fetches are the steps before which a wave's artefacts are not fetched: everything is
// fetched a few waves ahead, and not all at once.
func (p *planner) fetches(before []string) []string {
	if n := len(p.begun) - p.c.Prefetch; n >= 0 && n < len(p.begun) {
		return append(slices.Clone(before), p.begun[n])
	}
	return before
}

// owed adds what the wave that was open when an earlier run ended still has to wait for.
// It returns, by group, what its next wave has to come after.
func (p *planner) owed() map[string][]string {
	out := map[string][]string{}
	if len(p.o.Open) == 0 {
		return out
	}
	for _, name := range p.c.Groups() {
		g := p.whole(name)
		if g.Open == nil {
			continue
		}
		g.More = p.follows(name)
		if soak, hold := g.Owed(); soak > 0 || hold {
			there := slices.DeleteFunc(slices.Clone(g.Open.Machines), func(n string) bool { return !p.runs[n] })
			out[name] = p.await(name, there, soak, hold, nil)
		}
	}
	return out
}

// arriving are the machines of a group that are yet to come while others of it are on their
// way out: a wave of replacement, which has begun if their coming was remembered.
func (p *planner) arriving() map[string]string {
	out := map[string]string{}
	if !p.o.Founded {
		return out
	}
	for _, name := range p.c.Groups() {
		g := p.group(name)
		if len(g.Leaving) == 0 {
			continue
		}
		// One that was begun by an earlier run is not over before the old ones are gone.
		p.arrives[name] = g.Open != nil && slices.ContainsFunc(g.Machines, func(m rollout.Machine) bool { return slices.Contains(g.Open.Machines, m.Name) })
		w := rollout.Wave{Group: name, Way: rollout.Replacement, Trial: g.Policy.Trial > 0 && (g.Open == nil || !g.Open.Soaked && g.Open.Trial)}
		var why []string
		for _, m := range g.Machines {
			if !m.Exists && (g.Open == nil || !slices.Contains(g.Open.Machines, m.Name)) {
				w.Machines = append(w.Machines, m.Name)
				w.Zone = m.Zone
			}
		}
		if len(w.Machines) == 0 {
			continue
		}
		for _, n := range g.Leaving {
			old := fmt.Sprintf("%s-%s-%d", p.c.Name, name, n)
			why = append(why, old)
		}
		w.Why = "in the place of " + enumerate(why)
		if slices.ContainsFunc(w.Machines, func(n string) bool { m, _ := p.c.Machine(n); return m.Zone != w.Zone }) {
			w.Zone = ""
		}
		var needs []string
		if upholds(p.c.OfGroup(name)[0]) && p.o.Backup != Version(p.c, p.o) && slices.ContainsFunc(p.c.OfGroup(name), p.outdated) {
			needs = []string{p.backup(nil)}
		}
		p.arrives[name] = true
		step := p.begin(w, needs)
		for _, n := range w.Machines {
			out[n] = step
		}
	}
	return out
}

// withoutWaves leaves out the waves, and all that comes after one.
func (p *planner) withoutWaves() {
	off := map[string]bool{}
	p.plan.Steps = slices.DeleteFunc(p.plan.Steps, func(s Step) bool {
		out := s.Kind.About().Part == OfGroup || slices.ContainsFunc(s.Needs, func(n string) bool { return off[n] })
		off[s.ID] = out
		return out
	})
	p.plan.Held = p.plan.Held || len(p.plan.Waves)+len(p.plan.Later) > 0 || len(off) > len(p.plan.Steps)
	p.plan.More = p.plan.More || p.plan.Held
	p.plan.Waves = nil
	p.plan.Removes = slices.DeleteFunc(p.plan.Removes, func(r Removal) bool { return off[id(Release, r.Machine)] || off[id(Unnode, r.Machine)] })
}

// ranBefore is the version that a group ran before its roll-out; empty when it runs what is
// declared, and when nothing says.
func (p *planner) ranBefore(group string) string {
	if o, ok := p.o.Open[group]; ok && o.Before != "" {
		return o.Before
	}
	if v, known := p.ran[group]; known {
		return v
	}
	low := ""
	for n, s := range p.o.Machines {
		if of, _ := p.c.GroupOf(n); of != group {
			continue
		}
		if v := s.Running(); v != "" && (low == "" || versions.Compare(v, low) < 0) {
			low = v
		}
	}
	p.ran[group] = low
	return low
}
