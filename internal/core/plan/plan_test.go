package plan_test

import (
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

var update = flag.Bool("update", false, "write the golden files anew")

func cluster(t *testing.T, version string, control, workers int) *topology.Cluster {
	t.Helper()
	c, err := coretest.Cluster(version, control, workers, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// declared works out a declaration of which only what differs is given.
func declared(t *testing.T, text string) *topology.Cluster {
	t.Helper()
	c, err := coretest.Declare("schema: verbund/1\nname: tidewatch\nkubernetes: v1.37.2\nsite: estuary\n"+text, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// living observes a cluster that is as it should be, on a version of its own.
func living(c *topology.Cluster, version string) plan.Observed {
	set, _ := versions.Shipped().Set(version)
	o := plan.Observed{Founded: true, API: true, Endpoint: true, Roles: true, Machines: map[string]plan.MachineSeen{}, Members: map[string]plan.MemberSeen{}, Nodes: map[string]plan.NodeSeen{}, Resting: map[string]bool{},
		AddOns: map[string]plan.AddOnSeen{"fairway": {Version: set.Fairway, Ready: true}, "cluster-dns": {Version: set.DNS, Ready: true}}}
	for i, m := range c.Machines {
		s := plan.MachineSeen{Exists: true, Reached: true, Power: "on", Role: m.Role, Size: m.Size, Zone: m.Zone, Active: "a", Owner: c.Name, Versions: map[string]string{}, Units: map[string]string{}}
		for _, k := range set.Components(m.Parts) {
			s.Versions[k.Name] = k.Version
		}
		for _, u := range nodeconf.Units(m) {
			s.Units[u] = "active"
		}
		o.Machines[m.Name] = s
		if m.Is(versions.Member) {
			o.Members[m.Name] = plan.MemberSeen{ID: uint64(i + 1), Healthy: true}
		}
		if m.IsNode() {
			o.Nodes[m.Name] = plan.NodeSeen{Ready: true, Version: version}
		}
	}
	return o
}

func empty() plan.Observed { return plan.Observed{Machines: map[string]plan.MachineSeen{}} }

func seen(o plan.Observed, name string, f func(*plan.MachineSeen)) {
	s := o.Machines[name]
	s.Units, s.Versions = maps.Clone(s.Units), maps.Clone(s.Versions)
	f(&s)
	o.Machines[name] = s
}

func text(p *plan.Plan) string {
	var b strings.Builder
	for _, s := range p.Steps {
		fmt.Fprintf(&b, "%s: %s\n    because %s\n", s.ID, s.Text, s.Why)
		if len(s.Needs) > 0 {
			fmt.Fprintf(&b, "    after %s\n", strings.Join(s.Needs, ", "))
		}
		if len(s.Guards) > 0 {
			fmt.Fprintf(&b, "    guard %s\n", plan.InWords(s.Guards))
		}
	}
	for _, r := range p.Removes {
		fmt.Fprintf(&b, "removes %s\n", r)
	}
	for _, r := range p.Endangers {
		fmt.Fprintf(&b, "endangers: %s\n", r)
	}
	return b.String()
}

// scenarios are whole plans, to be read in testdata.
func scenarios(t *testing.T) map[string]func() (*topology.Cluster, plan.Observed) {
	return map[string]func() (*topology.Cluster, plan.Observed){
		"raise": func() (*topology.Cluster, plan.Observed) { return cluster(t, "v1.37.2", 3, 1), empty() },
		"upgrade": func() (*topology.Cluster, plan.Observed) {
			c := cluster(t, "v1.37.2", 3, 3)
			return c, living(c, "v1.36.3")
		},
		"upgrade-cut-off": func() (*topology.Cluster, plan.Observed) {
			// One control-plane machine is through, the next is out of the
			// balancer with everything pulled; one worker was being drained.
			c := cluster(t, "v1.37.2", 3, 2)
			o := living(c, "v1.36.3")
			done := living(c, "v1.37.2")
			o.Machines["tidewatch-control-1"] = done.Machines["tidewatch-control-1"]
			o.Nodes["tidewatch-control-1"] = done.Nodes["tidewatch-control-1"]
			o.Backup = "v1.36.3"
			o.Resting["tidewatch-control-2"] = true
			seen(o, "tidewatch-control-2", func(s *plan.MachineSeen) { s.Idle = done.Machines["tidewatch-control-2"].Versions })
			o.Nodes["tidewatch-gauges-1"] = plan.NodeSeen{Ready: true, Version: "v1.36.3", Cordoned: true, Drained: true}
			return c, o
		},
		"raise-apart": func() (*topology.Cluster, plan.Observed) {
			return declared(t, `control: {count: 2, nodes: false, datastore: {place: apart, count: 3}}
endpoint: {virtual: {address: 127.80.0.250}}
pools: [{name: gauges, adopt: ["02:5e:00:00:00:01"]}]
`), empty()
		},
		"held-back": func() (*topology.Cluster, plan.Observed) {
			// The control plane goes on, one pool stays, another goes with it.
			text := "endpoint: {existing: {address: 192.0.2.7}}\npools: [{name: gauges, count: 2, kubernetes: v1.36.3}, {name: forecast, count: 2}]\n"
			return declared(t, text), living(declared(t, text), "v1.36.3")
		},
		"past": func() (*topology.Cluster, plan.Observed) {
			// One machine has left-overs of a dead cluster, one a kubelet of its own.
			c := cluster(t, "v1.37.2", 1, 3)
			o := living(c, "v1.37.2")
			older := living(c, "v1.35.4")
			for _, n := range []string{"tidewatch-gauges-2", "tidewatch-gauges-3"} {
				delete(o.Nodes, n)
				o.Machines[n] = older.Machines[n]
			}
			seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Owner = "lampwright" })
			seen(o, "tidewatch-gauges-3", func(s *plan.MachineSeen) { s.Owner = "" })
			return c, o
		},
		"shrink": func() (*topology.Cluster, plan.Observed) {
			return cluster(t, "v1.37.2", 1, 1), living(cluster(t, "v1.37.2", 3, 11), "v1.37.2")
		},
		"grow-control": func() (*topology.Cluster, plan.Observed) {
			c := cluster(t, "v1.37.2", 5, 1)
			o := living(cluster(t, "v1.37.2", 3, 1), "v1.37.2")
			return c, o
		},
		"vanished": func() (*topology.Cluster, plan.Observed) {
			c := cluster(t, "v1.37.2", 3, 2)
			o := living(c, "v1.37.2")
			for _, n := range []string{"tidewatch-control-2", "tidewatch-gauges-2"} {
				delete(o.Machines, n)
				o.Nodes[n] = plan.NodeSeen{Version: "v1.37.2", Trouble: "Kubelet stopped posting node status."}
			}
			o.Members["tidewatch-control-2"] = plan.MemberSeen{ID: 2, Trouble: "no answer"}
			return c, o
		},
		"rewrite": func() (*topology.Cluster, plan.Observed) {
			// An authority is new everywhere: what restarts is done with care. One worker asks for
			// its certificate again, one is to, and is no node yet; one is out of the balancer.
			c := cluster(t, "v1.37.2", 3, 4)
			o := rewritten(c, nodeconf.UnitEtcd, nodeconf.UnitAPIServer, nodeconf.UnitKubelet)
			for n, units := range map[string][]string{"tidewatch-gauges-1": {nodeconf.UnitKubelet}, "tidewatch-gauges-2": nil} {
				seen(o, n, func(s *plan.MachineSeen) { s.Restarts, s.Enrols = units, true })
			}
			delete(o.Nodes, "tidewatch-gauges-2")
			o.Resting["tidewatch-gauges-3"] = true
			return c, o
		},
		"rewrite-one": func() (*topology.Cluster, plan.Observed) {
			// With one API server nothing leaves the balancer; the etcd of a machine that restarts
			// nothing is not guarded.
			c := cluster(t, "v1.37.2", 1, 1)
			o := rewritten(c, nodeconf.UnitAPIServer)
			return c, o
		},
		"rewrite-apart": func() (*topology.Cluster, plan.Observed) {
			c := apart(t, "pools: [{name: gauges, count: 1}]\n")
			return c, rewritten(c, nodeconf.UnitEtcd, nodeconf.UnitAPIServer)
		},
		"rewrite-quietly": func() (*topology.Cluster, plan.Observed) {
			// Certificates alone, which restart nothing.
			c := apart(t, "pools: [{name: gauges, count: 2, rollout: {batch: 2}}]\n")
			o := rewritten(c)
			seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Enrols = true })
			return c, o
		},
		"new-names": func() (*topology.Cluster, plan.Observed) {
			// Members ask for names that certificates are yet to have.
			c := apart(t, "pools: [{name: gauges, count: 1}]\n")
			o := rewritten(c, nodeconf.UnitEtcd)
			for _, m := range c.Machines {
				seen(o, m.Name, func(s *plan.MachineSeen) {
					switch {
					case m.Is(versions.Member):
						s.Differs = []string{"/etc/kubernetes/trust/datastore-peer.crt", nodeconf.DatastoreConfig}
					case m.Is(versions.API):
						s.Differs, s.Restarts = []string{"/etc/kubernetes/trust/api-server-datastore.crt"}, []string{nodeconf.UnitAPIServer}
					}
				})
			}
			return c, o
		},
		"new-names-at-once": func() (*topology.Cluster, plan.Observed) {
			c := apart(t, "pools: [{name: gauges, count: 1}]\n")
			o := rewritten(c, nodeconf.UnitEtcd)
			for _, m := range c.With(versions.Member) {
				seen(o, m.Name, func(s *plan.MachineSeen) {
					s.Differs = []string{"/etc/kubernetes/trust/datastore-peer.crt", nodeconf.DatastoreConfig}
				})
			}
			o.Now = true // an authority that was stolen: nobody waits for anybody
			return c, o
		},
		"endpoint-comes": func() (*topology.Cluster, plan.Observed) {
			// Workers are told of an endpoint when something answers there.
			c := cluster(t, "v1.37.2", 1, 2)
			o := living(c, "v1.37.2")
			o.Endpoint = false
			delete(o.Machines, "tidewatch-balancer-1")
			for _, n := range []string{"tidewatch-gauges-1", "tidewatch-gauges-2"} {
				seen(o, n, func(s *plan.MachineSeen) {
					s.Differs, s.Restarts = []string{nodeconf.Hosts}, []string{nodeconf.UnitKubelet}
				})
			}
			return c, o
		},
		"rewrite-together": func() (*topology.Cluster, plan.Observed) {
			c := declared(t, "endpoint: {existing: {address: 192.0.2.7}}\nrollout: {pools: together}\npools: [{name: gauges, count: 2}, {name: forecast, count: 2}]\n")
			return c, rewritten(c, nodeconf.UnitKubelet)
		},
		"rewrite-part": func() (*topology.Cluster, plan.Observed) {
			c := declared(t, "endpoint: {existing: {address: 192.0.2.7}}\npools: [{name: gauges, count: 2}, {name: forecast, count: 2}]\n")
			o := rewritten(c, nodeconf.UnitKubelet)
			o.Part = "forecast"
			return c, o
		},
		"raise-cut-off": func() (*topology.Cluster, plan.Observed) {
			// Raised at one version and cut off before it had a network; another is declared since.
			c := cluster(t, "v1.37.2", 1, 2)
			o := living(c, "v1.36.3")
			o.AddOns = nil
			delete(o.Machines, "tidewatch-gauges-2")
			delete(o.Nodes, "tidewatch-gauges-2")
			return c, o
		},
		"restore": func() (*topology.Cluster, plan.Observed) {
			// Back to the minor of a backup, with one control-plane machine gone and one that runs
			// that minor already.
			c := cluster(t, "v1.36.3", 3, 1)
			o := restoring(living(c, "v1.37.2"))
			o.Machines["tidewatch-control-1"] = living(c, "v1.36.3").Machines["tidewatch-control-1"]
			delete(o.Machines, "tidewatch-control-3")
			return c, o
		},
	}
}

// apart is a cluster whose datastore is on machines of its own, with a virtual endpoint.
func apart(t *testing.T, pools string) *topology.Cluster {
	t.Helper()
	return declared(t, "control: {count: 2, nodes: false, datastore: {place: apart, count: 3}}\nendpoint: {virtual: {address: 127.80.0.250}}\n"+pools)
}

// rewritten is a living cluster of which the authority is another one on every machine, for which
// those of some units restart that a machine has.
func rewritten(c *topology.Cluster, units ...string) plan.Observed {
	o := living(c, "v1.37.2")
	for _, m := range c.Machines {
		seen(o, m.Name, func(s *plan.MachineSeen) {
			s.Differs = []string{"/etc/kubernetes/trust/cluster-authority.crt"}
			for _, u := range units {
				if slices.Contains(nodeconf.Units(m), u) {
					s.Restarts = append(s.Restarts, u)
				}
			}
		})
	}
	return o
}

// restoring is a cluster of which a backup is to be restored.
func restoring(o plan.Observed) plan.Observed {
	o.Founded, o.API, o.Endpoint = false, false, false
	o.Members, o.Nodes, o.AddOns = nil, nil, nil
	o.Restores = &plan.Restores{ID: "again", Backup: "before-the-fair", Loses: "what is there is lost"}
	return o
}

// Whatever is there, no member is made from a backup while anything still serves from the old
// datastore, and no API server starts before all of them are.
func TestRestoreOrder(t *testing.T) {
	c := cluster(t, "v1.36.3", 3, 2)
	for _, version := range []string{"v1.36.3", "v1.37.2"} {
		o := restoring(living(c, version))
		// One that is not declared any more serves, too.
		o.Machines["tidewatch-control-9"] = o.Machines["tidewatch-control-1"]
		p, err := plan.Make(c, o, versions.Shipped())
		if err != nil {
			t.Fatal(err)
		}
		found := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.Kind == plan.Found })
		halts, controls := 0, 0
		for i, s := range p.Steps {
			switch s.Kind {
			case plan.Halt:
				if halts++; !slices.Contains(p.Steps[found].Needs, s.ID) {
					t.Errorf("%s: the datastore is founded without %s", version, s.ID)
				}
			case plan.Control:
				if controls++; !slices.Contains(s.Needs, string(plan.Found)) || i < found {
					t.Errorf("%s: %s before the datastore is founded", version, s.ID)
				}
			case plan.Write:
				if found >= 0 && !slices.Contains(s.Needs, "halt/"+s.Machine) {
					t.Errorf("%s: %s while it serves", version, s.ID)
				}
			}
		}
		if found < 0 || !p.Steps[found].Final || halts != 4 || controls != 3 || !p.More || len(p.Endangers) != 1 {
			t.Errorf("%s: %s", version, text(p))
		}
		// One that cannot be looked into may serve: it is woken first, and nothing else is done.
		seen(o, "tidewatch-control-2", func(s *plan.MachineSeen) { s.Reached = false })
		if p, err = plan.Make(c, o, versions.Shipped()); err != nil || len(p.Steps) != 1 || p.Steps[0].Kind != plan.Get {
			t.Errorf("%s, one asleep: %v, %v", version, text(p), err)
		}
	}
}

