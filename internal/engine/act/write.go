package act

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

// writing is one machine's files on their way to what is rendered: what was found there,
// and what follows from it.
type writing struct {
	m     topology.Machine
	facts *protocol.FactsReply
	slot  string          // that the files are for
	files []protocol.File // as they are to be
	stale []string        // that are to go
	own   look.OwnPairs

	member          bool            // the datastore's member ran when it was looked at
	active, trying  map[string]bool // units that run, and those that fail and try again
	cut             []string        // units that a run which was cut off has still to restart
	restart, reload []string        // units that read a file anew, by a restart or when told to
	again           []string        // those that ran, and are restarted
	before          before          // what changes, as it was found
}

// before is what lay on a machine where something else is written now: its own pairs are not
// among it, which the memory keeps.
type before struct {
	files []protocol.File
	none  []string // paths at which nothing lay
}

// writeFiles brings a machine's files to what is rendered, and has what reads them take
// them up: it looks, asks the guard, writes, and confirms. A machine that does not become
// well gets back what it had.
func (r *Run) writeFiles(ctx context.Context, m topology.Machine) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
		// A member that is about to be made anew is not restarted for what it is told before.
		if r.View.Seen.Restores != nil {
			if err := Halt(ctx, c, true); err != nil {
				return err
			}
		}
		w, err := r.toWrite(ctx, c, m)
		if err != nil {
			return err
		}
		if err := r.mayRestart(ctx, w); err != nil {
			return err
		}
		changed, err := w.put(ctx, c)
		if err != nil {
			return err
		}
		if w.slot != w.facts.Active {
			return w.move(ctx, c)
		}
		if err := r.takeUp(ctx, c, w, changed); err != nil {
			return r.putBack(ctx, c, m, changed, w.again, r.worthBack(ctx, w), err)
		}
		return r.written(ctx, c, w)
	})
}

// toWrite looks at a machine, and changes nothing on it.
func (r *Run) toWrite(ctx context.Context, c session.Machine, m topology.Machine) (*writing, error) {
	w := &writing{m: m, active: map[string]bool{}, trying: map[string]bool{}}
	var err error
	if w.facts, err = c.Facts(ctx); err != nil {
		return nil, err
	}
	if w.slot, err = slotFor(m, w.facts); err != nil {
		return nil, err
	}
	st, err := r.Store.Read()
	if err != nil {
		return nil, err
	}
	var rendered []nodeconf.File
	if w.files, rendered, err = r.Files(r.Cluster, m, nodeconf.Options{Resting: st.Resting}, w.slot); err != nil {
		return nil, err
	}
	if w.stale, err = leftover(ctx, c, rendered, w.slot); err != nil {
		return nil, err
	}
	left := slices.Clone(w.stale)
	if w.own, err = look.Own(ctx, r.Session, r.Cluster, m, c); err != nil {
		return nil, err
	}
	for _, p := range slices.Sorted(maps.Keys(w.own.Stale)) {
		w.stale = append(w.stale, p)
		if p == trust.KubeletClientFile && m.ByToken {
			w.stale = append(w.stale, nodeconf.OwnKubeconfig) // it enrols anew
		}
	}
	us, err := c.Units(ctx)
	if err != nil {
		return nil, err
	}
	for _, u := range us {
		w.active[u.Name], w.trying[u.Name] = u.State == "active", u.State == "activating"
	}
	w.member = w.active[nodeconf.UnitEtcd]
	// What a run that was cut off had stopped, and not started again, ran. Where
	// everything is written at once no other step starts what cannot start yet.
	cut, older, err := look.Pending(ctx, c)
	if err != nil {
		return nil, err
	}
	w.cut = slices.Concat(cut, older)
	for _, u := range w.cut {
		w.active[u] = w.active[u] || !w.trying[u] || r.View.Seen.Now
		w.trying[u] = w.trying[u] && !r.View.Seen.Now
	}
	if err := w.affects(ctx, c, rendered, left); err != nil {
		return nil, err
	}
	if len(w.again) > 0 {
		// Should this be cut off, the next run knows what it has to restart.
		pending := protocol.File{Path: nodeconf.Pending, Mode: 0o644, Content: []byte(strings.Join(w.again, "\n") + "\n")}
		w.files = append([]protocol.File{pending}, w.files...)
	}
	return w, nil
}

