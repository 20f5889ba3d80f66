package controllers

import (
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
