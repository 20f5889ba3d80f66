package drill

import (
	"fmt"
	"slices"
	"time"

	"verbund/internal/core/rollout"
	"verbund/internal/core/words"
)

// Measured is what was measured while something was disturbed.
type Measured struct {
	Seconds float64       `json:"seconds"` // how long
	Writes  int           `json:"writes"`  // acknowledged by the API
	Refused int           `json:"refused"` // writes that were not
	Pause   time.Duration `json:"pause"`   // longest time without an acknowledgement, in nanoseconds
	// Acks are the moments of the acknowledgements, in seconds from the beginning.
	Acks []float64 `json:"-"`
	// Lost are writes that were acknowledged, and were not there when it was looked. Without
	// ReadBack nobody looked.
	Lost     []string          `json:"lost"`
	ReadBack bool              `json:"readBack"`
	Watches  []rollout.Figures `json:"watches"`
}

// Failed is how many answers of the declared applications were wrong.
func (m Measured) Failed() int {
	n := 0
	for _, w := range m.Watches {
		n += w.Failed
	}
	return n
}

// Answers is how many there were.
func (m Measured) Answers() int {
	n := 0
	for _, w := range m.Watches {
		n += w.Answers
	}
	return n
}

// Paused is the longest time without an acknowledgement, in seconds from the beginning, by the
// acknowledgements themselves.
func (m Measured) Paused() (from, to float64) {
	last := 0.0
	for _, at := range append(slices.Clone(m.Acks), m.Seconds) {
		if at-last > to-from {
			from, to = last, at
		}
		last = at
	}
	return from, to
}

// String is what was measured, in a line.
func (m Measured) String() string {
	text := fmt.Sprintf("%s acknowledged, the longest pause %s", words.Count(m.Writes, "write"), words.Brief(m.Pause))
	switch {
	case !m.ReadBack:
		return text + "; it was not looked whether they are there"
	case len(m.Lost) > 0:
		return text + fmt.Sprintf("; %d of them lost", len(m.Lost))
	}
	return text + "; none lost"
}