// affects finds the units that read what is about to change only when they start, with
// those that an earlier run was cut off before it restarted, and those that are told to
// read it again. left are files that go since nothing is rendered there any more.
func (w *writing) affects(ctx context.Context, c session.Machine, rendered []nodeconf.File, left []string) error {
	var paths []string
	for _, f := range w.files {
		paths = append(paths, f.Path)
	}
	have, err := c.Digests(ctx, append(paths, left...))
	if err != nil {
		return err
	}
	w.restart = slices.Clone(w.cut)
	for i, f := range w.files {
		if have[f.Path] != session.FileDigest(f) {
			w.restart = append(w.restart, rendered[i].Restart...)
			w.reload = append(w.reload, rendered[i].Reload...)
			if !rendered[i].Own() {
				left = append(left, f.Path)
			}
		}
	}
	if err := w.keep(ctx, c, have, left); err != nil {
		return err
	}
	if len(w.own.Stale) > 0 {
		w.restart = append(w.restart, nodeconf.UnitKubelet)
	}
	for _, u := range nodeconf.Units(w.m) {
		// One that is between two of its own starts ran a moment ago, and is to run again.
		if (w.active[u] || w.trying[u]) && slices.Contains(w.restart, u) {
			w.again = append(w.again, u)
		}
	}
	return nil
}

// keep reads what lies at paths that are about to change. have are the digests of what is there.
func (w *writing) keep(ctx context.Context, c session.Machine, have map[string]string, paths []string) error {
	if w.slot != w.facts.Active {
		return nil // nothing runs from there yet
	}
	content, err := c.Read(ctx, paths...)
	if err != nil {
		return err
	}
	for _, p := range paths {
		b, ok := content[p]
		if !ok {
			w.before.none = append(w.before.none, p)
			continue
		}
		f := protocol.File{Path: p, Mode: session.ModeOf(have[p]), Content: b}
		if session.FileDigest(f) == have[p] { // and not longer than what is read at once
			w.before.files = append(w.before.files, f)
		}
	}
	return nil
}

// worthBack is what a machine gets back that did not become well: what it had, where it was well
// with that and a person did not stop the run. Where something is to hold at once, or the machine
// is at another address now, what was there before is of no use.
func (r *Run) worthBack(ctx context.Context, w *writing) before {
	seen := r.View.Seen
	if ctx.Err() == context.Canceled || seen.Now || seen.Restores != nil || seen.Machines[w.m.Name].Moved.IsValid() || len(w.again)+len(w.reload) == 0 {
		return before{}
	}
	return w.before
}

// mayRestart evaluates the quorum guard where the files restart a member, which the plan
// could not know.
func (r *Run) mayRestart(ctx context.Context, w *writing) error {
	if !slices.Contains(w.restart, nodeconf.UnitEtcd) || !w.member || len(r.Cluster.With(versions.Member)) == 1 || r.View.Seen.Now {
		return nil
	}
	return r.guarded(ctx, plan.Step{Machine: w.m.Name, Guards: []plan.Guard{plan.OthersWell}}, w.m)
}

// put writes the files. What is not declared to run any more ends before its unit is taken
// away: without it, it would go on until the machine restarts, with the keys that it has
// read.
func (w *writing) put(ctx context.Context, c session.Machine) (changed []string, err error) {
	for _, p := range w.stale {
		if u := path.Base(p); strings.HasPrefix(p, protocol.SlotDir+w.facts.Active+"/units/") && (w.active[u] || w.trying[u]) {
			if err := c.Do(ctx, protocol.UnitsStop, u); err != nil {
				return nil, err
			}
		}
	}
	return c.Put(ctx, w.files, w.stale)
}

// move has the machine use the slot that was written; nothing runs there yet.
func (w *writing) move(ctx context.Context, c session.Machine) error {
	if err := c.Do(ctx, protocol.UnitsStop, nodeconf.Units(w.m)...); err != nil {
		return err
	}
	if _, err := c.Switch(ctx, protocol.SwitchRequest{Slot: w.slot}); err != nil {
		return err
	}
	_, err := c.Put(ctx, nil, []string{nodeconf.Pending})
	return err
}

// order is what a unit is told.
type order struct{ method, unit string }

