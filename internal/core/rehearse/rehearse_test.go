package rehearse_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/plan"
	"verbund/internal/core/rehearse"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// living is a cluster as declared, on a version of its own.
func living(t testing.TB, text, version string) plan.Observed {
	t.Helper()
	c := declared(t, strings.Replace(text, "kubernetes: v1.37.2", "kubernetes: "+version, 1), topology.Memory{})
	o := rehearse.Copy(plan.Observed{Founded: true, API: true, Endpoint: true, Roles: true, Machines: map[string]plan.MachineSeen{}, Members: map[string]plan.MemberSeen{}, Nodes: map[string]plan.NodeSeen{}, AddOns: map[string]plan.AddOnSeen{}})
	for _, m := range c.Machines {
		for _, k := range []plan.Kind{plan.Get, plan.Write, plan.Ready} {
			rehearse.Carried(&o, c, &plan.Plan{}, plan.Step{Kind: k, Machine: m.Name})
		}
		if m.Is(versions.Member) {
			rehearse.Carried(&o, c, &plan.Plan{}, plan.Step{Kind: plan.Member, Machine: m.Name})
		}
	}
	rehearse.Carried(&o, c, &plan.Plan{}, plan.Step{Kind: plan.Network})
	rehearse.Carried(&o, c, &plan.Plan{}, plan.Step{Kind: plan.DNS})
	return o
}

