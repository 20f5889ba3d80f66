package controllers

import (
	"testing"

	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/api/resource"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

func TestTolerated(t *testing.T) {
	work := corev1.Taint{Key: "work", Value: "night", Effect: corev1.TaintEffectNoSchedule}
	soft := corev1.Taint{Key: "soft", Effect: corev1.TaintEffectPreferNoSchedule}
	for _, x := range []struct {
		name  string
		tol   []corev1.Toleration
		taint []corev1.Taint
		want  bool
	}{
		{"no taint", nil, nil, true},
		{"plain", nil, []corev1.Taint{work}, false},
		{"preference only", nil, []corev1.Taint{soft}, true},
		{"same value", []corev1.Toleration{{Key: "work", Value: "night"}}, []corev1.Taint{work}, true},
		{"other value", []corev1.Toleration{{Key: "work", Value: "day"}}, []corev1.Taint{work}, false},
		{"exists", []corev1.Toleration{{Key: "work", Operator: corev1.TolerationOpExists}}, []corev1.Taint{work}, true},
		{"other effect", []corev1.Toleration{{Key: "work", Operator: corev1.TolerationOpExists, Effect: corev1.TaintEffectNoExecute}}, []corev1.Taint{work}, false},
		{"everything", []corev1.Toleration{{Operator: corev1.TolerationOpExists}}, []corev1.Taint{work, soft}, true},
	} {
		if got := tolerated(x.tol, x.taint, false); got != x.want {
			t.Errorf("%s: %v", x.name, got)
		}
	}
}

func TestFits(t *testing.T) {
	node := func(change func(*corev1.Node)) *corev1.Node {
		n := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "n", Labels: map[string]string{"zone": "north"}}, Status: corev1.NodeStatus{
			Conditions:  []corev1.NodeCondition{{Type: corev1.NodeReady, Status: corev1.ConditionTrue}},
			Allocatable: corev1.ResourceList{corev1.ResourceCPU: resource.MustParse("2"), corev1.ResourceMemory: resource.MustParse("4Gi"), corev1.ResourcePods: resource.MustParse("2")}}}
		change(n)
		return n
	}
	pod := func(cpu string) *corev1.Pod {
		return &corev1.Pod{Spec: corev1.PodSpec{Containers: []corev1.Container{{Resources: corev1.ResourceRequirements{Requests: corev1.ResourceList{corev1.ResourceCPU: resource.MustParse(cpu)}}}}}}
	}
	picky := pod("1")
	picky.Spec.NodeSelector = map[string]string{"zone": "south"}
	for _, x := range []struct {
		name  string
		pod   *corev1.Pod
		node  *corev1.Node
		there []*corev1.Pod
		want  bool
	}{
		{"empty node", pod("2"), node(func(*corev1.Node) {}), nil, true},
		{"too large", pod("2100m"), node(func(*corev1.Node) {}), nil, false},
		{"no room left", pod("1500m"), node(func(*corev1.Node) {}), []*corev1.Pod{pod("1")}, false},
		{"pods counted", pod("1m"), node(func(*corev1.Node) {}), []*corev1.Pod{pod("1m"), pod("1m")}, false},
		{"cordoned", pod("1"), node(func(n *corev1.Node) { n.Spec.Unschedulable = true }), nil, false},
		{"not ready", pod("1"), node(func(n *corev1.Node) { n.Status.Conditions[0].Status = corev1.ConditionFalse }), nil, false},
		{"other zone", picky, node(func(*corev1.Node) {}), nil, false},
	} {
		if got := fits(x.pod, x.node, x.there); got != x.want {
			t.Errorf("%s: %v", x.name, got)
		}
	}
}