// orders are what the units are told, so that each reads what it was given.
func (w *writing) orders() []order {
	var out []order
	// An API server goes before the member that it uses: what it is being asked is
	// answered first, and would hang without the datastore.
	if slices.Contains(w.again, nodeconf.UnitEtcd) && slices.Contains(w.again, nodeconf.UnitAPIServer) {
		out = append(out, order{protocol.UnitsStop, nodeconf.UnitAPIServer})
	}
	for _, u := range nodeconf.Units(w.m) {
		restarts := slices.Contains(w.restart, u)
		switch {
		case u == nodeconf.UnitKubelet && w.m.ByToken && !w.own.Client && w.active[u]:
			// It has to enrol first: the step that starts it does so with what was just written.
			out = append(out, order{protocol.UnitsStop, u})
		case !w.active[u] && !w.trying[u]:
		case restarts:
			out = append(out, order{protocol.UnitsRestart, u})
		case slices.Contains(w.reload, u):
			out = append(out, order{protocol.UnitsReload, u})
		}
	}
	return out
}

// takeUp has what runs take the files up, and waits until the machine is well with them.
func (r *Run) takeUp(ctx context.Context, c session.Machine, w *writing, changed []string) error {
	for _, o := range w.orders() {
		if err := w.give(ctx, c, o); err != nil {
			return err
		}
	}
	return r.works(ctx, w.m, changed, w.active)
}

// tryingPatience is how long a unit is waited for that was between two starts of its own when it
// was looked at.
const tryingPatience = 20 * time.Second

// give gives an order. A unit that failed before, too, and goes on trying is no failure: what it
// waits for may have a step of its own, and the step that looks whether all of the machine is well
// has it run, or says that it does not.
func (w *writing) give(ctx context.Context, c session.Machine, o order) error {
	within := ctx
	if w.trying[o.unit] {
		var cancel context.CancelFunc
		within, cancel = context.WithTimeout(ctx, tryingPatience)
		defer cancel()
	}
	var err error
	if o.method == protocol.UnitsReload {
		err = reload(within, c, o.unit)
	} else {
		err = c.Do(within, o.method, o.unit)
	}
	var failed *machine.UnitError
	if w.trying[o.unit] && ctx.Err() == nil && (errors.As(err, &failed) || within.Err() != nil) {
		return nil
	}
	return err
}

// written forgets what only a run that was cut off would have needed.
func (r *Run) written(ctx context.Context, c session.Machine, w *writing) error {
	if len(w.again)+len(w.cut) > 0 {
		if _, err := c.Put(ctx, nil, []string{nodeconf.Pending}); err != nil {
			return err
		}
	}
	st, err := r.Store.Read()
	if err != nil {
		return err
	}
	if client, serving := w.m.Name+"/kubelet-client", w.m.Name+"/kubelet-serving"; st.Asked[client] || st.Asked[serving] {
		if err := r.Remember(func(st *memory.State) { st.Renewed(client, serving) }); err != nil {
			return err
		}
	}
	return r.settleTrust(w.m)
}

// slotFor is the slot that holds what a machine is to run: the one in use, or the
// idle one, into which it was pulled to be switched to. Files for it are written into
// no other: a machine that is pointed at a slot without them runs nothing.
func slotFor(m topology.Machine, f *protocol.FactsReply) (string, error) {
	for _, slot := range []string{f.Active, session.IdleSlot(f.Active)} {
		if slot != "" && !slices.ContainsFunc(m.Components(), func(k versions.Component) bool { return f.Slots[slot][k.Name] != k.Version }) {
			return slot, nil
		}
	}
	return "", &StepError{Err: fmt.Errorf("guard: neither slot of %s holds what the files are for, %s and what fits it, so nothing was written", m.Name, m.Carries()),
		Todo: "run converge again: the plan is made anew from what is there"}
}

// leftover lists the files of a machine's record that are not rendered any
// more, and keys that nothing there needs: they are taken away.
func leftover(ctx context.Context, c session.Machine, rendered []nodeconf.File, slot string) ([]string, error) {
	out, err := look.StrayTrust(ctx, c, rendered)
	if err != nil {
		return nil, err
	}
	b, err := c.Read(ctx, nodeconf.Record)
	if err != nil {
		return nil, err
	}
	o := nodeconf.ReadRecord(b[nodeconf.Record])
	if o == nil {
		return out, nil
	}
	keep := map[string]bool{nodeconf.Record: true}
	for _, f := range rendered {
		keep[f.Path] = true
	}
	for _, p := range o.Files {
		if !keep[p] {
			out = append(out, session.Place(nodeconf.File{Path: p}, slot))
		}
	}
	return out, nil
}
