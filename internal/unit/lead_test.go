package unit

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
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
	err := Lead(ctx, said{t: t}, c.CoordinationV1().Leases("kube-system"), "turn", "a", term, func(leading context.Context) {
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
	if err := LeadOnce(t.Context(), said{t: t}, c.CoordinationV1().Leases("kube-system"), "turn", "a", term, func(leading context.Context) {
		led++
		<-leading.Done()
	}); err != nil || led != 1 {
		t.Errorf("it led %d times, and ended with %v", led, err)
	}
	if err := LeadOnce(t.Context(), said{t: t}, c.CoordinationV1().Leases("kube-system"), "turn", "a", Term{}, nil); !errors.Is(err, ErrUsage) {
		t.Errorf("a lease of no time: %v", err)
	}
}

// Who has a lease keeps it from others until it was not renewed for as long as it lasts, by the
// clock of who waits; who stops in order gives it back, and transitions are counted.
func TestElection(t *testing.T) {
	c := fake.NewClientset()
	ls := c.CoordinationV1().Leases("kube-system")
	clock := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	now := func() time.Time { return clock }
	term := Term{Lease: 15 * time.Second, Renew: 10 * time.Second, Retry: 2 * time.Second}
	a, b := &election{leases: ls, name: "turn", holder: "a", term: term, now: now}, &election{leases: ls, name: "turn", holder: "b", term: term, now: now}
	ctx := t.Context()
	stands := func(holder string, transitions int32) {
		t.Helper()
		l, err := ls.Get(ctx, "turn", metav1.GetOptions{})
		if err != nil || holderOf(l) != holder || *l.Spec.LeaseTransitions != transitions {
			t.Errorf("the lease is %+v, %v, wanted that of %q after %d transitions", l, err, holder, transitions)
		}
	}
	if err := a.try(ctx); err != nil {
		t.Fatal(err)
	}
	stands("a", 0)
	if err := b.try(ctx); !errors.Is(err, errHeld) {
		t.Errorf("it was taken from who has it: %v", err)
	}
	// Renewed, it lasts from then on.
	clock = clock.Add(14 * time.Second)
	if err := a.try(ctx); err != nil {
		t.Fatal(err)
	}
	clock = clock.Add(14 * time.Second)
	if err := b.try(ctx); !errors.Is(err, errHeld) {
		t.Errorf("it was taken though it was renewed: %v", err)
	}
	// b has seen the renewal only now, and waits from now on.
	clock = clock.Add(14 * time.Second)
	if err := b.try(ctx); !errors.Is(err, errHeld) {
		t.Errorf("it was taken before it was over for who looks: %v", err)
	}
	clock = clock.Add(2 * time.Second)
	if err := b.try(ctx); err != nil {
		t.Errorf("it was not taken though it is over: %v", err)
	}
	stands("b", 1)
	// Who had it does not write over it by what it saw last.
	if err := a.try(ctx); !errors.Is(err, errHeld) {
		t.Errorf("who has lost it takes it back: %v", err)
	}
	a.release()
	stands("b", 1)
	b.release()
	stands("", 1)
	if err := a.try(ctx); err != nil {
		t.Errorf("one that was given back: %v", err)
	}
	stands("a", 2)
	for _, wrong := range []Term{{}, {Lease: 10, Renew: 5, Retry: 1}, {Lease: time.Second, Renew: 2 * time.Second, Retry: time.Millisecond}, {Lease: 3 * time.Second, Renew: time.Second, Retry: 2 * time.Second}} {
		if err := LeadOnce(ctx, said{t: t}, ls, "turn", "c", wrong, nil); !errors.Is(err, ErrUsage) {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
}
