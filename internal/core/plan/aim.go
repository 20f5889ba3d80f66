package plan

import (
	"maps"
	"slices"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Aim is what is aimed at now, where that is not yet what is declared.
type Aim struct {
	// Stage is the hop on which the cluster is, or which comes next, on a way over several
	// minors: it stands for what is declared meanwhile. Nil: there is none.
	Stage *Stage
	// Numbers are those of groups of which machines are about to give way to new ones; they are
	// remembered once somebody has agreed to that.
	Numbers map[string][]int
}

// AimAt says what to aim at next, from a cluster as it was aimed at and what was seen of it: the
// hop first, and with that in the place of what is declared, the machines that give way. again
// says that another cluster is aimed at by now, which has to be looked at as well.
func AimAt(a Aim, c *topology.Cluster, o Observed, cat *versions.Catalogue) (next Aim, again bool, err error) {
	if a.Stage == nil {
		if a.Stage, err = StageOf(c, o, cat); err != nil || a.Stage != nil {
			return a, err == nil, err
		}
	}
	if len(a.Numbers) == 0 {
		a.Numbers = Turn(c, o)
		return a, len(a.Numbers) > 0, nil
	}
	return a, false, nil
}

// Declared is a declaration as it is aimed at.
func (a Aim) Declared(d *declare.Declaration) *declare.Declaration {
	if a.Stage == nil {
		return d
	}
	out := *d
	out.Kubernetes, out.Pools = a.Stage.Kubernetes, slices.Clone(d.Pools)
	for i := range out.Pools {
		p := &out.Pools[i]
		if v, ok := a.Stage.Pools[p.Name]; ok {
			p.Kubernetes = v
		} else if versions.Compare(p.Kubernetes, out.Kubernetes) > 0 {
			p.Kubernetes = out.Kubernetes
		}
	}
	return &out
}

// Memory is what a cluster is worked out with, as it is aimed at.
func (a Aim) Memory(m topology.Memory) topology.Memory {
	if len(a.Numbers) > 0 {
		m.Numbers = maps.Clone(m.Numbers)
		if m.Numbers == nil {
			m.Numbers = map[string][]int{}
		}
		maps.Copy(m.Numbers, a.Numbers)
	}
	return m
}
