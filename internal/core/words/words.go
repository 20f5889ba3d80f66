// Package words puts figures and nouns together, as a person would say them.
package words

import (
	"fmt"
	"time"
)

// Count is a figure with its noun, whose plural ends with s: 1 step, 3 steps.
func Count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Are is Count with its verb: 1 step is, 3 steps are.
func Are(n int, what string) string {
	if n == 1 {
		return Count(n, what) + " is"
	}
	return Count(n, what) + " are"
}

// Brief is how long something took, in a few characters: 34 ms, 1.2 s. Whatever took less than
// a millisecond took one.
func Brief(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", max(1, d.Milliseconds()))
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}
