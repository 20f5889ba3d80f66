package plan_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
)

// A copy is founded from a backup and not otherwise; nothing that acts starts in it, nothing is
// installed or taken out, whatever its API shows; and it never becomes a cluster like others.
func TestCopy(t *testing.T) {
	c := declared(t, "copyOf: coast\ncontrol: {nodes: false}\n")
	o := plan.Observed{Machines: map[string]plan.MachineSeen{}}
	var r *plan.Refusal
	if _, err := plan.Make(c, o, versions.Shipped()); !errors.As(err, &r) || !strings.Contains(r.Error(), "would hold nothing; found it from a backup of coast") {
		t.Errorf("without a backup: %v", err)
	}
	o.Restores = &plan.Restores{ID: "then", Backup: "before-the-fair"}
	p, err := plan.Make(c, o, versions.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	if s := text(p); !strings.Contains(s, "found the datastore from backup before-the-fair") || !strings.Contains(s, "start the API server") || strings.Contains(s, "scheduler") || len(p.Endangers) > 0 {
		t.Errorf("%s\n%v", s, p.Endangers)
	}
	// What the backup held: nodes of coast, one of whose names could be the copy's own.
	o = living(c, "v1.37.2")
	o.Roles, o.AddOns = false, nil
	o.Nodes["coast-control-1"], o.Nodes["tidewatch-gauges-1"] = plan.NodeSeen{Ready: true}, plan.NodeSeen{}
	if p, err := plan.Make(c, o, versions.Shipped()); err != nil || len(p.Steps) > 0 || p.More {
		t.Errorf("%v\n%s", err, text(p))
	}
	if ails := plan.Ails(c, o, plan.Unseen{}, time.Now()); len(ails) > 0 {
		t.Errorf("it ails: %v", ails)
	}
	was := plan.FactsOf(c)
	whole := declared(t, "control: {nodes: false}\n")
	is := plan.FactsOf(whole)
	if plan.Unchanged(whole, &was) == nil || plan.Unchanged(c, &is) == nil || plan.Unchanged(c, &was) != nil {
		t.Error("a copy becomes a cluster like others, or the other way round")
	}
}