// With the majority of the datastore gone nothing is begun: what is left is named. Members that
// lost their data under another machine of the name count as gone; learners do not count.
func TestMinority(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 1)
	for _, x := range []struct {
		name   string
		change func(*plan.Observed)
		refuse string
	}{
		{"one of three", func(o *plan.Observed) { delete(o.Machines, "tidewatch-control-1") }, ""},
		{"two of three", func(o *plan.Observed) {
			delete(o.Machines, "tidewatch-control-1")
			delete(o.Machines, "tidewatch-control-3")
		}, "2 of the 3 members of the datastore are gone with their machines (tidewatch-control-1, tidewatch-control-3)"},
		{"one gone, one blank", func(o *plan.Observed) {
			delete(o.Machines, "tidewatch-control-1")
			seen(*o, "tidewatch-control-2", func(s *plan.MachineSeen) { s.Blank = true })
		}, "verbund backup restore --member tidewatch-control-3"},
		{"a learner that is gone", func(o *plan.Observed) {
			delete(o.Machines, "tidewatch-control-1")
			o.Members["tidewatch-control-1"] = plan.MemberSeen{ID: 1, Learner: true}
		}, ""},
	} {
		o := living(c, "v1.37.2")
		x.change(&o)
		_, err := plan.Make(c, o, versions.Shipped())
		if x.refuse == "" && err != nil || x.refuse != "" && (err == nil || !strings.Contains(err.Error(), x.refuse)) {
			t.Errorf("%s: %v", x.name, err)
		}
	}
}

