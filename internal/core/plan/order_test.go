package plan

import (
	"strings"
	"testing"

	"verbund/internal/core/topology"
)

// A step comes after those that it needs, whichever was planned first; those that are not planned
// are not waited for, and of two that need each other the first one goes.
func TestOrdered(t *testing.T) {
	type step struct {
		kind  Kind
		needs string
	}
	for _, x := range []struct {
		what  string
		steps []step
		want  string
	}{
		{"planned before", []step{{Pull, ""}, {Switch, "pull/a rest/a"}}, "pull/a() switch/a(pull/a)"},
		{"never planned", []step{{Switch, "pull/a"}, {Get, ""}}, "switch/a() get/a()"},
		{"planned after", []step{{Switch, "pull/a"}, {Get, ""}, {Pull, ""}, {Ready, "switch/a"}}, "get/a() pull/a() switch/a(pull/a) ready/a(switch/a)"},
		{"both", []step{{Get, ""}, {Switch, "pull/a get/a"}, {Pull, "get/a"}}, "get/a() pull/a(get/a) switch/a(get/a pull/a)"},
		{"a circle", []step{{Switch, "pull/a"}, {Pull, "switch/a"}}, "switch/a() pull/a(switch/a)"},
		{"a wide circle", []step{{Switch, "pull/a"}, {Get, "switch/a"}, {Pull, "get/a"}}, "switch/a() get/a(switch/a) pull/a(get/a)"},
		{"two that would be one", []step{{Switch, "pull/a"}, {Get, "ready/a"}, {Pull, "get/a"}, {Ready, "switch/a"}}, "get/a() pull/a(get/a) switch/a(pull/a) ready/a(switch/a)"},
	} {
		p := newPlanner(&topology.Cluster{}, Observed{})
		for _, s := range x.steps {
			p.add(s.kind, "a", "", "", Step{Needs: strings.Fields(s.needs)})
		}
		var got []string
		for _, s := range p.ordered().Steps {
			got = append(got, s.ID+"("+strings.Join(s.Needs, " ")+")")
		}
		if got := strings.Join(got, " "); got != x.want {
			t.Errorf("%s: %s, wanted %s", x.what, got, x.want)
		}
	}
}
