package plan

import (
	"slices"
)

// Phase is how far a machine has come in a roll-out.
type Phase int

// The phases, in their order.
const (
	Waiting  Phase = iota // for its wave
	Prepared              // what it is to run lies there
	OutNow                // it is being taken out of service
	Changing              // switched, or written
	Coming                // it is new, or comes up again
	Well                  // again, or as the new one
	Gone                  // given back
	Stuck                 // a step failed on it
)

// PhaseWords say the phases, in their order.
var PhaseWords = []string{"waiting", "prepared", "out", "changing", "coming", "well", "gone", "failed"}

func (p Phase) String() string { return PhaseWords[p] }

// Phased is one machine of a roll-out.
type Phased struct {
	Machine string
	Group   string // empty for one that leaves
	Phase   Phase
	left    int // steps of it that are not done
	fresh   bool
	leaves  bool
}

// Phases follow the machines of a plan's waves as its steps begin and end.
type Phases struct {
	Machines []*Phased // in the order of the plan
	by       map[string]*Phased
}

// NewPhases follows the machines that waves change, and those that go; nil when a plan has
// no wave.
func NewPhases(steps []Step) *Phases {
	p := &Phases{by: map[string]*Phased{}}
	if !slices.ContainsFunc(steps, func(s Step) bool { return s.Kind == Wave }) {
		return nil
	}
	meant := map[string]string{}
	for _, s := range steps {
		if s.Machine != "" && (s.Group != "" || s.Kind == Release || s.Kind == Drain) {
			if meant[s.Machine] == "" {
				meant[s.Machine] = s.Group
			}
		}
	}
	for _, s := range steps {
		group, is := meant[s.Machine]
		if !is {
			continue
		}
		m := p.by[s.Machine]
		if m == nil {
			m = &Phased{Machine: s.Machine, Group: group}
			p.by[s.Machine] = m
			p.Machines = append(p.Machines, m)
		}
		m.left++
		m.fresh = m.fresh || s.Kind == Get
		m.leaves = m.leaves || s.Kind == Release
	}
	return p
}

// Begun takes the beginning of a step; it returns the machine if that is in another phase now.
func (p *Phases) Begun(s Step) *Phased {
	m := p.by[s.Machine]
	if m == nil {
		return nil
	}
	to := m.Phase
	switch {
	case m.fresh && s.Kind != Pull:
		to = Coming
	case s.Kind == Rest || s.Kind == Drain || s.Kind == Leave:
		to = OutNow
	case s.Kind == Switch || s.Kind == Write && s.Group != "":
		to = Changing
	case s.Kind == Ready && s.Group != "":
		to = Coming
	}
	return m.to(to)
}

// Done takes the end of a step that went well.
func (p *Phases) Done(s Step) *Phased {
	m := p.by[s.Machine]
	if m == nil {
		return nil
	}
	m.left--
	switch {
	case m.left == 0 && m.leaves:
		return m.to(Gone)
	case m.left == 0:
		return m.to(Well)
	case s.Kind == Pull && m.Phase == Waiting && !m.fresh:
		return m.to(Prepared)
	}
	return nil
}

// Failed takes the failure of a step.
func (p *Phases) Failed(s Step) *Phased {
	m := p.by[s.Machine]
	if m == nil {
		return nil
	}
	return m.to(Stuck)
}

// to is the machine when its phase changes; a phase never goes back.
func (m *Phased) to(p Phase) *Phased {
	if p <= m.Phase {
		return nil
	}
	m.Phase = p
	return m
}