func TestScenarios(t *testing.T) {
	for name, f := range scenarios(t) {
		t.Run(name, func(t *testing.T) {
			c, o := f()
			p, err := plan.Make(c, o, versions.Shipped())
			if err != nil {
				t.Fatal(err)
			}
			got := text(p)
			file := filepath.Join("testdata", name+".txt")
			if *update {
				if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			want, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			if got != string(want) {
				t.Errorf("the plan differs from %s:\n%s", file, got)
			}
		})
	}
}

// The laws of every plan: no step before what it needs, none twice, and a
// datastore that never loses two members at once.
func TestLaws(t *testing.T) {
	for name, f := range scenarios(t) {
		c, o := f()
		p, err := plan.Make(c, o, versions.Shipped())
		if err != nil {
			t.Fatal(err)
		}
		at := map[string]int{}
		needs := map[string][]string{}
		for i, s := range p.Steps {
			if _, twice := at[s.ID]; twice {
				t.Errorf("%s: %s stands twice", name, s.ID)
			}
			at[s.ID] = i
			needs[s.ID] = s.Needs
			for _, n := range s.Needs {
				if j, ok := at[n]; !ok || j >= i {
					t.Errorf("%s: %s needs %s, which does not come before", name, s.ID, n)
				}
			}
		}
		var before func(a, b string) bool
		before = func(a, b string) bool {
			return slices.ContainsFunc(needs[b], func(n string) bool { return n == a || before(a, n) })
		}
		var risky []string
		for _, s := range p.Steps {
			role := versions.Worker
			if m, ok := c.Machine(s.Machine); ok {
				role = m.Role
			}
			if s.Kind == plan.Leave || s.Kind == plan.Drop || s.Kind == plan.Member || s.Kind == plan.Switch && role == versions.Control {
				risky = append(risky, s.ID)
			}
		}
		for i := 1; i < len(risky); i++ {
			// A dropped member and its own successor are one case.
			if !before(risky[i-1], risky[i]) && !strings.HasPrefix(risky[i], "drop/") {
				t.Errorf("%s: %s and %s may run at the same time", name, risky[i-1], risky[i])
			}
		}
	}
}

func TestNothingToDo(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 3)
	p, err := plan.Make(c, living(c, "v1.37.2"), versions.Shipped())
	if err != nil || len(p.Steps) > 0 {
		t.Errorf("%v\n%s", err, text(p))
	}
}

