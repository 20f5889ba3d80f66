package plan_test

import (
	"errors"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// as is what each step is done with, where that is not as declared.
func as(p *plan.Plan) map[string]string {
	out := map[string]string{}
	for _, s := range p.Steps {
		if s.As != nil {
			out[s.ID] = s.As.Set.Kubernetes
		}
	}
	return out
}

// What joins while an upgrade is declared does so on what the API servers run, and
// is upgraded with the others after that.
func TestJoinsOnWhatRuns(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 3)
	lost := func(name string) plan.Observed {
		o := living(c, "v1.36.3")
		delete(o.Machines, name)
		return o
	}
	for _, name := range []string{"tidewatch-gauges-2", "tidewatch-control-3"} {
		o := lost(name)
		p := planFor(t, c, o)
		got := as(p)
		for _, k := range []plan.Kind{plan.Get, plan.Pull, plan.Write, plan.Node, plan.Ready} {
			if v := got[string(k)+"/"+name]; v != "v1.36.3" {
				t.Errorf("%s of %s is for %q", k, name, v)
			}
		}
		k := kinds(p.Steps)
		if !p.More || strings.Contains(k, "switch/") || strings.Contains(k, "verify") || strings.Contains(k, "backup") {
			t.Errorf("%s: more %v, steps %s", name, p.More, k)
		}
		if i := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.Kind == plan.Pull }); !strings.Contains(p.Steps[i].Text, "pull v1.36.3") || !strings.Contains(p.Steps[i].Why, "follows when the API servers run it") {
			t.Errorf("it says %q because %q", p.Steps[i].Text, p.Steps[i].Why)
		}
	}
	// A run that was cut off before the node was known goes on with it.
	o := living(c, "v1.36.3")
	delete(o.Nodes, "tidewatch-gauges-2")
	seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Units["kubelet.service"] = "inactive" })
	p := planFor(t, c, o)
	if k := kinds(p.Steps); !p.More || as(p)["node/tidewatch-gauges-2"] != "v1.36.3" || strings.Contains(k, "drain/") || strings.Contains(k, "pull/") {
		t.Errorf("more %v, steps %s", p.More, k)
	}
	// One that was given too new a version before it joined is set up anew.
	seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Versions = living(c, "v1.37.2").Machines["tidewatch-gauges-2"].Versions })
	if p := planFor(t, c, o); as(p)["pull/tidewatch-gauges-2"] != "v1.36.3" {
		t.Errorf("steps %s", kinds(p.Steps))
	}
	// Whoever cannot be looked into is woken first; who has joined is upgraded.
	o = living(c, "v1.36.3")
	seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Reached = false })
	if p := planFor(t, c, o); len(as(p)) > 0 || len(p.Waking(o)) != 1 {
		t.Errorf("for now %v", as(p))
	}
	// On the declared version nothing is for now; nor in a cluster that is to be raised.
	for _, o := range []plan.Observed{empty(), lost("tidewatch-gauges-2")} {
		d := c
		if o.Founded {
			d = cluster(t, "v1.36.3", 3, 3)
		}
		if p := planFor(t, d, o); len(as(p)) > 0 || p.More {
			t.Errorf("for now %v, more %v", as(p), p.More)
		}
	}
}

// With the datastore apart a control-plane machine is part of the cluster when it was set
// up for it; then it is upgraded. One that is lost, or never was, joins on what runs.
func TestJoinsApart(t *testing.T) {
	c := declared(t, "control: {count: 2, nodes: false, datastore: {place: apart, count: 3}}\nendpoint: {virtual: {address: 127.80.0.250}}\npools: [{name: gauges, count: 2}]\n")
	name := "tidewatch-control-2"
	for what, change := range map[string]func(*plan.MachineSeen){
		"":          func(*plan.MachineSeen) {},
		"lost":      func(s *plan.MachineSeen) { *s = plan.MachineSeen{} },
		"bare":      func(s *plan.MachineSeen) { s.Active, s.Owner, s.Versions, s.Units = "", "", nil, nil },
		"of others": func(s *plan.MachineSeen) { s.Owner = "lampwright" },
	} {
		o := living(c, "v1.36.3")
		seen(o, name, change)
		p := planFor(t, c, o)
		_, now := as(p)["pull/"+name]
		if now != (what != "") || (what == "") != strings.Contains(kinds(p.Steps), "switch/"+name) {
			t.Errorf("%q: for now %v, steps %s", what, as(p), kinds(p.Steps))
		}
	}
}

