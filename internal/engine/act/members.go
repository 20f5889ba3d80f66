package act

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"sync"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/engine/session"
)

// move tells the datastore where a machine's member is now, if it has one.
func (r *Run) move(ctx context.Context, m topology.Machine) error {
	if !m.Is(versions.Member) {
		return nil
	}
	if len(r.Cluster.With(versions.Member)) == 1 {
		return &StepError{Err: fmt.Errorf("the only member of the datastore has moved to %s, and nobody is left to be told", m.Address),
			Todo: "have the site give it its old address again; with three members each can move"}
	}
	r.member.Lock()
	defer r.member.Unlock()
	seen, ok := r.View.Seen.Members[m.Name]
	if !ok || seen.Peer == nodeconf.Peer(m) {
		return nil
	}
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	return d.Move(ctx, seen.ID, nodeconf.Peer(m))
}

// arrive remembers a machine that has moved where it is now.
func (r *Run) arrive(m topology.Machine) error {
	return r.Remember(func(st *memory.State) {
		k := st.Machines[m.Name]
		k.Address = m.Address
		st.Machines[m.Name] = k
	})
}

// members lists the datastore's members.
func (r *Run) members(ctx context.Context) (map[string]plan.MemberSeen, error) {
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return nil, err
	}
	ms, err := d.Members(ctx, r.Peers(r.Cluster))
	if err != nil {
		return nil, err
	}
	out := map[string]plan.MemberSeen{}
	for _, m := range ms {
		out[m.Name] = plan.MemberSeen{ID: m.ID, Peer: m.Peer, Learner: m.Learner, Healthy: m.Healthy, Trouble: m.Trouble}
	}
	return out, nil
}

// found founds the datastore: all its members are started together, and each
// waits for the others. Interrupted, the same members go on: they know from their
// own logs where they were.
func (r *Run) found(ctx context.Context, s plan.Step) error {
	restores := r.View.Seen.Restores
	if restores != nil {
		sd, err := r.seedsOf(restores)
		if err != nil {
			return err
		}
		defer sd.snap.Close()
		// Not one of them starts before all of them have it.
		if err := r.eachMember(ctx, s, func(m topology.Machine) error { return r.seed(ctx, m, sd) }); err != nil {
			return err
		}
	}
	err := r.eachMember(ctx, s, func(m topology.Machine) error {
		if err := r.startUnit(ctx, m.Name, nodeconf.UnitEtcd); err != nil {
			return err
		}
		return r.memberWell(ctx, m)
	})
	if err != nil {
		return err
	}
	fs := plan.FactsOf(r.Cluster)
	fs.Founded = time.Now().UTC()
	return r.Store.Update(func(st *memory.State) error {
		if restores != nil {
			return st.Restored(fs)
		}
		st.Founded(fs)
		return nil
	})
}

// eachMember does something to all members of the datastore together; of those that fail the
// first is told.
func (r *Run) eachMember(ctx context.Context, s plan.Step, do func(topology.Machine) error) error {
	ms := r.Cluster.With(versions.Member)
	errs := make([]error, len(ms))
	var wg sync.WaitGroup
	for i, m := range ms {
		wg.Go(func() { errs[i] = do(m) })
	}
	wg.Wait()
	for i, err := range errs {
		if err != nil {
			se := r.explain(ctx, plan.Step{Kind: s.Kind, Machine: ms[i].Name}, err)
			se.Machine = ms[i].Name
			return se
		}
	}
	return nil
}

// joinMember joins the datastore as a learner that is promoted, or starts a member
// that is one already.
func (r *Run) joinMember(ctx context.Context, m topology.Machine) error {
	r.member.Lock()
	defer r.member.Unlock()
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	// A member that exists may be what the quorum lacks: start it first. One
	// that never ran is known by its address only.
	ms, merr := r.members(ctx)
	if merr != nil && !errors.Is(merr, datastore.ErrNoQuorum) {
		return fmt.Errorf("whether it is a member already cannot be looked up: %w", merr)
	}
	if _, isMember := ms[m.Name]; merr == nil && !isMember {
		names, peers := []string{}, map[string]netip.Addr{m.Name: m.Address}
		for n, x := range ms {
			names = append(names, n)
			if u, err := url.Parse(x.Peer); err == nil {
				if a, err := netip.ParseAddr(u.Hostname()); err == nil {
					peers[n] = a
				}
			}
		}
		slices.Sort(names)
		if err := r.Remember(func(st *memory.State) { st.BornAmong(peers, m.Name) }); err != nil {
			return err
		}
		m.Peers = peers
		if err := r.born(ctx, &m, append(names, m.Name)); err != nil {
			return err
		}
		if err := d.AddLearner(ctx, nodeconf.Peer(m)); err != nil {
			return fmt.Errorf("adding a learner: %w", err)
		}
	}
	if err := r.startUnit(ctx, m.Name, nodeconf.UnitEtcd); err != nil {
		return err
	}
	if merr != nil {
		return r.memberWell(ctx, m)
	}
	if err := d.Promote(ctx, nodeconf.Peer(m)); err != nil {
		return err
	}
	return r.memberWell(ctx, m)
}

// born writes down with which members a member is born, before it is, and
// gives its machine the configuration that says so.
func (r *Run) born(ctx context.Context, m *topology.Machine, members []string) error {
	if err := r.Remember(func(st *memory.State) { st.Joins(m.Name, members) }); err != nil {
		return err
	}
	// Others read the topology meanwhile: it stays, and this machine is another one from
	// now on.
	m.Members, m.Founds = members, false
	r.mu.Lock()
	if r.joined == nil {
		r.joined, r.peers = map[string][]string{}, map[string]map[string]netip.Addr{}
	}
	r.joined[m.Name], r.peers[m.Name] = members, m.Peers
	r.mu.Unlock()
	return r.writeFiles(ctx, *m)
}

func (r *Run) memberWell(ctx context.Context, m topology.Machine) error {
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	return session.Until(ctx, "its datastore member to be healthy", func(ctx context.Context) (string, error) {
		return "", d.Health(ctx, nodeconf.Datastore(m))
	})
}

// leave takes a member out, dead or alive.
func (r *Run) leave(ctx context.Context, s plan.Step) error {
	// An API server uses the member beside it: it stops first, in its own time,
	// so that the balancer notices and no request meets one without a datastore.
	if seen := r.View.Seen.Machines[s.Machine]; seen.Reached && seen.Units[nodeconf.UnitAPIServer] == "active" && !r.Cluster.Apart {
		if err := r.With(ctx, s.Machine, func(c session.Machine) error { return Halt(ctx, c, false) }); err != nil {
			return fmt.Errorf("stopping its API server: %w", err)
		}
	}
	return r.removeMember(ctx, s.Machine)
}

func (r *Run) removeMember(ctx context.Context, name string) error {
	r.member.Lock()
	defer r.member.Unlock()
	ms, err := r.members(ctx)
	if err != nil {
		return err
	}
	if m, ok := ms[name]; ok {
		d, err := r.Datastore(r.Cluster)
		if err != nil {
			return err
		}
		if err := d.Remove(ctx, m.ID); err != nil {
			return err
		}
	}
	return r.Remember(func(st *memory.State) { st.Leaves(name) })
}

// keepFacts remembers what of a well cluster has changed that may.
func (r *Run) keepFacts() error {
	st, err := r.Store.Read()
	if err != nil || st.Facts == nil {
		return err
	}
	is := plan.FactsOf(r.Cluster)
	if is.Founded = st.Facts.Founded; is == *st.Facts {
		return nil
	}
	return r.Remember(func(st *memory.State) { st.Founded(is) })
}
