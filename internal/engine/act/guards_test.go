package act

import (
	"context"
	"errors"
	"strings"
	"testing"

	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
)

// Every guard that a plan can name is evaluated by somebody.
func TestEveryGuardIsEvaluated(t *testing.T) {
	for _, g := range plan.Guards() {
		if guards[g] == nil {
			t.Errorf("nobody looks whether %s holds", g)
		}
		if g.Words() == "" {
			t.Errorf("%s has no words", g)
		}
	}
	if len(guards) != len(plan.Guards()) {
		t.Errorf("%d guards are evaluated, and there are %d", len(guards), len(plan.Guards()))
	}
}

// A step whose guard refuses is not begun, and what refused is reported; one that nobody
// can evaluate refuses.
func TestGuardsComeFirst(t *testing.T) {
	asked := 0
	r, told := run(t, func(context.Context, string) error { asked++; return nil })
	looked := []string{}
	refuses := errors.New("guard: not now")
	r.guards = map[plan.Guard]func(*Run, context.Context, plan.Step, topology.Machine) error{
		plan.OthersWell: func(_ *Run, _ context.Context, s plan.Step, _ topology.Machine) error {
			looked = append(looked, s.Machine)
			if s.Machine == "b" {
				return refuses
			}
			return nil
		},
	}
	guarded := func(name string, gs ...plan.Guard) plan.Step {
		s := release(name)
		s.Guards = gs
		return s
	}
	bg := context.Background()
	if err := r.Steps(bg, bg, []plan.Step{guarded("a", plan.OthersWell)}); err != nil || asked != 1 {
		t.Errorf("a guard that holds: %v, carried out %d times", err, asked)
	}
	err := r.Steps(bg, bg, []plan.Step{guarded("b", plan.OthersWell)})
	var se *StepError
	if !errors.As(err, &se) || !errors.Is(err, refuses) || asked != 1 {
		t.Errorf("a guard that refuses: %v, carried out %d times", err, asked)
	}
	if last := (*told)[len(*told)-1]; !strings.Contains(last.Error, "guard: not now") {
		t.Errorf("the journal tells of %+v", last)
	}
	if err := r.Steps(bg, bg, []plan.Step{guarded("c", "unheard-of")}); err == nil || !strings.Contains(err.Error(), `"unheard-of"`) || asked != 1 {
		t.Errorf("a guard that nobody knows: %v, carried out %d times", err, asked)
	}
	if strings.Join(looked, " ") != "a b" {
		t.Errorf("looked at %v", looked)
	}
}
