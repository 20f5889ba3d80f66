package controllers

import (
	"errors"
	"testing"
	"time"

	coordv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/api/resource"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/kubernetes/fake"
	"k8s.io/client-go/tools/record"

	"verbund/internal/kubeapi/kubeapitest"
)

// A node is silent when its lease is not renewed at the API; one that seems so
// only in a cache that lags is not, nor one that the leader has only just seen.
func TestNodeLife(t *testing.T) {
	node := func(name string) *corev1.Node {
		return &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: name, UID: types.UID(name)}, Status: corev1.NodeStatus{Conditions: []corev1.NodeCondition{{Type: corev1.NodeReady, Status: corev1.ConditionTrue}}}}
	}
	began := time.Now()
	lease := func(name string, renewed time.Duration) *coordv1.Lease {
		at := metav1.NewMicroTime(began.Add(renewed))
		return &coordv1.Lease{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: "kube-node-lease"}, Spec: coordv1.LeaseSpec{RenewTime: &at}}
	}
	c := kubeapitest.Over(&fake.NewClientset().Fake)
	s := &state{c: c, events: record.NewFakeRecorder(10), grace: time.Hour, heard: map[types.UID]heard{}, nodes: c.CoreV1().Nodes().Cache(), pods: c.CoreV1().Pods("").Cache(), leases: c.CoordinationV1().Leases("").Cache()}
	for _, name := range []string{"lags", "silent", "well"} {
		old := lease(name, -24*time.Hour) // the API was away for a day
		_, err := c.CoreV1().Nodes().Create(t.Context(), node(name), metav1.CreateOptions{})
		_, lerr := c.CoordinationV1().Leases("kube-node-lease").Create(t.Context(), old, metav1.CreateOptions{})
		if err = errors.Join(err, lerr, s.nodes.GetStore().Add(node(name)), s.leases.GetStore().Add(old)); err != nil {
			t.Fatal(err)
		}
	}
	look := func(want map[string]corev1.ConditionStatus) {
		t.Helper()
		if err := s.nodeLife(t.Context()); err != nil {
			t.Fatal(err)
		}
		for name, want := range want {
			n, err := c.CoreV1().Nodes().Get(t.Context(), name, metav1.GetOptions{})
			if err != nil {
				t.Fatal(err)
			}
			if got := n.Status.Conditions[0].Status; got != want || len(n.Spec.Taints) > 0 != (want == corev1.ConditionUnknown) {
				t.Errorf("node %s: Ready %s, taints %v; wanted %s", name, got, n.Spec.Taints, want)
			}
		}
	}
	look(map[string]corev1.ConditionStatus{"lags": corev1.ConditionTrue, "silent": corev1.ConditionTrue, "well": corev1.ConditionTrue})
	// All of that is longer ago than a node may be silent.
	for name, h := range s.heard {
		h.at = h.at.Add(-2 * time.Hour)
		s.heard[name] = h
	}
	for _, name := range []string{"lags", "well"} {
		if _, err := c.CoordinationV1().Leases("kube-node-lease").Update(t.Context(), lease(name, 0), metav1.UpdateOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.leases.GetStore().Update(lease("well", 0)); err != nil {
		t.Fatal(err)
	}
	look(map[string]corev1.ConditionStatus{"lags": corev1.ConditionTrue, "silent": corev1.ConditionUnknown, "well": corev1.ConditionTrue})
}

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
