package rollout

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Machine is one place of a group, and the machine that has it.
type Machine struct {
	Name   string
	Number int // at the end of its name
	Zone   string
	Exists bool // the site has it
	// Must is what it cannot become while it lives, May what can change on it, in words;
	// one with neither is as declared.
	Must, May []string
	// Written says that what may change is only written to it: that never takes a new machine.
	Written bool
	// Fixed says why another one cannot take its place; empty when one can.
	Fixed string
	Last  int // those with more of it go later: whoever leads the datastore
}

// Due says whether anything of it is to change.
func (m Machine) Due() bool { return len(m.Must)+len(m.May) > 0 }

// Wave is machines that are out of service at the same time.
type Wave struct {
	Group    string
	Number   int // from 1, of those that are left
	Of       int
	Way      Way
	Machines []string
	Zone     string // in which all of them are; empty when they are spread
	Trial    bool
	GoesOn   bool // an earlier run was interrupted in it
	Why      string
	// Soak is how long its machines have to stay well after it, Hold whether a person's
	// word is waited for then.
	Soak time.Duration
	Hold bool
}

// Open is a wave that has begun, and of which not everything was waited for that comes
// after it.
type Open struct {
	Number   int    // from 1, in this roll-out of its group
	Before   string // what its group ran before the first wave
	Machines []string
	Trial    bool
	Soaked   bool // they stayed well for as long as they have to
	Held     bool // a person's word was waited for, and came
}

// Group is machines under one policy.
type Group struct {
	Name     string
	Policy   Policy
	Machines []Machine
	// Returns are the numbers of machines on their way out that are as declared for a place
	// whose own machine is not, or is not there yet: what was declared was taken back.
	Returns map[int]int
	// Leaving are the numbers of machines that are there and have no place any more.
	Leaving []int
	Open    *Open // nil when none is
	More    bool  // other groups follow
}

// replaced says whether a machine gives way to a new one, and does not change in place.
func (g Group) replaced(m Machine) bool {
	return m.Exists && m.Fixed == "" && (len(m.Must) > 0 || g.Policy.Way == Replacement && m.Due() && !m.Written)
}

// Waves are the waves in which what is left reaches the group, one after the other. Places
// that have got a new machine already, and machines that are not there yet, are in none.
func (g Group) Waves() []Wave {
	var due, settled []Machine
	for _, m := range g.Machines {
		switch {
		case !m.Exists:
		case m.Due():
			due = append(due, m)
		default:
			settled = append(settled, m)
		}
	}
	g.order(due)
	var out []Wave
	first := 0
	if len(due) > 0 {
		// A wave that was cut off goes on before anything else.
		open := 0
		if g.Open != nil {
			for i, m := range due {
				if slices.Contains(g.Open.Machines, m.Name) {
					due = slices.Insert(slices.Delete(due, i, i+1), open, m)
					open++
				}
			}
		}
		// A batch of which nothing is settled, where a trial had to come before it, was of
		// another change.
		switch trial := g.Policy.Trial - len(settled); {
		case open > 0 && (g.Open.Trial || trial <= 0):
			first = open
			out = g.cut(out, due[:open], g.Open.Trial, true)
		case trial > 0 && len(g.Machines) > 1:
			first = min(trial, len(due))
			out = g.cut(out, due[:first], true, false)
		}
		out = g.cut(out, due[first:], false, false)
	}
	for i := range out {
		w := &out[i]
		w.Number, w.Of = i+1, len(out)
		last := i == len(out)-1
		if w.Trial && !last && !(i+1 < len(out) && out[i+1].Trial) {
			w.Soak = g.Policy.Soak
		}
		w.Hold = g.holds(w.Trial, last)
	}
	return out
}

// holds says whether a person's word is waited for after a wave.
func (g Group) holds(trial, last bool) bool {
	switch g.Policy.Hold {
	case AfterTrial:
		return trial && !last
	case EachBatch:
		return !last || g.More
	case EachPool:
		return last && g.More
	}
	return false
}

// Owed is what has to be waited for after the wave that is open before another one may
// begin: how long its machines have to stay well, and whether a person's word is due. A
// wave of which a machine is still to change, to come or to go, goes on first, and owes
// nothing yet.
func (g Group) Owed() (soak time.Duration, hold bool) {
	if g.Open == nil || len(g.Leaving) > 0 {
		return 0, false
	}
	left := 0
	for _, m := range g.Machines {
		if !m.Exists {
			return 0, false
		}
		if m.Due() {
			left++
			if slices.Contains(g.Open.Machines, m.Name) {
				return 0, false
			}
		}
	}
	if g.Open.Trial && !g.Open.Soaked && left > 0 {
		soak = g.Policy.Soak
	}
	return soak, g.holds(g.Open.Trial, left == 0) && !g.Open.Held
}

// order puts machines into the order in which they change: zone by zone in the order of
// the zones' first machines, or one of each zone in turn; by number within a zone.
func (g Group) order(ms []Machine) {
	zone, seen := map[string]int{}, map[string]int{}
	for _, m := range g.Machines {
		if _, ok := zone[m.Zone]; !ok {
			zone[m.Zone] = len(zone)
		}
	}
	slices.SortStableFunc(ms, func(a, b Machine) int {
		return cmp.Or(cmp.Compare(a.Last, b.Last), cmp.Compare(zone[a.Zone], zone[b.Zone]), cmp.Compare(a.Number, b.Number))
	})
	if !g.Policy.Spread {
		return
	}
	turn := map[string]int{}
	for _, m := range ms {
		turn[m.Name] = seen[m.Zone]
		seen[m.Zone]++
	}
	slices.SortStableFunc(ms, func(a, b Machine) int {
		return cmp.Or(cmp.Compare(a.Last, b.Last), cmp.Compare(turn[a.Name], turn[b.Name]))
	})
}

// cut divides machines into waves of one way, and of one zone where they go zone by zone.
func (g Group) cut(out []Wave, ms []Machine, trial, goesOn bool) []Wave {
	for len(ms) > 0 {
		way, most := InPlace, max(g.Policy.Batch, 1)
		if g.replaced(ms[0]) {
			way, most = Replacement, max(g.Policy.Surge, 1)
		}
		n := 1
		for n < len(ms) && n < most && g.replaced(ms[n]) == (way == Replacement) && (g.Policy.Spread || ms[n].Zone == ms[0].Zone) && ms[n].Last == ms[0].Last {
			n++
		}
		w := Wave{Group: g.Name, Way: way, Trial: trial, GoesOn: goesOn, Zone: ms[0].Zone}
		for _, m := range ms[:n] {
			w.Machines = append(w.Machines, m.Name)
			if m.Zone != w.Zone {
				w.Zone = ""
			}
		}
		w.Why = why(ms[:n], trial, goesOn)
		out, ms = append(out, w), ms[n:]
	}
	return out
}

// why says what is to change on machines, each thing once.
func why(ms []Machine, trial, goesOn bool) string {
	var what []string
	for _, m := range ms {
		for _, w := range append(slices.Clone(m.Must), m.May...) {
			if !slices.Contains(what, w) {
				what = append(what, w)
			}
		}
	}
	const most = 3
	if n := len(what); n > most {
		what = append(what[:most], fmt.Sprintf("%d more", n-most))
	}
	text := strings.Join(what, ", ")
	switch {
	case goesOn:
		text += "; an earlier run was interrupted in it"
	case trial:
		text += "; on trial before the others"
	}
	return text
}
