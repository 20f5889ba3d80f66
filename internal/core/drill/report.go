package drill

import (
	"slices"
	"time"
)

// Done is a step that was carried out, or tried.
type Done struct {
	What    string  `json:"what"`
	From    float64 `json:"from"` // seconds from the beginning
	To      float64 `json:"to"`
	Trouble string  `json:"trouble,omitempty"`
	Mends   bool    `json:"mends,omitempty"` // it puts right what was disturbed
}

// Report is a drill that was carried out.
type Report struct {
	Drill    string    `json:"drill"`
	Cluster  string    `json:"cluster"`
	Supposes string    `json:"supposes"`
	Hits     string    `json:"hits"`
	At       time.Time `json:"at"`
	Steps    []Done    `json:"steps"`
	Measured Measured  `json:"measured"`
	Claims   []Claim   `json:"claims"`
	// Unable says why it could not be carried out here; then nothing was disturbed.
	Unable string `json:"unable,omitempty"`
}

// Holds says whether everything that was supposed holds. A drill that could not be carried
// out shows nothing.
func (r *Report) Holds() bool {
	return r.Unable == "" && len(r.Claims) > 0 && !slices.ContainsFunc(r.Claims, func(c Claim) bool { return !c.Holds })
}
