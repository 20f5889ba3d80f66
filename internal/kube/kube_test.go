package kube

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/kubernetes/fake"
	k8stesting "k8s.io/client-go/testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/topology"
	"verbund/internal/kubeapi/kubeapitest"
)

func pod(name, owner string, change func(*corev1.Pod)) *corev1.Pod {
	p := &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: "default", UID: types.UID("uid-" + name), Labels: map[string]string{"app": "tide"}}, Spec: corev1.PodSpec{NodeName: "n"}}
	if owner != "" {
		yes := true
		p.OwnerReferences = []metav1.OwnerReference{{Kind: owner, Name: "o", Controller: &yes}}
	}
	if change != nil {
		change(p)
	}
	return p
}

func TestEvictable(t *testing.T) {
	pods := []corev1.Pod{
		*pod("set", "ReplicaSet", nil),
		*pod("daemon", "DaemonSet", nil),
		*pod("mirror", "", func(p *corev1.Pod) { p.Annotations = map[string]string{corev1.MirrorPodAnnotationKey: "x"} }),
		*pod("alone", "", nil),
		*pod("done", "", func(p *corev1.Pod) { p.Status.Phase = corev1.PodSucceeded }),
		*pod("data", "ReplicaSet", func(p *corev1.Pod) {
			p.Spec.Volumes = []corev1.Volume{{Name: "v", VolumeSource: corev1.VolumeSource{EmptyDir: &corev1.EmptyDirVolumeSource{}}}}
		}),
	}
	evict, lost := Evictable(pods, nil)
	var names []string
	for _, p := range evict {
		names = append(names, p.Name)
	}
	if !slices.Equal(names, []string{"set", "done"}) {
		t.Errorf("evictable: %v", names)
	}
	if why := reasons(lost); why != "pod default/alone has no controller that would make it again; pod default/data keeps data in an emptyDir volume" {
		t.Errorf("lost: %s", why)
	}
}

func budget(name string, desired, expected int32) *policyv1.PodDisruptionBudget {
	return &policyv1.PodDisruptionBudget{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: "default"},
		Spec:   policyv1.PodDisruptionBudgetSpec{Selector: &metav1.LabelSelector{MatchLabels: map[string]string{"app": "tide"}}},
		Status: policyv1.PodDisruptionBudgetStatus{DesiredHealthy: desired, ExpectedPods: expected}}
}

// What would never move is found before anything is evicted.
func TestUnmovable(t *testing.T) {
	for _, x := range []struct {
		name    string
		objects []runtime.Object
		want    string
		may     []string // be lost
	}{
		{"free", []runtime.Object{pod("a", "ReplicaSet", nil)}, "", nil},
		{"room", []runtime.Object{pod("a", "ReplicaSet", nil), budget("b", 1, 2)}, "", nil},
		{"never", []runtime.Object{pod("a", "ReplicaSet", nil), budget("b", 2, 2)}, "budget default/b wants all 2 pods", nil},
		{"two budgets", []runtime.Object{pod("a", "ReplicaSet", nil), budget("b", 0, 1), budget("c", 0, 1)}, "stands under 2 disruption budgets", nil},
		{"alone", []runtime.Object{pod("a", "", nil)}, "has no controller", nil},
		{"alone, others may", []runtime.Object{pod("a", "", nil)}, "has no controller", []string{"app=ebb"}},
		{"alone, may", []runtime.Object{pod("a", "", nil)}, "", []string{"app=tide"}},
		{"may, and a budget", []runtime.Object{pod("a", "", nil), budget("b", 1, 1)}, "budget default/b wants all 1 pods", []string{"app=tide"}},
	} {
		c := Of(kubeapitest.Over(&fake.NewClientset(x.objects...).Fake))
		for _, l := range x.may {
			sel, err := labels.Parse(l)
			if err != nil {
				t.Fatal(err)
			}
			c.mayLose = append(c.mayLose, Loss{Pods: sel})
		}
		var pods []corev1.Pod
		for _, o := range x.objects {
			if p, ok := o.(*corev1.Pod); ok {
				pods = append(pods, *p)
			}
		}
		lost, blocked, err := c.Unmovable(context.Background(), pods)
		got := strings.Join(append(lost["n"], blocked["n"]...), "; ")
		if err != nil || (x.want == "") != (got == "") || !strings.Contains(got, x.want) {
			t.Errorf("%s: %q, %v, wanted %q", x.name, got, err, x.want)
		}
	}
}