func declared(t testing.TB, text string, mem topology.Memory) *topology.Cluster {
	t.Helper()
	c, err := coretest.Declare(text, mem)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// took is how long each step takes in these tests.
func took(s plan.Step) time.Duration {
	switch s.Kind {
	case plan.Soak:
		return s.Waits
	case plan.Wave, plan.Pause:
		return 0
	case plan.Pull:
		return 30 * time.Second
	}
	return 10 * time.Second
}

// input is a rehearsal of a declaration, with nodes of four processors.
func input(t testing.TB, text string, o plan.Observed) rehearse.Input {
	t.Helper()
	in := rehearse.Input{Seen: o, Cat: versions.Shipped(), Usual: took, PodStart: 5 * time.Second, Parallel: 16, Capacity: func(topology.Machine) (int64, int64, rehearse.Share) { return 4000, 8 << 30, rehearse.Share{} },
		Declared: func(aim plan.Aim) (*topology.Cluster, error) {
			at := text
			if stage := aim.Stage; stage != nil {
				at = strings.Replace(text, "kubernetes: v1.37.2", "kubernetes: "+stage.Kubernetes, 1)
				for pool, v := range stage.Pools {
					at = strings.Replace(at, "name: "+pool+",", "name: "+pool+", kubernetes: "+v+",", 1)
				}
			}
			return coretest.Declare(at, aim.Memory(topology.Memory{}))
		}}
	for _, m := range declared(t, text, topology.Memory{}).Machines {
		if m.Pool != "" {
			in.Nodes = append(in.Nodes, rehearse.Node{Name: m.Name, Zone: m.Zone, CPU: 4000, Memory: 8 << 30, Group: m.Pool})
		}
	}
	return in
}

const text = `schema: verbund/1
name: tidewatch
kubernetes: v1.37.2
site: estuary
endpoint: {balancer: {size: small}}
control: {count: 3, size: medium}
pools:
  - {name: gauges, count: 4, zones: [north], rollout: {%s}}
`

func run(t testing.TB, in rehearse.Input) *rehearse.Result {
	t.Helper()
	r, err := rehearse.Run(in)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// An upgrade takes what its critical path takes, and the capacity is lowest while a batch is
// out: what comes out is what one reckons by hand.
func TestUpgrade(t *testing.T) {
	policy := fmt.Sprintf(text, "trial: 1, soak: 1m, batch: 3")
	r := run(t, input(t, policy, living(t, policy, "v1.36.3")))
	// Backup 10, the control plane's fetching 30 at the same time; each of three: rest, switch,
	// ready, return 40, and 10 of watching; add-ons 10; the trial 10+10+10+10 and a minute; the
	// other three 40 together; the last look 10.
	want := 30*time.Second + 3*40*time.Second + 10*time.Second + 10*time.Second + 40*time.Second + time.Minute + 40*time.Second + 10*time.Second
	if r.Total != want || r.Plans != 1 || r.Machines != 7 || r.Waves != 5 || r.Ends != "" || len(r.Blocked) > 0 {
		t.Errorf("it takes %s, wanted %s: %+v", r.Total, want, r)
	}
	if r.Lowest.Share != 0.25 {
		t.Errorf("the lowest capacity is %+v", r.Lowest)
	}
	if last := r.Capacity[len(r.Capacity)-1]; last.Share != 1 {
		t.Errorf("at the end the capacity is %+v", last)
	}
}

// Of a cluster without workers there is no capacity to be a share of.
func TestCapacityOfNothing(t *testing.T) {
	policy := fmt.Sprintf(text, "trial: 1, soak: 1m, batch: 3")
	in := input(t, policy, living(t, policy, "v1.36.3"))
	in.Nodes = nil
	if r := run(t, in); len(r.Capacity) > 0 || r.Lowest.Share != 0 {
		t.Errorf("it is %+v, at the lowest %+v", r.Capacity, r.Lowest)
	}
}

// By replacement nothing goes before the new one is there: the capacity never sinks.
func TestReplacement(t *testing.T) {
	small, medium := fmt.Sprintf(text, "trial: 1, soak: 1m, surge: 2"), strings.Replace(fmt.Sprintf(text, "trial: 1, soak: 1m, surge: 2"), "zones: [north]", "zones: [north], size: medium", 1)
	in := input(t, medium, living(t, small, "v1.37.2"))
	r := run(t, in)
	if r.Lowest.Share < 1 || r.Machines != 4 || r.Plans != 4 || r.Ends != "" {
		t.Errorf("%+v", r)
	}
	// Over several minors, too, hop by hop.
	old := fmt.Sprintf(text, "trial: 0, batch: 2")
	two := run(t, input(t, old, living(t, old, "v1.35.4")))
	if two.Plans != 2 || two.Changes != 3+3+4 || two.Machines != 3+4 {
		t.Errorf("two hops: %d plans, %d changes of %d machines", two.Plans, two.Changes, two.Machines)
	}
	// A machine that goes out at both hops serves between them.
	times, longest := map[string]int{}, time.Duration(0)
	for _, o := range two.Outages {
		times[o.Machine]++
		longest = max(longest, o.To-o.From)
	}
	if times["tidewatch-control-1"] != 2 || times["tidewatch-gauges-1"] != 1 || longest > 40*time.Second {
		t.Errorf("two hops: outages %v", two.Outages)
	}
}

// What would be in the way of a drain is found: a budget that lets nobody go, a pod that fits
// nowhere else, a budget that lets one go at a time and makes it slow.
func TestDrains(t *testing.T) {
	policy := fmt.Sprintf(text, "trial: 0, batch: 1, patience: 2m")
	pods := func(n int, cpu int64, budget int) (out []rehearse.Pod) {
		for i := range n {
			p := rehearse.Pod{Name: fmt.Sprintf("default/tidetable-%d", i), Node: "tidewatch-gauges-1", CPU: cpu}
			if budget >= 0 {
				p.Budgets = []int{budget}
			}
			out = append(out, p)
		}
		return out
	}
	base := run(t, input(t, policy, living(t, policy, "v1.36.3"))).Total
	for _, x := range []struct {
		name     string
		pods     []rehearse.Pod
		budgets  []rehearse.Budget
		fits     func(rehearse.Node) bool
		blocked  string
		ends     string
		slower   time.Duration
		troubles int
	}{
		{"room for all", pods(3, 1000, -1), nil, nil, "", "", 0, 0},
		{"too large for any other", pods(1, 5000, -1), nil, nil, "pod default/tidetable-0 finds no place elsewhere: it asks for 5 of a processor", "", 0, 1},
		{"tied to its node", pods(1, 1000, -1), nil, func(n rehearse.Node) bool { return n.Name == "tidewatch-gauges-1" }, "finds no place elsewhere", "", 0, 1},
		{"a budget that lets nobody go", pods(2, 500, 0), []rehearse.Budget{{"default/tidetable", 2, 2}}, nil, "budget default/tidetable never lets pod default/tidetable-0 go: it wants 2 of 2 healthy", "emptying tidewatch-gauges-1 does not end within its patience of 2m0s", 0, 2},
		{"a budget that counts on one without a place", pods(2, 500, 0), []rehearse.Budget{{"default/tidetable", 1, 2}}, func(n rehearse.Node) bool { return n.Name == "tidewatch-gauges-1" }, "finds no place elsewhere", "emptying tidewatch-gauges-1 does not end", 0, 3},
		// The first goes at once, each other five seconds after the one before: 15 of them
		// instead of 10; the nodes to which they went each have one or two again.
		{"one at a time", pods(4, 500, 0), []rehearse.Budget{{"default/tidetable", 3, 4}}, nil, "", "", 5 * time.Second, 0},
	} {
		in := input(t, policy, living(t, policy, "v1.36.3"))
		for i := range x.pods {
			x.pods[i].Fits = x.fits
		}
		in.Pods, in.Budgets = x.pods, x.budgets
		r := run(t, in)
		if len(r.Blocked) < x.troubles || x.troubles == 0 && len(r.Blocked) > 0 || x.blocked != "" && !strings.Contains(r.Blocked[0].Text, x.blocked) {
			t.Errorf("%s: %+v", x.name, r.Blocked)
		}
		if !strings.Contains(r.Ends, x.ends) || (x.ends == "") != (r.Ends == "") {
			t.Errorf("%s: it ends %q", x.name, r.Ends)
		}
		if x.ends == "" && r.Total != base+x.slower {
			t.Errorf("%s: it takes %s, wanted %s", x.name, r.Total, base+x.slower)
		}
	}
}

// What a machine that fails would do: on trial it ends the roll-out; later it is spared if its
// pool says so, and stays cordoned.
func TestFail(t *testing.T) {
	for _, x := range []struct {
		policy, fail, ends  string
		cordoned, untouched int
	}{
		{"trial: 1, soak: 1m, failures: 1", "tidewatch-gauges-1", "switch from v1.36.3 to v1.37.2 and restart on tidewatch-gauges-1 fails", 1, 3},
		{"trial: 1, soak: 1m, failures: 1", "tidewatch-gauges-3", "", 1, 0},
		{"trial: 1, soak: 1m", "tidewatch-gauges-3", "on tidewatch-gauges-3 fails", 1, 1},
	} {
		policy := fmt.Sprintf(text, x.policy)
		in := input(t, policy, living(t, policy, "v1.36.3"))
		in.Fail = x.fail
		r := run(t, in)
		if !strings.Contains(r.Ends, x.ends) || (x.ends == "") != (r.Ends == "") || len(r.Cordoned) != x.cordoned || len(r.Untouched) != x.untouched {
			t.Errorf("%s, %s fails: ends %q, cordoned %v, untouched %v", x.policy, x.fail, r.Ends, r.Cordoned, r.Untouched)
		}
		// It does not come back into service, and every other one has by then.
		for _, o := range r.Outages {
			if o.Left != (o.Machine == x.fail) {
				t.Errorf("%s, %s fails: outage %+v", x.policy, x.fail, o)
			}
		}
		if !slices.ContainsFunc(r.Outages, func(o rehearse.Outage) bool { return o.Machine == x.fail }) {
			t.Errorf("%s, %s fails: outages %+v", x.policy, x.fail, r.Outages)
		}
	}
}

// Five thousand machines are played through in less than two seconds on two cores; the
// benchmark says how long it takes.
func BenchmarkRun(b *testing.B) {
	for _, way := range []string{"in-place", "replacement"} {
		for _, n := range []int{1000, 5000} {
			b.Run(fmt.Sprint(way, "/", n), func(b *testing.B) {
				policy := "trial: 1, batch: 1%"
				if way == "replacement" {
					policy = "way: replacement, trial: 1, batch: 1%, surge: 1%"
				}
				big := strings.Replace(fmt.Sprintf(text, policy), "count: 4", fmt.Sprintf("count: %d", n), 1)
				big = strings.Replace(big, "site: estuary\n", "site: estuary\nranges: {pods: 10.128.0.0/9}\n", 1)
				big = strings.Replace(big, "zones: [north], ", "", 1)
				in := input(b, big, living(b, big, "v1.36.3"))
				in.Budgets = []rehearse.Budget{{Name: "default/tidetable", Healthy: 3*n - 20, Pods: 3 * n}}
				for i := range 3 * n {
					in.Pods = append(in.Pods, rehearse.Pod{Name: fmt.Sprintf("default/tidetable-%d", i), Node: fmt.Sprintf("tidewatch-gauges-%d", i%n+1), CPU: 500, Memory: 1 << 28, Budgets: []int{0}})
				}
				for b.Loop() {
					if r := run(b, in); r.Machines != n+3 {
						b.Fatalf("%d machines: %s", r.Machines, r.Ends)
					}
				}
			})
		}
	}
}

// worker keeps pods off control-plane machines, as their taint does.
func worker(n rehearse.Node) bool { return n.Group != "" }

// A cluster that has room for one failure says when it has none while a machine is out; one
// that never has any is not told again.
func TestSpare(t *testing.T) {
	text := fmt.Sprintf(text, "batch: 1, trial: 0")
	try := func(cpu int64) *rehearse.Result {
		in := input(t, text, living(t, text, "v1.36.3"))
		for i := 1; i <= 4; i++ {
			in.Pods = append(in.Pods, rehearse.Pod{Name: fmt.Sprintf("tides/p%d", i), Node: fmt.Sprintf("tidewatch-gauges-%d", i), CPU: cpu, Fits: worker})
		}
		return run(t, in)
	}
	if r := try(1000); r.Spare != nil {
		t.Errorf("with much room: %+v", r.Spare)
	}
	// Four pods of two processors fill two nodes of four: with one out and one failing there is
	// just room; pods of more than two need a node each.
	if r := try(2000); r.Spare != nil {
		t.Errorf("with just room: %+v", r.Spare)
	}
	if r := try(2100); r.Spare != nil {
		t.Errorf("a cluster that is full from the outset: %+v", r.Spare)
	}
	in := input(t, text, living(t, text, "v1.36.3"))
	for i := 1; i <= 3; i++ {
		in.Pods = append(in.Pods, rehearse.Pod{Name: fmt.Sprintf("tides/p%d", i), Node: fmt.Sprintf("tidewatch-gauges-%d", i), CPU: 2100, Fits: worker})
	}
	if r := run(t, in); r.Spare == nil || !strings.Contains(r.Spare.Text, "would have no place") || len(r.Blocked) > 0 {
		t.Errorf("three that need a node each, of four: %+v, %v", r.Spare, r.Blocked)
	}
}

// Pods that may not run beside each other need nodes, or zones, of their own; it goes both ways.
func TestApart(t *testing.T) {
	text := strings.Replace(fmt.Sprintf(text, "batch: 1, trial: 0"), "count: 4", "count: 3", 1)
	tide := func(p *rehearse.Pod) bool { return strings.HasPrefix(p.Name, "tides/") }
	try := func(pods ...rehearse.Pod) []rehearse.Trouble {
		in := input(t, text, living(t, text, "v1.36.3"))
		in.Pods = pods
		return run(t, in).Blocked
	}
	near := []rehearse.Apart{{Of: tide}}
	a, b, c := rehearse.Pod{Name: "tides/a", Node: "tidewatch-gauges-1", Apart: near, Fits: worker}, rehearse.Pod{Name: "tides/b", Node: "tidewatch-gauges-2", Apart: near, Fits: worker}, rehearse.Pod{Name: "tides/c", Node: "tidewatch-gauges-3", Apart: near, Fits: worker}
	if b := try(a, b); len(b) > 0 {
		t.Errorf("two of three nodes: %v", b)
	}
	if b := try(a, b, c); len(b) == 0 || !strings.Contains(b[0].Text, "finds no place elsewhere") {
		t.Errorf("three of three nodes: %v", b)
	}
	b.Apart, c.Apart = nil, nil
	if b := try(a, b, c); len(b) == 0 {
		t.Error("the one that stays keeps the other off as well, and that was not seen")
	}
}

// A required spread counts the node that is emptied, unless it is told not to: then one more on
// any other node is too many.
func TestSpread(t *testing.T) {
	text := strings.Replace(fmt.Sprintf(text, "batch: 1, trial: 0"), "count: 4", "count: 3", 1)
	more := 0
	try := func(s rehearse.Spread) []rehearse.Trouble {
		s.Key, s.Of = "kubernetes.io/hostname", func(p *rehearse.Pod) bool { return strings.HasPrefix(p.Name, "tides/") }
		in := input(t, text, living(t, text, "v1.36.3"))
		for i := range 3 + more {
			in.Pods = append(in.Pods, rehearse.Pod{Name: fmt.Sprint("tides/", i), Node: fmt.Sprint("tidewatch-gauges-", i%3+1), Fits: worker, Spread: []rehearse.Spread{s}})
		}
		return run(t, in).Blocked
	}
	name, zone := func(n rehearse.Node) string { return n.Name }, func(n rehearse.Node) string { return n.Zone }
	all, open := func(n rehearse.Node, _ bool) bool { return worker(n) }, func(n rehearse.Node, closed bool) bool { return worker(n) && !closed }
	for _, x := range []struct {
		name    string
		s       rehearse.Spread
		blocked bool
	}{
		{"one a node", rehearse.Spread{At: name, On: all, Skew: 1}, true},
		{"two a node", rehearse.Spread{At: name, On: all, Skew: 2}, false},
		{"what takes no pods does not count", rehearse.Spread{At: name, On: open, Skew: 1}, false},
		{"fewer domains than it wants", rehearse.Spread{At: name, On: open, Skew: 1, Min: 3}, true},
		{"the one zone that there is", rehearse.Spread{At: zone, On: all, Skew: 1}, false},
		{"nodes without the label", rehearse.Spread{At: func(rehearse.Node) string { return "" }, On: all, Skew: 5}, true},
	} {
		b := try(x.s)
		if blocked := len(b) > 0; blocked != x.blocked || blocked && !strings.Contains(b[0].Text, "there is room, but not by its topology spread over kubernetes.io/hostname (maxSkew ") {
			t.Errorf("%s: %v", x.name, b)
		}
	}
	// Of two on one node the first goes where the others are as many; when it has gone, the node
	// that it left has the fewest, and the second would be one too many anywhere.
	more = 1
	if b := try(rehearse.Spread{At: name, On: all, Skew: 1}); len(b) == 0 || b[0].Machine != "tidewatch-gauges-1" || !strings.HasPrefix(b[0].Text, "pod tides/3 ") {
		t.Errorf("two on one node: %v", b)
	}
}