// A machine whose address changed is repaired as what it runs, and the others learn
// its address, before anything is upgraded.
func TestRepairedAsItRuns(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 2)
	for _, name := range []string{"tidewatch-control-2", "tidewatch-gauges-1"} {
		o := living(c, "v1.36.3")
		seen(o, name, func(s *plan.MachineSeen) { s.Moved = netip.MustParseAddr("127.80.0.99") })
		p := planFor(t, c, o)
		for id, v := range as(p) {
			if v != "v1.36.3" {
				t.Errorf("%s is for %s", id, v)
			}
		}
		if len(as(p)) != len(p.Steps) || !p.More {
			t.Errorf("as it runs: %v of %s", as(p), kinds(p.Steps))
		}
	}
	// What others need comes first, one after the other; then all workers at once.
	o := living(c, "v1.36.3")
	for _, n := range []string{"tidewatch-gauges-1", "tidewatch-gauges-2", "tidewatch-balancer-1", "tidewatch-control-3"} {
		seen(o, n, func(s *plan.MachineSeen) { s.Moved = netip.MustParseAddr("127.80.0.99") })
	}
	for _, want := range []string{"tidewatch-control-3", "tidewatch-balancer-1", "tidewatch-gauges-1 tidewatch-gauges-2"} {
		p := planFor(t, c, o)
		var moves []string
		for _, s := range p.Steps {
			if s.Kind == plan.Move {
				moves = append(moves, s.Machine)
			}
		}
		if got := strings.Join(moves, " "); got != want || !p.More {
			t.Errorf("%s move first, wanted %s", got, want)
		}
		for _, n := range moves {
			seen(o, n, func(s *plan.MachineSeen) { s.Moved = netip.Addr{} })
		}
	}
	// One that runs what is declared is repaired as declared.
	o = living(c, "v1.37.2")
	seen(o, "tidewatch-gauges-1", func(s *plan.MachineSeen) { s.Moved = netip.MustParseAddr("127.80.0.99") })
	if p := planFor(t, c, o); len(as(p)) > 0 || len(p.Steps) == 0 {
		t.Errorf("for now %v", as(p))
	}
	// What it runs is none of the catalogue's: nothing can be rendered for it.
	o = living(c, "v1.36.3")
	seen(o, "tidewatch-control-2", func(s *plan.MachineSeen) {
		s.Moved, s.Versions["kubelet"] = netip.MustParseAddr("127.80.0.99"), "v1.36.99"
	})
	var r *plan.Refusal
	if _, err := plan.Make(c, o, versions.Shipped()); !errors.As(err, &r) || !strings.Contains(r.What, "no set of the catalogue") || !strings.Contains(r.What, "tidewatch-control-2") {
		t.Errorf("refused with %v", err)
	}
	// One on which nothing was set up yet is raised where it is.
	o = living(c, "v1.36.3")
	delete(o.Nodes, "tidewatch-gauges-1")
	seen(o, "tidewatch-gauges-1", func(s *plan.MachineSeen) {
		s.Moved, s.Active, s.Owner = netip.MustParseAddr("127.80.0.99"), "", ""
		s.Versions, s.Units = map[string]string{}, map[string]string{}
	})
	if k := kinds(planFor(t, c, o).Steps); strings.Contains(k, "move/") || !strings.Contains(k, "pull/tidewatch-gauges-1") {
		t.Errorf("steps %s", k)
	}
	// The others are told where it is before their upgrade, and nothing restarts.
	o = living(c, "v1.36.3")
	seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) {
		s.Differs = []string{nodeconf.Hosts, "/opt/verbund/active/etc/kubelet.yaml"}
	})
	p := planFor(t, c, o)
	i := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.ID == "write/tidewatch-gauges-2" })
	sw := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.ID == "backup" })
	if i < 0 || !slices.Equal(p.Steps[i].Files, []string{nodeconf.Hosts}) || !slices.Contains(p.Steps[sw].Needs, "write/tidewatch-gauges-2") {
		t.Errorf("steps %s", kinds(p.Steps))
	}
}

