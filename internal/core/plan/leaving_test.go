package plan_test

import (
	"testing"

	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
)

// A machine that is on its way out is switched on where its member is away and another one is
// to join; and left as it is where nobody joins.
func TestWakesLeaving(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 2)
	for name, x := range map[string]struct {
		power string
		joins bool
		wakes bool
	}{
		"off":          {"off", true, true},
		"crashed":      {"crashed", true, true},
		"on":           {"on", true, false},
		"nobody joins": {"off", false, false},
	} {
		o := living(c, "v1.37.2")
		o.Members["tidewatch-control-4"] = plan.MemberSeen{ID: 9}
		o.Machines["tidewatch-control-4"] = plan.MachineSeen{Exists: true, Power: x.power, Role: versions.Control, Reached: x.power == "on", Active: "a", Owner: c.Name}
		if x.joins {
			delete(o.Members, "tidewatch-control-3")
		}
		p, err := plan.Make(c, o, versions.Shipped())
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		wakes := len(p.Steps) == 1 && p.Steps[0].Kind == plan.Get && p.Steps[0].Machine == "tidewatch-control-4"
		if wakes != x.wakes || wakes && !p.More {
			t.Errorf("%s: %s", name, text(p))
		}
	}
}