// A drain asks again while a budget says no, and waits until the pods are gone.
func TestDrain(t *testing.T) {
	cs := fake.NewClientset(pod("a", "ReplicaSet", nil), pod("d", "DaemonSet", nil))
	asked := 0
	cs.PrependReactor("create", "pods", func(a k8stesting.Action) (bool, runtime.Object, error) {
		if a.GetSubresource() != "eviction" {
			return false, nil, nil
		}
		if asked++; asked < 3 {
			return true, nil, apierrors.NewTooManyRequests("not now", 1)
		}
		err := cs.Tracker().Delete(corev1.SchemeGroupVersion.WithResource("pods"), "default", "a")
		return true, nil, err
	})
	c := Of(kubeapitest.Over(&cs.Fake))
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var told []string
	if err := c.Drain(ctx, "n", func(s string) { told = append(told, s) }); err != nil {
		t.Fatal(err)
	}
	if asked != 3 || len(told) != 1 || !strings.Contains(told[0], "not now") {
		t.Errorf("asked %d times, told %v", asked, told)
	}
}

// A pod whose namespace is being deleted cannot be evicted, and goes with it.
func TestDrainOfANamespaceThatEnds(t *testing.T) {
	cs := fake.NewClientset(pod("a", "ReplicaSet", nil))
	asked := 0
	cs.PrependReactor("create", "pods", func(a k8stesting.Action) (bool, runtime.Object, error) {
		if asked++; asked == 2 {
			if err := cs.Tracker().Delete(corev1.SchemeGroupVersion.WithResource("pods"), "default", "a"); err != nil {
				t.Error(err)
			}
		}
		err := apierrors.NewForbidden(corev1.Resource("pods"), "a", errors.New("unable to create new content in namespace default because it is being terminated"))
		err.ErrStatus.Details.Causes = []metav1.StatusCause{{Type: corev1.NamespaceTerminatingCause}}
		return true, nil, err
	})
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	if err := Of(kubeapitest.Over(&cs.Fake)).Drain(ctx, "n1", func(string) {}); err != nil || asked < 2 {
		t.Errorf("asked %d times, %v", asked, err)
	}
}

func TestDrainRunsOutOfPatience(t *testing.T) {
	cs := fake.NewClientset(pod("a", "ReplicaSet", nil))
	cs.PrependReactor("create", "pods", func(a k8stesting.Action) (bool, runtime.Object, error) {
		return true, nil, apierrors.NewTooManyRequests("never", 1)
	})
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	err := Of(kubeapitest.Over(&cs.Fake)).Drain(ctx, "n", func(string) {})
	if err == nil || !strings.Contains(err.Error(), "default/a") || !strings.Contains(err.Error(), "never") {
		t.Errorf("error is %v", err)
	}
}

// We lift only what we cordoned.
func TestCordon(t *testing.T) {
	ctx := context.Background()
	theirs := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "theirs"}, Spec: corev1.NodeSpec{Unschedulable: true}}
	c := Of(kubeapitest.Over(&fake.NewClientset(theirs, &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "ours"}}).Fake))
	state := func(n string) bool {
		t.Helper()
		o, err := c.CoreV1().Nodes().Get(ctx, n, metav1.GetOptions{})
		if err != nil {
			t.Fatal(err)
		}
		return o.Spec.Unschedulable
	}
	for _, n := range []string{"ours", "theirs"} {
		if err := c.Cordon(ctx, n, "run"); err != nil {
			t.Fatal(err)
		}
		if !state(n) {
			t.Errorf("%s is not cordoned", n)
		}
		if err := c.Uncordon(ctx, n); err != nil {
			t.Fatal(err)
		}
	}
	if state("ours") || !state("theirs") {
		t.Errorf("ours %v, theirs %v", state("ours"), state("theirs"))
	}
}

