package look

import (
	"testing"

	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/api/resource"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"

	"verbund/internal/core/rehearse"
	"verbund/internal/engine/sessiontest"
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

// What a pod asks for counts as the scheduler counts it, whether or not a drain moves it: what is
// left of a node is what is left.
func TestRoom(t *testing.T) {
	want := func(cpu, memory string) corev1.ResourceRequirements {
		return corev1.ResourceRequirements{Requests: corev1.ResourceList{corev1.ResourceCPU: resource.MustParse(cpu), corev1.ResourceMemory: resource.MustParse(memory)}}
	}
	always, yes := corev1.ContainerRestartPolicyAlways, true
	pod := func(name, kind string, phase corev1.PodPhase) corev1.Pod {
		return corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: "tides", UID: types.UID(name), OwnerReferences: []metav1.OwnerReference{{Kind: kind, Name: "x", Controller: &yes}}},
			Spec: corev1.PodSpec{NodeName: "n", Containers: []corev1.Container{{Resources: want("500m", "256Mi")}}}, Status: corev1.PodStatus{Phase: phase}}
	}
	heavy := pod("heavy", "ReplicaSet", corev1.PodRunning)
	heavy.Spec.InitContainers = []corev1.Container{{Resources: want("100m", "64Mi"), RestartPolicy: &always}, {Resources: want("1", "1Gi")}}
	heavy.Spec.Overhead = corev1.ResourceList{corev1.ResourceCPU: resource.MustParse("50m")}
	static := pod("static", "Node", corev1.PodRunning)
	static.Annotations = map[string]string{corev1.MirrorPodAnnotationKey: "x"}
	node := corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "n"}, Status: corev1.NodeStatus{Allocatable: corev1.ResourceList{corev1.ResourceCPU: resource.MustParse("2"), corev1.ResourceMemory: resource.MustParse("4Gi")}}}
	in := &rehearse.Input{}
	inhabited(in, &View{Cluster: sessiontest.Cluster(t, 1), Nodes: []corev1.Node{node}},
		[]corev1.Pod{heavy, pod("daemon", "DaemonSet", corev1.PodRunning), static, pod("over", "DaemonSet", corev1.PodFailed), pod("ended", "ReplicaSet", corev1.PodSucceeded)}, nil, nil)
	if got := in.Nodes[0].Stays; got != (rehearse.Share{CPU: 1000, Memory: 512 << 20}) {
		t.Errorf("what stays has %+v", got)
	}
	asked := map[string][2]int64{}
	for _, p := range in.Pods {
		asked[p.Name] = [2]int64{p.CPU, p.Memory}
	}
	// The init container runs beside the sidecar, and asks for more than what runs after it.
	if got := asked["tides/heavy"]; got != [2]int64{1150, (1024 + 64) << 20} {
		t.Errorf("heavy asks for %v", got)
	}
	if got := asked["tides/ended"]; got != [2]int64{} {
		t.Errorf("one that is over asks for %v", got)
	}
}
