package look

import (
	"strings"
	"sync"
	"testing"
	"time"

	coordv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/engine/enginetest"
)

// What a backup says of a node is of then: one whose kubelet has not reported since the datastore
// was restored is not Ready, whatever its object says.
func TestUnheardSinceARestoration(t *testing.T) {
	since := time.Now().Add(-time.Minute)
	node := func(name string) *corev1.Node {
		return &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: name}, Status: corev1.NodeStatus{Conditions: []corev1.NodeCondition{{Type: corev1.NodeReady, Status: corev1.ConditionTrue}}}}
	}
	lease := func(name string, at time.Time) *coordv1.Lease {
		m := metav1.NewMicroTime(at)
		return &coordv1.Lease{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: corev1.NamespaceNodeLease}, Spec: coordv1.LeaseSpec{RenewTime: &m}}
	}
	w := enginetest.New(t, 1, node("tidewatch-gauges-1"), node("tidewatch-gauges-2"), node("tidewatch-gauges-3"),
		lease("tidewatch-gauges-1", since.Add(time.Second)), lease("tidewatch-gauges-2", since.Add(-time.Hour)))
	known := memory.New()
	seen := func() map[string]plan.NodeSeen {
		v := &View{Cluster: w.Cluster, Known: known, Seen: plan.Observed{Nodes: map[string]plan.NodeSeen{}, AddOns: map[string]plan.AddOnSeen{}}}
		var mu sync.Mutex
		lookAtAPI(t.Context(), w.Session, w.Cluster, v, &mu)
		if v.APIError != nil {
			t.Fatal(v.APIError)
		}
		return v.Seen.Nodes
	}
	for name, n := range seen() {
		if !n.Ready {
			t.Errorf("without a restoration, %s: %+v", name, n)
		}
	}
	known.Restoring = &memory.Restoring{ID: "r1", Backup: "x", Since: since, Founded: true}
	n := seen()
	if !n["tidewatch-gauges-1"].Ready {
		t.Errorf("one that reported: %+v", n["tidewatch-gauges-1"])
	}
	for _, name := range []string{"tidewatch-gauges-2", "tidewatch-gauges-3"} {
		if n[name].Ready || !strings.Contains(n[name].Trouble, "since the datastore was restored") {
			t.Errorf("%s: %+v", name, n[name])
		}
	}
}
