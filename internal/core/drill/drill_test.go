package drill

import (
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/declare"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// facts are those of a cluster of three, whose second machine leads.
func facts(t *testing.T, control, workers int) Facts {
	t.Helper()
	c, err := coretest.Cluster("v1.37.2", control, workers, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	f := Facts{Cluster: c, Faults: []string{"cut-power", "power"}}
	for a, b := range declare.DrillFaults {
		f.Faults = append(f.Faults, a, b)
	}
	if control > 1 {
		f.Leader = c.Machines[1].Name
	} else {
		f.Leader = c.Machines[0].Name
	}
	return f
}

// Every shipped drill can be carried out as it stands, says what it supposes and whom it hits,
// and ends by waiting until all is well.
func TestShipped(t *testing.T) {
	seen := map[string]bool{}
	for _, d := range Shipped() {
		if seen[d.Name] || d.Supposes == "" || d.Hits == "" || len(d.Steps) == 0 {
			t.Errorf("%+v", d)
			continue
		}
		seen[d.Name] = true
		for i, s := range d.Steps {
			for _, w := range s.Wrong() {
				t.Errorf("drill %s, step %d %s", d.Name, i+1, w[0])
			}
			if m, ok := Mends(s.Fault); ok && !slices.ContainsFunc(d.Steps[i:], func(x declare.DrillStep) bool { return x.Fault == m && x.At == s.At }) {
				t.Errorf("drill %s does not mend %s itself", d.Name, s.Fault)
			}
		}
		if last := d.Steps[len(d.Steps)-1]; last.Until != "well" {
			t.Errorf("drill %s does not wait until all is well", d.Name)
		}
	}
	if len(seen) < 15 {
		t.Errorf("%d drills are shipped", len(seen))
	}
	own := declare.Drill{Name: "zone-cut", Supposes: "another"}
	all := All(topology.Endpoint{By: topology.ByBalancer}, []declare.Drill{own})
	if len(all) != len(seen) || all[len(all)-1].Supposes != "another" {
		t.Errorf("a declared drill does not take the place of a shipped one: %d of %d", len(all), len(seen))
	}
	// Whoever carries a virtual address keeps it until its lease has ended: that is no fault.
	for i, d := range All(topology.Endpoint{By: topology.ByCarrier}, nil) {
		behind := Shipped()[i].Holds.Pause
		if longer := time.Duration(d.Holds.Pause - behind); behind > 0 && longer < topology.CarrierLease || behind == 0 && longer != 0 {
			t.Errorf("drill %s allows a pause of %s at a virtual address, and of %s behind a balancer", d.Name, d.Holds.Pause, behind)
		}
	}
}

// Places are machines and zones of this cluster: those whose loss it is to survive.
func TestWhere(t *testing.T) {
	f := facts(t, 3, 4)
	leader := f.Cluster.Machines[1]
	one := func(at string) string {
		t.Helper()
		ms, _, err := f.Where(at)
		if err != nil || len(ms) != 1 {
			t.Fatalf("%s is %v, %v", at, ms, err)
		}
		return ms[0]
	}
	if got := one("leader"); got != leader.Name {
		t.Errorf("the leader is %s", got)
	}
	for _, at := range []string{"control", "member"} {
		if got := one(at); got == leader.Name {
			t.Errorf("%s is the leader", at)
		}
	}
	if got, _, err := f.Where("majority"); err != nil || len(got) != 2 || got[0] != leader.Name {
		t.Errorf("the majority is %v, %v", got, err)
	}
	machines, zone, err := f.Where("zone")
	if err != nil || zone == "" {
		t.Fatalf("the zone is %q, %v", zone, err)
	}
	members := 0
	for _, n := range machines {
		m, _ := f.Cluster.Machine(n)
		if m.Zone != zone || strings.Contains(n, "balancer") {
			t.Errorf("%s is in zone %s", n, zone)
		}
		if strings.Contains(n, "control") {
			members++
		}
	}
	if members != 1 {
		t.Errorf("zone %s has %d of three members", zone, members)
	}
	if w := one("worker"); !strings.HasPrefix(w, "tidewatch-"+f.Cluster.Of(versions.Worker)[0].Pool+"-") {
		t.Errorf("the worker is %s", w)
	}
	for at, why := range map[string]string{"holder": "no virtual address", "nowhere": "no pool, machine or zone nowhere", "": "no pool, machine or zone"} {
		if _, _, err := f.Where(at); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%q: %v", at, err)
		}
	}
	// A machine, a pool, a zone by their names; whoever carries the address, and a control-plane
	// machine that does neither that nor lead.
	api := f.Cluster.With(versions.API)
	f.Leader, f.Holder = api[2].Name, api[1].Name
	if got := one("holder"); got != f.Holder {
		t.Errorf("the holder is %s", got)
	}
	if got := one("control"); got != api[0].Name {
		t.Errorf("the machine that neither leads nor carries is %s", got)
	}
	if got := one(api[1].Name); got != api[1].Name {
		t.Errorf("%s is %s", api[1].Name, got)
	}
	pool := f.Cluster.Of(versions.Worker)[0].Pool
	if got, z, err := f.Where(pool); err != nil || z != "" || len(got) != 4 {
		t.Errorf("pool %s is %v in zone %q, %v", pool, got, z, err)
	}
	if got, z, err := f.Where(api[0].Zone); err != nil || z != api[0].Zone || !slices.Contains(got, api[0].Name) {
		t.Errorf("zone %s is %v in zone %q, %v", api[0].Zone, got, z, err)
	}
	// A zone with a balancer, or with a majority of the members, is none to be lost.
	closed := map[string]bool{}
	for i, m := range f.Cluster.Machines {
		if m.Is(versions.Balances) {
			f.Cluster.Machines[i].Zone = f.Cluster.Machines[1].Zone
			closed[f.Cluster.Machines[i].Zone] = true
		}
	}
	if _, z, err := f.Where("zone"); err != nil || closed[z] {
		t.Errorf("the zone is %q, %v", z, err)
	}
	for i := range f.Cluster.Machines {
		if f.Cluster.Machines[i].Is(versions.Member) {
			f.Cluster.Machines[i].Zone = "all-of-them"
		}
	}
	if got, z, err := f.Where("zone"); err == nil {
		t.Errorf("a zone with all members is %v in %q", got, z)
	}
	// One machine alone is nothing that could be lost.
	f = facts(t, 1, 1)
	for _, at := range []string{"control", "member", "majority", "zone", "worker"} {
		if ms, _, err := f.Where(at); err == nil {
			t.Errorf("of one machine %s is %v", at, ms)
		}
	}
}

// A script names everybody; what this site or cluster cannot do is said before anything is
// done.
func TestScript(t *testing.T) {
	f := facts(t, 3, 4)
	step := func(s ...declare.DrillStep) declare.Drill { return declare.Drill{Name: "d", Steps: s} }
	got, err := f.Script(step(declare.DrillStep{Fault: "cut-power", At: "leader"}, declare.DrillStep{Run: "replace {worker}", Killed: 3},
		declare.DrillStep{Fault: "damaged-blob", At: "kubelet:{version}"}, declare.DrillStep{Fault: "cut-network", At: "zone"}, declare.DrillStep{Until: "writes"}, declare.DrillStep{Ages: "api-server", At: "leader"}, declare.DrillStep{Run: "converge"}, declare.DrillStep{Run: "prove", Fails: true}))
	if err != nil {
		t.Fatal(err)
	}
	w, _, _ := f.Where("worker")
	for i, want := range []string{"cut-power of " + f.Leader, "verbund replace " + w[0] + ", killed after 3 entries of its journal", "damaged-blob of kubelet:v1.37.2", "cut-network of zone ", "wait for the API to take writes", "give " + f.Leader + " certificate api-server anew, with its end 2m away", "verbund converge", "verbund prove, which is to fail"} {
		if text := got[i].InWords(); !strings.HasPrefix(text, want) || i == 6 && text != want {
			t.Errorf("step %d is %q, wanted %q", i+1, text, want)
		}
	}
	if time.Duration(got[4].Within) != usual {
		t.Errorf("it is waited for %s", got[4].Within)
	}
	for want, s := range map[string]declare.DrillStep{
		"is no zone":                {Fault: "cut-network", At: "gauges-none"},
		"wants one machine":         {Run: "replace {majority}"},
		"brace":                     {Run: "replace {worker"},
		"is to end on one machine":  {Ages: "api-server", At: "majority"},
		"does two things at once":   {Run: "converge", Until: "well"},
		"cannot make slow-disk":     {Fault: "slow-disk", At: "leader"},
		"too few members to have a": {Fault: "cut-power", At: "majority"},
	} {
		f := f
		switch s.Fault {
		case "slow-disk":
			f.Faults = []string{"cut-power"}
		case "cut-power":
			f = facts(t, 1, 1)
		case "cut-network":
			s.At = "leader"
			f.Cluster.Machines[1].Zone = ""
		}
		if _, err := f.Script(step(s)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, wanted %q", s, err, want)
		}
	}
}

// What was measured is held against what was supposed: each limit by itself, and nothing
// holds of which nothing is known.
func TestJudge(t *testing.T) {
	none := 0
	d := declare.Drill{Holds: declare.DrillHolds{Pause: declare.Duration(5 * time.Second), Failed: &none}}
	good := func() Measured {
		return Measured{Writes: 100, Pause: 4 * time.Second, ReadBack: true, Watches: []rollout.Figures{{Answers: 50}}}
	}
	broken := func(m Measured, a After) (out []string) {
		for _, c := range Judge(d, m, a) {
			if !c.Holds {
				out = append(out, c.What)
			}
		}
		return out
	}
	if got := broken(good(), After{}); len(got) > 0 {
		t.Errorf("all is well, and broken are %v", got)
	}
	for want, change := range map[string]func(*Measured, *After){
		"the API takes writes":           func(m *Measured, _ *After) { m.Pause = 6 * time.Second },
		"what was acknowledged is kept":  func(m *Measured, _ *After) { m.Lost = []string{"w"} },
		"applications answer":            func(m *Measured, _ *After) { m.Watches[0].Failed = 1 },
		"the cluster is well afterwards": func(_ *Measured, a *After) { a.Ailing = []string{"x"} },
		"nodes take pods as before":      func(_ *Measured, a *After) { a.Cordoned = []string{"x"} },
		"nothing was made twice":         func(_ *Measured, a *After) { a.Twice = []string{"x"} },
		"everything was put right":       func(_ *Measured, a *After) { a.Unmended = []string{"x"} },
	} {
		m, a := good(), After{}
		change(&m, &a)
		if got := broken(m, a); !slices.Equal(got, []string{want}) {
			t.Errorf("broken are %v, wanted %s", got, want)
		}
	}
	// What was found is said in words, and what was not found, too.
	m := good()
	m.Lost = []string{"w"}
	said := map[string]string{}
	for _, c := range Judge(d, m, After{Ailing: []string{"x", "y"}}) {
		said[c.What] = c.Measured
	}
	if said["what was acknowledged is kept"] != "1 of 100 lost" || said["the cluster is well afterwards"] != "x; y" || said["nodes take pods as before"] != "none" {
		t.Errorf("said is %q", said)
	}
	if text := m.String(); !strings.HasSuffix(text, "; 1 of them lost") {
		t.Errorf("measured is %q", text)
	}
	m = good()
	if text := m.String(); !strings.HasSuffix(text, "; none lost") {
		t.Errorf("measured is %q", text)
	}
	m.ReadBack = false
	if text := m.String(); !strings.HasSuffix(text, "it was not looked whether they are there") {
		t.Errorf("measured is %q", text)
	}
	if c := Judge(d, m, After{})[1]; c.Measured != "it could not be read back" {
		t.Errorf("what nobody looked at is %+v", c)
	}
	if got := broken(m, After{}); !slices.Equal(got, []string{"what was acknowledged is kept"}) {
		t.Errorf("nobody looked, and broken are %v", got)
	}
	m = Measured{ReadBack: true}
	if got := broken(m, After{}); len(got) != 2 {
		t.Errorf("nothing was written, and broken are %v", got)
	}
	if (&Report{}).Holds() || (&Report{Claims: []Claim{{Holds: true}}, Unable: "x"}).Holds() || !(&Report{Claims: []Claim{{Holds: true}}}).Holds() {
		t.Error("a report holds that shows nothing, or does not that shows everything")
	}
}

// The longest pause is where no write was acknowledged, at the end and at the beginning, too.
func TestPaused(t *testing.T) {
	for _, c := range []struct {
		acks     []float64
		from, to float64
	}{{[]float64{1, 2, 5, 6}, 2, 5}, {[]float64{4, 5, 6}, 0, 4}, {[]float64{1, 2}, 2, 7}, {nil, 0, 7}} {
		if from, to := (Measured{Acks: c.acks, Seconds: 7}).Paused(); from != c.from || to != c.to {
			t.Errorf("of %v it is %v to %v, wanted %v to %v", c.acks, from, to, c.from, c.to)
		}
	}
}
