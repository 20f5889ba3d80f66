package prove

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"verbund/internal/core/proof"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/gauge"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
)

// dark is how long the machine stays without power.
const dark = 10 * time.Second

// mostGap is how long the API may pause without one of its machines behind a balancer: what an
// election of the datastore and the balancer's checks take.
const mostGap = 5 * time.Second

// ErrNoVictim says why no control-plane machine may lose its power.
var ErrNoVictim = errors.New("no control-plane machine may lose its power")

// Victim chooses the control-plane machine that loses its power: the last of those with an API
// server. An error says that losing one would cost more than a pause.
func Victim(v *look.View) (topology.Machine, error) {
	healthy := 0
	for _, m := range v.Seen.Members {
		if m.Healthy && !m.Learner {
			healthy++
		}
	}
	return victim(v.Cluster, healthy, v.Ailing())
}

func victim(c *topology.Cluster, healthy int, ails []string) (topology.Machine, error) {
	apis := c.With(versions.API)
	switch {
	case len(ails) > 0:
		return topology.Machine{}, fmt.Errorf("%w: the cluster is not well (%s)", ErrNoVictim, ails[0])
	case len(apis) < 2:
		return topology.Machine{}, fmt.Errorf("%w: cluster %s has no other one", ErrNoVictim, c.Name)
	case healthy < 3:
		return topology.Machine{}, fmt.Errorf("%w: the datastore has %s, and without one no quorum", ErrNoVictim, words.Count(healthy, "healthy member"))
	}
	return apis[len(apis)-1], nil
}

// loseControl takes the power of a control-plane machine, measures the API meanwhile, and gives
// it back whatever happens.
func (p *proving) loseControl(ctx, hard context.Context) {
	name := p.Control
	e := p.c.Endpoint
	p.Tell(fmt.Sprintf("%s is without power for %s", name, dark))
	g := gauge.Begin(ctx, p.k, net.JoinHostPort(e.Address.String(), strconv.Itoa(e.Port)), Namespace, "control", nil)
	err := p.Site.Power(ctx, name, "cut")
	if err == nil {
		err = session.Until(ctx, "the API to take writes without "+name, after(g, dark))
	}
	m := g.Stop()
	// It is given back also where the person has interrupted the proof.
	if perr := p.Site.Power(hard, name, "on"); perr != nil {
		err = errors.Join(err, fmt.Errorf("giving %s its power back: %w; verbund converge does it", name, perr))
	}
	p.Tell("waiting for " + name + " to be back")
	if werr := p.wellAgain(hard); werr != nil {
		err = errors.Join(err, werr)
	}
	if rerr := g.ReadBack(hard, &m); rerr != nil {
		err = errors.Join(err, rerr)
	}
	switch {
	case err != nil:
	case m.Pause > e.Pause(mostGap):
		err = fmt.Errorf("without %s the API took no write for %s; up to %s are usual here", name, m.Pause.Round(10*time.Millisecond), e.Pause(mostGap))
	case len(m.Lost) > 0:
		err = fmt.Errorf("%s that the API had acknowledged %s not there any more: %s", words.Count(len(m.Lost), "write"), map[bool]string{true: "is", false: "are"}[len(m.Lost) == 1], m.Lost[0])
	}
	if err != nil {
		p.answer("", proof.Control, proof.Fails, 0, err.Error())
		return
	}
	p.answer("", proof.Control, proof.Holds, m.Pause, fmt.Sprintf("without %s: %s", name, m))
}

// after is over when a time has passed and a write was acknowledged in its last second.
func after(g *gauge.Gauge, d time.Duration) func(context.Context) (string, error) {
	began := time.Now()
	return func(context.Context) (string, error) {
		if since := time.Since(began); since < d {
			return "it is not over", nil
		} else if g.Acknowledged(time.Now().Add(-time.Second)) == 0 && since < 3*d {
			return "the API takes no write: " + g.Last(), nil
		}
		return "", nil
	}
}

// wellAgain waits until nothing ails.
func (p *proving) wellAgain(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, max(p.Patience, time.Minute))
	defer cancel()
	return session.Until(ctx, "the cluster to be well again", func(ctx context.Context) (string, error) {
		v, err := look.Observe(ctx, p.Session)
		if err != nil {
			return "", err
		}
		if ails := v.Ailing(); len(ails) > 0 {
			return ails[0], nil
		}
		return "", nil
	})
}
