package memory

import "slices"

// Resume remembers that the person's word came which was waited for: what the declaration
// held a wave for is not waited for a second time.
func (s *State) Resume() {
	h := s.Held
	if h == nil {
		return
	}
	if o, ok := s.Waves[h.Group]; ok && h.By == ByDeclaration {
		o.Held = true
		s.Waves[h.Group] = o
	}
	s.Held = nil
}

// RolledOut forgets the roll-out that is over, of groups that are named or of all: its waves
// and the machines that it spared, but what the groups ran before.
func (s *State) RolledOut(groups ...string) {
	over := func(group string) bool { return len(groups) == 0 || slices.Contains(groups, group) }
	for group, o := range s.Waves {
		if !over(group) {
			continue
		}
		if o.Before != "" {
			s.Before[group] = o.Before
		}
		delete(s.Waves, group)
	}
	for machine, x := range s.Spared {
		if over(x.Group) {
			delete(s.Spared, machine)
		}
	}
}

// RanBefore is what groups ran before the roll-out that is underway, or was the last.
func (s *State) RanBefore() map[string]string {
	out := map[string]string{}
	for group, v := range s.Before {
		out[group] = v
	}
	for group, o := range s.Waves {
		if o.Before != "" {
			out[group] = o.Before
		}
	}
	return out
}
