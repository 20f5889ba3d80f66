package act

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/machine"
	"verbund/internal/probe"
	"verbund/internal/site"
	"verbund/internal/store"
)

// Run is one plan being carried out.
type Run struct {
	*session.Session
	ID      string
	View    *look.View
	Cluster *topology.Cluster
	Tell    func(store.Entry) // every journal entry, as it is written
	Clock   func() time.Time  // the time of day; nil: that of this computer
	Watches *probe.Probes     // applications that have a say in a roll-out; nil: none

	limit   func(plan.Step) time.Duration // of a step; nil: its own
	journal store.Journal
	mu      sync.Mutex
	balance sync.Mutex // one change of the balancer at a time
	member  sync.Mutex // one change of the membership at a time
	guards  map[plan.Guard]func(*Run, context.Context, plan.Step, topology.Machine) error
	under   map[string]underwayStep
	joined  map[string][]string              // members with whom a machine's own was born in this run
	peers   map[string]map[string]netip.Addr // where those were
}

// StepError is a step that failed, with what a person wants to know first.
type StepError struct {
	Step    plan.Step
	Machine string
	Unit    string
	Exit    int
	Log     []string
	Todo    string
	Err     error
}

func (e *StepError) Error() string {
	where := e.Machine
	if where == "" {
		where = "the cluster"
	}
	return fmt.Sprintf("%s on %s: %v", e.Step.Text, where, e.Err)
}

func (e *StepError) Unwrap() error { return e.Err }

// ErrInterrupted says that the person stopped the run.
var ErrInterrupted = errors.New("interrupted")

// Begin opens the journal for a run that is reckoned to take so long.
func Begin(s *session.Session, v *look.View, command string, predicted time.Duration, tell func(store.Entry)) (*Run, error) {
	j, err := s.Store.Journal()
	if err != nil {
		return nil, err
	}
	r := &Run{Session: s, ID: time.Now().UTC().Format("20060102-150405.000"), View: v, Cluster: v.Cluster, Tell: tell, guards: guards, journal: j}
	return r, r.write(store.Entry{Kind: store.RunBegan, Text: command, Predicted: predicted.Seconds()})
}

func (r *Run) write(e store.Entry) error {
	e.Time, e.Run = time.Now().UTC(), r.ID
	if err := r.journal.Append(e); err != nil {
		return fmt.Errorf("journal: %w", err)
	}
	r.Tell(e)
	return nil
}

// Note writes a remark to the journal.
func (r *Run) Note(step plan.Step, text string) {
	r.write(store.Entry{Kind: store.Note, Step: step.ID, What: string(step.Kind), Where: step.Machine, Text: text})
}

// Remark writes to the journal what was done without steps.
func (r *Run) Remark(text string) { r.write(store.Entry{Kind: store.Note, Text: text}) }

// End closes the journal with the outcome.
func (r *Run) End(err error) error {
	e := store.Entry{Kind: store.RunEnded, Outcome: outcome(err)}
	switch e.Outcome {
	case "failed":
		e.Error = err.Error()
	case "held":
		e.Text = err.Error()
	}
	return errors.Join(r.write(e), r.journal.Close())
}

// Prepare does what has to be on disk before the first step: addresses of new
// machines, keys and certificates.
func (r *Run) Prepare() error {
	st, err := r.Store.Read()
	if err != nil {
		return err
	}
	err = r.Store.UpdateWith(store.TrustChange{Gone: store.Gone(r.lost(st.Machines)...)}, func(st *memory.State) error {
		for _, m := range r.Cluster.Machines {
			// One that has moved is remembered where it was until it is repaired: else who
			// comes after a run that was cut off would not know that it has to be.
			seen := r.View.Seen.Machines[m.Name]
			if k := st.Machines[m.Name]; k.Address != m.Address && !(seen.Moved.IsValid() && seen.Active != "") {
				k.Address = m.Address
				st.Machines[m.Name] = k
			}
			st.Ask(seen.Reissue...)
		}
		return r.prepareFounding(st)
	})
	if err != nil {
		return err
	}
	return vouch.Ensure(r.Session, r.Cluster, time.Now())
}

// RestNew has machines that are yet to come rest in the balancer from the moment that it is
// told of them, until a step puts them into it: it takes a server for well that it has not
// asked yet.
func (r *Run) RestNew(steps []plan.Step) error {
	return r.Remember(func(st *memory.State) {
		for _, s := range steps {
			if s.Kind == plan.Return && !r.View.Seen.Machines[s.Machine].Exists {
				st.Resting[s.Machine] = true
			}
		}
	})
}

