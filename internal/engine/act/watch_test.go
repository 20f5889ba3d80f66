package act

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/machine"
	"verbund/internal/site"
)

// waiting is a step that waits for its machine for as long as it may.
func waiting(r *Run, kind plan.Kind, name string) plan.Step {
	r.guards = map[plan.Guard]func(*Run, context.Context, plan.Step, topology.Machine) error{
		"waits": func(_ *Run, ctx context.Context, _ plan.Step, _ topology.Machine) error {
			<-ctx.Done()
			return ctx.Err()
		},
	}
	return plan.Step{ID: string(kind) + "/" + name, Kind: kind, Machine: name, Text: "wait", Guards: []plan.Guard{"waits"}}
}

// A step whose machine goes dark ends at once and names it; one of a machine that has
// power, or of another cluster's that is dark, waits on, and so does what wakes a machine.
func TestWatchedForPower(t *testing.T) {
	for _, x := range []struct {
		what    string
		kind    plan.Kind
		machine site.Machine
		dark    bool
	}{
		{"switched off", plan.Ready, site.Machine{Power: site.PowerOff}, true},
		{"crashed", plan.Ready, site.Machine{Power: site.PowerCrashed, Trouble: "its zone was lost"}, true},
		{"on", plan.Ready, site.Machine{Power: site.PowerOn}, false},
		{"booting", plan.Ready, site.Machine{Power: site.PowerBooting}, false},
		{"another cluster's", plan.Ready, site.Machine{Power: site.PowerOff, Cluster: "lampwright"}, false},
		{"being woken", plan.Get, site.Machine{Power: site.PowerOff}, false},
	} {
		t.Run(x.what, func(t *testing.T) {
			t.Parallel()
			r, _ := run(t, nil)
			m := x.machine
			if m.Name = "tidewatch-gauges-1"; m.Cluster == "" {
				m.Cluster = r.Cluster.Name
			}
			r.Site = &sessiontest.Site{Has: site.Inventory{Machines: []site.Machine{m}}}
			hard, stop := context.WithTimeout(context.Background(), 4*watchEvery)
			defer stop()
			began := time.Now()
			err := r.Steps(hard, hard, []plan.Step{waiting(r, x.kind, m.Name)})
			var se *StepError
			named := errors.As(err, &se) && se.Machine == m.Name && strings.Contains(err.Error(), "machine tidewatch-gauges-1 went dark underway") && strings.Contains(err.Error(), m.Trouble)
			if named != x.dark || x.dark && time.Since(began) > 7*watchEvery/2 || !x.dark && !errors.Is(err, ErrInterrupted) {
				t.Errorf("after %s: %v", time.Since(began), err)
			}
		})
	}
}

// What went wrong at a machine is explained by its power, if that is gone; where the
// connection was lost, the site is given a moment to notice.
func TestDarkNow(t *testing.T) {
	lost := machine.ErrLost
	for _, x := range []struct {
		what   string
		step   plan.Step
		failed error
		after  int // looks, until the site notices; 0: never
		want   bool
	}{
		{"noticed at once", plan.Step{Kind: plan.Switch, Machine: "a"}, errors.New("x"), 1, true},
		{"noticed later", plan.Step{Kind: plan.Switch, Machine: "a"}, lost, 4, true},
		{"another failure is not waited for", plan.Step{Kind: plan.Switch, Machine: "a"}, errors.New("x"), 4, false},
		{"never", plan.Step{Kind: plan.Switch, Machine: "a"}, lost, 0, false},
		{"of the cluster", plan.Step{Kind: plan.Backup}, lost, 1, false},
		{"done to a dead one", plan.Step{Kind: plan.Release, Machine: "a"}, lost, 1, false},
		{"not there", plan.Step{Kind: plan.Switch, Machine: "b"}, lost, 1, false},
	} {
		r, _ := run(t, nil)
		looks := 0
		r.Site = &sessiontest.Site{Look: func(has *site.Inventory) {
			m := site.Machine{Name: "a", Cluster: r.Cluster.Name, Power: site.PowerOn}
			if looks++; x.after > 0 && looks >= x.after {
				m.Power = site.PowerCrashed
			}
			has.Machines = []site.Machine{m}
		}}
		err := r.darkNow(context.Background(), x.step, x.failed)
		var cut *powerCut
		if got := errors.As(err, &cut); got != x.want || got && cut.machine != "a" {
			t.Errorf("%s: %v", x.what, err)
		}
	}
}
