package kube

import (
	"context"
	"errors"
	"net"
	"net/http"
	"sync"
	"time"

	utilnet "k8s.io/apimachinery/pkg/util/net"
	"k8s.io/client-go/rest"
)

// dialTimeout is how long one address may take to accept a connection.
const dialTimeout = 2 * time.Second

// turning sends requests to whichever address answers first in order, and turns to the others,
// over a connection of its own, when a request ran out of time: an API server whose process
// stands still, or whose datastore does, keeps its connections open and answers nothing on
// them, and a client would stay with it for ever.
type turning struct {
	cfg *rest.Config
	via []string // host:port

	mu   sync.Mutex
	from int // which of them is tried first
	rt   http.RoundTripper
}

func newTurning(cfg *rest.Config, via []string) (*turning, error) {
	t := &turning{cfg: cfg, via: via}
	var err error
	t.rt, err = t.transport(0)
	return t, err
}

// transport connects to the addresses in order, beginning at one of them.
func (t *turning) transport(from int) (http.RoundTripper, error) {
	cfg := rest.CopyConfig(t.cfg)
	cfg.Dial = func(ctx context.Context, network, _ string) (net.Conn, error) {
		var errs []error
		for i := range t.via {
			d := net.Dialer{Timeout: dialTimeout}
			c, err := d.DialContext(ctx, network, t.via[(from+i)%len(t.via)])
			if err == nil {
				return c, nil
			}
			errs = append(errs, err)
		}
		return nil, errors.Join(errs...)
	}
	return rest.TransportFor(cfg)
}

func (t *turning) RoundTrip(req *http.Request) (*http.Response, error) {
	t.mu.Lock()
	rt := t.rt
	t.mu.Unlock()
	resp, err := rt.RoundTrip(req)
	var late net.Error
	if errors.As(err, &late) && late.Timeout() {
		t.turn(rt)
	}
	return resp, err
}

// turn leaves a transport on which a request ran out of time, unless somebody else did before.
// What is underway on it, such as a watch, goes on.
func (t *turning) turn(from http.RoundTripper) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.rt != from || len(t.via) == 0 {
		return
	}
	next := (t.from + 1) % len(t.via)
	rt, err := t.transport(next)
	if err != nil {
		return // it was made of the same before: this one is kept
	}
	t.from, t.rt = next, rt
	utilnet.CloseIdleConnectionsFor(from)
}

// CloseIdleConnections is what http.Client asks of its transport.
func (t *turning) CloseIdleConnections() {
	t.mu.Lock()
	defer t.mu.Unlock()
	utilnet.CloseIdleConnectionsFor(t.rt)
}
