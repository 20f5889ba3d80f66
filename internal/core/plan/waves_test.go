package plan_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/rehearse"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// turned is a declaration with the numbers that its groups have by now.
func turned(t *testing.T, text string, numbers map[string][]int) *topology.Cluster {
	t.Helper()
	c, err := coretest.Declare(text, topology.Memory{Numbers: numbers})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// carriedOut is what there is to be seen when a plan was carried out.
func carriedOut(o plan.Observed, c *topology.Cluster, p *plan.Plan) plan.Observed {
	o = rehearse.Copy(o)
	for _, s := range p.Steps {
		rehearse.Carried(&o, c, p, s)
	}
	return o
}

// rounds carries out one plan after the other until nothing is left, as a run does, and
// says of each which machines came and went, and what had the word in between.
func rounds(t *testing.T, text string, o plan.Observed) []string {
	t.Helper()
	numbers := map[string][]int{}
	var out []string
	for range 40 {
		c := turned(t, text, numbers)
		maps.Copy(numbers, plan.Turn(c, o))
		c = turned(t, text, numbers)
		p := planFor(t, c, o)
		if len(p.Steps) == 0 {
			return out
		}
		line := ""
		for _, s := range p.Steps {
			switch s.Kind {
			case plan.Get, plan.Release, plan.Switch, plan.Wave, plan.Soak, plan.Pause, plan.Backup, plan.Network, plan.Drain, plan.Member, plan.Leave:
				line += " " + strings.ReplaceAll(s.ID, "tidewatch-", "")
			}
			for _, n := range s.Needs {
				if !slices.ContainsFunc(p.Steps, func(x plan.Step) bool { return x.ID == n }) {
					t.Errorf("%s needs %s, which is not in the plan", s.ID, n)
				}
			}
		}
		if out = append(out, strings.TrimSpace(line)); len(p.Later) > 0 && !p.More {
			t.Errorf("%s: machines are to be replaced later, and nothing follows", line)
		}
		o = carriedOut(o, c, p)
	}
	t.Fatalf("it does not come to an end: %s", strings.Join(out, "\n"))
	return nil
}

const two = `schema: verbund/1
name: tidewatch
kubernetes: v1.37.2
site: estuary
endpoint: {balancer: {size: small}}
control: {count: 3, size: medium%s}
pools:
  - {name: gauges, count: 2, size: %s, rollout: {%s}}
  - {name: forecast, count: 2, rollout: {soak: 1m}}
`

// What a machine cannot become while it lives comes by new ones, in either way, place by
// place: the new one is there before the old one goes, and nothing else is begun before it
// has gone. What is the same for all goes pool by pool, the control plane first.
func TestReplacement(t *testing.T) {
	for _, x := range []struct {
		name, was, text, runs string
		want                  []string
	}{
		{"size of a pool", fmt.Sprintf(two, "", "small", "soak: 1m"), fmt.Sprintf(two, "", "medium", "soak: 1m"), "v1.37.2", []string{
			"wave/gauges-1 get/gauges-3 drain/gauges-1 release/gauges-1",
			"soak/gauges-1",
			"wave/gauges-2 get/gauges-4 drain/gauges-2 release/gauges-2",
		}},
		{"two at a time, with a person's word", fmt.Sprintf(two, "", "small", "surge: 2, order: spread, trial: 0, hold: each-batch"), fmt.Sprintf(two, "", "medium", "surge: 2, order: spread, trial: 0, hold: each-batch"), "v1.37.2", []string{
			"wave/gauges-1 get/gauges-3 get/gauges-4 drain/gauges-2 release/gauges-2 drain/gauges-1 release/gauges-1",
		}},
		{"version by replacement, and the next pool in place", fmt.Sprintf(two, "", "small", "way: replacement, trial: 0, hold: each-pool"), fmt.Sprintf(two, "", "small", "way: replacement, trial: 0, hold: each-pool"), "v1.36.3", []string{
			"backup wave/control-1 switch/control-1 soak/control-1 wave/control-2 switch/control-2 wave/control-3 switch/control-3 network",
			"wave/gauges-1 get/gauges-3 drain/gauges-1 release/gauges-1",
			"wave/gauges-2 get/gauges-4 drain/gauges-2 release/gauges-2",
			"hold/gauges-2 wave/forecast-1 drain/forecast-1 switch/forecast-1 soak/forecast-1 wave/forecast-2 drain/forecast-2 switch/forecast-2",
		}},
		{"control plane, size", fmt.Sprintf(two, "", "small", "soak: 1m"), fmt.Sprintf(strings.Replace(two, "size: medium", "size: small", 1), "", "small", "soak: 1m"), "v1.37.2", []string{
			"wave/control-1 get/control-4 member/control-4 leave/control-1 release/control-1",
			"soak/control-1",
			"wave/control-2 get/control-5 member/control-5 leave/control-2 release/control-2",
			"wave/control-3 get/control-6 member/control-6 leave/control-3 release/control-3",
		}},
		{"control plane, version by replacement", fmt.Sprintf(two, ", rollout: {way: replacement}", "small", "soak: 1m"), fmt.Sprintf(two, ", rollout: {way: replacement}", "small", "soak: 1m"), "v1.36.3", []string{
			"backup wave/control-1 get/control-4 member/control-4 leave/control-1 release/control-1",
			"soak/control-1",
			"wave/control-2 get/control-5 member/control-5 leave/control-2 release/control-2",
			"wave/control-3 get/control-6 member/control-6 leave/control-3 release/control-3",
			"network wave/gauges-1 drain/gauges-1 switch/gauges-1 soak/gauges-1 wave/gauges-2 drain/gauges-2 switch/gauges-2 wave/forecast-1 drain/forecast-1 switch/forecast-1 soak/forecast-1 wave/forecast-2 drain/forecast-2 switch/forecast-2",
		}},
	} {
		t.Run(x.name, func(t *testing.T) {
			got := rounds(t, x.text, living(turned(t, x.was, nil), x.runs))
			if strings.Join(got, "\n") != strings.Join(x.want, "\n") {
				t.Errorf("it goes\n%s\nwanted\n%s", strings.Join(got, "\n"), strings.Join(x.want, "\n"))
			}
		})
	}
}

// Another image is another machine, if the declaration says from what it is made; the
// system that comes with a set moves with the machines that are made anew.
func TestMustOfImages(t *testing.T) {
	text := fmt.Sprintf(two, "", "small", "soak: 1m")
	was := declare.Image{System: "skerry 2026.05", Architecture: "amd64"}
	for _, x := range []struct {
		name, text string
		turns      bool
	}{
		{"the set's", text, false},
		{"with a package", strings.Replace(text, "size: small, rollout", "size: small, image: own, rollout", 1) + "images: {own: {extras: [tcpdump]}}\n", true},
		{"a system of its own", strings.Replace(text, "size: small, rollout", "size: small, image: own, rollout", 1) + "images: {own: {system: skerry 2026.11}}\n", true},
		{"the same system", strings.Replace(text, "size: small, rollout", "size: small, image: own, rollout", 1) + "images: {own: {system: skerry 2026.05}}\n", false},
	} {
		c := turned(t, x.text, nil)
		o := living(c, "v1.37.2")
		for _, m := range c.Machines {
			seen(o, m.Name, func(s *plan.MachineSeen) { s.Image = &was })
		}
		if got := plan.Turn(c, o); (len(got) > 0) != x.turns {
			t.Errorf("%s: %v", x.name, got)
		}
	}
}

// Nothing new is begun with what could not be looked at.
func TestTurnWaits(t *testing.T) {
	c := turned(t, fmt.Sprintf(two, "", "medium", "soak: 1m"), nil)
	for name, change := range map[string]func(*plan.Observed){
		"a machine is asleep": func(o *plan.Observed) {
			seen(*o, "tidewatch-forecast-1", func(s *plan.MachineSeen) { s.Reached = false })
		},
		"the API is away":       func(o *plan.Observed) { o.API = false },
		"no member was seen":    func(o *plan.Observed) { o.Members = nil },
		"another part is meant": func(o *plan.Observed) { o.Part = "forecast" },
		"control is under way": func(o *plan.Observed) {
			seen(*o, "tidewatch-control-2", func(s *plan.MachineSeen) { s.Size = "small" })
		},
	} {
		o := living(c, "v1.37.2")
		for _, n := range []string{"tidewatch-gauges-1", "tidewatch-gauges-2"} {
			seen(o, n, func(s *plan.MachineSeen) { s.Size = "small" })
		}
		if got := plan.Turn(c, o); len(got["gauges"]) == 0 || got["gauges"][0] != 3 {
			t.Fatalf("nothing is in the way, and it turns %v", got)
		}
		change(&o)
		if got := plan.Turn(c, o); got["gauges"] != nil {
			t.Errorf("%s, and it turns %v", name, got)
		}
	}
}

// When the declaration is taken back in the middle, an old machine that has not gone yet has
// its place again, and nothing is made for it; one that has another size has not.
func TestTakenBack(t *testing.T) {
	small, medium := fmt.Sprintf(two, "", "small", "soak: 1m"), fmt.Sprintf(two, "", "medium", "soak: 1m")
	began := turned(t, small, map[string][]int{"gauges": {3, 2}})
	o := living(turned(t, small, nil), "v1.37.2")
	if got := plan.Turn(began, o); !slices.Equal(got["gauges"], []int{1, 2}) {
		t.Errorf("before the new one has come: %v", got)
	}
	if got := plan.Turn(turned(t, medium, map[string][]int{"gauges": {3, 2}}), o); got["gauges"] != nil {
		t.Errorf("nothing was taken back: %v", got)
	}
	// The new one is there, and of the size that is not declared any more.
	o.Machines["tidewatch-gauges-3"] = o.Machines["tidewatch-gauges-2"]
	seen(o, "tidewatch-gauges-3", func(s *plan.MachineSeen) { s.Size, s.Zone = "medium", began.OfGroup("gauges")[0].Zone })
	if got := plan.Turn(began, o); !slices.Equal(got["gauges"], []int{1, 2}) {
		t.Errorf("when the new one has come: %v", got)
	}
}

// Configuration and certificates are written, and no machine is made anew for them, also where
// the way is replacement: an authority is replaced on the machines that there are.
func TestWrittenInEitherWay(t *testing.T) {
	text := fmt.Sprintf(two, ", rollout: {way: replacement}", "small", "way: replacement")
	c := turned(t, text, nil)
	o := living(c, "v1.37.2")
	for _, m := range c.Machines {
		seen(o, m.Name, func(s *plan.MachineSeen) {
			s.Differs, s.Restarts = []string{"/etc/kubernetes/trust/cluster-authority.crt"}, []string{"kubelet.service"}
		})
	}
	if got := plan.Turn(c, o); len(got) > 0 {
		t.Errorf("machines give way for what is written: %v", got)
	}
	p := planFor(t, c, o)
	for _, m := range []string{"control-1", "control-3", "gauges-1", "gauges-2", "forecast-2"} {
		if !strings.Contains(kinds(p.Steps), "write/tidewatch-"+m) {
			t.Errorf("%s is not written", m)
		}
	}
	if len(p.Later) > 0 || p.More {
		t.Errorf("later %v, more %t", p.Later, p.More)
	}
}

// Workers go back to what they ran, as far as the skew rules allow, the control plane within a
// minor; what did not move, or was not meant, stays. Where nothing can, it is said why.
func TestBackOf(t *testing.T) {
	c := turned(t, fmt.Sprintf(two, "", "small", "soak: 1m"), nil)
	o := living(c, "v1.37.2")
	for _, x := range []struct {
		name    string
		before  map[string]string
		only    []string
		control string
		pools   string
		want    string // in what is refused, or stays
	}{
		{"a minor", map[string]string{"control": "v1.36.3", "gauges": "v1.36.3", "forecast": "v1.37.2"}, nil, "", "map[gauges:v1.36.3]", "a minor does not go back"},
		{"a patch", map[string]string{"control": "v1.37.1", "gauges": "v1.37.1"}, nil, "v1.37.1", "map[]", ""},
		{"the control plane alone", map[string]string{"control": "v1.37.1", "gauges": "v1.37.1"}, []string{"control"}, "v1.37.1", "map[]", ""},
		{"a patch, and a pool further", map[string]string{"control": "v1.37.1", "gauges": "v1.36.3"}, nil, "v1.37.1", "map[gauges:v1.36.3]", ""},
		{"one pool", map[string]string{"gauges": "v1.36.3", "forecast": "v1.36.3"}, []string{"forecast"}, "", "map[forecast:v1.36.3]", ""},
		{"nothing moved", map[string]string{"gauges": "v1.37.2"}, nil, "", "", "no machine runs anything newer"},
		{"no set", map[string]string{"gauges": "v1.36.1"}, nil, "", "", "which the catalogue does not have"},
		{"no group", nil, []string{"gauge"}, "", "", "did you mean gauges?"},
	} {
		b, err := plan.BackOf(c, o, x.before, x.only, versions.Shipped())
		if x.pools == "" {
			if err == nil || !strings.Contains(err.Error(), x.want) {
				t.Errorf("%s: %v", x.name, err)
			}
			continue
		}
		if err != nil || b.Kubernetes != x.control || fmt.Sprint(b.Pools) != x.pools || !strings.Contains(b.Stays, x.want) {
			t.Errorf("%s: %+v, %v", x.name, b, err)
		}
		// Nothing is newer than its API servers.
		var follow []string
		for _, pool := range []string{"forecast", "gauges"} {
			if b.Kubernetes != "" && b.Pools[pool] == "" {
				follow = append(follow, pool)
			}
		}
		if got := slices.Sorted(slices.Values(b.Follow)); !slices.Equal(got, follow) {
			t.Errorf("%s: %v follow, wanted %v", x.name, got, follow)
		}
	}
	// What runs nothing newer than the control plane then does stays as it is.
	for _, v := range []string{"v1.36.3", "v1.37.1"} {
		for name := range o.Machines {
			if strings.HasPrefix(name, "tidewatch-forecast-") {
				seen(o, name, func(s *plan.MachineSeen) { s.Versions["kubelet"] = v })
			}
		}
		b, err := plan.BackOf(c, o, map[string]string{"control": "v1.37.1", "gauges": "v1.37.1"}, nil, versions.Shipped())
		if err != nil || !slices.Equal(b.Follow, []string{"gauges"}) || slices.Contains(b.Groups, "forecast") {
			t.Errorf("with forecast on %s: %+v, %v", v, b, err)
		}
	}
}

// Within a minor the workers go back as well, after their API servers.
func TestGoesBack(t *testing.T) {
	p, err := plan.Make(cluster(t, "v1.37.1", 3, 2), living(cluster(t, "v1.37.2", 3, 2), "v1.37.2"), versions.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	var went []string
	for _, s := range p.Steps {
		if s.Kind == plan.Switch {
			went = append(went, strings.TrimPrefix(s.Machine, "tidewatch-"))
		}
	}
	if len(went) != 5 || !strings.HasPrefix(went[2], "control-") || !strings.HasPrefix(went[3], "gauges-") {
		t.Errorf("%v go back", went)
	}
}

// Machines fetch what they are to run as many waves ahead as is declared, and no earlier.
func TestPrefetch(t *testing.T) {
	for _, ahead := range []int{1, 2, 4} {
		c := cluster(t, "v1.37.2", 3, 6)
		c.Prefetch = ahead
		p, err := plan.Make(c, living(cluster(t, "v1.36.3", 3, 6), "v1.36.3"), versions.Shipped())
		if err != nil {
			t.Fatal(err)
		}
		own, begun := map[string]int{}, map[string]int{}
		for i, w := range p.Waves {
			for _, m := range w.Machines {
				own[m] = i + 1
			}
		}
		for _, s := range p.Steps {
			if s.Kind == plan.Wave {
				begun[s.ID] = len(begun) + 1
			}
		}
		tried := 0
		for _, s := range p.Steps {
			if s.Kind != plan.Pull || own[s.Machine] == 0 {
				continue
			}
			after := 0
			for _, n := range s.Needs {
				after = max(after, begun[n])
			}
			tried++
			if want := max(own[s.Machine]-ahead, 0); after != want {
				t.Errorf("%d ahead: %s, of wave %d, fetches once wave %d has begun, wanted %d", ahead, s.Machine, own[s.Machine], after, want)
			}
		}
		if tried != 9 {
			t.Errorf("%d of 9 machines fetch", tried)
		}
	}
}

// Which groups have machines that get new ones next: one after the other, those that a person asked
// for, or all; none while what there is to be seen does not allow it.
func TestTurn(t *testing.T) {
	both := strings.Replace(fmt.Sprintf(two, "", "%s", ""), "{name: forecast, count: 2,", "{name: forecast, count: 2, size: %s,", 1)
	was, is := fmt.Sprintf(both, "small", "small"), fmt.Sprintf(both, "medium", "medium")
	together := is + "rollout: {pools: together}\n"
	for _, x := range []struct {
		name, text string
		change     func(o *plan.Observed)
		want       string
	}{
		{"one pool after the other", is, nil, "gauges"},
		{"together", together, nil, "forecast gauges"},
		{"the one that is asked for", is, func(o *plan.Observed) { o.Part = "forecast" }, "forecast"},
		{"the control plane alone", is, func(o *plan.Observed) { o.Part = plan.OnlyControl }, ""},
		{"while it is held", is, func(o *plan.Observed) { o.Held = true }, ""},
		{"when an authority is distrusted at once", is, func(o *plan.Observed) { o.Now = true }, ""},
		{"while no API answers", is, func(o *plan.Observed) { o.API = false }, ""},
		{"before it was founded", is, func(o *plan.Observed) { o.Founded = false }, ""},
		{"while no member is seen", is, func(o *plan.Observed) { o.Members = nil }, ""},
		{"while one has no power", is, func(o *plan.Observed) {
			seen(*o, "tidewatch-forecast-1", func(s *plan.MachineSeen) { s.Power, s.Reached = "off", false })
		}, ""},
		{"while a control-plane machine is yet to come", is, func(o *plan.Observed) { delete(o.Machines, "tidewatch-control-2") }, ""},
		{"while one of the pool before is yet to come", strings.Replace(is, "size: medium, rollout: {}", "size: small, rollout: {}", 1), func(o *plan.Observed) { delete(o.Machines, "tidewatch-gauges-2") }, ""},
		{"when nothing is to be replaced", was, nil, ""},
	} {
		o := living(turned(t, was, nil), "v1.37.2")
		if x.change != nil {
			x.change(&o)
		}
		if got := strings.Join(slices.Sorted(maps.Keys(plan.Turn(turned(t, x.text, nil), o))), " "); got != x.want {
			t.Errorf("%s: %q, wanted %q", x.name, got, x.want)
		}
	}
}

// A machine in another zone than its own gives way to a new one there; an adopted one is not
// exchanged, and a balancer is not, whose address is the endpoint's.
func TestZoneOfItsOwn(t *testing.T) {
	text := fmt.Sprintf(two, "", "small", "trial: 0")
	o := living(turned(t, text, nil), "v1.37.2")
	seen(o, "tidewatch-gauges-2", func(s *plan.MachineSeen) { s.Zone = "island" })
	if got, want := strings.Join(rounds(t, text, o), "\n"), "wave/gauges-1 get/gauges-3 drain/gauges-2 release/gauges-2"; got != want {
		t.Errorf("it goes\n%s\nwanted\n%s", got, want)
	}
	for name, want := range map[string]string{"tidewatch-balancer-1": "the endpoint's address is its own", "tidewatch-gauges-1": "it is the adopted"} {
		c := declared(t, "control: {count: 1, size: medium}\nendpoint: {balancer: {size: small}}\npools: [{name: gauges, adopt: [\"02:5e:00:00:00:01\"]}]\n")
		o := living(c, "v1.37.2")
		seen(o, name, func(s *plan.MachineSeen) { s.Size = "large" })
		if _, err := plan.Make(c, o, versions.Shipped()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
