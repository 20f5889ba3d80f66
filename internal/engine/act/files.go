package act

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

// wipe empties a machine and waits until one can log in again.
func (r *Run) wipe(ctx context.Context, m topology.Machine) error {
	before := ""
	err := r.With(ctx, m.Name, func(c session.Machine) error {
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

// pull fetches the set's artefacts into the idle slot, each by its digest.
func (r *Run) pull(ctx context.Context, m topology.Machine) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
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

// writeOnly writes some of a machine's files, which concern nothing that runs.
func (r *Run) writeOnly(ctx context.Context, m topology.Machine, paths []string) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
		some, err := r.some(ctx, c, m, func(f nodeconf.File) bool { return slices.Contains(paths, f.Path) })
		if err == nil {
			_, err = c.Put(ctx, some, nil)
		}
		return err
	})
}

// some renders those of a machine's files that are wanted, for the slot in use.
func (r *Run) some(ctx context.Context, c session.Machine, m topology.Machine, wanted func(nodeconf.File) bool) ([]protocol.File, error) {
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

// writePairs gives a machine its own certificates with their keys, and nothing
// else: what runs reads them again by itself.
func (r *Run) writePairs(ctx context.Context, m topology.Machine) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
		pairs, err := r.some(ctx, c, m, func(f nodeconf.File) bool { return f.Own() })
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
			return r.putBack(ctx, c, m, changed, nil, before{}, err)
		}
		return r.settleTrust(m)
	})
}

// swap writes the new version's files into the idle slot, switches to it and
// restarts; a machine that does not come up goes back by itself.
func (r *Run) swap(ctx context.Context, m topology.Machine) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
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
		var inSlot, after []string
		for _, p := range stale {
			if strings.HasPrefix(p, protocol.SlotDir) {
				inSlot = append(inSlot, p)
			} else {
				after = append(after, p)
			}
		}
		first := slices.Clone(files)
		i := slices.IndexFunc(first, func(f protocol.File) bool { return f.Path == nodeconf.Record })
		first[i].Content = nodeconf.StillThere(first[i].Content, after)
		if _, err := c.Put(ctx, first, inSlot); err != nil {
			return err
		}
		rep, err := c.Switch(ctx, protocol.SwitchRequest{Slot: slot, Start: nodeconf.Units(m), Health: nodeconf.Health(m)})
		if err != nil {
			return err
		}
		if rep.FellBack != "" {
			return &StepError{Unit: rep.Unit, Exit: rep.ExitCode, Log: rep.Log, Err: fmt.Errorf("%s did not come up on %s, and the machine went back to slot %s: %s", m.Name, m.Carries(), rep.Active, rep.FellBack),
				Todo: "nothing else was touched; read the log lines, mend the cause, and run converge again"}
		}
		// All its units were restarted: what a run that was cut off left to do is done.
		if _, err := c.Put(ctx, files[i:i+1], append(after, nodeconf.Pending)); err != nil {
			return err
		}
		return r.settleTrust(m)
	})
}
