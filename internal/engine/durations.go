package engine

import (
	"slices"
	"time"

	"verbund/internal/store"
)

// Durations is how long each kind of step usually took, by the journal: the
// median of those that were done.
func (s *Session) Durations() map[string]time.Duration {
	entries, _, err := s.Store.Entries()
	if err != nil {
		return nil
	}
	by := map[string][]float64{}
	for _, e := range entries {
		if e.Kind == store.StepDone {
			by[e.What] = append(by[e.What], e.Seconds)
		}
	}
	out := map[string]time.Duration{}
	for k, d := range by {
		slices.Sort(d)
		out[k] = time.Duration(d[len(d)/2] * float64(time.Second))
	}
	return out
}
