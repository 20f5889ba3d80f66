package act

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
	"verbund/internal/machine/protocol"
	"verbund/internal/store"
)

// Held is a roll-out that goes on when a person says so, or when its hour comes: nothing
// failed, and what was begun is finished.
type Held struct {
	Group string // before which it holds; empty, before everything
	Why   string
	Todo  string
	Until time.Time // when it may go on by itself; zero, when a person says so
}

func (h *Held) Error() string { return h.Why + "; " + h.Todo }

// Resume is how a person lets a roll-out go on.
const Resume = "verbund rollout resume lets it go on"

// HeldBy is what is remembered of a hold, as whoever is stopped by it is told.
func HeldBy(h *memory.Held) *Held {
	since := h.Since.Local().Format("2006-01-02 15:04")
	if h.By == memory.ByPerson {
		why := ""
		if h.Why != "" {
			why = " (" + h.Why + ")"
		}
		return &Held{Why: fmt.Sprintf("the roll-out is held by a person since %s%s", since, why), Todo: Resume}
	}
	return &Held{Group: h.Group, Why: fmt.Sprintf("the roll-out holds since %s, as it is declared for %s", since, topology.GroupInWords(h.Group)), Todo: "look whether all is well; " + Resume}
}

// mayBegin is the guard of a wave: nobody holds the roll-out, and the hours allow it.
func (r *Run) mayBegin(_ context.Context, s plan.Step) error {
	st, err := r.Store.Read()
	if err != nil {
		return err
	}
	if st.Held != nil {
		return HeldBy(st.Held)
	}
	if open, next := r.Cluster.Window.Open(r.now()); !open {
		return &Held{Group: s.Group, Until: next, Why: fmt.Sprintf("outside of the declared hours no wave begins; the next may at %s", next.Format("Mon 2006-01-02 15:04 MST")), Todo: "run the same command then"}
	}
	return nil
}

// now is the time of day.
func (r *Run) now() time.Time {
	if r.Clock != nil {
		return r.Clock()
	}
	return time.Now()
}

// beginWave remembers that a wave has begun: whoever comes after a run that was cut off
// goes on with it, and waits for what has to come after it.
func (r *Run) beginWave(ctx context.Context, s plan.Step) error {
	o := rollout.Open{}
	if s.Opens != nil {
		o = *s.Opens
	}
	if err := r.Remember(func(st *memory.State) { st.Waves[s.Group] = o }); err != nil {
		return err
	}
	if err := r.led(ctx, s); err != nil {
		return err
	}
	return r.signsNoMore(ctx, s)
}

// led waits, before nodes are emptied, until somebody leads who brings their pods up elsewhere:
// right after the control plane was away nobody does, for as long as a lease lasts.
func (r *Run) led(ctx context.Context, s plan.Step) error {
	if !topology.IsPool(s.Group) {
		return nil
	}
	return r.withKube(func(k *kube.Client) error {
		return session.Until(ctx, "controller manager and scheduler to lead", func(ctx context.Context) (string, error) { return k.Led(ctx, r.now()) })
	})
}

// signsNoMore stops the approvers of control-plane machines that are on their way out: one
// of them may lead, and knows nothing of the machines that come.
func (r *Run) signsNoMore(ctx context.Context, s plan.Step) error {
	for name, seen := range r.View.Seen.Machines {
		if _, declared := r.Cluster.Machine(name); declared || seen.Role != versions.Control || seen.Units[nodeconf.UnitApprover] != "active" {
			continue
		}
		if err := r.With(ctx, name, func(c session.Machine) error { return c.Do(ctx, protocol.UnitsStop, nodeconf.UnitApprover) }); err != nil {
			return err
		}
		r.Note(s, fmt.Sprintf("the approver of %s, which leaves, was stopped: it knows nothing of the machines that come", name))
	}
	return nil
}

// hold ends the run until a person lets the roll-out go on.
func (r *Run) hold(s plan.Step) error {
	h := &memory.Held{Since: r.now().UTC(), By: memory.ByDeclaration, Group: s.Group, Why: s.Why}
	if err := r.Remember(func(st *memory.State) { st.Held = h }); err != nil {
		return err
	}
	return HeldBy(h)
}

// soakEvery is how often the machines of a trial are looked at.
const soakEvery = time.Second

// soak watches machines, which have to stay well. What is seen once may be a moment in
// which nobody answered; what is seen twice is not. It is not over while one of them was
// last seen otherwise than well.
func (r *Run) soak(ctx context.Context, s plan.Step) error {
	over := time.NewTimer(s.Waits)
	defer over.Stop()
	tick := time.NewTicker(min(soakEvery, max(s.Waits/4, time.Millisecond)))
	defer tick.Stop()
	before, ends := map[string]string{}, false
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-over.C:
			ends = true
		case <-tick.C:
		}
		if err := r.answersStill(ctx, s); err != nil {
			return err
		}
		now := map[string]string{}
		for _, name := range s.Machines {
			m, ok := r.Cluster.Machine(name)
			if !ok {
				continue
			}
			if ill := r.ill(ctx, m); ill != "" && ctx.Err() == nil {
				if now[name] = ill; before[name] != "" {
					return &StepError{Machine: name, Err: fmt.Errorf("it did not stay well: %s", ill),
						Todo: "find out whether the change is to blame; no further machine was touched. The same command tries again, verbund rollout back takes it back"}
				}
			}
		}
		if before = now; ends && len(now) == 0 {
			return r.soaked(s.Group)
		}
	}
}

