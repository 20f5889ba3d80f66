package act

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
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

// What goes through the balancer ends at once when that has lost its power, and names it; what
// does not waits on.
func TestWaitsForBalancer(t *testing.T) {
	c, err := coretest.Declare("schema: verbund/1\nname: tidewatch\nkubernetes: v1.37.2\nsite: estuary\nendpoint: {balancer: {size: small}}\ncontrol: {count: 3}\npools: [{name: gauges, count: 1}]\n", topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	b := c.Of(versions.Balancer)[0].Name
	worker, control := c.Of(versions.Worker)[0].Name, c.Of(versions.Control)[0].Name
	dark := map[string]string{b: "it is off"}
	for _, x := range []struct {
		kind    plan.Kind
		machine string
		want    string
	}{
		{plan.Ready, worker, b}, {plan.Node, worker, b}, {plan.Rest, control, b}, {plan.Return, worker, b}, {plan.Network, "", b},
		{plan.Ready, control, ""}, {plan.Pull, worker, ""}, {plan.Write, worker, ""}, {plan.Get, worker, ""}, {plan.Get, b, ""}, {plan.Backup, "", ""},
	} {
		if got := waitsFor(plan.Step{Kind: x.kind, Machine: x.machine}, c, dark); got != x.want {
			t.Errorf("%s of %q waits for %q", x.kind, x.machine, got)
		}
	}
	if got := waitsFor(plan.Step{Kind: plan.Return, Machine: worker}, c, map[string]string{control: "off"}); got != "" {
		t.Errorf("with the balancer there it waits for %q", got)
	}
}

// Stopped by a person, a run does not wait for what only waits; what changes something comes to
// its end.
func TestInterruptedWait(t *testing.T) {
	for kind, waits := range map[plan.Kind]bool{plan.Ready: true, plan.Verify: true, plan.Drain: true, plan.Soak: true, plan.Switch: false, plan.Member: false} {
		r, _ := run(t, nil)
		soft, interrupt := context.WithCancel(context.Background())
		hard, stop := context.WithTimeout(context.Background(), time.Minute)
		begun := make(chan struct{})
		r.guards = map[plan.Guard]func(*Run, context.Context, plan.Step, topology.Machine) error{"waits": func(_ *Run, ctx context.Context, _ plan.Step, _ topology.Machine) error {
			close(begun)
			<-ctx.Done()
			return ctx.Err()
		}}
		ended := make(chan error, 1)
		go func() {
			ended <- r.Steps(soft, hard, []plan.Step{{ID: "x", Kind: kind, Machine: "tidewatch-gauges-1", Text: "wait", Within: time.Hour, Guards: []plan.Guard{"waits"}}})
		}()
		<-begun
		interrupt()
		if !waits {
			select {
			case err := <-ended:
				t.Errorf("%s was cut off: %v", kind, err)
			case <-time.After(300 * time.Millisecond):
			}
			stop()
			<-ended
			continue
		}
		select {
		case err := <-ended:
			if !errors.Is(err, ErrInterrupted) {
				t.Errorf("%s: %v", kind, err)
			}
		case <-time.After(20 * time.Second):
			t.Errorf("%s is waited for", kind)
		}
		stop()
	}
}
