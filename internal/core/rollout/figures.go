package rollout

import (
	"fmt"
	"time"
)

// Figures are what was counted of the answers of an application that has a say.
type Figures struct {
	Name    string  `json:"name"`
	Answers int     `json:"answers"` // asked and over, right or wrong
	Failed  int     `json:"failed"`
	Slowest float64 `json:"slowest"`         // seconds, of those that were right
	Last    string  `json:"last,omitempty"`  // the last thing that went wrong
	Broke   string  `json:"broke,omitempty"` // how its limit was broken
}

func (f Figures) String() string {
	text := fmt.Sprintf("watch %s: %d of %d answers failed, the slowest took %s", f.Name, f.Failed, f.Answers, time.Duration(f.Slowest*float64(time.Second)).Round(time.Millisecond))
	if f.Last != "" {
		text += "; the last failure: " + f.Last
	}
	return text
}