// Labels of the declaration come and go; those of others stay.
func TestSetNode(t *testing.T) {
	ctx := context.Background()
	n := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "n", Labels: map[string]string{"other": "stays", "old": "goes"}, Annotations: map[string]string{labelsNote: "old"}},
		Spec: corev1.NodeSpec{Taints: []corev1.Taint{{Key: "node.kubernetes.io/not-ready", Effect: corev1.TaintEffectNoSchedule}, {Key: "old", Effect: corev1.TaintEffectNoSchedule}}}}
	c := Of(kubeapitest.Over(&fake.NewClientset(n).Fake))
	want, taints := map[string]string{"work": "intake"}, []corev1.Taint{{Key: "work", Value: "x", Effect: corev1.TaintEffectNoSchedule}}
	if d := NodeDiffers(n, want, taints); !slices.Equal(d, []string{"label old too much", "new label work=intake", "taint old:NoSchedule too much", "taint work=x:NoSchedule"}) {
		t.Errorf("differs by %q", d)
	}
	if err := c.SetNode(ctx, "n", want, taints); err != nil {
		t.Fatal(err)
	}
	got, err := c.CoreV1().Nodes().Get(ctx, "n", metav1.GetOptions{})
	if err != nil {
		t.Fatal(err)
	}
	if d := NodeDiffers(got, want, taints); len(d) > 0 {
		t.Errorf("still differs by %q", d)
	}
	if got.Labels["other"] != "stays" || len(got.Spec.Taints) != 2 {
		t.Errorf("labels %v, taints %v", got.Labels, got.Spec.Taints)
	}
}

// Add-ons are installed once, moved when the set changes, and found again.
func TestAddOns(t *testing.T) {
	ctx := context.Background()
	c := Of(kubeapitest.Over(&fake.NewClientset().Fake))
	for _, v := range []string{"v1.36.3", "v1.37.2", "v1.37.2"} {
		top, err := coretest.Cluster(v, 1, 1, topology.Memory{})
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range []func() error{func() error { return c.EnsureRoles(ctx) }, func() error { return c.EnsureNetwork(ctx, top, "m") }, func() error { return c.EnsureDNS(ctx, top, "m") }} {
			if err := f(); err != nil {
				t.Fatal(err)
			}
		}
		as, err := c.AddOns(ctx)
		if err != nil || as[Network].Version != top.Set.Fairway || as[DNS].Version != top.Set.DNS {
			t.Errorf("%s: %+v, %v", v, as, err)
		}
		svc, err := c.CoreV1().Services("kube-system").Get(ctx, DNS, metav1.GetOptions{})
		if err != nil || svc.Spec.ClusterIP != top.ServiceAddress(10).String() {
			t.Errorf("%s: DNS service %+v, %v", v, svc, err)
		}
	}
	// What the DNS is told changes on a cluster that lives, and can be looked up there.
	top, err := coretest.Cluster("v1.37.2", 1, 1, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	top.Resolvers = []netip.Addr{netip.MustParseAddr("192.0.2.53"), netip.MustParseAddr("192.0.2.54")}
	if err := c.EnsureDNS(ctx, top, "m"); err != nil {
		t.Fatal(err)
	}
	cm, err := c.CoreV1().ConfigMaps("kube-system").Get(ctx, DNS, metav1.GetOptions{})
	if err != nil || !strings.Contains(cm.Data["Corefile"], "\n    forward . 192.0.2.53 192.0.2.54\n") {
		t.Errorf("%v, %v", cm, err)
	}
	if as, err := c.AddOns(ctx); err != nil || as[DNS].Args != "forward 192.0.2.53 192.0.2.54" {
		t.Errorf("%+v, %v", as, err)
	}
	if ok, err := c.HasRoles(ctx); err != nil || !ok {
		t.Errorf("roles: %v, %v", ok, err)
	}
}
