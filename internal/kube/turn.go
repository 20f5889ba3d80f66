package kube

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	utilnet "k8s.io/apimachinery/pkg/util/net"
	"k8s.io/client-go/rest"
)

// dialTimeout is how long one address may take to accept a connection.
const dialTimeout = 2 * time.Second

// patience is how long a read waits for the first bytes of an answer before it is asked of the
// next address as well: less than half of what one look at the API may take, so that two API
// servers that stand still do not make it fail.
const patience = 3 * time.Second

// turning sends requests to whichever address answers first in order, and turns to the others,
// over a connection of its own, when a request ran out of time: an API server whose process
// stands still, or whose datastore does, keeps its connections open and answers nothing on
// them, and a client would stay with it for ever. A read does not wait for that: it is asked
// elsewhere while the first one may still answer. A write may have been done although nobody
// says so, and is asked once.
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
	rt, from := t.rt, t.from
	t.mu.Unlock()
	if req.Method == http.MethodGet && req.Body == nil && !req.URL.Query().Has("watch") {
		return t.read(req, rt, from)
	}
	resp, err := rt.RoundTrip(req)
	if ranOut(err) {
		t.turn(rt, from+1, nil)
	}
	return resp, err
}

// ranOut says whether a request ended because nobody answered in time.
func ranOut(err error) bool {
	var late net.Error
	return errors.As(err, &late) && late.Timeout()
}

// asked is one of the requests that a read became, and what came back on it.
type asked struct {
	rt     http.RoundTripper
	at     int // the address at which rt begins
	cancel context.CancelFunc
	resp   *http.Response
	err    error
}

// read asks one address after the other, beginning at one of them, until one answers, and turns
// to that one. What is asked of the others is given up then. An error of the one that is asked
// alone is the answer; one of several is when none is left.
func (t *turning) read(req *http.Request, rt http.RoundTripper, from int) (*http.Response, error) {
	answers := make(chan *asked, len(t.via)+1)
	under := map[*asked]bool{}
	ask := func(rt http.RoundTripper, at int) {
		ctx, cancel := context.WithCancel(req.Context())
		a := &asked{rt: rt, at: at, cancel: cancel}
		under[a] = true
		go func() {
			a.resp, a.err = rt.RoundTrip(req.Clone(ctx))
			answers <- a
		}()
	}
	ask(rt, from)
	next := from + 1
	wait := time.NewTimer(patience)
	defer wait.Stop()
	for {
		select {
		case a := <-answers:
			delete(under, a)
			if a.err != nil {
				a.cancel()
				if len(under) > 0 {
					continue
				}
				if ranOut(a.err) {
					t.turn(rt, next, nil)
				}
				return nil, a.err
			}
			for o := range under {
				o.cancel()
			}
			go giveUp(answers, len(under), a.rt)
			if a.rt != rt {
				t.turn(rt, a.at, a.rt)
			}
			a.resp.Body = &untilClosed{a.resp.Body, a.cancel}
			return a.resp, nil
		case <-wait.C:
			if next >= from+max(len(t.via), 2) {
				continue // everybody was asked; a balancer alone, twice, for it may choose another
			}
			if other, err := t.transport(next); err == nil {
				ask(other, next)
			}
			next++
			wait.Reset(patience)
		}
	}
}

// giveUp closes what still comes back on requests that were given up, and their connections.
func giveUp(answers <-chan *asked, n int, kept http.RoundTripper) {
	for range n {
		a := <-answers
		if a.err == nil {
			a.resp.Body.Close()
		}
		if a.rt != kept {
			utilnet.CloseIdleConnectionsFor(a.rt)
		}
	}
}

// untilClosed is the body of an answer whose request ends with it.
type untilClosed struct {
	io.ReadCloser
	cancel context.CancelFunc
}

func (b *untilClosed) Close() error {
	defer b.cancel()
	return b.ReadCloser.Close()
}

// turn leaves a transport on which nobody answered for the one that begins at another address,
// which is made where there is none, unless somebody else left it before. What is underway on
// it, such as a watch, goes on.
func (t *turning) turn(from http.RoundTripper, at int, to http.RoundTripper) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.rt != from || len(t.via) == 0 {
		return
	}
	if to == nil {
		var err error
		if to, err = t.transport(at); err != nil {
			return // it was made of the same before: this one is kept
		}
	}
	t.from, t.rt = at%len(t.via), to
	utilnet.CloseIdleConnectionsFor(from)
}

// CloseIdleConnections is what http.Client asks of its transport.
func (t *turning) CloseIdleConnections() {
	t.mu.Lock()
	defer t.mu.Unlock()
	utilnet.CloseIdleConnectionsFor(t.rt)
}