// Small differences, and the steps that they lead to.
func TestRepairs(t *testing.T) {
	for _, x := range []struct {
		name   string
		change func(o plan.Observed)
		want   string
	}{
		{"machine off", func(o plan.Observed) {
			o.Machines["tidewatch-gauges-1"] = plan.MachineSeen{Exists: true, Power: "off", Trouble: "its power is off", Size: "small", Zone: "north"}
		}, "get/tidewatch-gauges-1 verify"},
		{"unit down", func(o plan.Observed) {
			seen(o, "tidewatch-gauges-1", func(s *plan.MachineSeen) { s.Units["kubelet.service"] = "failed" })
		}, "node/tidewatch-gauges-1 ready/tidewatch-gauges-1 verify"},
		{"file changed by hand", func(o plan.Observed) {
			seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Differs = []string{"/opt/verbund/active/etc/kubelet.yaml"} })
		}, "write/tidewatch-gauges-2 ready/tidewatch-gauges-2 verify"},
		{"names only", func(o plan.Observed) {
			seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Differs = []string{"/etc/hosts"} })
		}, "write/tidewatch-gauges-2 verify"},
		{"label differs", func(o plan.Observed) {
			o.Nodes["tidewatch-gauges-1"] = plan.NodeSeen{Ready: true, Version: "v1.37.2", Differs: []string{"label work=intake"}}
		}, "label/tidewatch-gauges-1 verify"},
		{"left cordoned", func(o plan.Observed) {
			o.Nodes["tidewatch-gauges-1"] = plan.NodeSeen{Ready: true, Version: "v1.37.2", Cordoned: true}
		}, "uncordon/tidewatch-gauges-1 verify"},
		{"left resting", func(o plan.Observed) { o.Resting["tidewatch-control-3"] = true }, "return/tidewatch-control-3 verify"},
		{"learner left", func(o plan.Observed) {
			o.Members["tidewatch-control-3"] = plan.MemberSeen{ID: 3, Learner: true, Healthy: true}
		}, "member/tidewatch-control-3 verify"},
		{"add-on old", func(o plan.Observed) { o.AddOns["cluster-dns"] = plan.AddOnSeen{Version: "v1.14.2", Ready: true} }, "dns verify"},
		{"dns told otherwise", func(o plan.Observed) {
			o.AddOns["cluster-dns"] = plan.AddOnSeen{Version: o.AddOns["cluster-dns"].Version, Ready: true, Args: "forward 192.0.2.53"}
		}, "dns verify"},
		{"blank machine left", func(o plan.Observed) {
			o.Machines["tidewatch-gauges-9"] = plan.MachineSeen{Exists: true, Reached: true, Role: versions.Worker}
		}, "release/tidewatch-gauges-9 verify"},
		{"blank machine left, off", func(o plan.Observed) {
			o.Machines["tidewatch-gauges-9"] = plan.MachineSeen{Exists: true, Power: "off", Role: versions.Worker}
		}, "release/tidewatch-gauges-9 verify"},
	} {
		c := cluster(t, "v1.37.2", 3, 2)
		o := living(c, "v1.37.2")
		x.change(o)
		p, err := plan.Make(c, o, versions.Shipped())
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		var ids []string
		for _, s := range p.Steps {
			ids = append(ids, s.ID)
		}
		if got := strings.Join(ids, " "); got != x.want {
			t.Errorf("%s: %s, wanted %s", x.name, got, x.want)
		}
	}
}

