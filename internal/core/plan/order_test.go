package plan

import (
	"strings"
	"testing"

	"verbund/internal/core/topology"
)

// A step waits for those of its needs that are planned before it. One that is planned after it
// cannot be waited for any more, and no plan comes of that.
func TestNeedsComeBefore(t *testing.T) {
	needs := func(ids ...string) Step { return Step{Needs: ids} }
	for _, x := range []struct {
		what, needs string
		late        bool
		do          func(p *planner)
	}{
		{"planned before", "pull/a", false, func(p *planner) {
			p.add(Pull, "a", "", "", Step{})
			p.add(Switch, "a", "", "", needs("pull/a", "rest/a"))
		}},
		{"never planned", "", false, func(p *planner) { p.add(Switch, "a", "", "", needs("pull/a", "")); p.add(Pull, "b", "", "", Step{}) }},
		{"planned after", "", true, func(p *planner) { p.add(Switch, "a", "", "", needs("pull/a")); p.add(Pull, "a", "", "", Step{}) }},
		{"planned twice", "pull/a", false, func(p *planner) {
			p.add(Pull, "a", "", "", Step{})
			p.add(Switch, "a", "", "", needs("pull/a"))
			p.add(Pull, "a", "", "", Step{})
		}},
	} {
		p := newPlanner(&topology.Cluster{}, Observed{})
		x.do(p)
		got := ""
		for _, s := range p.plan.Steps {
			if s.Kind == Switch {
				got = strings.Join(s.Needs, " ")
			}
		}
		if err := p.contradiction(); got != x.needs || (err != nil) != x.late || x.late && !strings.Contains(err.Error(), "step switch/a is to come after pull/a") {
			t.Errorf("%s: it waits for %q, %v", x.what, got, err)
		}
	}
}
