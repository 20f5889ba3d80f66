package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/handler"
)

// changing is the file that whoever changes the machine holds locked. It says what is done.
const changing = "/run/verbund/changing"

// changes keeps apart what different logins change on a machine. One of them
// may be the rest of a run that was cut off, and two at once would undo each
// other's work. What one login changes at the same time is its own affair. The
// lock is the kernel's: it is let go when its holder dies.
type changes struct {
	sys   System
	mu    sync.Mutex
	held  *os.File       // while something is changed
	under map[string]int // methods at work
}

// begin waits until no other login changes anything, and keeps others out.
func (c *changes) begin(ctx context.Context, method string) (end func(), err error) {
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for {
		free, err := c.take(method)
		if err != nil {
			return nil, fmt.Errorf("%s: keeping others out: %w", method, err)
		}
		if free {
			return func() { c.end(method) }, nil
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil, fmt.Errorf("%s: another login is still at %s: %w", method, c.others(), ctx.Err())
		}
	}
}

// take begins a method if nobody else is at work.
func (c *changes) take(method string) (bool, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.held == nil {
		p := c.sys.Path(changing)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			return false, err
		}
		f, err := os.OpenFile(p, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return false, err
		}
		if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
			f.Close()
			if errors.Is(err, syscall.EWOULDBLOCK) {
				return false, nil
			}
			return false, err
		}
		c.held, c.under = f, map[string]int{}
	}
	c.under[method]++
	c.say()
	return true, nil
}

func (c *changes) end(method string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.under[method]--; c.under[method] == 0 {
		delete(c.under, method)
	}
	c.say()
	if len(c.under) == 0 {
		c.held.Close()
		c.held = nil
	}
}

// say writes what is done where others look; the caller holds the lock. What cannot be
// written, on a full disk, is missed by those who look and by nobody else.
func (c *changes) say() {
	names := strings.Join(slices.Sorted(maps.Keys(c.under)), ", ")
	if c.held.Truncate(0) == nil {
		c.held.WriteAt([]byte(names), 0)
	}
}

// others says what another login than this one is changing right now.
func (c *changes) others() string {
	c.mu.Lock()
	mine := c.held != nil
	c.mu.Unlock()
	if mine {
		return ""
	}
	f, err := os.Open(c.sys.Path(changing))
	if err != nil {
		return "" // nobody ever changed anything
	}
	defer f.Close()
	if syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) == nil {
		return ""
	}
	b, err := io.ReadAll(io.LimitReader(f, 1<<10))
	if err != nil || len(b) == 0 {
		return "something"
	}
	return string(b)
}

// alone is the handler of a method that changes the machine.
func alone[Q, R any](a *agent, method string, f func(context.Context, Q) (R, error)) jrpc2.Handler {
	return handler.New(func(ctx context.Context, q Q) (r R, err error) {
		if rights := a.sys.Rights(); rights != "" {
			return r, fmt.Errorf("%s: permission denied: this login may only %s", method, rights)
		}
		end, err := a.changes.begin(ctx, method)
		if err != nil {
			return r, err
		}
		defer end()
		return f(ctx, q)
	})
}