// A node that one of our machines left behind is taken out; one that somebody
// else joined, or that serves, is not.
func TestNodeWithoutMachine(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 2)
	o := living(c, "v1.37.2")
	o.Nodes["tidewatch-gauges-9"] = plan.NodeSeen{}
	o.Nodes["tidewatch-gauges-8"] = plan.NodeSeen{Ready: true}
	o.Nodes["somebody-elses"] = plan.NodeSeen{}
	p := planFor(t, c, o)
	if k := kinds(p.Steps); k != "unnode/tidewatch-gauges-9 verify" || len(p.Removes) != 1 {
		t.Errorf("the plan is %s, it removes %v", k, p.Removes)
	}
	// One that is about to be there is not taken out.
	o = living(c, "v1.37.2")
	o.Nodes["tidewatch-gauges-2"] = plan.NodeSeen{}
	delete(o.Machines, "tidewatch-gauges-2")
	if k := kinds(planFor(t, c, o).Steps); strings.Contains(k, "unnode") {
		t.Errorf("the plan is %s", k)
	}
}

// A control-plane machine that never joined, and another version declared
// since: it is not upgraded, but joins on what the others run; given another version
// before, it is set up anew.
func TestStrayMachine(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 1)
	o := living(c, "v1.36.3")
	delete(o.Members, "tidewatch-control-3")
	delete(o.Nodes, "tidewatch-control-3")
	for _, x := range []struct{ runs, want string }{
		{"v1.36.3", "member node label ready"},
		{"v1.37.2", "pull write member control node label ready"},
	} {
		seen(o, "tidewatch-control-3", func(s *plan.MachineSeen) { s.Versions = living(c, x.runs).Machines["tidewatch-control-3"].Versions })
		p, err := plan.Make(c, o, versions.Shipped())
		if err != nil {
			t.Fatal(err)
		}
		var ids []string
		for _, s := range p.Steps {
			if s.Machine == "tidewatch-control-3" {
				ids = append(ids, string(s.Kind))
			}
		}
		if got := strings.Join(ids, " "); got != x.want {
			t.Errorf("on %s: %s, wanted %s", x.runs, got, x.want)
		}
	}
}