// What runs is told from what is declared by what the slot holds.
func TestAsItRuns(t *testing.T) {
	c := declared(t, "control: {count: 1}\n")
	m := c.Machines[0]
	have := func(version string, without ...string) map[string]string {
		set, _ := versions.Shipped().Set(version)
		out := map[string]string{}
		for _, k := range set.Components(m.Parts) {
			if !slices.Contains(without, k.Name) {
				out[k.Name] = k.Version
			}
		}
		return out
	}
	for _, x := range []struct {
		have  map[string]string
		want  string
		parts int
	}{
		{have("v1.37.2"), "v1.37.2", len(m.Parts)},
		{have("v1.36.3"), "v1.36.3", len(m.Parts)},
		{have("v1.36.3", "request-approver"), "v1.36.3", len(m.Parts) - 1},
		{map[string]string{}, "", 0},
		{map[string]string{"kubelet": "v1.36.3"}, "", 0},
	} {
		got, ok := plan.AsItRuns(m, x.have, versions.Shipped())
		if x.want == "v1.37.2" && got.Set != m.Set {
			t.Errorf("what runs as declared is another set: %+v", got.Set)
		}
		if ok != (x.want != "") || ok && (got.Set.Kubernetes != x.want || len(got.Parts) != x.parts) {
			t.Errorf("of %v: %s with %v, %v; wanted %s with %d parts", x.have, got.Set.Kubernetes, got.Parts, ok, x.want, x.parts)
		}
	}
}

// A datastore machine that holds what is declared keeps its set, though others hold the same.
func TestAsItRunsKeepsItsSet(t *testing.T) {
	c, err := coretest.Declare("schema: verbund/1\nname: tidewatch\nkubernetes: v1.36.2\nsite: estuary\ncontrol: {count: 1, datastore: {place: apart, count: 3}}\n", topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range c.Of(versions.Datastore) {
		have := map[string]string{}
		for _, k := range m.Components() {
			have[k.Name] = k.Version
		}
		if got, ok := plan.AsItRuns(m, have, versions.Shipped()); !ok || got.Set != m.Set {
			t.Errorf("%s has the set %+v", m.Name, got.Set)
		}
	}
}

// Labels that are declared together with another version are set on the way.
func TestUpgradeRelabels(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 2)
	o := living(c, "v1.36.3")
	for _, n := range []string{"tidewatch-control-1", "tidewatch-gauges-1"} {
		seen := o.Nodes[n]
		seen.Differs = []string{"label work=night"}
		o.Nodes[n] = seen
	}
	k := kinds(planFor(t, c, o).Steps)
	for _, want := range []string{"ready/tidewatch-control-1 label/tidewatch-control-1 return/tidewatch-control-1", "label/tidewatch-gauges-1", "uncordon/tidewatch-gauges-1"} {
		if !strings.Contains(k, want) {
			t.Errorf("%s is not in %s", want, k)
		}
	}
	if strings.Index(k, "label/tidewatch-gauges-1") > strings.Index(k, "uncordon/tidewatch-gauges-1") || strings.Contains(k, "label/tidewatch-gauges-2") {
		t.Errorf("steps %s", k)
	}
}

// A raise that was cut off goes on with what it was begun with, whatever is declared by now, also
// under a hold and with no wave open: with the network plugin that fits what runs.
func TestRaisedFirst(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 3)
	o := living(c, "v1.36.3")
	o.Held = true
	o.AddOns = map[string]plan.AddOnSeen{}
	o.Nodes = map[string]plan.NodeSeen{}
	p := planFor(t, c, o)
	fits, _ := versions.Shipped().Set("v1.36.3")
	k := kinds(p.Steps)
	i := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.Kind == plan.Network })
	if i < 0 || !strings.Contains(p.Steps[i].Text, fits.Fairway) || p.Steps[i].As == nil || p.Steps[i].As.Set.Kubernetes != "v1.36.3" || !strings.Contains(k, "dns") {
		t.Fatalf("steps %s", k)
	}
	if strings.Contains(k, "switch/") || strings.Contains(k, "drain/") || !p.More || !strings.Contains(k, "ready/tidewatch-gauges-1") {
		t.Errorf("more %v, steps %s", p.More, k)
	}
	// Cut off before an API server ran, they are started as they are.
	o = living(c, "v1.36.3")
	o.Held, o.API, o.AddOns, o.Nodes = true, false, map[string]plan.AddOnSeen{}, map[string]plan.NodeSeen{}
	for _, m := range c.Machines {
		seen(o, m.Name, func(s *plan.MachineSeen) {
			if _, has := s.Units["kube-apiserver.service"]; has {
				s.Units["kube-apiserver.service"] = "inactive"
			}
		})
	}
	if k := kinds(planFor(t, c, o).Steps); !strings.Contains(k, "control/tidewatch-control-1") || strings.Contains(k, "switch/") {
		t.Errorf("steps %s", k)
	}
	// What was raised is upgraded, or waits for a word.
	o = living(c, "v1.36.3")
	o.Held = true
	if p := planFor(t, c, o); len(as(p)) > 0 || !p.Held || strings.Contains(kinds(p.Steps), "switch/") {
		t.Errorf("held %v, steps %s", p.Held, kinds(p.Steps))
	}
}
