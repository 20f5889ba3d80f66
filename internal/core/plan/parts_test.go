package plan_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

func planFor(t testing.TB, c *topology.Cluster, o plan.Observed) *plan.Plan {
	t.Helper()
	p, err := plan.Make(c, o, versions.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func kinds(steps []plan.Step) string {
	var out []string
	for _, s := range steps {
		out = append(out, s.ID)
	}
	return strings.Join(out, " ")
}

// A run can be limited; what the rest must precede is refused, and what is
// left is said.
func TestOnly(t *testing.T) {
	c := cluster(t, "v1.37.2", 1, 2)
	p := planFor(t, c, empty())
	control, left, err := p.Only(c, plan.OnlyControl)
	if err != nil {
		t.Fatal(err)
	}
	if got := kinds(control.Steps); strings.Contains(got, "gauges") || strings.Contains(got, "network") || strings.Contains(got, "ready/") || !strings.Contains(got, "balance/tidewatch-balancer-1") || !strings.Contains(got, "node/tidewatch-control-1") {
		t.Errorf("control: %s", got)
	}
	if got := kinds(left); !strings.Contains(got, "ready/tidewatch-control-1") || !strings.Contains(got, "network") || !strings.Contains(got, "get/tidewatch-gauges-2") || strings.Contains(got, "verify") {
		t.Errorf("left: %s", got)
	}
	for _, part := range []string{"gauges", plan.OnlyAddOns} {
		_, _, err := p.Only(c, part)
		var r *plan.Refusal
		if !errors.As(err, &r) || !strings.Contains(r.Todo, "--only control first") {
			t.Errorf("%s: %v", part, err)
		}
	}
	var no *plan.Misnamed
	if err := plan.CheckPart(c, plan.Observed{}, "gouges"); !errors.As(err, &no) || !strings.Contains(no.Todo, "did you mean gauges?") {
		t.Errorf("unknown part: %v", err)
	}
	if err := plan.CheckPart(c, plan.Observed{}, "x"); !errors.As(err, &no) || !strings.Contains(no.Todo, "choose one of control, addons, gauges") {
		t.Errorf("unknown part: %v", err)
	}
	// One of which a machine is left can still be asked for.
	if err := plan.CheckPart(c, plan.Observed{Machines: map[string]plan.MachineSeen{"tidewatch-gone-1": {}}}, "gone"); err != nil {
		t.Errorf("a part that is left: %v", err)
	}
	// When nothing else is to be done it is the whole plan, with its last look.
	o := living(c, "v1.37.2")
	o.Machines["tidewatch-gauges-2"] = plan.MachineSeen{}
	p = planFor(t, c, o)
	pool, left, err := p.Only(c, "gauges")
	if err != nil || len(left) > 0 || !strings.Contains(kinds(pool.Steps), "verify") {
		t.Errorf("pool: %v, left %v, %v", kinds(pool.Steps), left, err)
	}
}

func TestSchedule(t *testing.T) {
	p := &plan.Plan{Steps: []plan.Step{{ID: "a"}, {ID: "b"}, {ID: "c", Needs: []string{"a"}}, {ID: "d", Needs: []string{"b", "c"}}, {ID: "e"}}}
	took := map[string]time.Duration{"a": 2, "b": 5, "c": 1, "d": 1, "e": 3}
	usual := func(s plan.Step) time.Duration { return took[s.ID] * time.Second }
	for parallel, want := range map[int]string{
		1: "a0-2 b2-7 c7-8 d8-9 e9-12 total 12s",
		2: "a0-2 b0-5 c2-3 d5-6 e3-6 total 6s",
		9: "a0-2 b0-5 c2-3 d5-6 e0-3 total 6s",
	} {
		slots, total := p.Schedule(parallel, usual)
		got := ""
		for _, s := range slots {
			got += fmt.Sprintf("%s%.0f-%.0f ", s.ID, s.Begin, s.End)
		}
		if got += "total " + total.String(); got != want {
			t.Errorf("%d at a time: %s, wanted %s", parallel, got, want)
		}
	}
}

func TestLines(t *testing.T) {
	for _, x := range []struct{ name, declared, found, want string }{
		{"changed", "a: 1\nb: 2\nc: 3\n", "a: 1\nb: 9\nc: 3\n", `[f:2: found "b: 9", declared "b: 2"]`},
		{"added", "a\nc\n", "a\nb\nc\n", `[f:2: found "b", which is not declared]`},
		{"taken out", "a\nb\nc\n", "a\nc\n", `[f:2: declared "b" is missing]`},
		{"two places", "a\nb\nc\nd\ne\n", "x\nb\nc\nd\ny\n", `[f:1: found "x", declared "a" f:5: found "y", declared "e"]`},
		{"late in a long line", strings.Repeat("x", 90) + " new\n", strings.Repeat("x", 90) + " old\n", `xxxxx old", declared "…xxxxx`},
		{"mode", "a\n", "a", "[f: only its mode or its last line break]"},
		{"empty lines", "a\n\nb\n", "a\nb\n", "[f: only its empty lines]"},
		{"many", "a\n", "1\n2\n3\n4\n5\n6\n7\n8\n", "f: and 2 more lines"},
		{"huge", strings.Repeat("a\n", 2000), strings.Repeat("b\n", 2000), "[f: lines 1 to 2000 are others]"},
	} {
		if got := fmt.Sprint(plan.Lines("f", x.declared, x.found)); !strings.Contains(got, x.want) {
			t.Errorf("%s: %s, wanted %s", x.name, got, x.want)
		}
	}
}

func TestDeclared(t *testing.T) {
	for _, x := range []struct{ declared, found, want string }{
		{"a\nb\nc\n", "a\nc\n", "1 line more"},
		{"a\nc\n", "a\nb\nx\nc\n", "2 lines fewer"},
		{"a\nx\nc\n", "a\nb\nc\n", "1 line more and 1 fewer"},
		{strings.Repeat("a\n", 2000), strings.Repeat("b\n", 1500), "2000 lines more and 1500 fewer"},
	} {
		if got := plan.Declared("f", x.declared, x.found); got != "f: as it is declared now, "+x.want {
			t.Errorf("%s, wanted %s", got, x.want)
		}
	}
}

// What cannot be done with workers and machines of other clusters.
func TestRefusalsOfMachines(t *testing.T) {
	c := cluster(t, "v1.37.2", 1, 1)
	for _, x := range []struct {
		name, want string
		change     func(*plan.Observed)
	}{
		{"living cluster", "machine tidewatch-gauges-1 belongs to cluster lampwright, which lives", func(o *plan.Observed) {
			o.Clusters = map[string]bool{"lampwright": true}
			seen(*o, "tidewatch-gauges-1", func(s *plan.MachineSeen) { s.Owner = "lampwright" })
		}},
		{"newer worker", "worker tidewatch-gauges-1 runs v1.38.0, and v1.37.2, which is lower", func(o *plan.Observed) {
			seen(*o, "tidewatch-gauges-1", func(s *plan.MachineSeen) { s.Versions["kubelet"] = "v1.38.0" })
		}},
		{"worker too old", "worker tidewatch-gauges-1 runs v1.33.0, and would be 4 minors behind", func(o *plan.Observed) {
			seen(*o, "tidewatch-gauges-1", func(s *plan.MachineSeen) { s.Versions["kubelet"] = "v1.33.0" })
		}},
	} {
		o := living(c, "v1.37.2")
		x.change(&o)
		if _, err := plan.Make(c, o, versions.Shipped()); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", x.name, err)
		}
	}
}

// Planning grows with the number of machines, not with its square.
func BenchmarkMake(b *testing.B) {
	for _, n := range []int{1000, 5000} {
		c, err := coretest.Cluster("v1.37.2", 3, n, topology.Memory{})
		if err != nil {
			b.Fatal(err)
		}
		for name, o := range map[string]plan.Observed{"raise": empty(), "upgrade": living(c, "v1.36.3"), "nothing": living(c, "v1.37.2")} {
			b.Run(fmt.Sprintf("%s-%d", name, n), func(b *testing.B) {
				for b.Loop() {
					p := planFor(b, c, o)
					p.Schedule(16, func(plan.Step) time.Duration { return time.Second })
				}
			})
		}
	}
}

// What a limited run keeps of removals and dangers is what it does itself; what waits for
// something that is left is left, and anything else that needs it is refused.
func TestOnlyOf(t *testing.T) {
	c := cluster(t, "v1.37.2", 1, 2)
	step := func(kind plan.Kind, machine string, needs ...string) plan.Step {
		return plan.Step{ID: strings.TrimSuffix(string(kind)+"/"+machine, "/"), Kind: kind, Machine: machine, Text: "do it", Needs: needs}
	}
	removal := func(name string) plan.Removal { return plan.Removal{Machine: name, Text: name + " (gone)"} }
	removing := &plan.Plan{
		Steps:     []plan.Step{step(plan.Release, "tidewatch-gauges-9"), step(plan.Unnode, "tidewatch-gauges-8"), step(plan.Release, "tidewatch-control-3"), step(plan.Drain, "tidewatch-gauges-7")},
		Removes:   []plan.Removal{removal("tidewatch-gauges-9"), removal("tidewatch-gauges-8"), removal("tidewatch-control-3"), removal("tidewatch-gauges-7")},
		Endangers: []string{"the datastore keeps 2 of 3 members"},
	}
	for part, want := range map[string]string{"gauges": "[tidewatch-gauges-9 (gone) tidewatch-gauges-8 (gone)] []", plan.OnlyControl: "[tidewatch-control-3 (gone)] [the datastore keeps 2 of 3 members]"} {
		p, _, err := removing.Only(c, part)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(p.Removes, p.Endangers); got != want {
			t.Errorf("%s: removes and endangers %s", part, got)
		}
	}
	for _, x := range []struct {
		what    string
		steps   []plan.Step
		kept    string
		refused string
	}{
		{"waiting", []plan.Step{step(plan.Write, "tidewatch-gauges-1"), step(plan.Ready, "tidewatch-control-1", "write/tidewatch-gauges-1")}, "", ""},
		{"coming back", []plan.Step{step(plan.Write, "tidewatch-gauges-1"), step(plan.Return, "tidewatch-control-1", "write/tidewatch-gauges-1")}, "", ""},
		{"what waits behind it", []plan.Step{step(plan.Write, "tidewatch-gauges-1"), step(plan.Ready, "tidewatch-control-1", "write/tidewatch-gauges-1"), step(plan.Label, "tidewatch-control-1", "ready/tidewatch-control-1")}, "", ""},
		{"anything else", []plan.Step{step(plan.Write, "tidewatch-gauges-1"), step(plan.Write, "tidewatch-control-1", "write/tidewatch-gauges-1")}, "", "tidewatch-control-1, do it; before it comes, of gauges: tidewatch-gauges-1, do it"},
		{"on the cluster", []plan.Step{step(plan.Network, ""), step(plan.Write, "tidewatch-control-1", "network")}, "", "before it comes, of addons: do it"},
		{"what needs nothing of it", []plan.Step{step(plan.Write, "tidewatch-gauges-1"), step(plan.Write, "tidewatch-control-1")}, "write/tidewatch-control-1", ""},
	} {
		p, _, err := (&plan.Plan{Steps: x.steps}).Only(c, plan.OnlyControl)
		var r *plan.Refusal
		switch {
		case x.refused != "":
			if !errors.As(err, &r) || !strings.Contains(r.What, x.refused) {
				t.Errorf("%s: %v", x.what, err)
			}
		case err != nil:
			t.Errorf("%s: %v", x.what, err)
		case kinds(p.Steps) != x.kept:
			t.Errorf("%s: %s", x.what, kinds(p.Steps))
		}
	}
}
