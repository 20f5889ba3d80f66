package gauge

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/declare"
	"verbund/internal/core/drill"
	"verbund/internal/core/topology"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
	"verbund/internal/probe"
)

const (
	// writers write beside each other, so that one that waits for a dead machine does not
	// stand for all.
	writers = 3
	// every is how often each of them writes: what a pause can be measured to.
	every = 60 * time.Millisecond
	// patience is how long one write is waited for; what is not acknowledged by then is not.
	patience = time.Second
	// mark is the label of what was written here.
	mark = "verbund.test/gauge"
)

// Gauge measures from Begin to End.
type Gauge struct {
	k         *kube.Client
	at        string
	namespace string
	id        string
	probes    *probe.Probes
	stop      context.CancelFunc
	over      sync.WaitGroup

	mu    sync.Mutex
	began time.Time
	acks  []ack
	fails int
	last  string // why the last write was not acknowledged
}

// ack is a write that the API acknowledged.
type ack struct {
	name string
	when time.Time
}

// Watches asks the declared applications, until it is stopped.
func Watches(ctx context.Context, ws []declare.Watch, e topology.Endpoint) *probe.Probes {
	var out []probe.Watch
	for _, x := range ws {
		out = append(out, probe.Watch{Name: x.Name, URL: x.URL, Status: x.Status, Text: x.Text, Interval: time.Duration(x.Interval), Allow: x.Allow, Slow: time.Duration(x.Slow)})
	}
	return probe.Start(ctx, out, func(host string) string {
		if host == e.Name {
			return e.Address.String()
		}
		return ""
	})
}

// Begin writes into a namespace, which is there, through whoever answers at an address, and
// asks the applications that probes ask, if any; it takes them over, and stops them at its
// end. id tells what is written apart from what others write there.
func Begin(ctx context.Context, k *kube.Client, at, namespace, id string, probes *probe.Probes) *Gauge {
	ctx, stop := context.WithCancel(ctx)
	g := &Gauge{k: k, at: at, namespace: namespace, id: id, probes: probes, stop: stop, began: time.Now()}
	for w := range writers {
		g.over.Go(func() { g.write(ctx, w) })
	}
	return g
}

// write writes again and again.
func (g *Gauge) write(ctx context.Context, writer int) {
	t := time.NewTicker(every)
	defer t.Stop()
	for n := 0; ; n++ {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		name := fmt.Sprintf("%s-%d-%06d", g.id, writer, n)
		once, cancel := context.WithTimeout(ctx, patience)
		err := g.client().WriteFresh(once, g.at, g.namespace, name, map[string]string{mark: g.id}, map[string]string{"name": name})
		cancel()
		if err != nil && ctx.Err() != nil {
			return
		}
		g.mu.Lock()
		if err == nil {
			g.acks = append(g.acks, ack{name, time.Now()})
		} else {
			g.fails++
			g.last = err.Error()
		}
		g.mu.Unlock()
	}
}

// Use has everything from now on written by another client: what the API shows and takes may
// have been replaced.
func (g *Gauge) Use(k *kube.Client) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.k = k
}

func (g *Gauge) client() *kube.Client {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.k
}

// Acknowledged is how many writes were acknowledged after a moment.
func (g *Gauge) Acknowledged(since time.Time) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	n := 0
	for _, a := range g.acks {
		if a.when.After(since) {
			n++
		}
	}
	return n
}

// Last is why the last write was not acknowledged; empty when all were.
func (g *Gauge) Last() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.last
}

// Pause is the longest time without an acknowledgement, up to now.
func (g *Gauge) Pause() time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.pause(time.Now())
}

// pause is Pause at a moment; the caller holds the lock.
func (g *Gauge) pause(now time.Time) time.Duration {
	longest, before := time.Duration(0), g.began
	for _, a := range g.acks {
		longest, before = max(longest, a.when.Sub(before)), a.when
	}
	return max(longest, now.Sub(before))
}

// Stop ends the measuring and returns the figures, without what is to be read back.
func (g *Gauge) Stop() drill.Measured {
	ended := time.Now()
	g.stop()
	g.over.Wait()
	var m drill.Measured
	if g.probes != nil {
		g.probes.Stop()
		m.Watches = g.probes.Figures()
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	m.Writes, m.Refused = len(g.acks), g.fails
	m.Pause = g.pause(ended)
	m.Seconds = ended.Sub(g.began).Seconds()
	for _, a := range g.acks {
		m.Acks = append(m.Acks, a.when.Sub(g.began).Seconds())
	}
	slices.Sort(m.Acks)
	return m
}

// ReadBack looks whether everything that was acknowledged is there, once the measuring is
// over, and notes what is not.
func (g *Gauge) ReadBack(ctx context.Context, m *drill.Measured) error {
	there := map[string]bool{}
	err := session.Until(ctx, "what was written to be read back", func(ctx context.Context) (string, error) {
		l, err := g.client().CoreV1().ConfigMaps(g.namespace).List(ctx, metav1.ListOptions{LabelSelector: mark + "=" + g.id})
		if err != nil {
			return "", err
		}
		clear(there)
		for _, c := range l.Items {
			there[c.Name] = c.Data["name"] == c.Name
		}
		return "", nil
	})
	if err != nil {
		return err
	}
	m.Lost = nil
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, a := range g.acks {
		if !there[a.name] {
			m.Lost = append(m.Lost, a.name)
		}
	}
	m.ReadBack = true
	return nil
}

const (
	// cleared is how long a namespace may take to go.
	cleared = 90 * time.Second
	// ends is how long pods in it may take to end: whoever takes longer is on a machine that
	// cannot say that they have.
	ends = 8 * time.Second
)

// Clear removes a namespace with everything in it, and waits until it is gone. One that is not
// there is no error. Pods that nobody ends, since their machine is dead, are dropped: their
// kubelet ends them when it is back.
func Clear(ctx context.Context, k *kube.Client, namespace string) error {
	ctx, cancel := context.WithTimeout(ctx, cleared)
	defer cancel()
	began := time.Now()
	return session.Until(ctx, "namespace "+namespace+" to be gone", func(ctx context.Context) (string, error) {
		err := k.CoreV1().Namespaces().Delete(ctx, namespace, metav1.DeleteOptions{})
		switch {
		case apierrors.IsNotFound(err):
			return "", nil
		case err != nil && !apierrors.IsConflict(err):
			return "", err
		}
		if time.Since(began) > ends {
			now := int64(0)
			if err := k.CoreV1().Pods(namespace).DeleteCollection(ctx, metav1.DeleteOptions{GracePeriodSeconds: &now}, metav1.ListOptions{}); err != nil {
				return "", err
			}
		}
		return "what is in it is being removed", nil
	})
}
