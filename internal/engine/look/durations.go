package look

import (
	"slices"
	"strings"
	"time"

	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Durations is how long steps usually took, by the journal.
type Durations map[string]time.Duration

// group is a machine's name without its number: what its like is called.
func group(machine string) string { return strings.TrimRight(machine, "0123456789") }

// Of is how long a kind of step usually took on machines like this one, or
// anywhere; ok is false when it was never done.
func (d Durations) Of(kind, machine string) (usual time.Duration, ok bool) {
	if usual, ok = d[kind+"/"+group(machine)]; !ok {
		usual, ok = d[kind]
	}
	return usual, ok
}

// UsualDurations reads the medians of the steps that were done.
func UsualDurations(s *session.Session) Durations {
	entries, _, err := s.Store.Entries()
	if err != nil {
		return nil
	}
	by := map[string][]float64{}
	for _, e := range entries {
		if e.Kind == store.StepDone {
			by[e.What] = append(by[e.What], e.Seconds)
			by[e.What+"/"+group(e.Where)] = append(by[e.What+"/"+group(e.Where)], e.Seconds)
		}
	}
	out := Durations{}
	for k, d := range by {
		slices.Sort(d)
		out[k] = time.Duration(d[len(d)/2] * float64(time.Second))
	}
	return out
}
