package act

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

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

// wipe empties a machine and waits until one can log in again.
func (r *Run) wipe(ctx context.Context, m topology.Machine) error {
	before := ""
	err := r.on(ctx, m.Name, func(c *machine.Machine) error {
		f, err := c.Facts(ctx)
		if err == nil {
			before = f.BootID
		}
		return err
	})
	if err != nil {
		return err
	}
	if err := r.wipeDisk(ctx, m.Name); err != nil {
		return err
	}
	return session.Until(ctx, "the machine to be back, empty", func(ctx context.Context) (string, error) {
		r.HangUp(m.Name)
		lctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
		defer cancel()
		c, err := r.Machine(lctx, m.Name, 0)
		if err != nil {
			return "", err
		}
		f, err := c.Facts(lctx)
		if err == nil && f.BootID == before {
			return "it has not restarted yet", nil
		}
		return "", err
	})
}

// wipeDisk has a machine empty its disk. It restarts right after that, so its
// answer may be lost; that it was done shows in what it is afterwards.
func (r *Run) wipeDisk(ctx context.Context, name string) error {
	c, err := r.Machine(ctx, name, 0)
	if err != nil {
		return err
	}
	if err := c.Wipe(ctx); err != nil && !errors.Is(err, machine.ErrLost) {
		return err
	}
	return nil
}

// leftover lists the files of a machine's record that are not rendered any
// more, and keys that nothing there needs: they are taken away.
func leftover(ctx context.Context, c *machine.Machine, rendered []nodeconf.File, slot string) ([]string, error) {
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

// pull fetches the set's artefacts into the idle slot, each by its digest.
func (r *Run) pull(ctx context.Context, m topology.Machine) error {
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		f, err := c.Facts(ctx)
		if err != nil {
			return err
		}
		want := m.Components()
		slot := session.IdleSlot(f.Active)
		for have, v := range f.Slots[slot] {
			if i := slices.IndexFunc(want, func(x versions.Component) bool { return x.Name == have }); i < 0 || want[i].Version != v {
				if err := c.PrepareSlot(ctx, slot); err != nil {
					return err
				}
				break
			}
		}
		g, gctx := errgroup.WithContext(ctx)
		for _, w := range want {
			g.Go(func() error {
				d := r.Cat.Digest(w.Ref())
				if d == "" {
					return fmt.Errorf("the catalogue pins no digest of %s", w.Ref())
				}
				_, err := c.Pull(gctx, protocol.PullRequest{Registry: r.Cluster.Registry, Name: w.Name, Version: w.Version, Digest: d, Slot: slot})
				return err
			})
		}
		return g.Wait()
	})
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

// writeOnly writes some of a machine's files, which concern nothing that runs.
func (r *Run) writeOnly(ctx context.Context, m topology.Machine, paths []string) error {
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		some, err := r.some(ctx, c, m, func(f nodeconf.File) bool { return slices.Contains(paths, f.Path) })
		if err == nil {
			_, err = c.Put(ctx, some, nil)
		}
		return err
	})
}

// some renders those of a machine's files that are wanted, for the slot in use.
func (r *Run) some(ctx context.Context, c *machine.Machine, m topology.Machine, wanted func(nodeconf.File) bool) ([]protocol.File, error) {
	f, err := c.Facts(ctx)
	if err != nil {
		return nil, err
	}
	files, rendered, err := r.Files(r.Cluster, m, nodeconf.Options{}, f.Active)
	if err != nil {
		return nil, err
	}
	var out []protocol.File
	for i, f := range rendered {
		if wanted(f) {
			out = append(out, files[i])
		}
	}
	return out, nil
}

