package look

import (
	"context"

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

// Ahead observes, limited to a part if one is named, and looks ahead: where machines are to
// give way to new ones, the cluster is looked at with the new ones declared. That is not
// remembered before somebody has agreed to it.
func Ahead(ctx context.Context, s *session.Session, part string) (*View, error) {
	s.Numbers = nil
	v, err := Observe(ctx, s)
	if err != nil {
		return nil, err
	}
	if err := Limit(s, v, part); err != nil {
		return nil, err
	}
	if Unseen(s, v) != nil {
		return v, nil
	}
	if s.Numbers = plan.Turn(v.Cluster, v.Seen, s.Cat); len(s.Numbers) == 0 {
		return v, nil
	}
	if v, err = Observe(ctx, s); err != nil {
		return nil, err
	}
	return v, Limit(s, v, part)
}

// Limit limits what is planned from a view to a part, if one is named.
func Limit(s *session.Session, v *View, part string) error {
	v.Seen.Part = part
	if part == "" {
		return nil
	}
	return plan.CheckPart(v.Cluster, v.Seen, part)
}

// Plan observes and computes what is to be done. Nothing is planned when the
// site was not seen: the error is NotSeen then.
func Plan(ctx context.Context, s *session.Session) (*plan.Plan, *View, error) {
	return PlanPart(ctx, s, "")
}
