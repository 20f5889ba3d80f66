package controllers

import (
	"strings"
	"testing"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
)

// What must not be beside each other on a node is kept apart there, and nothing else is.
func TestApart(t *testing.T) {
	pod := func(uid, namespace, app string, key string) *corev1.Pod {
		p := &corev1.Pod{ObjectMeta: metav1.ObjectMeta{UID: types.UID(uid), Namespace: namespace, Labels: map[string]string{"app": app}}}
		if key != "" {
			p.Spec.Affinity = &corev1.Affinity{PodAntiAffinity: &corev1.PodAntiAffinity{RequiredDuringSchedulingIgnoredDuringExecution: []corev1.PodAffinityTerm{
				{LabelSelector: &metav1.LabelSelector{MatchLabels: map[string]string{"app": "gauge"}}, TopologyKey: key}}}}
		}
		return p
	}
	p := pod("1", "a", "gauge", corev1.LabelHostname)
	for _, x := range []struct {
		name  string
		p     *corev1.Pod
		there []*corev1.Pod
		want  bool
	}{
		{"nobody is there", p, nil, false},
		{"one of its kind", p, []*corev1.Pod{pod("2", "a", "gauge", "")}, true},
		{"itself", p, []*corev1.Pod{p}, false},
		{"one of another kind", p, []*corev1.Pod{pod("2", "a", "lamp", "")}, false},
		{"one of another namespace", p, []*corev1.Pod{pod("2", "b", "gauge", "")}, false},
		{"it does not mind", pod("1", "a", "gauge", ""), []*corev1.Pod{pod("2", "a", "gauge", "")}, false},
	} {
		if got := apart(x.p, x.there); got != x.want {
			t.Errorf("%s: %t", x.name, got)
		}
	}
}

// A required spread counts every node that it may go to, also a cordoned one.
func TestSpreads(t *testing.T) {
	gauge := map[string]string{"app": "gauge"}
	pod := func(app string, cs ...corev1.TopologySpreadConstraint) *corev1.Pod {
		return &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Namespace: "a", Labels: map[string]string{"app": app}}, Spec: corev1.PodSpec{TopologySpreadConstraints: cs}}
	}
	node := func(name, zone string) *corev1.Node {
		return &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: name, Labels: map[string]string{corev1.LabelHostname: name, corev1.LabelTopologyZone: zone}}}
	}
	nodes := []*corev1.Node{node("n1", "north"), node("n2", "north"), node("s1", "south"), {ObjectMeta: metav1.ObjectMeta{Name: "bare"}}}
	nodes[2].Spec.Unschedulable = true
	g := pod("gauge")
	leaving := pod("gauge")
	leaving.DeletionTimestamp = &metav1.Time{}
	other := pod("gauge")
	other.Namespace = "b"
	honour, four := corev1.NodeInclusionPolicyHonor, int32(4)
	host := corev1.TopologySpreadConstraint{MaxSkew: 1, TopologyKey: corev1.LabelHostname, WhenUnsatisfiable: corev1.DoNotSchedule, LabelSelector: &metav1.LabelSelector{MatchLabels: gauge}}
	with := func(change func(*corev1.TopologySpreadConstraint)) *corev1.Pod {
		c := host
		change(&c)
		return pod("gauge", c)
	}
	for _, x := range []struct {
		name string
		p    *corev1.Pod
		on   map[string][]*corev1.Pod
		want string // nodes that it may go to
	}{
		{"no wish", g, map[string][]*corev1.Pod{"n1": {g}}, "n1 n2 s1 bare"},
		{"nobody is there", pod("gauge", host), nil, "n1 n2 s1"},
		{"one on a node", pod("gauge", host), map[string][]*corev1.Pod{"n1": {g}}, "n2 s1"},
		{"the cordoned one is empty", pod("gauge", host), map[string][]*corev1.Pod{"n1": {g}, "n2": {g}}, "s1"},
		{"and does not count", with(func(c *corev1.TopologySpreadConstraint) { c.NodeTaintsPolicy = &honour }), map[string][]*corev1.Pod{"n1": {g}, "n2": {g}}, "n1 n2 s1"},
		{"leaving, of another kind, elsewhere", pod("gauge", host), map[string][]*corev1.Pod{"n1": {leaving}, "n2": {pod("lamp")}, "s1": {other}}, "n1 n2 s1"},
		{"zones", with(func(c *corev1.TopologySpreadConstraint) { c.TopologyKey = corev1.LabelTopologyZone }), map[string][]*corev1.Pod{"n1": {g}, "n2": {g}, "s1": {g}}, "s1"},
		{"two more", with(func(c *corev1.TopologySpreadConstraint) { c.MaxSkew = 2 }), map[string][]*corev1.Pod{"n1": {g}, "n2": {g}}, "n1 n2 s1"},
		{"too few domains", with(func(c *corev1.TopologySpreadConstraint) { c.MinDomains = &four }), map[string][]*corev1.Pod{"n1": {g}, "n2": {g}, "s1": {g}}, ""},
		{"only if it can", with(func(c *corev1.TopologySpreadConstraint) { c.WhenUnsatisfiable = corev1.ScheduleAnyway }), map[string][]*corev1.Pod{"n1": {g}}, "n1 n2 s1 bare"},
		{"not one of its kind", pod("lamp", host), map[string][]*corev1.Pod{"n1": {g}}, "n1 n2 s1"},
	} {
		even := spreads(x.p, nodes, x.on)
		var got []string
		for _, n := range nodes {
			if even(n) {
				got = append(got, n.Name)
			}
		}
		if strings.Join(got, " ") != x.want {
			t.Errorf("%s: %v, wanted %s", x.name, got, x.want)
		}
	}
}
