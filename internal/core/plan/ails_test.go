package plan

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

func cluster(t *testing.T) *topology.Cluster {
	t.Helper()
	c, err := coretest.Cluster("v1.37.2", 3, 1, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// wellSeen is a cluster in which everything is as it should be.
func wellSeen(c *topology.Cluster) Observed {
	o := Observed{Founded: true, API: true, Endpoint: true, Machines: map[string]MachineSeen{}, Members: map[string]MemberSeen{}, Nodes: map[string]NodeSeen{},
		AddOns: map[string]AddOnSeen{versions.NetworkAddOn: {Version: "v1", Ready: true}, versions.DNSAddOn: {Version: "v1", Ready: true}}}
	for _, m := range c.Machines {
		s := MachineSeen{Exists: true, Reached: true, Units: map[string]string{}}
		for _, u := range nodeconf.Units(m) {
			s.Units[u] = "active"
		}
		o.Machines[m.Name] = s
		if m.Is(versions.Member) {
			o.Members[m.Name] = MemberSeen{Healthy: true}
		}
		if m.IsNode() {
			o.Nodes[m.Name] = NodeSeen{Ready: true}
		}
	}
	return o
}

// Each thing that does not work is told once, and what could not be seen is not told of.
func TestAils(t *testing.T) {
	c := cluster(t)
	const worker, control = "tidewatch-gauges-1", "tidewatch-control-1"
	machine := func(name string, f func(*MachineSeen)) func(*Observed, *Unseen) {
		return func(o *Observed, _ *Unseen) {
			s := o.Machines[name]
			f(&s)
			o.Machines[name] = s
		}
	}
	for _, x := range []struct {
		what string
		be   func(*Observed, *Unseen)
		want []string
	}{
		{"all is well", func(*Observed, *Unseen) {}, nil},
		{"the site was not seen", func(_ *Observed, u *Unseen) { u.Site = errors.New("no answer") }, []string{"the site was not seen: no answer"}},
		{"the API is away", func(o *Observed, u *Unseen) { o.API, u.API, o.Nodes, o.AddOns = false, errors.New("refused"), nil, nil }, []string{"the API does not answer: refused"}},
		{"only the endpoint is", func(o *Observed, _ *Unseen) { o.Endpoint = false }, []string{"the API does not answer at the endpoint " + c.Endpoint.Addr()}},
		{"the datastore is not known", func(o *Observed, u *Unseen) { o.Members, u.Datastore = nil, errors.New("no quorum") }, []string{"no quorum"}},
		{"a machine is missing", machine(worker, func(s *MachineSeen) { s.Exists = false }), []string{"machine " + worker + " is missing"}},
		{"a machine is not reached", machine(worker, func(s *MachineSeen) { s.Reached, s.Trouble = false, worker+": no route" }), []string{"machine " + worker + " cannot be reached: no route"}},
		{"a unit is not there", machine(worker, func(s *MachineSeen) { delete(s.Units, "kubelet.service") }), []string{"kubelet.service on " + worker + " is not installed"}},
		{"a unit failed", machine(worker, func(s *MachineSeen) { s.Units["kubelet.service"] = "failed" }), []string{"kubelet.service on " + worker + " is failed"}},
		{"a member is gone", func(o *Observed, _ *Unseen) { delete(o.Members, control) }, []string{control + " has no member of the datastore"}},
		{"a member has no vote", func(o *Observed, _ *Unseen) { o.Members[control] = MemberSeen{Healthy: true, Learner: true} }, []string{"the datastore member of " + control + " is not well: it has no vote yet"}},
		{"a member is ill", func(o *Observed, _ *Unseen) { o.Members[control] = MemberSeen{Trouble: "slow"} }, []string{"the datastore member of " + control + " is not well: slow"}},
		{"a node is gone", func(o *Observed, _ *Unseen) { delete(o.Nodes, worker) }, []string{"machine " + worker + " is not a node"}},
		{"its token was refused", func(o *Observed, u *Unseen) {
			delete(o.Nodes, worker)
			u.Tokens = map[string]string{worker: "its token has ended"}
		}, []string{"machine " + worker + " is not a node: its token has ended"}},
		{"a node is not Ready", func(o *Observed, _ *Unseen) { o.Nodes[worker] = NodeSeen{Trouble: "no network"} }, []string{"node " + worker + " is not Ready: no network"}},
		{"a kubelet cannot serve", machine(worker, func(s *MachineSeen) { s.Unsigned = "nobody signed" }), []string{"the kubelet of " + worker + " has no certificate to serve with: nobody signed"}},
		{"an add-on is not there", func(o *Observed, _ *Unseen) { delete(o.AddOns, versions.DNSAddOn) }, []string{"add-on cluster-dns is not installed"}},
		{"an add-on does not serve", func(o *Observed, _ *Unseen) { o.AddOns[versions.DNSAddOn] = AddOnSeen{Version: "v1", State: "1 of 2"} }, []string{"add-on cluster-dns does not serve everywhere yet: 1 of 2"}},
	} {
		o, why := wellSeen(c), Unseen{}
		x.be(&o, &why)
		var got []string
		for _, a := range Ails(c, o, why, time.Now()) {
			got = append(got, a.Text)
		}
		if !slices.Equal(got, x.want) {
			t.Errorf("%s: %q", x.what, got)
		}
	}
}

// What works and should be seen to is told, but for machines that a run has out of service.
func TestStrains(t *testing.T) {
	c := cluster(t)
	const worker = "tidewatch-gauges-1"
	never := func() time.Time { return time.Time{} }
	o := wellSeen(c)
	if l := Strains(c, o, nil, time.Now(), never); len(l) > 0 {
		t.Errorf("all is well: %q", l)
	}
	s := o.Machines[worker]
	s.Disk, s.DiskUsed, s.ClockOff = 100, diskNearlyFull, -2*ClockOff
	o.Machines[worker] = s
	for _, x := range []struct {
		node NodeSeen
		want string
	}{
		{NodeSeen{Unschedulable: true, Cordoned: true, By: "r1"}, "node " + worker + " is cordoned, by run r1 of verbund; converge lets pods onto it again"},
		{NodeSeen{Unschedulable: true}, "node " + worker + " is cordoned, and not by verbund; kubectl uncordon " + worker + " lets pods onto it again"},
	} {
		o.Nodes[worker] = x.node
		want := []string{"the disk of " + worker + " is 90% full", "the clock of " + worker + " is 4s behind", x.want}
		if l := Strains(c, o, nil, time.Now(), never); !slices.Equal(l, want) {
			t.Errorf("told is %q", l)
		}
		if l := Strains(c, o, map[string]bool{worker: true}, time.Now(), never); len(l) > 0 {
			t.Errorf("of a machine that a run has out of service: %q", l)
		}
	}
	// One that is to go is not to take pods again: what is advised is what the plan does.
	const leaving = "tidewatch-gauges-9"
	o = wellSeen(c)
	o.Machines[leaving], o.Nodes[leaving] = MachineSeen{Exists: true}, NodeSeen{Unschedulable: true, Cordoned: true, By: "r1"}
	if l := Strains(c, o, nil, time.Now(), never); !slices.Equal(l, []string{"node " + leaving + " is cordoned, and no longer declared; converge empties it and gives its machine back"}) {
		t.Errorf("of one that is to go: %q", l)
	}
}

// A unit that runs at the moment, and fails again and again, is not well while it
// does, and something to be seen to for a while after.
func TestRestartLoop(t *testing.T) {
	c := cluster(t)
	m := c.Of(versions.Worker)[0]
	units := map[string]string{}
	for _, u := range nodeconf.Units(m) {
		units[u] = "active"
	}
	for _, x := range []struct {
		times           int
		ago             time.Duration
		well            time.Duration // ago, when a run found all of it well
		trouble, strain bool
	}{{3, time.Second, time.Hour, true, false}, {3, time.Minute, time.Hour, false, true}, {3, time.Minute, time.Second, false, false}, {2, time.Second, time.Hour, false, false}, {9, time.Hour, 2 * time.Hour, false, false}} {
		seen := MachineSeen{Exists: true, Reached: true, Units: units, Restarted: map[string]Restarted{"kubelet.service": {Times: x.times, Last: time.Now().Add(-x.ago), Why: "exit code 2"}}}
		o := Observed{Machines: map[string]MachineSeen{m.Name: seen}}
		const said = "kubelet.service on tidewatch-gauges-1 keeps restarting"
		has := func(list []string) bool {
			return slices.ContainsFunc(list, func(s string) bool { return strings.HasPrefix(s, said) && strings.HasSuffix(s, "exit code 2") })
		}
		var ails []string
		for _, a := range Ails(c, o, Unseen{}, time.Now()) {
			ails = append(ails, a.Text)
		}
		if got := has(ails); got != x.trouble {
			t.Errorf("%d times, %s ago: trouble is %v in %q", x.times, x.ago, got, ails)
		}
		if got := has(Strains(c, o, map[string]bool{}, time.Now(), func() time.Time { return time.Now().Add(-x.well) })); got != x.strain {
			t.Errorf("%d times, %s ago: strain is %v", x.times, x.ago, got)
		}
	}
}

// What a run has taken out of service is no trouble while it does so: its machines, and the
// endpoint when nobody of those is left that answer there.
func TestExcused(t *testing.T) {
	c := cluster(t)
	o := wellSeen(c)
	o.Endpoint = false
	ts := Ails(c, o, Unseen{}, time.Time{})
	if len(ts) != 1 {
		t.Fatalf("%d troubles, wanted that of the endpoint alone: %v", len(ts), ts)
	}
	out := map[string]bool{"tidewatch-gauges-1": true}
	if ts[0].Excused(out) {
		t.Error("a worker that is out excuses an endpoint that does not answer")
	}
	for _, m := range fronts(c) {
		out[m] = true
	}
	if len(fronts(c)) == 0 || !ts[0].Excused(out) {
		t.Errorf("the endpoint does not answer while %v are out, and that is no excuse", fronts(c))
	}
	if (Trouble{Machine: "tidewatch-control-2"}).Excused(out) == (Trouble{Machine: "tidewatch-gauges-1"}).Excused(out) {
		t.Error("a machine is excused by whether it is out itself")
	}
}

// A node of the cluster's names that no machine has, and that somebody reports, is a stray; one of
// another name is somebody else's, one that nobody reports is taken out, and of one that has only
// just come it is not known yet.
func TestStrays(t *testing.T) {
	c := cluster(t)
	o := wellSeen(c)
	o.Nodes["tidewatch-gauges-9"], o.Nodes["tidewatch-gauges-8"], o.Nodes["lampwright-1"] = NodeSeen{Ready: true}, NodeSeen{}, NodeSeen{Ready: true}
	o.Machines["tidewatch-gauges-7"], o.Nodes["tidewatch-gauges-7"] = MachineSeen{Exists: true}, NodeSeen{Ready: true}
	now := time.Now()
	o.Nodes["tidewatch-gauges-6"] = NodeSeen{Ready: true, Made: now.Add(-time.Minute)}
	if s := Strays(c, o, now); !slices.Equal(s, []string{"tidewatch-gauges-9"}) {
		t.Errorf("strays are %q", s)
	}
	if s := Strays(c, o, now.Add(2*time.Minute)); !slices.Equal(s, []string{"tidewatch-gauges-6", "tidewatch-gauges-9"}) {
		t.Errorf("later strays are %q", s)
	}
}
