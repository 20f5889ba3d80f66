package plan_test

import (
	"slices"
	"strings"
	"testing"

	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Keepers of backups are left with what belongs beside a snapshot when everything else is done,
// and only when it is not what they have.
func TestEntrust(t *testing.T) {
	const text = "endpoint: {balancer: {size: small}}\ncontrol: {count: 3}\nbackup: {every: 6h}\npools: [{name: gauges, count: 2}]\n"
	c := declared(t, text)
	all := func(o plan.Observed, rest string) plan.Observed {
		o.Rest = "new"
		for _, m := range c.With(versions.Keeper) {
			seen(o, m.Name, func(s *plan.MachineSeen) { s.Rest = rest })
		}
		return o
	}
	entrusts := func(name string, c *topology.Cluster, o plan.Observed) (machines, others []string) {
		t.Helper()
		p, err := plan.Make(c, o, versions.Shipped())
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		at := map[string]int{}
		for i, s := range p.Steps {
			at[s.ID] = i
			if s.Kind == plan.Entrust {
				machines = append(machines, s.Machine)
				for _, n := range s.Needs {
					if j, ok := at[n]; !ok || j > i {
						t.Errorf("%s: %s comes before %s", name, s.ID, n)
					}
				}
				continue
			}
			if slices.Contains(machines, s.Machine) {
				t.Errorf("%s: %s comes after what is left with its machine", name, s.ID)
			}
			others = append(others, s.ID)
		}
		return machines, others
	}
	if ms, other := entrusts("as it is", c, all(living(c, "v1.37.2"), "new")); len(ms)+len(other) > 0 {
		t.Errorf("what is as declared is planned: %v, %v", ms, other)
	}
	if ms, other := entrusts("declared otherwise", c, all(living(c, "v1.37.2"), "old")); len(ms) != 3 || len(other) != 1 {
		t.Errorf("declared otherwise: %v, %v", ms, other)
	}
	if ms, _ := entrusts("nothing there", c, empty()); len(ms) != 3 {
		t.Errorf("a cluster that is raised: %v", ms)
	}
	if ms, _ := entrusts("upgrade", c, all(living(c, "v1.36.3"), "old")); len(ms) != 3 {
		t.Errorf("an upgrade: %v", ms)
	}
	// Whoever cannot be reached is left out; and what is planned anew later has it then.
	o := all(living(c, "v1.37.2"), "old")
	seen(o, "tidewatch-control-2", func(s *plan.MachineSeen) { s.Reached = false })
	if ms, _ := entrusts("one asleep", c, o); len(ms) != 2 {
		t.Errorf("with one that cannot be reached: %v", ms)
	}
	// A keeper that does not run is started.
	o = all(living(c, "v1.37.2"), "new")
	seen(o, "tidewatch-control-2", func(s *plan.MachineSeen) { s.Units["backup-keeper.service"] = "failed" })
	if _, other := entrusts("one down", c, o); len(other) < 1 || other[0] != "control/tidewatch-control-2" {
		t.Errorf("with a keeper that does not run: %v", other)
	}
	// Without backup.every nobody keeps any.
	if ms, _ := entrusts("not declared", declared(t, strings.Replace(text, "backup: {every: 6h}\n", "", 1)), empty()); len(ms) > 0 {
		t.Errorf("nobody is to take backups, and %v get what belongs beside them", ms)
	}
}
