package plan_test

import (
	"maps"
	"strings"
	"testing"

	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
)

// A way over several minors is gone one hop at a time, and workers stay behind for as long as the
// skew lets them.
func TestStageOf(t *testing.T) {
	const one, two, three = "tidewatch-gauges-1", "tidewatch-gauges-2", "tidewatch-gauges-3"
	workers := func(v string, names ...string) func(*plan.Observed) {
		return func(o *plan.Observed) {
			for _, n := range names {
				seen(*o, n, func(s *plan.MachineSeen) { s.Versions["kubelet"] = v })
			}
		}
	}
	for _, x := range []struct {
		what, runs, declared string
		but                  func(*plan.Observed)
		hop, pool            string // empty: what is declared is within one
	}{
		{"several minors", "v1.35.4", "v1.37.2", nil, "v1.36.3", "v1.35.4"},
		{"one minor", "v1.36.3", "v1.37.2", nil, "", ""},
		{"a patch", "v1.37.1", "v1.37.2", nil, "", ""},
		{"nothing", "v1.37.2", "v1.37.2", nil, "", ""},
		{"a lower minor", "v1.37.2", "v1.35.4", nil, "", ""},
		{"no datastore yet", "v1.35.4", "v1.37.2", func(o *plan.Observed) { o.Founded = false }, "", ""},
		{"no control plane that says what it runs", "v1.35.4", "v1.37.2", func(o *plan.Observed) {
			for _, n := range []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3"} {
				seen(*o, n, func(s *plan.MachineSeen) { s.Versions = nil })
			}
		}, "", ""},

		// Where the pool's machines differ, it stays with the highest that one of them has.
		{"a pool in the middle of it", "v1.35.4", "v1.37.2", workers("v1.36.3", two), "v1.36.3", "v1.36.3"},
		{"one that begins with the higher", "v1.35.4", "v1.37.2", workers("v1.36.3", one), "v1.36.3", "v1.36.3"},

		// What is too old for the next hop of the control plane goes first, to what that runs.
		{"workers that may just stay", "v1.35.4", "v1.37.2", workers("v1.33.9", one, two, three), "v1.36.3", "v1.33.9"},
		{"workers that may not", "v1.35.4", "v1.37.2", workers("v1.32.9", one, two, three), "v1.35.4", "v1.35.4"},
		{"one that may not", "v1.35.4", "v1.37.2", workers("v1.32.9", two), "v1.35.4", "v1.35.4"},
		{"the first, that may not", "v1.35.4", "v1.37.2", workers("v1.32.9", one), "v1.35.4", "v1.35.4"},
		{"one minor, and workers that may just stay", "v1.36.3", "v1.37.2", workers("v1.34.9", one, two, three), "", ""},
		{"one minor, and one that may not", "v1.36.3", "v1.37.2", workers("v1.33.9", three), "v1.36.3", "v1.36.3"},
		{"a lower minor, and one that is too old for it", "v1.37.2", "v1.36.3", workers("v1.32.9", three), "", ""},

		// What is no node, or runs nothing, holds nobody up.
		{"one that is no node yet", "v1.36.3", "v1.37.2", func(o *plan.Observed) {
			workers("v1.33.9", two)(o)
			delete(o.Nodes, two)
		}, "", ""},
		{"one that runs nothing", "v1.36.3", "v1.37.2", func(o *plan.Observed) {
			seen(*o, one, func(s *plan.MachineSeen) { s.Versions = nil })
		}, "", ""},
	} {
		c := cluster(t, x.declared, 3, 3)
		o := living(c, x.runs)
		if x.but != nil {
			x.but(&o)
		}
		s, err := plan.StageOf(c, o, versions.Shipped())
		switch {
		case err != nil:
			t.Errorf("%s: %v", x.what, err)
		case x.hop == "" && s != nil:
			t.Errorf("%s: a hop %s", x.what, s.InWords())
		case x.hop != "" && (s == nil || s.Kubernetes != x.hop || s.Declared != x.declared || !maps.Equal(s.Pools, map[string]string{"gauges": x.pool}) || s.Road == nil):
			t.Errorf("%s: %+v, wanted a hop to %s with gauges on %s", x.what, s, x.hop, x.pool)
		}
	}
	// From what the catalogue does not have there is no way.
	c := cluster(t, "v1.37.2", 3, 3)
	o := living(c, "v1.35.4")
	for _, n := range []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3"} {
		seen(o, n, func(s *plan.MachineSeen) { s.Versions["kube-apiserver"], s.Versions["kubelet"] = "v1.30.1", "v1.30.1" })
	}
	if s, err := plan.StageOf(c, o, versions.Shipped()); err == nil || !strings.Contains(err.Error(), "v1.30.1") {
		t.Errorf("%+v, %v", s, err)
	}
}
