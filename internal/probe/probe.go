package probe

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"

	"verbund/internal/core/rollout"
)

// Watch is one thing to ask.
type Watch struct {
	Name     string
	URL      string // http or https
	Status   int
	Text     string        // that the answer has to hold; empty: any
	Interval time.Duration // between two questions
	Allow    int           // how many of a hundred answers may be wrong
	Slow     time.Duration // from when on an answer counts as none
}

// Recent is how many answers a limit is held against: the last ones.
const Recent = 500

// fewest is how many answers the share is taken of at least: with less, one that went wrong
// would break every limit but zero.
const fewest = 100

// mostRead is how much of an answer is read.
const mostRead = 1 << 20

// Figures are what was counted.
type Figures = rollout.Figures

// Probes ask several things beside each other.
type Probes struct {
	stop context.CancelFunc
	over sync.WaitGroup

	mu   sync.Mutex
	list []*asked
}

// asked is one watch with its count.
type asked struct {
	Watch
	Figures
	recent []bool // of the last answers, whether each was wrong; a ring
	next   int
	wrong  int // among them
}

// Start begins to ask. Names that resolve knows go to the address that it says, others
// where this computer finds them.
func Start(ctx context.Context, ws []Watch, resolve func(host string) string) *Probes {
	ctx, stop := context.WithCancel(ctx)
	p := &Probes{stop: stop}
	dial := (&net.Dialer{}).DialContext
	c := &http.Client{
		// Each question is one of its own, as that of somebody who just came.
		Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			if host, port, err := net.SplitHostPort(addr); err == nil {
				if at := resolve(host); at != "" {
					addr = net.JoinHostPort(at, port)
				}
			}
			return dial(ctx, network, addr)
		}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	for _, w := range ws {
		a := &asked{Watch: w, Figures: Figures{Name: w.Name}}
		p.list = append(p.list, a)
		p.over.Go(func() { p.ask(ctx, c, a) })
	}
	return p
}

// Stop ends the asking, and waits until nobody asks any more.
func (p *Probes) Stop() {
	if p != nil {
		p.stop()
		p.over.Wait()
	}
}

func (p *Probes) ask(ctx context.Context, c *http.Client, a *asked) {
	tick := time.NewTicker(a.Interval)
	defer tick.Stop()
	for {
		began := time.Now()
		err := once(ctx, c, a.Watch)
		took := time.Since(began)
		if ctx.Err() != nil {
			return // it was cut off by us
		}
		p.mu.Lock()
		a.count(err, took)
		p.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// once asks once.
func once(ctx context.Context, c *http.Client, w Watch) error {
	ctx, cancel := context.WithTimeout(ctx, w.Slow)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, w.URL, nil)
	if err != nil {
		return err
	}
	r, err := c.Do(q)
	if err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			return fmt.Errorf("no answer within %s", w.Slow)
		}
		return err
	}
	defer r.Body.Close()
	b, err := io.ReadAll(io.LimitReader(r.Body, mostRead))
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("no whole answer within %s", w.Slow)
	case err != nil:
		return err
	case r.StatusCode != w.Status:
		return fmt.Errorf("it answered %s, and %d is right", r.Status, w.Status)
	case !bytes.Contains(b, []byte(w.Text)):
		return fmt.Errorf("the answer does not hold %q", w.Text)
	}
	return nil
}

// count takes one answer.
func (a *asked) count(err error, took time.Duration) {
	a.Answers++
	if len(a.recent) < Recent {
		a.recent = append(a.recent, err != nil)
	} else {
		if a.recent[a.next] {
			a.wrong--
		}
		a.recent[a.next] = err != nil
		a.next = (a.next + 1) % Recent
	}
	if err == nil {
		a.Slowest = max(a.Slowest, took.Seconds())
		return
	}
	a.Failed++
	a.wrong++
	a.Last = strings.ReplaceAll(err.Error(), "\n", " ")
	if of := max(len(a.recent), fewest); a.Broke == "" && a.wrong*100 > a.Allow*of {
		a.Broke = fmt.Sprintf("%d of its last %d answers failed, and of a hundred %d may; the last: %s", a.wrong, len(a.recent), a.Allow, a.Last)
	}
}

// Figures are those of now.
func (p *Probes) Figures() []Figures {
	if p == nil {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	var out []Figures
	for _, a := range p.list {
		out = append(out, a.Figures)
	}
	return out
}

// Broken is the watch of which the limit was broken first; nil when all hold.
func (p *Probes) Broken() *Figures {
	for _, f := range p.Figures() {
		if f.Broke != "" {
			return &f
		}
	}
	return nil
}
