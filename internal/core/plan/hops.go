package plan

import (
	"fmt"
	"maps"
	"slices"

	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Stage is one hop of a way over several minors, as if it were declared: what the control
// plane is to run, and the pools that stay behind meanwhile.
type Stage struct {
	Kubernetes string            `json:"kubernetes"`
	Pools      map[string]string `json:"pools"` // version, by pool
	Road       *versions.Road    `json:"-"`     // the whole way
	Declared   string            `json:"declared"`
}

// InWords says where the hop leads.
func (s *Stage) InWords() string {
	return fmt.Sprintf("to %s, on the way to %s", s.Kubernetes, s.Declared)
}

// StageOf is the next hop when what is declared cannot be reached in one: the control plane
// goes one minor at a time, and workers wait as long as the skew rules allow, so that they
// are drained as few times as can be. It is nil when what is declared is within one hop, and
// a Refusal when the way is barred.
func StageOf(c *topology.Cluster, o Observed, cat *versions.Catalogue) (*Stage, error) {
	low := Version(c, o)
	if !o.Founded || low == "" {
		return nil, nil
	}
	runs := poolVersions(c, o)
	behind := func(next string) (pools []string) {
		for _, name := range slices.Sorted(maps.Keys(runs)) {
			if versions.Minor(next)-versions.Minor(runs[name].low) > versions.KubeletSkew {
				pools = append(pools, name)
			}
		}
		return pools
	}
	want := c.Set.Kubernetes
	if versions.Minor(want)-versions.Minor(low) <= 1 && len(behind(want)) == 0 || versions.Compare(want, low) < 0 {
		return nil, nil
	}
	road, err := cat.Road(low, want)
	if err != nil {
		return nil, err
	}
	s := &Stage{Kubernetes: want, Pools: map[string]string{}, Road: road, Declared: want}
	for _, l := range road.Legs {
		if l.Who == "control" {
			s.Kubernetes = l.To
			break
		}
	}
	// Pools that would be too old for it go first, to what the control plane runs.
	late := behind(s.Kubernetes)
	if len(late) > 0 {
		s.Kubernetes = low
	}
	for name, r := range runs {
		s.Pools[name] = r.high
		if slices.Contains(late, name) {
			s.Pools[name] = low
		}
	}
	return s, nil
}

type lowHigh struct{ low, high string }

// poolVersions is what the machines of each pool run, of those that are in the cluster.
func poolVersions(c *topology.Cluster, o Observed) map[string]lowHigh {
	out := map[string]lowHigh{}
	for _, m := range c.Machines {
		v := o.Machines[m.Name].Running()
		if _, known := o.Nodes[m.Name]; m.Role != versions.Worker || v == "" || !known {
			continue
		}
		r, ok := out[m.Pool]
		if !ok || versions.Compare(v, r.low) < 0 {
			r.low = v
		}
		if !ok || versions.Compare(v, r.high) > 0 {
			r.high = v
		}
		out[m.Pool] = r
	}
	return out
}
