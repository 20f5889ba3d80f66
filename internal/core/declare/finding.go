package declare

import (
	"cmp"
	"fmt"
	"slices"
)

// Severity says whether a finding forbids using the declaration.
type Severity string

// The two severities. An error forbids; a warning is legal but unwise.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
)

// Finding is one line of advice or refusal.
type Finding struct {
	File     string   `json:"file"`
	Line     int      `json:"line"`
	Column   int      `json:"column"`
	Severity Severity `json:"severity"`
	Rule     string   `json:"rule"`             // stable identifier
	What     string   `json:"what"`             // what is wrong
	Todo     string   `json:"todo"`             // what to do about it
	Reason   string   `json:"reason,omitempty"` // why it is accepted, by an exception
}

func (f Finding) String() string {
	todo := f.Todo
	if f.Reason != "" {
		todo = "accepted: " + f.Reason
	}
	return fmt.Sprintf("%s:%d:%d: %s: %s; %s [%s]", f.File, f.Line, f.Column, f.Severity, f.What, todo, f.Rule)
}

// Findings are ordered by place.
type Findings []Finding

// Errors counts the findings that forbid.
func (fs Findings) Errors() int {
	n := 0
	for _, f := range fs {
		if f.Severity == Error {
			n++
		}
	}
	return n
}

// Accepted lists the findings that an exception turned from errors into warnings.
func (fs Findings) Accepted() Findings {
	var out Findings
	for _, f := range fs {
		if f.Reason != "" {
			out = append(out, f)
		}
	}
	return out
}

// Sort orders findings by file, line, column and rule.
func (fs Findings) Sort() {
	slices.SortStableFunc(fs, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Rule, b.Rule))
	})
}
