package plan

import (
	"maps"
	"slices"
	"testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// On a hop the declaration says what the hop is to run, and pools that follow the control plane
// run no more than that; what was declared stays as it was.
func TestAimDeclared(t *testing.T) {
	d := &declare.Declaration{Kubernetes: "v1.37.2", Pools: []declare.Pool{{Name: "gauges", Kubernetes: "v1.37.2"}, {Name: "forecast", Kubernetes: "v1.37.2"}, {Name: "lamps", Kubernetes: "v1.35.4"}}}
	if got := (Aim{}).Declared(d); got != d {
		t.Error("without a hop, it is another one")
	}
	got := Aim{Stage: &Stage{Kubernetes: "v1.36.3", Pools: map[string]string{"gauges": "v1.35.4"}}}.Declared(d)
	var runs []string
	for _, p := range got.Pools {
		runs = append(runs, p.Kubernetes)
	}
	if got.Kubernetes != "v1.36.3" || !slices.Equal(runs, []string{"v1.35.4", "v1.36.3", "v1.35.4"}) {
		t.Errorf("on the hop, %s is declared, of pools %q", got.Kubernetes, runs)
	}
	if d.Kubernetes != "v1.37.2" || d.Pools[0].Kubernetes != "v1.37.2" {
		t.Errorf("what was declared is %+v by now", d)
	}
}

// Numbers that are aimed at are beside those that are remembered, which stay as they were.
func TestAimMemory(t *testing.T) {
	m := topology.Memory{Numbers: map[string][]int{"gauges": {1, 2}, "forecast": {1}}}
	got := Aim{Numbers: map[string][]int{"gauges": {1, 3}}}.Memory(m)
	if !slices.Equal(got.Numbers["gauges"], []int{1, 3}) || !slices.Equal(got.Numbers["forecast"], []int{1}) || !slices.Equal(m.Numbers["gauges"], []int{1, 2}) {
		t.Errorf("aimed at are %v, remembered %v", got.Numbers, m.Numbers)
	}
	if got := (Aim{Numbers: map[string][]int{"gauges": {3}}}).Memory(topology.Memory{}); !maps.EqualFunc(got.Numbers, map[string][]int{"gauges": {3}}, slices.Equal) {
		t.Errorf("of nothing remembered: %v", got.Numbers)
	}
}

// It is aimed at the hop first, then at new machines on it; each is looked at before the next,
// and nothing changes any more when all is aimed at.
func TestAimAt(t *testing.T) {
	cat := versions.Shipped()
	living := func(version string) Observed {
		o := Observed{Founded: true, API: true, Endpoint: true, Roles: true, Machines: map[string]MachineSeen{}, Members: map[string]MemberSeen{}, Nodes: map[string]NodeSeen{}, AddOns: map[string]AddOnSeen{}}
		c, err := coretest.Cluster(version, 3, 2, topology.Memory{})
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range c.Machines {
			s := MachineSeen{Exists: true, Reached: true, Power: "on", Role: m.Role, Size: m.Size, Zone: m.Zone, Active: "a", Owner: c.Name, Versions: map[string]string{}}
			for _, k := range m.Components() {
				s.Versions[k.Name] = k.Version
			}
			o.Machines[m.Name] = s
			if m.Is(versions.Member) {
				o.Members[m.Name] = MemberSeen{ID: 1, Healthy: true}
			}
			if m.IsNode() {
				o.Nodes[m.Name] = NodeSeen{Ready: true}
			}
		}
		return o
	}
	c, err := coretest.Cluster("v1.37.2", 3, 2, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	for what, x := range map[string]struct {
		seen       Observed
		hop        string
		stays, all bool
	}{
		"as declared": {living("v1.37.2"), "", true, false}, "one hop": {living("v1.36.3"), "", true, false}, "two hops": {living("v1.35.4"), "v1.36.3", false, false},
		"new machines": {living("v1.36.3"), "", false, true},
	} {
		was := c.Policies["gauges"]
		if x.all {
			p := was
			p.Way = "replacement"
			c.Policies["gauges"] = p
			for n, m := range x.seen.Machines {
				if m.Role != versions.Worker { // their turn comes when the control plane is as declared
					m.Versions = living("v1.37.2").Machines[n].Versions
					x.seen.Machines[n] = m
				}
			}
		}
		aim, again, err := AimAt(Aim{}, c, x.seen, cat)
		if err != nil || again == x.stays || (aim.Stage != nil) != (x.hop != "") || aim.Stage != nil && versions.Minor(aim.Stage.Kubernetes) != versions.Minor(x.hop) || (len(aim.Numbers) > 0) != x.all {
			t.Errorf("%s: %+v, %+v, again %v, %v", what, aim.Stage, aim.Numbers, again, err)
		}
		if now, again, err := AimAt(Aim{Stage: &Stage{}, Numbers: map[string][]int{"gauges": {1, 9}}}, c, x.seen, cat); err != nil || again || len(now.Numbers["gauges"]) != 2 {
			t.Errorf("%s: aimed at all, it goes on: %+v, %v, %v", what, now, again, err)
		}
		c.Policies["gauges"] = was
	}
}