// writeFiles brings a machine's files to what is rendered, and has what reads
// them take them up.
func (r *Run) writeFiles(ctx context.Context, m topology.Machine) error {
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		f, err := c.Facts(ctx)
		if err != nil {
			return err
		}
		slot, err := slotFor(m, f)
		if err != nil {
			return err
		}
		resting, err := r.Store.Resting()
		if err != nil {
			return err
		}
		o := nodeconf.Options{Resting: resting}
		files, rendered, err := r.Files(r.Cluster, m, o, slot)
		if err != nil {
			return err
		}
		stale, err := leftover(ctx, c, rendered, slot)
		if err != nil {
			return err
		}
		own, err := look.Own(ctx, r.Session, r.Cluster, m, c)
		if err != nil {
			return err
		}
		for _, p := range slices.Sorted(maps.Keys(own.Stale)) {
			stale = append(stale, p)
			if p == trust.KubeletClientFile && m.ByToken {
				stale = append(stale, nodeconf.OwnKubeconfig) // it enrols anew
			}
		}
		us, err := c.Units(ctx)
		if err != nil {
			return err
		}
		active, trying := map[string]bool{}, map[string]bool{}
		for _, u := range us {
			active[u.Name] = u.State == "active"
			trying[u.Name] = u.State == "activating"
		}
		member := active["etcd.service"]
		// What a run that was cut off had stopped, and not started again, ran. Where
		// everything is written at once no other step starts what cannot start yet.
		cut, err := look.Pending(ctx, c)
		if err != nil {
			return err
		}
		for _, u := range cut {
			active[u] = active[u] || !trying[u] || r.View.Seen.Now
			trying[u] = trying[u] && !r.View.Seen.Now
		}
		restart, reload, err := r.affected(ctx, c, files, rendered, cut, len(own.Stale) > 0)
		if err != nil {
			return err
		}
		if slices.Contains(restart, "etcd.service") && member && len(r.Cluster.With(versions.Member)) > 1 && !r.View.Seen.Now {
			// The plan could not know that this restarts it.
			if err := r.guarded(ctx, plan.Step{Machine: m.Name, Guards: []plan.Guard{plan.OthersWell}}, m); err != nil {
				return err
			}
		}
		var again []string // what is to be restarted, should this be cut off
		for _, u := range nodeconf.Units(m) {
			if active[u] && slices.Contains(restart, u) {
				again = append(again, u)
			}
		}
		if len(again) > 0 {
			files = append([]protocol.File{{Path: nodeconf.Pending, Mode: 0o644, Content: []byte(strings.Join(again, "\n") + "\n")}}, files...)
		}
		// What is not declared to run any more ends before its unit is taken away:
		// without it, it would go on until the machine restarts, with the keys that
		// it has read.
		for _, p := range stale {
			if u := path.Base(p); strings.HasPrefix(p, protocol.SlotDir+f.Active+"/units/") && (active[u] || trying[u]) {
				if err := c.Do(ctx, protocol.UnitsStop, u); err != nil {
					return err
				}
			}
		}
		changed, err := c.Put(ctx, files, stale)
		if err != nil {
			return err
		}
		if slot != f.Active {
			if err := c.Do(ctx, protocol.UnitsStop, nodeconf.Units(m)...); err != nil {
				return err
			}
			if _, err := c.Switch(ctx, slot); err != nil {
				return err
			}
			_, err := c.Put(ctx, nil, []string{nodeconf.Pending})
			return err
		}
		err = func() error {
			// An API server goes before the member that it uses: what it is being
			// asked is answered first, and would hang without the datastore.
			if slices.Contains(again, "etcd.service") && slices.Contains(again, "kube-apiserver.service") {
				if err := c.Do(ctx, protocol.UnitsStop, "kube-apiserver.service"); err != nil {
					return err
				}
			}
			for _, u := range nodeconf.Units(m) {
				var err error
				switch {
				case trying[u] && slices.Contains(restart, u), u == "kubelet.service" && m.ByToken && !own.Client && active[u]:
					// It fails and is started again and again, as it was before, or has
					// to enrol first: the step that starts it does so with what was just
					// written.
					err = c.Do(ctx, protocol.UnitsStop, u)
				case !active[u]:
				case slices.Contains(restart, u):
					err = c.Do(ctx, protocol.UnitsRestart, u)
				case slices.Contains(reload, u):
					err = r.reload(ctx, c, u)
				}
				if err != nil {
					return err
				}
			}
			return r.works(ctx, m, changed, active)
		}()
		if err != nil {
			return r.putBack(ctx, c, m, changed, again, err)
		}
		if len(again)+len(cut) > 0 {
			if _, err := c.Put(ctx, nil, []string{nodeconf.Pending}); err != nil {
				return err
			}
		}
		if asked, err := r.Store.Asked(); err != nil {
			return err
		} else if client, serving := m.Name+"/kubelet-client", m.Name+"/kubelet-serving"; asked[client] || asked[serving] {
			if err := r.Store.SaveAsked([]string{client, serving}, false); err != nil {
				return err
			}
		}
		return r.settleTrust(m)
	})
}

