package look

import (
	"context"
	"fmt"

	"verbund/internal/core/plan"
	"verbund/internal/engine/session"
)

// PlanOf computes the plan from what was seen; if the site was not, there is none.
func PlanOf(s *session.Session, v *View) (*plan.Plan, error) {
	if err := Unseen(s, v); err != nil {
		return nil, err
	}
	return plan.Make(v.Cluster, v.Seen, s.Cat)
}

// PlanPart is Plan for a run that is limited to a part, if one is named: what
// cannot be done elsewhere is no bar to it.
func PlanPart(ctx context.Context, s *session.Session, part string) (*plan.Plan, *View, error) {
	v, err := Ahead(ctx, s, part)
	if err != nil {
		return nil, nil, err
	}
	p, err := PlanOf(s, v)
	return p, v, err
}

// Ahead observes, limited to a part if one is named, and looks ahead: on a way over several
// minors with the next hop in the place of what is declared, and where machines are to give
// way to new ones, with the new ones declared. The latter is not remembered before somebody
// has agreed to it.
func Ahead(ctx context.Context, s *session.Session, part string) (*View, error) {
	var aim plan.Aim
	for {
		v, err := ObserveAs(ctx, s, aim)
		if err != nil {
			return nil, err
		}
		if err := Limit(s, v, part); err != nil {
			return v, err
		}
		if Unseen(s, v) != nil {
			return v, nil
		}
		var again bool
		if aim, again, err = plan.AimAt(aim, v.Cluster, v.Seen, s.Cat); err != nil {
			return nil, err
		}
		if !again {
			return v, nil
		}
	}
}

// PlanAhead is the plan from what was seen, looked ahead where that is needed.
func PlanAhead(ctx context.Context, s *session.Session, v *View) (*plan.Plan, error) {
	_, again, err := plan.AimAt(v.Aim, v.Cluster, v.Seen, s.Cat)
	if err != nil {
		return nil, err
	}
	if !again {
		return PlanOf(s, v)
	}
	p, _, err := PlanPart(ctx, s, v.Seen.Part)
	return p, err
}

// Limit limits what is planned from a view to a part, if one is named.
func Limit(s *session.Session, v *View, part string) error {
	v.Seen.Part = part
	if part == "" {
		return nil
	}
	return plan.CheckPart(v.Cluster, v.Seen, part)
}

// PlanNow observes and computes what is to be done with the machines that there are, and looks
// no further ahead: whoever writes something to all of them has it done with these.
func PlanNow(ctx context.Context, s *session.Session) (*plan.Plan, *View, error) {
	v, err := Observe(ctx, s)
	if err != nil {
		return nil, nil, err
	}
	if r := v.Seen.Restores; r != nil {
		return nil, nil, fmt.Errorf("the restoration of backup %s is underway in cluster %s; finish it first: verbund backup restore", r.Backup, s.Decl.Name)
	}
	p, err := PlanOf(s, v)
	return p, v, err
}

// Plan observes and computes what is to be done. Nothing is planned when the
// site was not seen: the error is NotSeen then.
func Plan(ctx context.Context, s *session.Session) (*plan.Plan, *View, error) {
	return PlanPart(ctx, s, "")
}
