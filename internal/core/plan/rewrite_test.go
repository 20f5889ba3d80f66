package plan_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"verbund/internal/core/plan"
)

// Writing files that restart something is done with care: one control-plane
// machine after the other, out of the balancer meanwhile; then the workers in
// the batches of their pool.
func TestRewriting(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 4)
	everywhere := func(units ...string) plan.Observed {
		o := living(c, "v1.37.2")
		o.TrustMark = "new"
		for _, name := range []string{"fairway", "cluster-dns"} {
			a := o.AddOns[name]
			a.Trust = "old"
			o.AddOns[name] = a
		}
		for _, m := range c.Machines {
			seen(o, m.Name, func(s *plan.MachineSeen) {
				s.Differs = []string{"/etc/kubernetes/trust/cluster-authority.crt"}
				if !strings.Contains(m.Name, "balancer") {
					s.Restarts = units
				}
				if strings.Contains(m.Name, "gauges") {
					s.Restarts = slices.DeleteFunc(slices.Clone(units), func(u string) bool { return u == "kube-apiserver.service" || u == "etcd.service" })
				}
			})
		}
		return o
	}
	steps := func(p *plan.Plan) map[string]plan.Step {
		out := map[string]plan.Step{}
		for _, s := range p.Steps {
			out[s.ID] = s
		}
		return out
	}
	p := planFor(t, c, everywhere("etcd.service", "kube-apiserver.service", "kubelet.service"))
	by := steps(p)
	for id, needs := range map[string]string{
		"write/tidewatch-control-1":  "rest/tidewatch-control-1",
		"ready/tidewatch-control-1":  "write/tidewatch-control-1",
		"return/tidewatch-control-1": "ready/tidewatch-control-1",
		"rest/tidewatch-control-2":   "return/tidewatch-control-1",
		"rest/tidewatch-control-3":   "return/tidewatch-control-2",
		"rest/tidewatch-gauges-1":    "return/tidewatch-control-3",
		"rest/tidewatch-gauges-4":    "soak/gauges-1", // it stands where the first one does
		"rest/tidewatch-gauges-2":    "return/tidewatch-gauges-4",
		"rest/tidewatch-gauges-3":    "return/tidewatch-gauges-2",
		"write/tidewatch-gauges-3":   "rest/tidewatch-gauges-3",
		"network":                    "return/tidewatch-gauges-4",
	} {
		if s, ok := by[id]; !ok || !after(by, id, needs) {
			t.Errorf("%s needs %v, wanted %s before it", id, s.Needs, needs)
		}
	}
	if g := by["write/tidewatch-control-2"].Guards; len(g) != 1 || g[0] != plan.OthersWell {
		t.Errorf("guards of a restarted member: %v", g)
	}
	if !strings.Contains(by["write/tidewatch-control-1"].Text, "restart etcd.service") {
		t.Errorf("it does not say what restarts: %s", by["write/tidewatch-control-1"].Text)
	}
	if n := strings.Count(kinds(p.Steps), "ready/tidewatch-control-1"); n != 1 {
		t.Errorf("a machine is waited for %d times", n)
	}
	// Certificates that restart nothing keep the order, and nobody leaves the
	// balancer for them.
	p = planFor(t, c, everywhere())
	by = steps(p)
	for id, needs := range map[string]string{"write/tidewatch-control-2": "write/tidewatch-control-1", "write/tidewatch-gauges-1": "write/tidewatch-control-3", "write/tidewatch-gauges-3": "write/tidewatch-gauges-2"} {
		if s := by[id]; !after(by, id, needs) {
			t.Errorf("%s needs %v, wanted %s before it", id, s.Needs, needs)
		}
	}
	if strings.Contains(kinds(p.Steps), "rest/") {
		t.Errorf("machines are taken out of the balancer for nothing: %s", kinds(p.Steps))
	}
	// What else restarts nothing is written at once.
	names := living(c, "v1.37.2")
	for _, m := range c.Machines {
		seen(names, m.Name, func(s *plan.MachineSeen) { s.Differs = []string{"/etc/hosts"} })
	}
	by = steps(planFor(t, c, names))
	if s := by["write/tidewatch-gauges-3"]; len(s.Needs) > 0 {
		t.Errorf("a file that restarts nothing waits for %v", s.Needs)
	}
	// When an authority is distrusted at once nobody waits for anybody.
	o := everywhere("etcd.service", "kube-apiserver.service", "kubelet.service")
	o.Now = true
	for _, s := range planFor(t, c, o).Steps {
		if s.Kind == plan.Write && len(s.Needs) > 0 && !strings.Contains(s.Machine, "balancer") || s.Kind == plan.Rest {
			t.Errorf("%s waits for %v", s.ID, s.Needs)
		}
	}
	// A machine that has to enrol again is started after its files are written,
	// and goes back into the balancer after that.
	o = living(c, "v1.37.2")
	seen(o, "tidewatch-gauges-1", func(s *plan.MachineSeen) {
		s.Differs, s.Restarts, s.Enrols = []string{"/var/lib/kubelet/pki/kubelet-client-current.pem"}, []string{"kubelet.service"}, true
	})
	by = steps(planFor(t, c, o))
	if !slices.Contains(by["node/tidewatch-gauges-1"].Needs, "write/tidewatch-gauges-1") || !slices.Contains(by["return/tidewatch-gauges-1"].Needs, "ready/tidewatch-gauges-1") {
		t.Errorf("enrolling again: node after %v, return after %v", by["node/tidewatch-gauges-1"].Needs, by["return/tidewatch-gauges-1"].Needs)
	}
}

