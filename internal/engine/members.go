package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
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
	if err := r.othersWell(ctx, m.Name); err != nil {
		return err
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

// members lists the datastore's members.
func (r *Run) members(ctx context.Context) (map[string]plan.MemberSeen, error) {
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return nil, err
	}
	ms, err := d.Members(ctx, r.peers(r.Cluster))
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
	ms := r.Cluster.With(versions.Member)
	began, err := r.Store.Founders()
	if err != nil {
		return err
	}
	for _, m := range ms {
		// The plan has looked; a machine may have been given data since.
		err := r.on(ctx, m.Name, func(c *machine.Machine) error {
			log, err := c.List(ctx, nodeconf.DatastoreLog)
			if err == nil && len(log) > 0 && !slices.Contains(began, m.Name) {
				err = fmt.Errorf("guard: on %s lies a datastore that was not founded from here", m.Name)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	errs := make([]error, len(ms))
	var wg sync.WaitGroup
	for i, m := range ms {
		wg.Go(func() {
			if errs[i] = r.startUnit(ctx, m.Name, "etcd.service"); errs[i] == nil {
				errs[i] = r.memberWell(ctx, m)
			}
		})
	}
	wg.Wait()
	for i, err := range errs {
		if err != nil {
			se := r.explain(ctx, plan.Step{Kind: s.Kind, Machine: ms[i].Name}, err)
			se.Machine = ms[i].Name
			return se
		}
	}
	fs := factsOf(r.Cluster)
	fs.Founded = time.Now().UTC()
	return r.Store.SaveFacts(fs)
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
	if _, isMember := ms[m.Name]; merr == nil && !isMember {
		var names []string
		for n := range ms {
			names = append(names, n)
		}
		slices.Sort(names)
		if err := r.born(ctx, &m, append(names, m.Name)); err != nil {
			return err
		}
		if err := d.AddLearner(ctx, nodeconf.Peer(m)); err != nil {
			return fmt.Errorf("adding a learner: %w", err)
		}
	}
	if err := r.startUnit(ctx, m.Name, "etcd.service"); err != nil {
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
	if err := r.Store.SaveMember(m.Name, members); err != nil {
		return err
	}
	m.Members, m.Founds = members, false
	r.mu.Lock()
	for i := range r.Cluster.Machines {
		if r.Cluster.Machines[i].Name == m.Name {
			r.Cluster.Machines[i].Members, r.Cluster.Machines[i].Founds = members, false
		}
	}
	r.mu.Unlock()
	return r.writeFiles(ctx, *m)
}

func (r *Run) memberWell(ctx context.Context, m topology.Machine) error {
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	return until(ctx, "its datastore member to be healthy", func(ctx context.Context) (string, error) {
		return "", d.Health(ctx, nodeconf.Datastore(m))
	})
}

// guardPatience is how long the quorum guard lets a member be slow before it
// takes it for ill.
const guardPatience = 10 * time.Second

// othersWell is the quorum guard: it asks the other members whether they are
// healthy before a voter is taken away.
func (r *Run) othersWell(ctx context.Context, name string) error {
	var last error
	gctx, cancel := context.WithTimeout(ctx, guardPatience)
	defer cancel()
	err := until(gctx, "the other members of the datastore", func(context.Context) (string, error) {
		err := r.askOthers(ctx, name)
		// Who is ill was learnt before; that nobody answered in time says less.
		if last == nil || !errors.Is(err, datastore.ErrNoQuorum) {
			last = err
		}
		return "", err
	})
	if err == nil || last == nil {
		return err
	}
	return last
}

// askOthers asks once.
func (r *Run) askOthers(ctx context.Context, name string) error {
	ms, err := r.members(ctx)
	if err != nil {
		return err
	}
	voters, healthy := 0, 0
	var ill []string
	for n, m := range ms {
		if m.Learner {
			continue
		}
		voters++
		if n == name {
			continue
		}
		if m.Healthy {
			healthy++
		} else {
			ill = append(ill, n+" ("+m.Trouble+")")
		}
	}
	if len(ill) > 0 {
		se := &StepError{Err: fmt.Errorf("guard: %s is not taken down, because of the other members of the datastore %s %s not healthy; %d of %d would be left and %d are a quorum",
			name, strings.Join(ill, ", "), map[bool]string{true: "is", false: "are"}[len(ill) == 1], healthy, voters, voters/2+1), Todo: "bring the others back first: converge switches machines on, status shows what ails them"}
		// What ails one stands in its own log, if its machine answers.
		for _, i := range ill {
			sick, _, _ := strings.Cut(i, " ")
			c, err := r.Machine(ctx, sick, 0)
			if err != nil {
				continue
			}
			us, _ := c.Units(ctx)
			for _, u := range us {
				if u.Name == "etcd.service" && u.State != "active" && se.Unit == "" {
					se.Unit, se.Exit = "etcd.service on "+sick, u.ExitCode
					se.Log, _ = c.Logs(ctx, u.Name, 6)
				}
			}
		}
		return se
	}
	return nil
}

// leave takes a member out, dead or alive, if the others are well.
func (r *Run) leave(ctx context.Context, s plan.Step) error {
	if err := r.othersWell(ctx, s.Machine); err != nil {
		return err
	}
	// An API server uses the member beside it: it stops first, in its own time,
	// so that the balancer notices and no request meets one without a datastore.
	if seen := r.View.Seen.Machines[s.Machine]; seen.Reached && seen.Units["kube-apiserver.service"] == "active" && !r.Cluster.Apart {
		err := r.on(ctx, s.Machine, func(c *machine.Machine) error {
			units := slices.Clone(nodeconf.UnitsOf(versions.API))
			slices.Reverse(units)
			return c.Do(ctx, protocol.UnitsStop, units...)
		})
		if err != nil {
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
	return r.Store.SaveMember(name, nil)
}
