package host

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"os"
	"testing"
	"time"
)

// wired are two machines without power of their own, one of which echoes.
func wired(t *testing.T) (from, to *Host, addr string) {
	t.Helper()
	machine := func(a string) *Host {
		h := &Host{Spec: Spec{Name: a, Address: netip.MustParseAddr(a)}, changed: make(chan struct{})}
		h.closers, h.carried = map[io.Closer]struct{}{}, map[netip.Addr]bool{}
		h.ctx, h.cancel = context.WithCancelCause(t.Context())
		return h
	}
	from, to = machine("127.91.7.1"), machine("127.91.7.2")
	l, err := to.Listen("127.91.7.2:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				io.Copy(c, c)
			}()
		}
	}()
	return from, to, l.Addr().String()
}

// echo sends a word, and says how long its echo took.
func echo(t *testing.T, c net.Conn, patience time.Duration) (time.Duration, error) {
	t.Helper()
	began := time.Now()
	if err := c.SetDeadline(began.Add(patience)); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Write([]byte("flood")); err != nil {
		return 0, err
	}
	b := make([]byte, 5)
	_, err := io.ReadFull(c, b)
	if err == nil && string(b) != "flood" {
		t.Errorf("what comes back is %q", b)
	}
	return time.Since(began), err
}

// What is cut comes when the network is well again, and not before; nothing of it is lost, and
// no connection is made meanwhile. Each direction is cut by itself.
func TestCutLink(t *testing.T) {
	t.Parallel()
	for _, l := range []Link{{In: 100}, {Out: 100}, {In: 100, Out: 100}} {
		from, to, addr := wired(t)
		c, err := from.Dial(t.Context(), "tcp", addr)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		if _, err := echo(t, c, 5*time.Second); err != nil {
			t.Fatalf("all is well: %v", err)
		}
		l.Peer = from.Spec.Address
		to.Suffer(Faults{Links: []Link{l}})
		if took, err := echo(t, c, 300*time.Millisecond); !errors.Is(err, os.ErrDeadlineExceeded) {
			t.Errorf("%+v: an echo after %s, %v", l, took, err)
		}
		to.Suffer(Faults{})
		b := make([]byte, 5)
		c.SetDeadline(time.Now().Add(5 * time.Second))
		if _, err := io.ReadFull(c, b); err != nil || string(b) != "flood" {
			t.Errorf("%+v: afterwards comes %q, %v", l, b, err)
		}
		// The other end knows of it, too, where it connects.
		from.Suffer(Faults{Links: []Link{{Peer: to.Spec.Address, In: l.In, Out: l.Out}}})
		ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
		if c, err := from.Dial(ctx, "tcp", addr); err == nil {
			c.Close()
			t.Errorf("%+v: a connection stands", l)
		}
		cancel()
		from.Suffer(Faults{Links: []Link{{Peer: netip.MustParseAddr("127.91.7.9"), In: 100}}})
		other, err := from.Dial(t.Context(), "tcp", addr)
		if err != nil {
			t.Fatalf("the network to somebody else is cut: %v", err)
		}
		other.Close()
	}
}

// A slow network and a slow machine take longer, a lossy one now and then.
func TestSlowLink(t *testing.T) {
	t.Parallel()
	from, to, addr := wired(t)
	c, err := from.Dial(t.Context(), "tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	peer := from.Spec.Address
	for _, x := range []struct {
		f     Faults
		least time.Duration
	}{
		{Faults{Links: []Link{{Peer: peer, Delay: 40 * time.Millisecond}}}, 80 * time.Millisecond},
		{Faults{Slow: true}, crawl},
	} {
		to.Suffer(x.f)
		if took, err := echo(t, c, 10*time.Second); err != nil || took < x.least {
			t.Errorf("%+v: an echo after %s, %v", x.f, took, err)
		}
	}
	to.Suffer(Faults{Links: []Link{{Peer: peer, In: 30, Out: 30}}})
	longest := time.Duration(0)
	for range 25 {
		took, err := echo(t, c, 30*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		longest = max(longest, took)
	}
	// That all of fifty ways are spared has a chance of one in fifty million.
	if longest < again {
		t.Errorf("nothing was lost: the longest echo took %s", longest)
	}
	to.Suffer(Faults{})
	if took, err := echo(t, c, 5*time.Second); err != nil || took > again {
		t.Errorf("all is well: %s, %v", took, err)
	}
}

// Whoever waits for a cut network is woken by the end of the connection, and by a deadline that
// is set meanwhile.
func TestCutLinkEnds(t *testing.T) {
	t.Parallel()
	_, to, _ := wired(t)
	l, err := to.Listen("127.91.7.2:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	near, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer near.Close()
	c, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	to.Suffer(Faults{Links: []Link{{Peer: netip.MustParseAddr("127.0.0.1"), In: 100, Out: 100}}})
	for _, x := range []struct {
		wake func() error
		want error
	}{{func() error { return c.SetDeadline(time.Now()) }, os.ErrDeadlineExceeded}, {c.Close, net.ErrClosed}} {
		ended := make(chan error, 1)
		go func() {
			_, err := c.Write([]byte("x"))
			ended <- err
		}()
		select {
		case err := <-ended:
			t.Fatalf("the network is cut, and a write ended with %v", err)
		case <-time.After(50 * time.Millisecond):
		}
		if err := x.wake(); err != nil {
			t.Fatal(err)
		}
		select {
		case err := <-ended:
			if !errors.Is(err, x.want) {
				t.Errorf("it ended with %v, wanted %v", err, x.want)
			}
		case <-time.After(5 * time.Second):
			t.Fatal("nobody woke it")
		}
		c.SetDeadline(time.Time{})
	}
}