// What a control plane gains comes before the workers that need it; they are
// planned when it is there.
func TestControlPlaneGains(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 4)
	o := living(c, "v1.37.2")
	for _, m := range c.Machines {
		seen(o, m.Name, func(s *plan.MachineSeen) {
			s.Differs = []string{"/etc/verbund/machine.yaml"}
			switch {
			case strings.Contains(m.Name, "control"):
				delete(s.Versions, "request-approver")
				delete(s.Units, "request-approver.service")
			case strings.Contains(m.Name, "gauges"):
				s.Differs, s.Restarts = append(s.Differs, "/opt/verbund/active/etc/kubelet.yaml"), []string{"kubelet.service"}
			}
		})
	}
	p := planFor(t, c, o)
	k := kinds(p.Steps)
	if !p.More || strings.Contains(k, "/tidewatch-gauges") || strings.Contains(k, "verify") || strings.Count(k, "switch/tidewatch-control") != 3 {
		t.Errorf("more: %v, steps %s", p.More, k)
	}
	if text := text(p); !strings.Contains(text, "switch to a slot that has request-approver, too, and restart") {
		t.Errorf("the plan:\n%s", text)
	}
}

// Certificates with new names are everywhere before members ask for them.
func TestNamesFirst(t *testing.T) {
	c := cluster(t, "v1.37.2", 3, 1)
	both := func() plan.Observed {
		o := living(c, "v1.37.2")
		for _, m := range c.Machines {
			if strings.Contains(m.Name, "control") {
				seen(o, m.Name, func(s *plan.MachineSeen) {
					s.Differs = []string{"/etc/kubernetes/trust/api-server-datastore.crt", "/etc/kubernetes/trust/datastore-peer.crt", "/opt/verbund/active/etc/etcd.yaml"}
					s.Restarts = []string{"etcd.service"}
				})
			}
		}
		return o
	}
	p := planFor(t, c, both())
	if k := kinds(p.Steps); !p.More || k != "vouch/tidewatch-control-1 vouch/tidewatch-control-2 vouch/tidewatch-control-3" || !slices.Contains(p.Steps[1].Needs, "vouch/tidewatch-control-1") {
		t.Errorf("more: %v, steps %s", p.More, k)
	}
	// Where one or the other differs there is nothing to wait for.
	for _, left := range []int{2, 1} {
		o := both()
		for i := range 3 {
			seen(o, fmt.Sprintf("tidewatch-control-%d", i+1), func(s *plan.MachineSeen) {
				if s.Differs = s.Differs[:2]; left == 1 {
					s.Differs = []string{"/opt/verbund/active/etc/etcd.yaml"}
				}
			})
		}
		if p := planFor(t, c, o); p.More || strings.Contains(kinds(p.Steps), "vouch") {
			t.Errorf("more: %v, steps %s", p.More, kinds(p.Steps))
		}
	}
	// One that cannot be looked into is woken before.
	o := both()
	seen(o, "tidewatch-control-3", func(s *plan.MachineSeen) { s.Reached, s.Differs = false, nil })
	if k := kinds(planFor(t, c, o).Steps); strings.Contains(k, "vouch") || !strings.Contains(k, "get/tidewatch-control-3") {
		t.Errorf("steps %s", k)
	}
}

// after says whether a step waits for another one, also by way of others.
func after(by map[string]plan.Step, id, needs string) bool {
	return slices.ContainsFunc(by[id].Needs, func(n string) bool { return n == needs || after(by, n, needs) })
}
