package plan_test

import (
	"net/netip"
	"strings"
	"testing"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
)

func TestClear(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 2)
	all := []string{}
	for _, m := range c.Machines {
		all = append(all, m.Name)
	}
	for _, x := range []struct {
		name  string
		names []string
		gone  bool
		want  string
	}{
		{"a worker", []string{"tidewatch-gauges-1"}, false, "drain/tidewatch-gauges-1 unnode/tidewatch-gauges-1 wipe/tidewatch-gauges-1"},
		{"a control-plane machine", []string{"tidewatch-control-2"}, false, "leave/tidewatch-control-2 unnode/tidewatch-control-2 wipe/tidewatch-control-2"},
		{"the balancer", []string{"tidewatch-balancer-1"}, true, "release/tidewatch-balancer-1"},
		{"a worker, for another", []string{"tidewatch-gauges-2"}, true, "drain/tidewatch-gauges-2 unnode/tidewatch-gauges-2 release/tidewatch-gauges-2"},
		{"two members, one after the other", []string{"tidewatch-control-1", "tidewatch-control-3"}, false,
			"leave/tidewatch-control-1 unnode/tidewatch-control-1 wipe/tidewatch-control-1 leave/tidewatch-control-3 unnode/tidewatch-control-3 wipe/tidewatch-control-3"},
		{"everything", all, false, "wipe/tidewatch-control-1 wipe/tidewatch-control-2 wipe/tidewatch-control-3 wipe/tidewatch-gauges-1 wipe/tidewatch-gauges-2 wipe/tidewatch-balancer-1"},
	} {
		p, err := plan.Clear(c, living(c, "v1.37.2"), x.names, x.gone)
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		if got := kinds(p.Steps); got != x.want {
			t.Errorf("%s: %s, wanted %s", x.name, got, x.want)
		}
		for _, s := range p.Steps {
			if (s.Kind == plan.Wipe || s.Kind == plan.Release) && !s.Final {
				t.Errorf("%s: %s is not said to be final", x.name, s.ID)
			}
		}
		if danger := strings.Join(p.Endangers, "; "); strings.Contains(x.want, "leave/") != strings.Contains(danger, "survives the loss of") || (x.name == "everything") != strings.Contains(danger, "everything will be lost") {
			t.Errorf("%s endangers: %q", x.name, danger)
		}
	}
}

func TestClearRefusals(t *testing.T) {
	c := cluster(t, "v1.37.2", 1, 2)
	o := living(c, "v1.37.2")
	seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Reached, s.Trouble = false, "its power is off" })
	delete(o.Machines, "tidewatch-balancer-1")
	o.Machines["tidewatch-gauges-9"] = plan.MachineSeen{Exists: true}
	for name, want := range map[string]string{
		"tidewatch-gauge-1":    "has no machine tidewatch-gauge-1",
		"tidewatch-gauges-2":   "is not reached: its power is off",
		"tidewatch-balancer-1": "is not there",
		"tidewatch-gauges-9":   "is not declared any more",
		"tidewatch-control-1":  "these are all machines with a member of the datastore",
	} {
		if _, err := plan.Clear(c, o, []string{name}, false); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, wanted %q", name, err, want)
		}
	}
	// A machine that is not reached can be replaced, an only member cannot.
	if p, err := plan.Clear(c, o, []string{"tidewatch-gauges-2"}, true); err != nil || kinds(p.Steps) != "release/tidewatch-gauges-2 unnode/tidewatch-gauges-2" {
		t.Errorf("replacing a dead machine: %v", err)
	}
	if _, err := plan.Clear(c, o, []string{"tidewatch-control-1"}, true); err == nil || !strings.Contains(err.Error(), "the only member of the datastore") {
		t.Errorf("replacing the only member: %v", err)
	}
	adopted := declared(t, "pools: [{name: gauges, adopt: ['02:5e:00:00:00:01']}]\n")
	if _, err := plan.Clear(adopted, living(adopted, "v1.37.2"), []string{"tidewatch-gauges-1"}, true); err == nil || !strings.Contains(err.Error(), "no other can take its place") {
		t.Errorf("replacing an adopted machine: %v", err)
	}
}

// What an interrupted clear left is wiped before the cluster is raised anew.
func TestInterruptedClear(t *testing.T) {
	c := cluster(t, "v1.37.2", 1, 1)
	o := living(c, "v1.37.2")
	o.Founded, o.API, o.Roles, o.Clearing = false, false, false, true
	o.Members, o.Nodes, o.AddOns = nil, nil, nil
	seen(o, "tidewatch-gauges-1", func(s *plan.MachineSeen) { *s = plan.MachineSeen{Exists: true, Reached: true} }) // wiped already
	got := kinds(planFor(t, c, o).Steps)
	if !strings.Contains(got, "wipe/tidewatch-control-1 pull/tidewatch-control-1 write/tidewatch-control-1") || strings.Contains(got, "wipe/tidewatch-gauges-1") || !strings.Contains(got, " found ") {
		t.Errorf("plan: %s", got)
	}
}

// A machine with another address is repaired before anything else, members
// first, one at a time.
func TestMoved(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 2)
	o := living(c, "v1.36.3") // an upgrade waits
	for _, n := range []string{"tidewatch-gauges-1", "tidewatch-control-3"} {
		seen(o, n, func(s *plan.MachineSeen) {
			s.Moved = netip.MustParseAddr("127.80.0.99")
			s.Lines = []string{"/etc/hosts:3: found"}
		})
	}
	p := planFor(t, c, o)
	want := "move/tidewatch-control-3 write/tidewatch-control-3 member/tidewatch-control-3 control/tidewatch-control-3 node/tidewatch-control-3"
	if got := kinds(p.Steps); got != want || !p.More {
		t.Errorf("plan %s, more %v", got, p.More)
	}
	if s := p.Steps[0]; !strings.Contains(s.Text, "tell the datastore") || len(s.Guards) == 0 || !strings.Contains(s.Why, "instead of 127.80.0.99") {
		t.Errorf("first step %+v", s)
	}
	seen(o, "tidewatch-control-3", func(s *plan.MachineSeen) { s.Moved = netip.Addr{} })
	if got := kinds(planFor(t, c, o).Steps); got != "move/tidewatch-gauges-1 write/tidewatch-gauges-1 node/tidewatch-gauges-1" {
		t.Errorf("then: %s", got)
	}
	// The datastore still looks for a member where it was: an interrupted repair
	// is taken up.
	seen(o, "tidewatch-gauges-1", func(s *plan.MachineSeen) { s.Moved = netip.Addr{} })
	m := c.With("member")[1]
	o.Members[m.Name] = plan.MemberSeen{ID: 2, Peer: "https://127.80.0.98:2380", Trouble: "no answer"}
	if got := kinds(planFor(t, c, o).Steps); !strings.HasPrefix(got, "move/"+m.Name) {
		t.Errorf("interrupted: %s", got)
	}
	o.Members[m.Name] = plan.MemberSeen{ID: 2, Peer: nodeconf.Peer(m), Healthy: true}
	if p := planFor(t, c, o); p.More || p.From != "v1.36.3" {
		t.Errorf("at last the upgrade: %+v", p)
	}
}
