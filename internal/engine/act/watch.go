package act

import (
	"context"
	"errors"
	"fmt"
	"time"

	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/machine"
	"verbund/internal/site"
)

// watchEvery is how often the site is asked while steps run.
const watchEvery = time.Second

// powerCut is a machine that went dark while something was waited for there.
type powerCut struct{ machine, why string }

func (p *powerCut) Error() string {
	return fmt.Sprintf("machine %s went dark underway: %s", p.machine, p.why)
}

// watchSite ends what nothing would come of any more: all steps when the site's process
// has ended, and a step when a machine that it waits for has lost its power. Such a
// machine is given a second look, for one that restarts is off for a moment.
func (r *Run) watchSite(ctx context.Context, cancel context.CancelCauseFunc) {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	before := map[string]string{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		inv, err := r.Site.Inventory(ctx)
		if errors.Is(err, site.ErrNotRunning) {
			cancel(err)
			return
		}
		if err != nil {
			continue
		}
		now, dark := map[string]string{}, map[string]string{}
		for _, m := range inv.Machines {
			if m.Cluster == r.Cluster.Name && (m.Power == site.PowerOff || m.Power == site.PowerCrashed) {
				if now[m.Name] = session.Powerless(m); before[m.Name] != "" {
					dark[m.Name] = now[m.Name]
				}
			}
		}
		before = now
		r.mu.Lock()
		for _, u := range r.under {
			if m := waitsFor(u.step, r.Cluster, dark); m != "" {
				u.stop(&powerCut{m, dark[m]})
			}
		}
		r.mu.Unlock()
	}
}

// noticed is how long a site may take to notice that a machine has no power any more.
const noticed = 2 * time.Second

// darkNow says whether a step's machine has lost its power, which explains whatever went
// wrong there; nil when it has not, or when that is not known. Where the connection was
// lost, the site may notice a moment later why.
func (r *Run) darkNow(ctx context.Context, s plan.Step, failed error) error {
	if s.Machine == "" || waitsFor(s, r.Cluster, map[string]string{s.Machine: ""}) == "" {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, noticed)
	defer cancel()
	var cut *powerCut
	session.Until(ctx, "the site to notice", func(ctx context.Context) (string, error) {
		m, err := look.MachineAt(ctx, r.Session, s.Machine)
		switch {
		case err != nil:
			return "", nil
		case m.Power == site.PowerOff || m.Power == site.PowerCrashed:
			cut = &powerCut{s.Machine, session.Powerless(m)}
			return "", nil
		case errors.Is(failed, machine.ErrLost):
			return "it has power", nil
		}
		return "", nil
	})
	if cut == nil {
		return nil
	}
	return cut
}

// underwayStep is a step that runs, and how it is told to stop.
type underwayStep struct {
	step plan.Step
	stop context.CancelCauseFunc
}

// waitsFor names a dark machine without which a step cannot end; empty when there is none.
// What gives a machine power or is done to one that may be dead does not wait for it.
func waitsFor(s plan.Step, c *topology.Cluster, dark map[string]string) string {
	switch s.Kind.About().Awaits {
	case plan.Nobody:
		return ""
	case plan.Everyone:
		for _, m := range c.Machines {
			if _, is := dark[m.Name]; is {
				return m.Name
			}
		}
		return ""
	}
	if _, is := dark[s.Machine]; is {
		return s.Machine
	}
	// What goes through the balancer waits for that, where every one of them is dark.
	fronts := c.Of(versions.Balancer)
	if !fronted(s, c) || len(fronts) == 0 {
		return ""
	}
	for _, b := range fronts {
		if _, is := dark[b.Name]; !is {
			return ""
		}
	}
	return fronts[0].Name
}

// fronted says whether a step cannot end without the balancer: it is told of a machine, or a worker
// has to reach the API through it.
func fronted(s plan.Step, c *topology.Cluster) bool {
	switch s.Kind {
	case plan.Rest, plan.Return:
		return true
	case plan.Ready, plan.Node, plan.Refresh, plan.Network, plan.DNS:
		m, ok := c.Machine(s.Machine)
		return s.Machine == "" || ok && m.Role == versions.Worker
	}
	return false
}

// interruptible says whether a step can end at any moment when a person stops the run: it changes
// nothing while it waits, or goes on where it was the next time.
func interruptible(s plan.Step) bool {
	return s.Kind.About().Effect == plan.Waits || s.Kind == plan.Drain
}

// watchPerson ends steps that wait, once a person has stopped the run; what changes something is
// let come to its end.
func (r *Run) watchPerson(ctx, soft context.Context) {
	select {
	case <-ctx.Done():
		return
	case <-soft.Done():
	}
	tick := time.NewTicker(50 * time.Millisecond) // one may just be beginning
	defer tick.Stop()
	for {
		r.mu.Lock()
		for _, u := range r.under {
			if interruptible(u.step) {
				u.stop(ErrInterrupted)
			}
		}
		r.mu.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