// writePairs gives a machine its own certificates with their keys, and nothing
// else: what runs reads them again by itself.
func (r *Run) writePairs(ctx context.Context, m topology.Machine) error {
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		pairs, err := r.some(ctx, c, m, func(f nodeconf.File) bool { return f.Kind != nodeconf.Text && strings.Contains(f.From, "/") })
		if err != nil {
			return err
		}
		us, err := c.Units(ctx)
		if err != nil {
			return err
		}
		active := map[string]bool{}
		for _, u := range us {
			active[u.Name] = u.State == "active"
		}
		changed, err := c.Put(ctx, pairs, nil)
		if err != nil {
			return err
		}
		if err := r.works(ctx, m, changed, active); err != nil {
			return r.putBack(ctx, c, m, changed, nil, err)
		}
		return r.settleTrust(m)
	})
}

// affected lists the units that read what is about to change only when they
// start, with those that an earlier run was cut off before it restarted, and
// those that are told to read it again.
func (r *Run) affected(ctx context.Context, c *machine.Machine, files []protocol.File, rendered []nodeconf.File, cut []string, own bool) (restart, reload []string, err error) {
	var paths []string
	for _, f := range files {
		paths = append(paths, f.Path)
	}
	have, err := c.Digests(ctx, paths)
	if err != nil {
		return nil, nil, err
	}
	restart = slices.Clone(cut)
	for i, f := range files {
		if have[f.Path] != session.FileDigest(f) {
			restart = append(restart, rendered[i].Restart...)
			reload = append(reload, rendered[i].Reload...)
		}
	}
	if own {
		restart = append(restart, "kubelet.service")
	}
	return restart, reload, nil
}

const reloaded = "configuration reloaded"

// reload asks a unit to read its configuration again, and waits until its log
// says that it did.
func (r *Run) reload(ctx context.Context, c *machine.Machine, unit string) error {
	count := func() (int, error) {
		l, err := c.Logs(ctx, unit, 0)
		return strings.Count(strings.Join(l, "\n"), reloaded), err
	}
	before, err := count()
	if err != nil {
		return err
	}
	if err := c.Do(ctx, protocol.UnitsReload, unit); err != nil {
		return err
	}
	return session.Until(ctx, unit+" to reload", func(context.Context) (string, error) {
		now, err := count()
		if err == nil && now <= before {
			return "its log does not say so yet", nil
		}
		return "", err
	})
}

// swap writes the new version's files into the idle slot, switches to it and
// restarts; a machine that does not come up goes back by itself.
func (r *Run) swap(ctx context.Context, m topology.Machine) error {
	return r.on(ctx, m.Name, func(c *machine.Machine) error {
		f, err := c.Facts(ctx)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(m.Components(), func(k versions.Component) bool { return f.Slots[f.Active][k.Name] != k.Version }) {
			return nil
		}
		slot := session.IdleSlot(f.Active)
		files, rendered, err := r.Files(r.Cluster, m, nodeconf.Options{}, slot)
		if err != nil {
			return err
		}
		stale, err := leftover(ctx, c, rendered, slot)
		if err != nil {
			return err
		}
		// What lies in the slot goes at once. Everything else only when the machine
		// is up: what it would go back to may need it.
		inSlot := slices.DeleteFunc(slices.Clone(stale), func(p string) bool { return !strings.HasPrefix(p, protocol.SlotDir) })
		if _, err := c.Put(ctx, files, inSlot); err != nil {
			return err
		}
		rep, err := c.Switch(ctx, slot, nodeconf.Units(m)...)
		if err != nil {
			return err
		}
		if rep.FellBack != "" {
			return &StepError{Unit: rep.Unit, Exit: rep.ExitCode, Log: rep.Log, Err: fmt.Errorf("%s did not come up on %s, and the machine went back to slot %s: %s", m.Name, m.Carries(), rep.Active, rep.FellBack),
				Todo: "nothing else was touched; read the log lines, mend the cause, and run converge again"}
		}
		// All its units were restarted: what a run that was cut off left to do is done.
		if _, err := c.Put(ctx, nil, append(stale, nodeconf.Pending)); err != nil {
			return err
		}
		return r.settleTrust(m)
	})
}
