package look

import (
	"testing"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/rehearse"
)

// Of what has a pod spread, that which is required is rehearsed, with whom it counts and where.
func TestSpread(t *testing.T) {
	pod := func(name, namespace, app, hash string) *corev1.Pod {
		return &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: namespace, Labels: map[string]string{"app": app, "hash": hash}}}
	}
	p := pod("a", "tides", "gauge", "1")
	p.Spec.NodeSelector = map[string]string{"work": "intake"}
	honour, ignore, two := corev1.NodeInclusionPolicyHonor, corev1.NodeInclusionPolicyIgnore, int32(2)
	gauges := &metav1.LabelSelector{MatchLabels: map[string]string{"app": "gauge"}}
	p.Spec.TopologySpreadConstraints = []corev1.TopologySpreadConstraint{
		{MaxSkew: 1, TopologyKey: corev1.LabelHostname, WhenUnsatisfiable: corev1.ScheduleAnyway, LabelSelector: gauges},
		{MaxSkew: 2, TopologyKey: corev1.LabelTopologyZone, WhenUnsatisfiable: corev1.DoNotSchedule, LabelSelector: gauges, MatchLabelKeys: []string{"hash"}, MinDomains: &two},
		{MaxSkew: 3, TopologyKey: "seamark.test/quay", WhenUnsatisfiable: corev1.DoNotSchedule, LabelSelector: gauges, NodeTaintsPolicy: &honour, NodeAffinityPolicy: &ignore},
	}
	labelled := map[string]*corev1.Pod{"tides/a": p}
	for _, o := range []*corev1.Pod{pod("same", "tides", "gauge", "1"), pod("older", "tides", "gauge", "0"), pod("lamp", "tides", "lamp", "1"), pod("else", "lamps", "gauge", "1")} {
		labelled[o.Namespace+"/"+o.Name] = o
	}
	got := spread(p, labelled)
	if len(got) != 2 || got[0].Skew != 2 || got[0].Min != 2 || got[1].Skew != 3 || got[1].Key != "seamark.test/quay" {
		t.Fatalf("it is %+v", got)
	}
	for name, want := range map[string][2]bool{"tides/a": {true, true}, "tides/same": {true, true}, "tides/older": {false, true}, "tides/lamp": {}, "lamps/else": {}, "tides/gone": {}} {
		o := &rehearse.Pod{Name: name}
		if of := [2]bool{got[0].Of(o), got[1].Of(o)}; of != want {
			t.Errorf("%s counts: %v, wanted %v", name, of, want)
		}
	}
	intake := map[string]string{"work": "intake", "seamark.test/quay": "3"}
	tainted := []rehearse.Taint{{Key: "work", Value: "forecast", Effect: "NoSchedule"}}
	for _, x := range []struct {
		name   string
		n      rehearse.Node
		closed bool
		at     [2]string
		on     [2]bool
	}{
		{"one of its own", rehearse.Node{Name: "n", Zone: "north", Labels: intake}, false, [2]string{"north", "3"}, [2]bool{true, true}},
		{"cordoned", rehearse.Node{Name: "n", Zone: "north", Labels: intake}, true, [2]string{"north", "3"}, [2]bool{true, false}},
		{"tainted", rehearse.Node{Name: "n", Zone: "south", Labels: intake, Taints: tainted}, false, [2]string{"south", "3"}, [2]bool{true, false}},
		{"not chosen", rehearse.Node{Name: "n", Zone: "south"}, false, [2]string{"south", ""}, [2]bool{false, true}},
	} {
		if at := [2]string{got[0].At(x.n), got[1].At(x.n)}; at != x.at {
			t.Errorf("%s is at %q, wanted %q", x.name, at, x.at)
		}
		if on := [2]bool{got[0].On(x.n, x.closed), got[1].On(x.n, x.closed)}; on != x.on {
			t.Errorf("%s is a domain: %v, wanted %v", x.name, on, x.on)
		}
	}
}