// lost are the pairs of machines that were there once and are to be got anew: they are made
// anew, for nobody knows where the disks are on which the keys of those before lie.
func (r *Run) lost(known map[string]memory.Machine) []string {
	var gone []string
	for _, q := range vouch.Certificates(r.Cluster) {
		if q.Machine != "" && known[q.Machine].Hardware != "" && !r.View.Seen.Machines[q.Machine].Exists {
			gone = append(gone, q.ID, trust.WasID(q.ID))
		}
	}
	return gone
}

// prepareFounding writes down who is about to found the datastore. Who began to,
// and may have data, is the same: the plan has looked at that.
func (r *Run) prepareFounding(st *memory.State) error {
	if r.View.Seen.Founded {
		return nil
	}
	var names []string
	for _, m := range r.Cluster.With(versions.Member) {
		names = append(names, m.Name)
	}
	peers := map[string]netip.Addr{}
	for _, m := range r.Cluster.With(versions.Member) {
		peers[m.Name] = m.Address
	}
	st.BornAmong(peers, names...)
	if r.View.Seen.Restores != nil { // nobody founds by themselves
		if st.Restoring != nil {
			st.Restores(*st.Restoring, names)
		}
		return nil
	}
	if slices.Equal(slices.Sorted(slices.Values(st.Founders)), slices.Sorted(slices.Values(names))) {
		return nil
	}
	return st.Found(names)
}

// Steps carries steps out, in parallel where their needs allow. When soft ends
// no further step begins and the running ones are waited for; when hard ends
// they are told to stop. The first failure also lets nothing more begin, unless the
// roll-out goes on without the machine; what is held lets go on what does not come after it.
func (r *Run) Steps(soft, hard context.Context, steps []plan.Step) error {
	ctx, cancel := context.WithCancelCause(hard)
	defer cancel(nil)
	t := &tally{r: r, ctx: ctx, flow: plan.NewFlow(steps), steps: map[string]plan.Step{}}
	for _, s := range steps {
		t.steps[s.ID] = s
	}
	running := 0
	results := make(chan result)
	var watch sync.WaitGroup
	defer watch.Wait()
	defer cancel(nil)
	watch.Go(func() { r.watchSite(ctx, cancel) })
	watch.Go(func() { r.watchPerson(ctx, soft) })
	for {
		for running < max(r.Parallel, 1) && t.failure == nil && soft.Err() == nil {
			s, ok := t.flow.Next()
			if !ok {
				break
			}
			running++
			go func() { results <- result{s.ID, r.one(ctx, s)} }()
		}
		if running == 0 {
			break
		}
		t.ended(<-results)
		running--
	}
	switch {
	case t.failure != nil && hard.Err() == nil:
		return t.failure
	case soft.Err() != nil || hard.Err() != nil:
		return ErrInterrupted
	case t.held != nil:
		return t.held
	case t.lost != nil:
		return t.lost
	case t.flow.Undone() > 0:
		return fmt.Errorf("%d steps could not begin: what they need is not in the plan", t.flow.Undone())
	}
	return nil
}

type result struct {
	id  string
	err error
}

// tally is what has become of the steps of a run.
type tally struct {
	r       *Run
	ctx     context.Context
	flow    *plan.Flow
	steps   map[string]plan.Step
	failure error
	held    *Held
	lost    *Failed
}

// ended takes the end of a step.
func (t *tally) ended(x result) {
	s := t.steps[x.id]
	if x.err == nil {
		t.flow.Done(x.id)
		return
	}
	if errors.Is(x.err, ErrInterrupted) {
		return // it is not done, and nothing went wrong
	}
	if h := (*Held)(nil); errors.As(x.err, &h) {
		if t.held == nil {
			t.held = h
		}
		return
	}
	if errors.Is(context.Cause(t.ctx), site.ErrNotRunning) {
		x.err = &StepError{Step: s, Machine: s.Machine, Err: errors.New("the site's process ended underway"),
			Todo: "run the same command again: it starts the site, its machines get their power back, and it goes on from here"}
	}
	spared, err := false, error(nil)
	if t.ctx.Err() == nil {
		spared, err = t.r.spares(s, x.err)
	}
	switch {
	case t.failure != nil:
	case spared:
		if t.lost == nil {
			t.lost = &Failed{First: x.err}
		}
		t.lost.Machines = append(t.lost.Machines, s.Machine)
		t.flow.Without(func(o plan.Step) bool { return o.Machine == s.Machine || o.Kind == plan.Verify })
	default:
		t.failure = errors.Join(x.err, err)
	}
}

