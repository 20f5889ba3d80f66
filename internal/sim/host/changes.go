package host

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/handler"
)

// changes keeps apart what different logins change on a machine. One of them
// may be the rest of a run that was cut off, and two at once would undo each
// other's work. What one login changes at the same time is its own affair.
type changes struct {
	mu    sync.Mutex
	by    *agent
	under map[string]int // methods at work
	freed chan struct{}  // closed when by is through
}

// begin waits until no other login changes anything, and keeps others out.
func (c *changes) begin(ctx context.Context, by *agent, method string) (end func(), err error) {
	for {
		c.mu.Lock()
		if c.by == nil {
			c.by, c.under, c.freed = by, map[string]int{}, make(chan struct{})
		}
		if c.by == by {
			c.under[method]++
			c.mu.Unlock()
			return func() { c.end(method) }, nil
		}
		freed, what := c.freed, c.names()
		c.mu.Unlock()
		select {
		case <-freed:
		case <-ctx.Done():
			return nil, fmt.Errorf("%s: another login is still at %s: %w", method, what, ctx.Err())
		}
	}
}

func (c *changes) end(method string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.under[method]--; c.under[method] == 0 {
		delete(c.under, method)
	}
	if len(c.under) == 0 {
		close(c.freed)
		c.by = nil
	}
}

// others says what another login than a is changing right now.
func (c *changes) others(a *agent) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.by == nil || c.by == a {
		return ""
	}
	return c.names()
}

func (c *changes) names() string { return strings.Join(slices.Sorted(maps.Keys(c.under)), ", ") }

// changing is the handler of a method that changes the machine.
func changing[Q, R any](a *agent, method string, f func(context.Context, Q) (R, error)) jrpc2.Handler {
	return handler.New(func(ctx context.Context, q Q) (r R, err error) {
		end, err := a.h.changes.begin(ctx, a, method)
		if err != nil {
			return r, err
		}
		defer end()
		return f(ctx, q)
	})
}
