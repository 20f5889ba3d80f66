package plan

import (
	"slices"
	"testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/topology"
)

// Machines whose members count are switched on before another one leaves or joins: those that
// stay, or those that are on their way out, of a datastore that was founded.
func TestWake(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 3, 1, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	off, on := MachineSeen{Exists: true, Power: "off"}, MachineSeen{Exists: true, Power: "on"}
	ids := func(p *Plan) (out []string) {
		if p != nil {
			for _, s := range p.Steps {
				out = append(out, s.ID)
			}
		}
		return out
	}
	one, two, three, old := "tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3", "tidewatch-control-9"
	for what, x := range map[string]struct {
		machines  map[string]MachineSeen
		going     []string
		unfounded bool
		want      []string
	}{
		"all are on":          {map[string]MachineSeen{one: on, two: on, three: on}, []string{one}, false, nil},
		"another one is off":  {map[string]MachineSeen{one: on, two: off, three: on}, []string{one}, false, []string{"get/" + two}},
		"it has crashed":      {map[string]MachineSeen{one: on, two: {Exists: true, Power: "crashed"}, three: on}, []string{one}, false, []string{"get/" + two}},
		"two are":             {map[string]MachineSeen{one: on, two: off, three: off}, []string{one}, false, []string{"get/" + two, "get/" + three}},
		"that which goes is":  {map[string]MachineSeen{one: off, two: on, three: on}, []string{one}, false, nil},
		"it is not there":     {map[string]MachineSeen{one: on, two: {Power: "off"}, three: on}, []string{one}, false, nil},
		"it was not founded":  {map[string]MachineSeen{one: on, two: off, three: on}, []string{one}, true, nil},
		"one without members": {map[string]MachineSeen{one: on, two: on, three: on, "tidewatch-gauges-1": off}, []string{one}, false, nil},
	} {
		o := Observed{Founded: !x.unfounded, Machines: x.machines, Members: map[string]MemberSeen{one: {}, two: {}, three: {}}}
		p := Wake(c, o, x.going)
		if got := ids(p); !slices.Equal(got, x.want) || p != nil && !p.More {
			t.Errorf("%s: %q, wanted %q", what, got, x.want)
		}
	}
	for what, x := range map[string]struct {
		members []string
		part    string
		want    []string
	}{
		"one joins, and one that leaves is off": {[]string{one, two, old}, "", []string{"get/" + old}},
		"the control plane alone":               {[]string{one, two, old}, OnlyControl, []string{"get/" + old}},
		"a pool alone":                          {[]string{one, two, old}, "gauges", nil},
		"none joins":                            {[]string{one, two, three, old}, "", nil},
	} {
		o := Observed{Founded: true, Part: x.part, Machines: map[string]MachineSeen{one: on, two: off, three: on, old: off}, Members: map[string]MemberSeen{}}
		for _, m := range x.members {
			o.Members[m] = MemberSeen{}
		}
		p := newPlanner(c, o)
		if wakes := p.wakesLeaving(); wakes != (x.want != nil) || !slices.Equal(ids(&p.plan), x.want) {
			t.Errorf("%s: %v, %q, wanted %q", what, wakes, ids(&p.plan), x.want)
		}
	}
}