func TestRefusals(t *testing.T) {
	for _, x := range []struct {
		name, declared, runs string
		change               func(o plan.Observed)
		want                 string
	}{
		{"lower", "v1.36.3", "v1.37.2", func(plan.Observed) {}, "v1.36.3 is lower than v1.37.2"},
		{"two minors", "v1.37.2", "v1.35.4", func(plan.Observed) {}, "declare v1.36.3 first"},
		{"half upgraded, then back", "v1.36.3", "v1.36.3", func(o plan.Observed) {
			seen(o, "tidewatch-control-1", func(s *plan.MachineSeen) { s.Versions["kube-apiserver"], s.Versions["kubelet"] = "v1.37.1", "v1.37.1" })
		}, "is lower than v1.37.1"},
		{"size of the balancer", "v1.37.2", "v1.37.2", func(o plan.Observed) { seen(o, "tidewatch-balancer-1", func(s *plan.MachineSeen) { s.Size = "large" }) }, "machine tidewatch-balancer-1 cannot become another one while it lives (size small instead of large)"},
		{"host key", "v1.37.2", "v1.37.2", func(o plan.Observed) {
			o.Machines["tidewatch-gauges-1"] = plan.MachineSeen{Exists: true, Power: "on", OtherHostKey: true, Trouble: "the host key of tidewatch-gauges-1 has changed"}
		}, "host key of tidewatch-gauges-1"},
		{"all control gone", "v1.37.2", "v1.37.2", func(o plan.Observed) {
			for _, n := range []string{"1", "2", "3"} {
				delete(o.Machines, "tidewatch-control-"+n)
			}
		}, "the site answers, and has none of this cluster's control-plane machines"},
	} {
		c := cluster(t, x.declared, 3, 2)
		o := living(c, x.runs)
		x.change(o)
		_, err := plan.Make(c, o, versions.Shipped())
		var r *plan.Refusal
		var v *versions.Refusal
		if !errors.As(err, &r) && !errors.As(err, &v) || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v, wanted %q", x.name, err, x.want)
		}
	}
}