// soaked remembers that the machines of a group's open wave stayed well.
func (r *Run) soaked(group string) error {
	return r.Remember(func(st *memory.State) {
		o := st.Waves[group]
		o.Soaked = true
		st.Waves[group] = o
	})
}

// ill says what is wrong with a machine; nothing, when all of it is well.
func (r *Run) ill(ctx context.Context, m topology.Machine) string {
	ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
	defer cancel()
	var out []string
	err := r.With(ctx, m.Name, func(c session.Machine) error {
		us, err := c.Units(ctx)
		if err != nil {
			return err
		}
		active := map[string]bool{}
		for _, u := range us {
			active[u.Name] = u.State == "active"
		}
		for _, u := range nodeconf.Units(m) {
			if !active[u] {
				out = append(out, u+" does not run")
			}
		}
		return nil
	})
	if err != nil {
		return err.Error()
	}
	if m.IsNode() {
		if err := r.withKube(func(k *kube.Client) error {
			n, err := k.CoreV1().Nodes().Get(ctx, m.Name, metav1.GetOptions{})
			if err != nil {
				return nil // that the API does not answer says nothing of this machine
			}
			if ok, why := kube.Ready(n); !ok {
				out = append(out, "the node is not Ready: "+why)
			}
			return nil
		}); err != nil {
			return err.Error()
		}
	}
	return strings.Join(out, "; ")
}

// spares says whether a roll-out goes on without the machine of a step that failed: as many
// may fail as its pool says, but none on trial, and none that is yet to take the place of
// another. It is remembered, and its node stays cordoned.
func (r *Run) spares(s plan.Step, failed error) (bool, error) {
	most := r.Cluster.Policies[s.Group].Failures
	if s.Machine == "" || s.Group == "" || most == 0 || r.View.Seen.Machines[s.Machine].Active == "" {
		return false, nil
	}
	st, err := r.Store.Read()
	if err != nil {
		return false, err
	}
	others := 0
	for name, x := range st.Spared {
		if x.Group == s.Group && name != s.Machine {
			others++
		}
	}
	if st.Waves[s.Group].Trial || others >= most {
		return false, nil
	}
	x := memory.Spared{Since: r.now().UTC(), Group: s.Group, Why: failed.Error()}
	if err := r.Remember(func(st *memory.State) { st.Spared[s.Machine] = x }); err != nil {
		return false, err
	}
	r.Note(s, fmt.Sprintf("the roll-out goes on without it: %d of %s may fail, this is number %d; its node stays cordoned", most, topology.GroupInWords(s.Group), others+1))
	return true, nil
}

// Failed are machines that failed while the roll-out went on without them.
type Failed struct {
	Machines []string
	First    error
}

func (f *Failed) Error() string {
	return fmt.Sprintf("the roll-out went on without %s, which failed and stay as they are, cordoned; the first: %v; mend them and run the same command again, or replace them: verbund replace %s", strings.Join(f.Machines, ", "), f.First, f.Machines[0])
}

func (f *Failed) Unwrap() error { return f.First }

// outcome is how a run ended, in a word.
func outcome(err error) string {
	var h *Held
	switch {
	case err == nil:
		return store.OutcomeDone
	case errors.Is(err, ErrInterrupted):
		return "interrupted"
	case errors.As(err, &h):
		return "held"
	}
	return "failed"
}

// enoughAnswers is how many answers of each watch there have to be before the first wave.
const enoughAnswers = 3

// answersStill is the say that applications have: when one has broken its limit no further
// machine is touched. Before a wave it waits until each was asked a few times.
func (r *Run) answersStill(ctx context.Context, s plan.Step) error {
	if s.Kind == plan.Wave {
		if err := session.Until(ctx, "the watches to have been asked", func(context.Context) (string, error) {
			for _, f := range r.Watches.Figures() {
				if f.Answers < enoughAnswers && f.Broke == "" {
					return fmt.Sprintf("%s was asked %d times", f.Name, f.Answers), nil
				}
			}
			return "", nil
		}); err != nil {
			return err
		}
	}
	f := r.Watches.Broken()
	if f == nil {
		return nil
	}
	at := "nothing was being changed"
	if out := r.changing(s); len(out) > 0 {
		at = "at that moment " + strings.Join(out, ", ") + " had been begun with, as the last"
	}
	return &StepError{Machine: s.Machine, Err: fmt.Errorf("watch %s has broken its limit: %s; %s", f.Name, f.Broke, at),
		Todo: "no further machine is touched; find out whether the change is to blame: verbund rollout back takes it back. To go on all the same: verbund converge --without-watch REASON"}
}

// changing are the machines of waves that have begun and may not be over: of the step's group,
// or of all.
func (r *Run) changing(s plan.Step) []string {
	st, err := r.Store.Read()
	if err != nil {
		return nil
	}
	if o, ok := st.Waves[s.Group]; ok {
		return o.Machines
	}
	var out []string
	for _, o := range st.Waves {
		out = append(out, o.Machines...)
	}
	slices.Sort(out)
	return out
}
