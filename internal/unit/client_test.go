package unit

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"time"

	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/client-go/kubernetes/fake"
	clienttesting "k8s.io/client-go/testing"
)

// said is this computer, telling a test what it logs.
type said struct {
	Here
	t *testing.T
}

func (s said) Logf(format string, args ...any) { s.t.Logf(format, args...) }

// A program of ours that loses its lease, since the API did not answer, goes on as a candidate and
// leads again: one that ended by it would count as failing, in a cluster that lost nothing.
func TestLeadAfterALostLease(t *testing.T) {
	c := fake.NewClientset()
	var refused atomic.Bool
	c.PrependReactor("update", "leases", func(clienttesting.Action) (bool, runtime.Object, error) {
		return refused.Load(), nil, errors.New("the datastore has no quorum")
	})
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	term := Term{Lease: 2 * time.Second, Renew: time.Second, Retry: 10 * time.Millisecond}
	// What the first to lead does not survive, and the second is to see.
	led := 0
	err := Lead(ctx, said{t: t}, c, "turn", "a", term, func(leading context.Context) {
		if led++; led == 2 {
			cancel()
			return
		}
		refused.Store(true)
		<-leading.Done()
		refused.Store(false)
	})
	if err != nil || led != 2 {
		t.Errorf("it led %d times, and ended with %v", led, err)
	}

	// What is asked to lead once, and loses the lease, is not a candidate any more.
	c = fake.NewClientset()
	c.PrependReactor("update", "leases", func(clienttesting.Action) (bool, runtime.Object, error) {
		return true, nil, errors.New("the datastore has no quorum")
	})
	led = 0
	if err := LeadOnce(t.Context(), said{t: t}, c, "turn", "a", term, func(leading context.Context) {
		led++
		<-leading.Done()
	}); err != nil || led != 1 {
		t.Errorf("it led %d times, and ended with %v", led, err)
	}
	if err := LeadOnce(t.Context(), said{t: t}, c, "turn", "a", Term{}, nil); !errors.Is(err, ErrUsage) {
		t.Errorf("a lease of no time: %v", err)
	}
}