// machine is a step's machine as it is to be at this moment.
func (r *Run) machine(s plan.Step) topology.Machine {
	m, _ := r.Cluster.Machine(s.Machine)
	if s.As != nil {
		m = *s.As
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if members := r.joined[m.Name]; members != nil {
		m.Members, m.Peers, m.Founds = members, r.peers[m.Name], false
	}
	return m
}

// one runs one step and journals it.
func (r *Run) one(ctx context.Context, s plan.Step) error {
	began := time.Now()
	e := store.Entry{Kind: store.StepBegan, Step: s.ID, What: string(s.Kind), Where: s.Machine, Group: s.Group, Wave: s.Wave, Text: s.Text}
	if err := r.write(e); err != nil {
		return err
	}
	m := r.machine(s)
	lctx, cancel := r.limited(ctx, s)
	defer cancel()
	sctx, stop := context.WithCancelCause(lctx)
	defer stop(nil)
	r.mu.Lock()
	if r.under == nil {
		r.under = map[string]underwayStep{}
	}
	r.under[s.ID] = underwayStep{s, stop}
	r.mu.Unlock()
	err := r.guarded(sctx, s, m)
	if err == nil {
		err = r.do(sctx, s, m)
	}
	r.mu.Lock()
	delete(r.under, s.ID)
	r.mu.Unlock()
	if err != nil && errors.Is(context.Cause(sctx), ErrInterrupted) {
		e.Kind, e.Text, e.Seconds = store.StepHeld, ErrInterrupted.Error(), time.Since(began).Seconds()
		return errors.Join(ErrInterrupted, r.write(e))
	}
	var cut *powerCut
	if err != nil && (errors.As(context.Cause(sctx), &cut) || errors.As(r.darkNow(ctx, s, err), &cut)) {
		err = &StepError{Machine: cut.machine, Err: cut, Todo: "run converge again: it switches the machine on first, and goes on from here"}
	}
	if err == nil && s.Arrives {
		err = r.arrive(m)
	}
	e.Seconds = time.Since(began).Seconds()
	if s.Kind == plan.Wave || s.Kind == plan.Soak || s.Kind == plan.Verify {
		e.Watches = r.Watches.Figures()
	}
	if err == nil {
		e.Kind = store.StepDone
		return r.write(e)
	}
	if h := (*Held)(nil); errors.As(err, &h) {
		e.Kind, e.Text = store.StepHeld, h.Error()
		return errors.Join(err, r.write(e))
	}
	se := r.explain(ctx, s, err)
	e.Kind, e.Error, e.Unit, e.Exit, e.Log, e.Todo = store.StepFailed, err.Error(), se.Unit, se.Exit, se.Log, se.Todo
	return errors.Join(se, r.write(e))
}

// explain finds out what a person wants to know about a failure: the unit, its
// exit code and its last log lines.
func (r *Run) explain(ctx context.Context, s plan.Step, err error) *StepError {
	se := &StepError{Step: s, Machine: s.Machine, Err: err, Todo: "mend it and run the same command again: it goes on from here"}
	var given *StepError
	var ue *machine.UnitError
	switch {
	case errors.As(err, &given):
		se.Unit, se.Exit, se.Log, se.Err = given.Unit, given.Exit, given.Log, given.Err
		if se.Machine == "" {
			se.Machine = given.Machine
		}
		if given.Todo != "" {
			se.Todo = given.Todo
		}
		return se
	case errors.Is(err, machine.ErrDiskFull):
		se.Todo = "make room on the machine's disk, or give its pool a larger size, and run converge again"
	case errors.Is(err, machine.ErrDigest):
		se.Todo = "the registry hands out something else than what is pinned; find out why before trusting it, then run converge again"
	case errors.As(err, &ue):
		se.Unit, se.Exit = ue.State.Name, ue.State.ExitCode
	}
	if s.Machine == "" {
		return se
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer cancel()
	m, merr := r.Machine(ctx, s.Machine, 0)
	if merr != nil {
		return se
	}
	if se.Unit == "" {
		us, _ := m.Units(ctx)
		for _, u := range us {
			if u.State != "active" && u.Last != "" {
				se.Unit, se.Exit = u.Name, u.ExitCode
				break
			}
		}
	}
	if se.Unit != "" {
		se.Log, _ = m.Logs(ctx, se.Unit, 8)
	}
	return se
}
