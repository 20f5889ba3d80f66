package versions

import (
	_ "embed"
	"fmt"
	"strings"
	"sync"
)

// lifecycle.txt is the table of the versions of the API that minors cease to serve, by the
// marks of the published types, made by tools/lifecycle.
//
//go:embed lifecycle.txt
var lifecycleText string

// Ceasing is a kind in a version of the API that a minor ceases to serve.
type Ceasing struct {
	Group, Version, Kind string
	Deprecated           int    // minor from which on it warns
	Removed              int    // first minor that does not serve it
	Instead              string // group and version that serves it then; empty: none of the same kind
}

// GroupVersion is the version as requests name it.
func (c Ceasing) GroupVersion() string { return c.Group + "/" + c.Version }

var lifecycle = sync.OnceValue(func() []Ceasing {
	var out []Ceasing
	for line := range strings.Lines(lifecycleText) {
		var c Ceasing
		if n, _ := fmt.Sscan(line, &c.Group, &c.Version, &c.Kind, &c.Deprecated, &c.Removed, &c.Instead); n != 6 {
			continue
		}
		if c.Instead == "-" {
			c.Instead = ""
		}
		out = append(out, c)
	}
	return out
})

// Ceased lists what a minor serves, if it is told to, and a later one does not.
func Ceased(from, to int) []Ceasing {
	var out []Ceasing
	for _, c := range lifecycle() {
		if c.Removed > from && c.Removed <= to {
			out = append(out, c)
		}
	}
	return out
}
