package memory

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"verbund/internal/core/trust"
)

// Agree looks whether what is remembered fits together, and returns what does not.
func (s *State) Agree() []error {
	var out []error
	for _, group := range slices.Sorted(maps.Keys(s.Numbers)) {
		ns := slices.Sorted(slices.Values(s.Numbers[group]))
		if len(slices.Compact(slices.Clone(ns))) < len(ns) || len(ns) > 0 && ns[0] < 1 {
			out = append(out, fmt.Errorf("the machines of %s have the numbers %v, of which one is there twice or is none", group, s.Numbers[group]))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Members)) {
		ms := slices.Sorted(slices.Values(s.Members[name]))
		if !slices.Contains(ms, name) {
			out = append(out, fmt.Errorf("the member of %s was born into %v, without itself", name, s.Members[name]))
		}
		if len(slices.Compact(ms)) < len(s.Members[name]) {
			out = append(out, fmt.Errorf("the member of %s was born into %v, with one of them twice", name, s.Members[name]))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.Replacements)) {
		if r := s.Replacements[id]; trust.CheckReplaceable(id) != nil || r.Pass < trust.Both || r.Pass > trust.Drop {
			out = append(out, fmt.Errorf("the replacement of %s is in pass %d, which there is not", id, int(r.Pass)))
		}
	}
	if s.Facts != nil && s.Facts.Founded.IsZero() {
		out = append(out, errors.New("the cluster was founded, and not at any time"))
	}
	return out
}
