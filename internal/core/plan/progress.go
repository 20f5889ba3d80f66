package plan

import (
	"fmt"
	"slices"

	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Progress is how far a change has come in one group of machines.
type Progress struct {
	Group string      `json:"group"`
	Way   rollout.Way `json:"way"`
	Done  int         `json:"done"` // machines that are as declared
	Of    int         `json:"of"`
	// Wave is the one that was begun last, and is not over; nothing when none is.
	Wave     int      `json:"wave,omitempty"`
	Machines []string `json:"machines"` // of that wave
	Trial    bool     `json:"trial"`
	// Waits says what the group waits for.
	Waits   string   `json:"waits"`
	Left    []string `json:"left"` // machines that are to change
	Leaving []string `json:"leaving"`
	Changes []string `json:"changes"` // what is to change on them, in words
	Runs    []string `json:"runs"`    // versions that its machines run, the lowest first
}

// What a group waits for.
const (
	WaitsNothing = ""
	WaitsTurn    = "its turn"
	WaitsWord    = "a person's word"
	WaitsSoak    = "the end of the watching"
	WaitsWave    = "its wave"
)

// ProgressOf is how far a change has come in each group.
func ProgressOf(c *topology.Cluster, o Observed) []Progress {
	p := newPlanner(c, o)
	var out []Progress
	before := false // a group before is not done
	for _, name := range c.Groups() {
		g := p.whole(name)
		g.More = p.follows(name)
		x := Progress{Group: name, Way: g.Policy.Way, Of: len(g.Machines), Machines: []string{}, Left: []string{}, Leaving: []string{}, Changes: []string{}, Runs: []string{}}
		for _, m := range g.Machines {
			switch {
			case m.Due():
				x.Left = append(x.Left, m.Name)
			case m.Exists:
				x.Done++
			}
			for _, w := range append(slices.Clone(m.Must), m.May...) {
				if !slices.Contains(x.Changes, w) {
					x.Changes = append(x.Changes, w)
				}
			}
			if len(m.Must) > 0 && m.Fixed == "" {
				x.Way = rollout.Replacement
			}
			if v := o.Machines[m.Name].Running(); v != "" && !slices.Contains(x.Runs, v) {
				x.Runs = append(x.Runs, v)
			}
		}
		slices.SortFunc(x.Runs, versions.Compare)
		for _, n := range g.Leaving {
			x.Leaving = append(x.Leaving, fmt.Sprintf("%s-%s-%d", c.Name, name, n))
		}
		soak, hold := g.Owed()
		if g.Open != nil && (len(x.Left)+len(x.Leaving) > 0 || soak > 0 || hold) {
			x.Wave, x.Machines, x.Trial = g.Open.Number, g.Open.Machines, g.Open.Trial
		}
		open := slices.ContainsFunc(x.Machines, func(n string) bool { return slices.Contains(x.Left, n) }) || len(x.Leaving) > 0
		switch {
		case soak > 0:
			x.Waits = WaitsSoak
		case hold || o.Held && len(x.Left) > 0:
			x.Waits = WaitsWord
		case open:
			x.Waits = WaitsWave
		case len(x.Left) > 0 && before:
			x.Waits = WaitsTurn
		case len(x.Left) > 0:
			x.Waits = WaitsWave
		}
		before = before || x.Waits != WaitsNothing
		out = append(out, x)
	}
	return out
}
