package unit

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	coordinationv1 "k8s.io/api/coordination/v1"
	"k8s.io/apimachinery/pkg/api/equality"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

// Leases are those of a namespace, as far as an election needs them.
type Leases interface {
	Get(ctx context.Context, name string, o metav1.GetOptions) (*coordinationv1.Lease, error)
	Create(ctx context.Context, l *coordinationv1.Lease, o metav1.CreateOptions) (*coordinationv1.Lease, error)
	Update(ctx context.Context, l *coordinationv1.Lease, o metav1.UpdateOptions) (*coordinationv1.Lease, error)
}

// Term is how a lease on leading is kept: how long it lasts, within which time it has to be
// renewed, and how long is waited between two tries.
type Term struct{ Lease, Renew, Retry time.Duration }

func (t Term) wrong() error {
	if t.Retry <= 0 || t.Renew <= t.Retry || t.Lease <= t.Renew || t.Lease < time.Second {
		return Usage(fmt.Errorf("a lease of %s cannot be renewed every %s within %s: the first has to be the longest, and a second at least, and the second the shortest", t.Lease, t.Retry, t.Renew))
	}
	return nil
}

// Lead runs work while the holder has the lease of a name, again and again until ctx ends: who
// loses it, since nobody answered for as long as it may last, is a candidate again. A leader
// that stops in order gives the lease back.
func Lead(ctx context.Context, m Machine, ls Leases, name, holder string, t Term, work func(context.Context)) error {
	for ctx.Err() == nil {
		if err := LeadOnce(ctx, m, ls, name, holder, t, work); err != nil {
			return err
		}
		if ctx.Err() == nil {
			m.Logf("the lease %s is lost; another may lead, and this one stands again", name)
		}
	}
	return nil
}

// LeadOnce is like Lead, and returns when the lease is lost, after the work has ended.
//
// The lease is kept as components of Kubernetes keep theirs (coordination.k8s.io/v1, holder,
// duration, times, transitions): a candidate takes one that is free, its own, or that it has not
// seen renewed for as long as it lasts, by its own clock. The published elector is not used, since
// it brings the clients of every group of the API with it.
func LeadOnce(ctx context.Context, m Machine, ls Leases, name, holder string, t Term, work func(context.Context)) error {
	if err := t.wrong(); err != nil {
		return err
	}
	e := &election{leases: ls, name: name, holder: holder, term: t, now: time.Now}
	for e.try(ctx) != nil {
		// Candidates that began together do not ask together for ever.
		if !e.wait(ctx, t.Retry+rand.N(t.Retry)) {
			return nil
		}
	}
	leads, stop := context.WithCancel(ctx)
	defer stop()
	done := make(chan struct{})
	go func() {
		defer close(done)
		m.Logf("leading")
		work(leads)
	}()
	e.keep(ctx)
	stop()
	<-done
	if ctx.Err() != nil {
		e.release()
	}
	return nil
}

// election is a candidate for a lease, or who has it.
type election struct {
	leases       Leases
	name, holder string
	term         Term
	now          func() time.Time

	lease *coordinationv1.Lease // as it was seen last
	since time.Time             // from when on it stood so
}

var errHeld = errors.New("another one has it")

// keep renews the lease until ctx ends, or until it could not be renewed in time.
func (e *election) keep(ctx context.Context) {
	for e.wait(ctx, e.term.Retry) {
		within, cancel := context.WithTimeout(ctx, e.term.Renew)
		err := e.try(within)
		for err != nil && e.wait(within, e.term.Retry) {
			err = e.try(within)
		}
		cancel()
		if err != nil {
			return
		}
	}
}

// wait says whether the time has passed before ctx ended.
func (e *election) wait(ctx context.Context, d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return false
	case <-t.C:
		return true
	}
}

// try takes the lease, or renews it.
func (e *election) try(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	// Who has it supposes that nobody else has touched it: one request less each time.
	if e.lease != nil && holderOf(e.lease) == e.holder && e.lasts() && e.write(ctx, e.holder) == nil {
		return nil
	}
	l, err := e.leases.Get(ctx, e.name, metav1.GetOptions{})
	if apierrors.IsNotFound(err) {
		l = &coordinationv1.Lease{ObjectMeta: metav1.ObjectMeta{Name: e.name}}
		e.spell(l, e.holder)
		if l, err = e.leases.Create(ctx, l, metav1.CreateOptions{}); err == nil {
			e.saw(l)
		}
		return err
	}
	if err != nil {
		return err
	}
	if e.lease == nil || !equality.Semantic.DeepEqual(e.lease.Spec, l.Spec) {
		e.saw(l)
	}
	e.lease = l
	if h := holderOf(l); h != "" && h != e.holder && e.lasts() {
		return errHeld
	}
	return e.write(ctx, e.holder)
}

// saw notes a lease that was seen for the first time as it is.
func (e *election) saw(l *coordinationv1.Lease) { e.lease, e.since = l, e.now() }

// lasts says whether the lease that was seen last is not over.
func (e *election) lasts() bool {
	d := e.lease.Spec.LeaseDurationSeconds
	return d != nil && e.now().Before(e.since.Add(time.Duration(*d)*time.Second))
}

// write has the lease held by somebody from now on; nobody gives it back.
func (e *election) write(ctx context.Context, holder string) error {
	l := e.lease.DeepCopy()
	e.spell(l, holder)
	l, err := e.leases.Update(ctx, l, metav1.UpdateOptions{})
	if err == nil {
		e.saw(l)
	}
	return err
}

// spell writes who has a lease, and from when on, into it.
func (e *election) spell(l *coordinationv1.Lease, holder string) {
	now := metav1.NewMicroTime(e.now())
	seconds := int32(e.term.Lease / time.Second)
	was := l.Spec
	l.Spec.HolderIdentity, l.Spec.LeaseDurationSeconds, l.Spec.RenewTime = &holder, &seconds, &now
	if was.AcquireTime == nil || holderOf(&coordinationv1.Lease{Spec: was}) != holder {
		n := int32(0)
		if was.LeaseTransitions != nil {
			n = *was.LeaseTransitions + 1
		}
		if holder == "" {
			n--
		}
		l.Spec.AcquireTime, l.Spec.LeaseTransitions = &now, &n
	}
	if holder == "" {
		*l.Spec.LeaseDurationSeconds = 1
	}
}

// release gives the lease back, if it is still held.
func (e *election) release() {
	ctx, cancel := context.WithTimeout(context.Background(), e.term.Renew)
	defer cancel()
	l, err := e.leases.Get(ctx, e.name, metav1.GetOptions{})
	if err != nil || holderOf(l) != e.holder {
		return // it is over by itself, in time
	}
	e.lease = l
	e.write(ctx, "")
}

func holderOf(l *coordinationv1.Lease) string {
	if h := l.Spec.HolderIdentity; h != nil {
		return *h
	}
	return ""
}
