package look

import (
	"time"

	"verbund/internal/site"
)

type CollectSaid struct {
	Archive string   `json:"archive"`
	Files   []string `json:"files"`
	Removed int      `json:"removed"` // secrets that were taken out
	Bytes   int      `json:"bytes"`
}

type MachineSaid struct {
	site.Machine
	Reached  bool              `json:"reached"`
	Runs     string            `json:"runs"` // version of what it is there for
	Slot     string            `json:"slot"` // in use
	Services map[string]string `json:"services"`
}

type RunSaid struct {
	Run     string    `json:"run"`
	Command string    `json:"command"`
	Began   time.Time `json:"began"`
	Seconds float64   `json:"seconds"`
	Steps   int       `json:"steps"` // that were done
	Outcome string    `json:"outcome"`
	Error   string    `json:"error,omitempty"` // the step that failed
}
