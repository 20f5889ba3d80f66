package look

import (
	"slices"
	"strings"
	"time"

	"verbund/internal/core/plan"
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
func UsualDurations(s *session.Session) Durations { return durationsAt(s, 50) }

// durationsAt reads how long the steps that were done took, so that a share of them, in
// percent, was not slower.
func durationsAt(s *session.Session, percent int) Durations {
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
		out[k] = time.Duration(d[min(len(d)*percent/100, len(d)-1)] * float64(time.Second))
	}
	return out
}

// ownWork is what a step that is more than a moment takes of the computer on which
// a site is simulated, however fast the site is.
const ownWork = 250 * time.Millisecond

// Usual is how long a step takes by the journal, or as a rule; of a simulated
// site the rule is as many times faster as the site's pace says.
func Usual(s *session.Session) func(plan.Step) time.Duration { return usualAt(s, 50) }

// Slow is how long a step takes when it is among the slowest tenth of its kind, as Usual is
// for the middle one.
func Slow(s *session.Session) func(plan.Step) time.Duration { return usualAt(s, 90) }

func usualAt(s *session.Session, percent int) func(plan.Step) time.Duration {
	known := durationsAt(s, percent)
	pace := 1
	if s.SiteFile != nil {
		pace = max(s.SiteFile.Pace, 1)
	}
	return func(st plan.Step) time.Duration {
		if st.Kind == plan.Soak {
			return st.Waits // neither longer nor shorter, whatever it was another time
		}
		if d, ok := known.Of(string(st.Kind), st.Machine); ok {
			return d
		}
		d := st.Kind.About().Usual
		if d /= time.Duration(pace); pace > 1 && d > ownWork/4 {
			d += ownWork
		}
		return d + st.Waits
	}
}
