package apiserver

import (
	"context"
	"sync"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	corev1 "k8s.io/api/core/v1"
	eventsv1 "k8s.io/api/events/v1"
	"k8s.io/apimachinery/pkg/runtime"
)

// Events have two faces and one store: they lie there as those of the core group.

// eventLife is how long an event is kept; events that are written within
// eventWindow share a lease of the datastore.
const (
	eventLife   = time.Hour
	eventWindow = time.Minute
)

// toCore is an event as it lies in the store.
func toCore(o runtime.Object) runtime.Object {
	e, ok := o.(*eventsv1.Event)
	if !ok {
		return o
	}
	c := &corev1.Event{ObjectMeta: e.ObjectMeta, InvolvedObject: e.Regarding, Related: e.Related, Reason: e.Reason, Message: e.Note, Type: e.Type, Action: e.Action, EventTime: e.EventTime,
		ReportingController: e.ReportingController, ReportingInstance: e.ReportingInstance, Source: e.DeprecatedSource, FirstTimestamp: e.DeprecatedFirstTimestamp, LastTimestamp: e.DeprecatedLastTimestamp, Count: e.DeprecatedCount}
	if e.Series != nil {
		c.Series = &corev1.EventSeries{Count: e.Series.Count, LastObservedTime: e.Series.LastObservedTime}
	}
	return c
}

// fromCore is an event as its own group has it.
func fromCore(c *corev1.Event) *eventsv1.Event {
	e := &eventsv1.Event{ObjectMeta: c.ObjectMeta, Regarding: c.InvolvedObject, Related: c.Related, Reason: c.Reason, Note: c.Message, Type: c.Type, Action: c.Action, EventTime: c.EventTime,
		ReportingController: c.ReportingController, ReportingInstance: c.ReportingInstance, DeprecatedSource: c.Source, DeprecatedFirstTimestamp: c.FirstTimestamp, DeprecatedLastTimestamp: c.LastTimestamp, DeprecatedCount: c.Count}
	if c.Series != nil {
		e.Series = &eventsv1.EventSeries{Count: c.Series.Count, LastObservedTime: c.Series.LastObservedTime}
	}
	return e
}

// expiry gives events a lease of the datastore, with which they go.
type expiry struct {
	mu    sync.Mutex
	lease clientv3.LeaseID
	from  time.Time
}

func (x *expiry) option(ctx context.Context, etcd *clientv3.Client) (clientv3.OpOption, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if time.Since(x.from) > eventWindow {
		g, err := etcd.Grant(ctx, int64((eventLife+eventWindow)/time.Second))
		if err != nil {
			return nil, err
		}
		x.lease, x.from = g.ID, time.Now()
	}
	return clientv3.WithLease(x.lease), nil
}
