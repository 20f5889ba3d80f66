package look

import (
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/site"
	"verbund/internal/store"
)

// A unit that runs at the moment, and fails again and again, is not well while it
// does, and something to be seen to for a while after.
func TestRestartLoop(t *testing.T) {
	c := sessiontest.Cluster(t, 1)
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
		seen := plan.MachineSeen{Exists: true, Reached: true, Units: units, Restarted: map[string]plan.Restarted{"kubelet.service": {Times: x.times, Last: time.Now().Add(-x.ago), Why: "exit code 2"}}}
		v := &View{Cluster: c, Inventory: &site.Inventory{}, Seen: plan.Observed{Machines: map[string]plan.MachineSeen{m.Name: seen}}}
		const said = "kubelet.service on tidewatch-gauges-1 keeps restarting"
		has := func(list []string) bool {
			return slices.ContainsFunc(list, func(s string) bool { return strings.HasPrefix(s, said) && strings.HasSuffix(s, "exit code 2") })
		}
		var ails []string
		for _, a := range v.Ails() {
			ails = append(ails, a.Text)
		}
		if got := has(ails); got != x.trouble {
			t.Errorf("%d times, %s ago: trouble is %v in %q", x.times, x.ago, got, ails)
		}
		if got := has(v.strains(map[string]bool{}, time.Now(), func() time.Time { return time.Now().Add(-x.well) })); got != x.strain {
			t.Errorf("%d times, %s ago: strain is %v", x.times, x.ago, got)
		}
	}
}

// Only a run that looked at everything explains the restarts before its end: not
// one of a part, though it ended as it should.
func TestFoundWell(t *testing.T) {
	s := sessiontest.Session(t)
	if at := foundWell(s); !at.IsZero() {
		t.Errorf("with no journal: %s", at)
	}
	if err := s.Store.Make(); err != nil {
		t.Fatal(err)
	}
	j, err := s.Store.Journal()
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	began := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for i, e := range []store.Entry{
		{Kind: store.StepFailed, What: string(plan.Verify)},
		{Kind: store.StepDone, What: string(plan.Verify)},
		{Kind: store.StepDone, What: string(plan.Write)},
		{Kind: store.RunEnded, Outcome: store.OutcomeDone},
	} {
		e.Time = began.Add(time.Duration(i) * time.Minute)
		if err := j.Append(e); err != nil {
			t.Fatal(err)
		}
	}
	if at := foundWell(s); !at.Equal(began.Add(time.Minute)) {
		t.Errorf("found well at %s", at)
	}
}
