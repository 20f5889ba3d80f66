package host

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"
)

// Link is how the network is between a machine and an address, where it is not well.
type Link struct {
	Peer  netip.Addr    `json:"peer"`
	In    int           `json:"in"`    // percent that is lost of what comes from there
	Out   int           `json:"out"`   // percent that is lost of what goes there
	Delay time.Duration `json:"delay"` // that it takes longer, each way
}

const (
	// again is after how long what was lost is sent once more: the least that Linux waits
	// (TCP_RTO_MIN). Each further time takes twice as long.
	again = 200 * time.Millisecond
	// crawl is how much longer a slow machine takes for each thing that it is told.
	crawl = 50 * time.Millisecond
	// slower is how many times longer it takes for work.
	slower = 10
	// connects is how long a connection may take to stand.
	connects = 5 * time.Second
)

// suffering is what is wrong with the machine, and a channel that is closed when that changes.
func (h *Host) suffering() (Faults, <-chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.Spec.Faults, h.changed
}

// link is how it is to an address; the zero Link where it is well.
func (f Faults) link(peer netip.Addr) Link {
	for _, l := range f.Links {
		if l.Peer == peer {
			return l
		}
	}
	return Link{}
}

// wire is the state of one end of a connection as the network between two machines carries it.
// Only the end that was connected to holds back what comes and goes, so that it is held back
// once: the other one may be a real program, which connects by itself.
type wire struct {
	h    *Host
	peer netip.Addr

	mu     sync.Mutex
	until  [2]time.Time  // deadlines of reading and of writing
	poked  chan struct{} // closed when one of them has changed, or the end was closed
	closed bool
	kept   []byte // what has come, and was not handed out when the reader's time was over
	ended  error  // what the connection ended with, after that
}

const (
	reading = iota
	writing
)

func newWire(h *Host, peer net.Addr) *wire {
	w := &wire{h: h, poked: make(chan struct{})}
	if a, ok := peer.(*net.TCPAddr); ok {
		w.peer = a.AddrPort().Addr().Unmap()
	}
	return w
}

// poke wakes whoever waits.
func (w *wire) poke(f func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	f()
	close(w.poked)
	w.poked = make(chan struct{})
}

// hold waits as long as the network holds back what goes in a direction: for good while
// nothing comes through, and for a while where a part is lost or takes longer.
func (w *wire) hold(which int) error {
	delayed, tries := false, 0
	for {
		f, changed := w.h.suffering()
		l := f.link(w.peer)
		lost := l.In
		if which == writing {
			lost = l.Out
		}
		pause := time.Duration(0)
		switch {
		case lost >= 100:
			pause = -1
		case lost > 0 && rand.IntN(100) < lost:
			pause = again << min(tries, 6)
			tries++
		case !delayed:
			delayed = true
			if pause = l.Delay; f.Slow && which == reading {
				pause += crawl
			}
			if pause == 0 {
				return nil
			}
		default:
			return nil
		}
		if err := w.pass(which, pause, changed); err != nil {
			return err
		}
	}
}

// pass lets time pass, or waits until the network has changed if d is negative. It ends with
// the deadline of the direction, and when the end is closed.
func (w *wire) pass(which int, d time.Duration, changed <-chan struct{}) error {
	var over <-chan time.Time
	if d >= 0 {
		t := time.NewTimer(d)
		defer t.Stop()
		over = t.C
	}
	for {
		w.mu.Lock()
		closed, until, poked := w.closed, w.until[which], w.poked
		w.mu.Unlock()
		if closed {
			return net.ErrClosed
		}
		var late <-chan time.Time
		if !until.IsZero() {
			t := time.NewTimer(time.Until(until))
			defer t.Stop()
			late = t.C
		}
		select {
		case <-w.h.ctx.Done():
			return errOff
		case <-late:
			return os.ErrDeadlineExceeded
		case <-over:
			return nil
		case <-changed:
			if d < 0 {
				return nil
			}
			changed = nil
		case <-poked:
		}
	}
}

// read hands out what comes from c, when the network carries it.
func (w *wire) read(c net.Conn, p []byte) (int, error) {
	w.mu.Lock()
	kept, ended := w.kept, w.ended
	w.mu.Unlock()
	if len(kept) == 0 && ended == nil {
		b := p
		n, err := c.Read(b)
		if errors.Is(err, os.ErrDeadlineExceeded) && n == 0 {
			return 0, err
		}
		if f, _ := w.h.suffering(); !f.Slow && f.link(w.peer) == (Link{}) {
			return n, err
		}
		kept, ended = append([]byte(nil), b[:n]...), err
		w.mu.Lock()
		w.kept, w.ended = kept, ended
		w.mu.Unlock()
	}
	if err := w.hold(reading); err != nil {
		return 0, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	n := copy(p, w.kept)
	w.kept = w.kept[n:]
	if len(w.kept) > 0 || n > 0 {
		return n, nil
	}
	return 0, w.ended
}

// connect waits until a connection to an address can stand, both ways.
func (h *Host) connect(ctx context.Context, to netip.Addr) error {
	ctx, cancel := context.WithTimeout(ctx, connects)
	defer cancel()
	for tries := 0; ; tries++ {
		f, changed := h.suffering()
		l := f.link(to)
		var over <-chan time.Time
		switch {
		case l.In >= 100 || l.Out >= 100:
		case rand.IntN(100) < max(l.In, l.Out):
			t := time.NewTimer(again << min(tries, 6))
			defer t.Stop()
			over = t.C
		default:
			return pause(ctx, l.Delay)
		}
		select {
		case <-ctx.Done():
			return os.ErrDeadlineExceeded
		case <-h.ctx.Done():
			return errOff
		case <-changed:
		case <-over:
		}
	}
}

// conn is a connection of the machine, which ends with its power.
type conn struct {
	net.Conn
	h    *Host
	wire *wire // nil where this machine connected
}

func (c *conn) Read(p []byte) (int, error) {
	if c.wire == nil || len(p) == 0 {
		return c.Conn.Read(p)
	}
	return c.wire.read(c.Conn, p)
}

func (c *conn) Write(p []byte) (int, error) {
	if c.wire != nil {
		if err := c.wire.hold(writing); err != nil {
			return 0, err
		}
	}
	return c.Conn.Write(p)
}

func (c *conn) SetDeadline(t time.Time) error {
	c.deadline(func(w *wire) { w.until = [2]time.Time{t, t} })
	return c.Conn.SetDeadline(t)
}

func (c *conn) SetReadDeadline(t time.Time) error {
	c.deadline(func(w *wire) { w.until[reading] = t })
	return c.Conn.SetReadDeadline(t)
}

func (c *conn) SetWriteDeadline(t time.Time) error {
	c.deadline(func(w *wire) { w.until[writing] = t })
	return c.Conn.SetWriteDeadline(t)
}

func (c *conn) deadline(set func(*wire)) {
	if c.wire != nil {
		c.wire.poke(func() { set(c.wire) })
	}
}

func (c *conn) Close() error {
	c.h.untrack(c)
	c.deadline(func(w *wire) { w.closed = true })
	return c.Conn.Close()
}

// CloseWrite ends one direction of a stream.
func (c *conn) CloseWrite() error {
	if t, ok := c.Conn.(*net.TCPConn); ok {
		return t.CloseWrite()
	}
	return nil
}

func (h *Host) conn(c net.Conn, w *wire) (net.Conn, error) {
	tc := &conn{c, h, w}
	if !h.track(tc) {
		c.Close()
		return nil, errOff
	}
	return tc, nil
}