// A datastore is founded by all its members at once, and never over data that was
// not founded from here, nor by others than began to.
func TestFounding(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 1)
	all := []string{"tidewatch-control-1", "tidewatch-control-2", "tidewatch-control-3"}
	for _, x := range []struct {
		name     string
		founders []string
		data     []string
		want     string // refusal
	}{
		{"new", nil, nil, ""},
		{"interrupted before it began", all, nil, ""},
		{"interrupted in the middle", all, all[:2], ""},
		{"foreign data", nil, all[1:2], "lies a datastore that was not founded from here"},
		{"fewer were to", all[:1], all[:1], "and now tidewatch-control-1, tidewatch-control-2, tidewatch-control-3 are declared"},
		{"more were to, and have nothing", append([]string{"tidewatch-control-4"}, all...), nil, ""},
		{"one that is not declared any more has data", append([]string{"tidewatch-control-4"}, all...), []string{"tidewatch-control-4"}, "was interrupted"},
	} {
		o := living(c, "v1.37.2")
		o.Founded, o.API, o.Members, o.Nodes, o.AddOns, o.Founders = false, false, nil, nil, nil, x.founders
		for _, n := range x.data {
			s := o.Machines[n]
			s.Data, s.Exists, s.Reached = true, true, true
			o.Machines[n] = s
		}
		p, err := plan.Make(c, o, versions.Shipped())
		if x.want != "" {
			var r *plan.Refusal
			if !errors.As(err, &r) || !strings.Contains(err.Error(), x.want) {
				t.Errorf("%s: %v, wanted %q", x.name, err, x.want)
			}
			continue
		}
		if err != nil || !strings.Contains(kinds(p.Steps), "found ") || strings.Contains(kinds(p.Steps), "member/") {
			t.Errorf("%s: %v, %v", x.name, p, err)
		}
	}
}

// Whoever leads the datastore is upgraded last.
func TestLeaderGoesLast(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 1)
	o := living(c, "v1.36.3")
	m := o.Members["tidewatch-control-1"]
	m.Leads = true
	o.Members["tidewatch-control-1"] = m
	var order []string
	for _, s := range planFor(t, c, o).Steps {
		if s.Kind == plan.Switch && strings.Contains(s.Machine, "control") {
			order = append(order, s.Machine)
		}
	}
	if got := strings.Join(order, " "); got != "tidewatch-control-2 tidewatch-control-3 tidewatch-control-1" {
		t.Errorf("the order is %s", got)
	}
}

// What a drain would lose, or never end at, is found before the first step, unless
// it is of another part than the run is limited to. Its patience is that of the
// pool, also of a machine that is not declared any more.
func TestDrainsAreAskedFirst(t *testing.T) {
	c := cluster(t, "v1.37.2", 1, 1)
	for _, x := range []struct {
		name, part string
		node       plan.NodeSeen
		want       string
	}{
		{"loses", "", plan.NodeSeen{Ready: true, Version: "v1.36.3", Loses: []string{"pod default/a has no controller"}}, "would lose something for good, so nothing was begun: pod default/a has no controller"},
		{"stuck", "gauges", plan.NodeSeen{Ready: true, Version: "v1.36.3", Stuck: []string{"budget default/b"}}, "could never be emptied"},
		{"stuck elsewhere", "control", plan.NodeSeen{Ready: true, Version: "v1.36.3", Stuck: []string{"budget default/b"}}, ""},
	} {
		o := living(c, "v1.36.3")
		o.Part, o.Nodes["tidewatch-gauges-1"] = x.part, x.node
		p, err := plan.Make(c, o, versions.Shipped())
		if x.want == "" {
			if err != nil || len(p.Beside) != 1 {
				t.Errorf("%s: %v, %v", x.name, p, err)
			}
		} else if err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v, wanted %q", x.name, err, x.want)
		}
	}
	o := living(c, "v1.37.2")
	o.Machines["tidewatch-gauges-2"] = plan.MachineSeen{Exists: true, Reached: true, Active: "a", Role: versions.Worker}
	o.Nodes["tidewatch-gauges-2"] = plan.NodeSeen{Ready: true}
	for _, s := range planFor(t, c, o).Steps {
		if s.Kind == plan.Drain && (s.Within != 90*time.Second || s.Limit() < s.Within) {
			t.Errorf("the drain of %s may take %s", s.Machine, s.Within)
		}
	}
}

