package act

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
)

// guards evaluate every guard that a plan can name: nil lets the step begin.
var guards = map[plan.Guard]func(r *Run, ctx context.Context, s plan.Step, m topology.Machine) error{
	plan.OthersWell: func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error {
		return r.othersWell(ctx, s.Machine)
	},
	plan.OneJoins: func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error {
		return r.nobodyJoins(ctx, s.Machine)
	},
	plan.MayBegin: func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error { return r.mayBegin(ctx, s) },
	plan.OwnData:  func(r *Run, ctx context.Context, _ plan.Step, _ topology.Machine) error { return r.dataIsOurs(ctx) },
	plan.Emptied: func(r *Run, ctx context.Context, s plan.Step, _ topology.Machine) error {
		return r.canBeEmptied(ctx, s.Machine)
	},
}

// guarded evaluates the guards of a step, in their order, and then hears the applications: what
// may not begin at this hour does not need their word.
func (r *Run) guarded(ctx context.Context, s plan.Step, m topology.Machine) error {
	for _, g := range s.Guards {
		holds, ok := r.guards[g]
		if !ok {
			return fmt.Errorf("guard: nobody knows how to look whether %q holds", g)
		}
		if err := holds(r, ctx, s, m); err != nil {
			return err
		}
	}
	if s.Kind == plan.Wave || s.Group != "" && s.Kind.TakesOut() {
		return r.answersStill(ctx, s)
	}
	return nil
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
	err := session.Until(gctx, "the other members of the datastore", func(context.Context) (string, error) {
		err := r.askOthers(ctx, name)
		// Who is ill was learnt before; that nobody answered in time says less.
		if last == nil || !errors.Is(err, datastore.ErrNoQuorum) && gctx.Err() == nil {
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
	ill, said := plan.IllOthers(ms, name)
	if len(ill) == 0 {
		return nil
	}
	se := &StepError{Err: errors.New("guard: " + said), Todo: "bring the others back first: converge switches machines on, status shows what ails them"}
	// What ails one stands in its own log, if its machine answers.
	for _, sick := range ill {
		c, err := r.Machine(ctx, sick, 0)
		if err != nil {
			continue
		}
		us, _ := c.Units(ctx)
		for _, u := range us {
			if u.Name == nodeconf.UnitEtcd && u.State != "active" && se.Unit == "" {
				se.Unit, se.Exit = "etcd.service on "+sick, u.ExitCode
				se.Log, _ = c.Logs(ctx, u.Name, 6)
			}
		}
	}
	return se
}

// nobodyJoins holds when no other member is on its way to become a voter. A datastore
// that has lost its quorum cannot be asked, and may lack just this member.
func (r *Run) nobodyJoins(ctx context.Context, name string) error {
	ms, err := r.members(ctx)
	switch {
	case errors.Is(err, datastore.ErrNoQuorum):
		return nil
	case err != nil:
		return fmt.Errorf("guard: whether another member is still joining cannot be looked up: %w", err)
	}
	if other := plan.OtherLearner(ms, name); other != "" {
		return &StepError{Err: fmt.Errorf("guard: %s does not join the datastore while %s is still joining", name, other), Todo: "run converge again: it finishes with the other one first"}
	}
	return nil
}

// dataIsOurs holds when no member that is about to found the datastore has data of another.
func (r *Run) dataIsOurs(ctx context.Context) error {
	st, err := r.Store.Read()
	if err != nil {
		return err
	}
	for _, m := range r.Cluster.With(versions.Member) {
		// The plan has looked; a machine may have been given data since.
		err := r.With(ctx, m.Name, func(c session.Machine) error {
			log, err := c.List(ctx, nodeconf.DatastoreLog)
			if err == nil && len(log) > 0 && !slices.Contains(st.Founders, m.Name) {
				err = fmt.Errorf("guard: on %s lies a datastore that was not founded from here", m.Name)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// canBeEmptied holds when a node can be emptied, and loses nothing by it.
func (r *Run) canBeEmptied(ctx context.Context, node string) error {
	return r.withKube(func(k *kube.Client) error {
		pods, err := k.PodsOn(ctx, node)
		if err != nil {
			return err
		}
		// The plan has asked the same; something may have come since.
		lost, blocked, err := k.Unmovable(ctx, pods)
		if err != nil {
			return err
		}
		if r := plan.Undrainable(node, lost[node], blocked[node]); r != nil {
			return &StepError{Err: errors.New(r.What), Todo: r.Todo + "; then run converge again"}
		}
		return nil
	})
}
