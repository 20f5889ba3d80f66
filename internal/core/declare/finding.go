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
	Rule     string   `json:"rule"` // stable identifier
	What     string   `json:"what"` // what is wrong
	Todo     string   `json:"todo"` // what to do about it
}

func (f Finding) String() string {
	return fmt.Sprintf("%s:%d:%d: %s: %s; %s", f.File, f.Line, f.Column, f.Severity, f.What, f.Todo)
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

// Sort orders findings by file, line, column and rule.
func (fs Findings) Sort() {
	slices.SortStableFunc(fs, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Rule, b.Rule))
	})
}
