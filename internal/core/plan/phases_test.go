package plan_test

import (
	"fmt"
	"strings"
	"testing"

	"verbund/internal/core/plan"
)

// Each machine goes through the phases in their order, whatever the way, and ends well or gone;
// a plan without waves has none.
func TestPhases(t *testing.T) {
	inPlace := fmt.Sprintf(two, "", "small", "soak: 1m")
	c := turned(t, inPlace, nil)
	larger := turned(t, fmt.Sprintf(two, "", "medium", "soak: 1m"), map[string][]int{"gauges": {3, 2}})
	for _, x := range []struct {
		name string
		p    *plan.Plan
		want []string
	}{
		{"in place", planFor(t, c, living(c, "v1.36.3")), []string{
			"tidewatch-control-1 control: waiting prepared out changing coming well",
			"tidewatch-gauges-1 gauges: waiting prepared out changing coming well",
			"tidewatch-forecast-2 forecast: waiting prepared out changing coming well",
		}},
		{"by replacement", planFor(t, larger, living(c, "v1.37.2")), []string{
			"tidewatch-gauges-3 gauges: waiting coming well",
			"tidewatch-gauges-1 : waiting out gone",
		}},
	} {
		ph := plan.NewPhases(x.p.Steps)
		went := map[string]string{}
		for _, m := range ph.Machines {
			went[m.Machine] = m.Machine + " " + m.Group + ": " + m.Phase.String()
		}
		for _, s := range x.p.Steps {
			for _, m := range []*plan.Phased{ph.Begun(s), ph.Done(s)} {
				if m != nil {
					went[m.Machine] += " " + m.Phase.String()
				}
			}
		}
		all := ""
		for _, w := range went {
			all += w + "\n"
		}
		for _, want := range x.want {
			if !strings.Contains(all, want+"\n") {
				t.Errorf("%s: wanted %q in\n%s", x.name, want, all)
			}
		}
		for _, m := range ph.Machines {
			if m.Phase != plan.Well && m.Phase != plan.Gone {
				t.Errorf("%s: %s is %s at the end", x.name, m.Machine, m.Phase)
			}
		}
	}
	p := planFor(t, c, living(c, "v1.36.3"))
	ph := plan.NewPhases(p.Steps)
	for _, s := range p.Steps {
		if s.Kind == plan.Switch && s.Machine == "tidewatch-gauges-1" {
			if m := ph.Failed(s); m == nil || m.Phase.String() != "failed" {
				t.Errorf("it failed, and is %v", m)
			}
		}
	}
	if plan.NewPhases(planFor(t, cluster(t, "v1.37.2", 1, 1), empty()).Steps) != nil {
		t.Error("a raise has phases")
	}
}
