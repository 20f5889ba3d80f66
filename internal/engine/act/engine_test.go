package act

import (
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/look"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
	"verbund/internal/store"
)

// A machine that was there once, and is to be got anew, gets pairs that nobody had.
func TestForgetLost(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 1, 2, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	s := sessiontest.Session(t)
	s.Decl = &declare.Declaration{Name: "tidewatch"}
	if err := vouch.Ensure(s, c, time.Now()); err != nil {
		t.Fatal(err)
	}
	before, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	known := map[string]memory.Machine{"tidewatch-control-1": {Hardware: "1"}, "tidewatch-gauges-1": {Hardware: "2"}, "tidewatch-gauges-2": {}}
	there := map[string]plan.MachineSeen{"tidewatch-control-1": {Exists: true}}
	r := &Run{Session: s, Cluster: c, View: &look.View{Seen: plan.Observed{Machines: there}}}
	if err := s.Store.SaveTrust(&store.Trust{}, r.lost(known)...); err != nil {
		t.Fatal(err)
	}
	if err := vouch.Ensure(s, c, time.Now()); err != nil {
		t.Fatal(err)
	}
	after, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for id, k := range before.Keys {
		m, _, of := strings.Cut(id, "/")
		lost := of && m == "tidewatch-gauges-1"
		if n += map[bool]int{true: 1}[lost]; (string(k) != string(after.Keys[id])) != lost {
			t.Errorf("the key %s is another one: %v, wanted %v", id, !lost, lost)
		}
	}
	if asked := sessiontest.Known(t, s).Asked; n == 0 || len(asked) > 0 {
		t.Errorf("%d pairs of the lost machine; asked for are still %v", n, asked)
	}
	// What is given back leaves nothing behind, nor what it had before.
	if err := s.Store.SaveTrust(&store.Trust{Keys: map[string]store.Secret{trust.WasID("tidewatch-gauges-1/proxy"): store.Secret("x")}}); err != nil {
		t.Fatal(err)
	}
	if err := r.forget("tidewatch-gauges-1"); err != nil {
		t.Fatal(err)
	}
	left, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	for id := range left.Keys {
		if strings.Contains(id, "tidewatch-gauges-1/") {
			t.Errorf("%s is left of a machine that was given back", id)
		}
	}
}
