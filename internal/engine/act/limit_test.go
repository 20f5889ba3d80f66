package act

import (
	"context"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/site"
	"verbund/internal/store"
)

// A machine whose image is being composed is waited for as long as that goes on, and that is said
// once; one that is late for another reason, or another step, is not.
func TestWaitsForTheImage(t *testing.T) {
	for _, x := range []struct {
		what      string
		kind      plan.Kind
		composing bool
		waits     bool
	}{{"being composed", plan.Get, true, true}, {"composed", plan.Get, false, false}, {"another step", plan.Pull, true, false}} {
		r, _ := run(t, nil)
		var composing atomic.Bool
		composing.Store(x.composing)
		r.Site = &sessiontest.Site{Look: func(has *site.Inventory) {
			has.Images = []site.Composed{{Image: site.Image{System: "debian 12", Architecture: "amd64"}, Composing: composing.Load()}}
		}}
		var mu sync.Mutex
		said := 0
		r.Tell = func(e store.Entry) {
			mu.Lock()
			defer mu.Unlock()
			if e.Kind == store.Note && strings.Contains(e.Text, "the machine image debian 12 for amd64 is still being composed") {
				said++
			}
		}
		r.limit = func(plan.Step) time.Duration { return 20 * time.Millisecond }
		ended := make(chan struct{})
		r.guards = map[plan.Guard]func(*Run, context.Context, plan.Step, topology.Machine) error{"waits": func(_ *Run, ctx context.Context, _ plan.Step, _ topology.Machine) error {
			defer close(ended)
			<-ctx.Done()
			return context.Cause(ctx)
		}}
		done := make(chan error, 1)
		go func() {
			done <- r.Steps(t.Context(), t.Context(), []plan.Step{{ID: "x", Kind: x.kind, Machine: "tidewatch-gauges-1", Text: "wait", Guards: []plan.Guard{"waits"}}})
		}()
		if x.waits {
			select {
			case <-ended:
				t.Errorf("%s: it was given up", x.what)
			case <-time.After(200 * time.Millisecond):
			}
			composing.Store(false)
		}
		select {
		case err := <-done:
			if err == nil {
				t.Errorf("%s: it ended well", x.what)
			}
		case <-time.After(time.Minute):
			t.Fatalf("%s: it is waited for without end", x.what)
		}
		mu.Lock()
		if (said == 1) != x.waits {
			t.Errorf("%s: said %d times", x.what, said)
		}
		mu.Unlock()
	}
}