// A machine that is not declared any more and never became part of the cluster is given back
// first. One of which nothing is known, since it is not reached and the API cannot say
// whether it is a node, is not called blank; nor is one that was used.
func TestReleaseBlank(t *testing.T) {
	const stray = "tidewatch-gauges-2"
	for _, x := range []struct {
		what  string
		s     plan.MachineSeen
		be    func(*plan.Observed)
		blank bool
	}{
		{"never used", plan.MachineSeen{Exists: true, Reached: true}, nil, true},
		{"never used, while the API is away", plan.MachineSeen{Exists: true, Reached: true}, func(o *plan.Observed) { o.API = false }, true},
		{"switched off, and no node", plan.MachineSeen{Exists: true}, nil, true},
		{"not reached, while the API is away", plan.MachineSeen{Exists: true}, func(o *plan.Observed) { o.API = false }, false},
		{"not reached, before there is a cluster", plan.MachineSeen{Exists: true}, func(o *plan.Observed) { o.API, o.Founded = false, false }, true},
		{"used", plan.MachineSeen{Exists: true, Reached: true, Active: "a"}, nil, false},
		{"was used, and is not reached", plan.MachineSeen{Exists: true, Active: "a"}, nil, true},
		{"a node", plan.MachineSeen{Exists: true, Reached: true}, func(o *plan.Observed) { o.Nodes[stray] = plan.NodeSeen{} }, false},
		{"a member", plan.MachineSeen{Exists: true, Reached: true}, func(o *plan.Observed) { o.Members[stray] = plan.MemberSeen{Healthy: true} }, false},
	} {
		c := cluster(t, "v1.37.2", 1, 1)
		o := living(c, "v1.37.2")
		x.s.Role = versions.Worker
		o.Machines[stray] = x.s
		if x.be != nil {
			x.be(&o)
		}
		p, err := plan.Make(c, o, versions.Shipped())
		if err != nil {
			t.Errorf("%s: %v", x.what, err)
			continue
		}
		blank := false
		for _, s := range p.Steps {
			blank = blank || s.Kind == plan.Release && s.Machine == stray && strings.Contains(s.Why, "never used")
		}
		if blank != x.blank {
			t.Errorf("%s: given back as blank is %v\n%s", x.what, blank, text(p))
		}
	}
}

// A member without a vote joins on; one with a vote that does not run is started; one that
// is well is left alone.
func TestMemberJoins(t *testing.T) {
	const name = "tidewatch-control-2"
	for _, x := range []struct {
		what string
		m    plan.MemberSeen
		unit string
		want string
	}{
		{"well", plan.MemberSeen{Healthy: true}, "active", ""},
		{"a learner", plan.MemberSeen{Healthy: true, Learner: true}, "active", "join the datastore as a learner, and promote it"},
		{"a learner that does not run", plan.MemberSeen{Learner: true}, "failed", "join the datastore as a learner, and promote it"},
		{"does not run", plan.MemberSeen{}, "failed", "start its datastore member"},
	} {
		c := cluster(t, "v1.37.2", 3, 1)
		o := living(c, "v1.37.2")
		o.Members[name] = x.m
		seen(o, name, func(s *plan.MachineSeen) { s.Units["etcd.service"] = x.unit })
		got := ""
		for _, s := range planFor(t, c, o).Steps {
			if s.Kind == plan.Member {
				got += s.Text
			}
		}
		if got != x.want {
			t.Errorf("%s: %q", x.what, got)
		}
	}
}

// What an earlier run took out of the balancer comes back, and what is new enters it when it
// serves, whether control-plane machines are nodes or not.
func TestBackIntoTheBalancer(t *testing.T) {
	for _, nodes := range []bool{true, false} {
		c := declared(t, fmt.Sprintf("endpoint: {name: api.tidewatch.test, balancer: {size: small}}\ncontrol: {count: 3, size: medium, nodes: %v}\npools: [{name: gauges, count: 2, size: small}]\n", nodes))
		for what, change := range map[string]func(*plan.Observed){
			"taken out": func(o *plan.Observed) { o.Resting["tidewatch-control-2"] = true },
			"new": func(o *plan.Observed) {
				o.Machines["tidewatch-control-2"] = plan.MachineSeen{}
				delete(o.Members, "tidewatch-control-2")
				delete(o.Nodes, "tidewatch-control-2")
				seen(*o, "tidewatch-balancer-1", func(s *plan.MachineSeen) { s.Differs, s.Restarts = []string{"/etc/haproxy/haproxy.cfg"}, nil })
			},
		} {
			o := living(c, "v1.37.2")
			change(&o)
			p, err := plan.Make(c, o, versions.Shipped())
			if err != nil {
				t.Fatal(err)
			}
			back := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.ID == "return/tidewatch-control-2" })
			starts := slices.IndexFunc(p.Steps, func(s plan.Step) bool { return s.ID == "control/tidewatch-control-2" })
			if back < 0 || what == "new" && (starts < 0 || starts > back) {
				t.Errorf("nodes %v, %s: it does not come back: %v", nodes, what, p.Steps)
			}
		}
	}
}
