package plan_test

import (
	"slices"
	"testing"
	"time"

	"verbund/internal/core/plan"
)

// A machine is out until all is undone that took it out, each time by itself; that it was not
// there at all is no outage.
func TestOutages(t *testing.T) {
	var o plan.Outages
	at := time.Duration(0)
	step := func(k plan.Kind, machine string) {
		o.Began(k, machine, at)
		at += time.Second
		o.Ended(k, machine, at)
	}
	for range 2 {
		for _, k := range []plan.Kind{plan.Pull, plan.Drain, plan.Switch, plan.Ready, plan.Uncordon} {
			step(k, "a")
		}
	}
	for _, k := range []plan.Kind{plan.Get, plan.Ready, plan.Rest, plan.Drain, plan.Switch, plan.Ready, plan.Return, plan.Uncordon} {
		step(k, "b")
	}
	step(plan.Drain, "c")
	step(plan.Unnode, "c")
	step(plan.Drain, "d")
	step(plan.Ready, "d") // it is still cordoned
	s := time.Second
	want := []plan.Outage{{"a", s, 5 * s, false}, {"a", 6 * s, 10 * s, false}, {"b", 12 * s, 18 * s, false}, {"c", 18 * s, 20 * s, true}}
	if !slices.Equal(o.All, want) {
		t.Errorf("outages %v, wanted %v", o.All, want)
	}

	if left := o.Left(); !slices.Equal(left, []plan.Outage{{Machine: "d", From: 20 * s}}) {
		t.Errorf("left out: %v", left)
	}

	slots := []plan.Slot{{Step: plan.Step{Kind: plan.Drain, Machine: "a"}, To: s}, {Step: plan.Step{Kind: plan.Drain, Machine: "b"}, To: 2 * s}, {Step: plan.Step{Kind: plan.Uncordon, Machine: "b"}, From: 4 * s, To: 5 * s}, {Step: plan.Step{Kind: plan.Uncordon, Machine: "a"}, From: s, To: 3 * s}}
	if got := plan.OutagesOf(slots); !slices.Equal(got, []plan.Outage{{"a", 0, 3 * s, false}, {"b", 0, 5 * s, false}}) {
		t.Errorf("of a schedule: %v", got)
	}
}
