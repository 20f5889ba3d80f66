package controllers

import (
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/kubernetes/fake"
	metafake "k8s.io/client-go/metadata/fake"
	"k8s.io/client-go/tools/cache"
	"k8s.io/client-go/tools/record"

	"verbund/internal/kubeapi/kubeapitest"
)

var configMaps = schema.GroupVersionResource{Version: "v1", Resource: "configmaps"}

// collector has config maps for owners and owned: whatever owns whatever.
func collector(t *testing.T, objects ...*metav1.PartialObjectMetadata) *state {
	t.Helper()
	sch := metafake.NewTestScheme()
	if err := metav1.AddMetaToScheme(sch); err != nil {
		t.Fatal(err)
	}
	md := metafake.NewSimpleMetadataClient(sch)
	c := kubeapitest.Over(&fake.NewClientset().Fake)
	s := &state{c: c, md: md, nodes: c.CoreV1().Nodes().Cache(), pods: c.CoreV1().Pods("").Cache()}
	i := &held{SharedIndexInformer: c.CoreV1().ConfigMaps("").Cache()}
	s.kept = []*kept{{configMaps, "ConfigMap", true, i}}
	for _, o := range objects {
		o.TypeMeta = metav1.TypeMeta{APIVersion: "v1", Kind: "ConfigMap"}
		if err := i.GetStore().Add(o); err != nil {
			t.Fatal(err)
		}
		if err := md.Tracker().Create(configMaps, o, o.Namespace); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// held is an informer that has read everything.
type held struct{ cache.SharedIndexInformer }

func (held) HasSynced() bool { return true }

func object(name string, owners ...string) *metav1.PartialObjectMetadata {
	o := &metav1.PartialObjectMetadata{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: "default", UID: types.UID("uid-" + name)}}
	blocks := true
	for _, w := range owners {
		o.OwnerReferences = append(o.OwnerReferences, metav1.OwnerReference{APIVersion: "v1", Kind: "ConfigMap", Name: w, UID: types.UID("uid-" + w), BlockOwnerDeletion: &blocks})
	}
	return o
}

func deleted(o *metav1.PartialObjectMetadata, finalizer string) *metav1.PartialObjectMetadata {
	now := metav1.Now()
	o.DeletionTimestamp, o.Finalizers = &now, []string{finalizer}
	return o
}

func TestCollect(t *testing.T) {
	s := collector(t, object("owner"), object("kept", "owner"), object("alone", "gone"), object("half", "owner", "gone"),
		deleted(object("leaves"), metav1.FinalizerOrphanDependents), object("orphan", "leaves"),
		deleted(object("takes"), metav1.FinalizerDeleteDependents), object("taken", "takes"))
	foreign := object("foreign")
	foreign.OwnerReferences = []metav1.OwnerReference{{APIVersion: "tides.test/v1", Kind: "Tide", Name: "x", UID: "y"}}
	if err := s.kept[0].i.GetStore().Add(foreign); err != nil {
		t.Fatal(err)
	}
	if err := s.md.(*metafake.FakeMetadataClient).Tracker().Create(configMaps, &metav1.PartialObjectMetadata{TypeMeta: metav1.TypeMeta{APIVersion: "v1", Kind: "ConfigMap"}, ObjectMeta: foreign.ObjectMeta}, "default"); err != nil {
		t.Fatal(err)
	}
	if err := s.collect(t.Context()); err != nil {
		t.Fatal(err)
	}
	get := func(name string) *metav1.PartialObjectMetadata {
		t.Helper()
		o, err := s.md.Resource(configMaps).Namespace("default").Get(t.Context(), name, metav1.GetOptions{})
		if apierrors.IsNotFound(err) {
			return nil
		}
		if err != nil {
			t.Fatal(err)
		}
		return o
	}
	for name, owners := range map[string]int{"owner": 0, "kept": 1, "alone": -1, "half": 1, "orphan": 0, "taken": -1, "foreign": 1} {
		o := get(name)
		if (o == nil) != (owners < 0) || o != nil && len(o.OwnerReferences) != owners {
			t.Errorf("%s: %+v, wanted %d owners", name, o, owners)
		}
	}
	if o := get("leaves"); len(o.Finalizers) != 0 {
		t.Errorf("what left its dependents is held: %v", o.Finalizers)
	}
	if o := get("takes"); len(o.Finalizers) != 1 {
		t.Errorf("what takes its dependents along went before them: %v", o.Finalizers)
	}
}

// A pod leaves a node whose NoExecute taint it does not tolerate, at once, or
// after the time for which it does.
func TestEvictTainted(t *testing.T) {
	c := kubeapitest.Over(&fake.NewClientset().Fake)
	s := &state{c: c, nodes: c.CoreV1().Nodes().Cache(), pods: c.CoreV1().Pods("").Cache(), tainted: map[string]time.Time{}, events: record.NewFakeRecorder(20)}
	ago := metav1.NewTime(time.Now().Add(-time.Minute))
	n := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "n"}, Spec: corev1.NodeSpec{Taints: []corev1.Taint{{Key: "flood", Effect: corev1.TaintEffectNoExecute, TimeAdded: &ago}, {Key: "soft", Effect: corev1.TaintEffectNoSchedule}}}}
	if err := s.nodes.GetStore().Add(n); err != nil {
		t.Fatal(err)
	}
	secs := func(n int64) *int64 { return &n }
	stays := map[string][]corev1.Toleration{
		"none": nil, "ever": {{Key: "flood", Operator: corev1.TolerationOpExists}}, "longer": {{Key: "flood", Operator: corev1.TolerationOpExists, TolerationSeconds: secs(600)}},
		"over": {{Key: "flood", Operator: corev1.TolerationOpExists, TolerationSeconds: secs(30)}}, "shortest": {{Operator: corev1.TolerationOpExists}, {Key: "flood", Operator: corev1.TolerationOpExists, TolerationSeconds: secs(30)}},
	}
	for name, ts := range stays {
		p := &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: "default", UID: types.UID(name)}, Spec: corev1.PodSpec{NodeName: "n", Tolerations: ts}}
		if err := s.pods.GetStore().Add(p); err != nil {
			t.Fatal(err)
		}
		if _, err := c.CoreV1().Pods("default").Create(t.Context(), p, metav1.CreateOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.evictTainted(t.Context()); err != nil {
		t.Fatal(err)
	}
	for name := range stays {
		_, err := c.CoreV1().Pods("default").Get(t.Context(), name, metav1.GetOptions{})
		if left := err == nil; left != (name == "ever" || name == "longer") {
			t.Errorf("%s: still there %v, %v", name, left, err)
		}
	}
}

// A taint that went and comes again is tolerated from its second coming on.
func TestTaintComesAgain(t *testing.T) {
	c := kubeapitest.Over(&fake.NewClientset().Fake)
	s := &state{nodes: c.CoreV1().Nodes().Cache(), pods: c.CoreV1().Pods("").Cache(), tainted: map[string]time.Time{}}
	flood := corev1.Taint{Key: "flood", Effect: corev1.TaintEffectNoExecute}
	round := func(taints ...corev1.Taint) {
		t.Helper()
		if err := s.nodes.GetStore().Add(&corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "n"}, Spec: corev1.NodeSpec{Taints: taints}}); err != nil {
			t.Fatal(err)
		}
		if err := s.evictTainted(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	before := time.Now().Add(-time.Hour)
	s.tainted[taintKey("n", flood)] = before
	round(flood)
	if at := s.since("n", flood); !at.Equal(before) {
		t.Errorf("a taint that stays is there since %s, not %s", at, before)
	}
	round()
	round(flood)
	if at := s.since("n", flood); time.Since(at) > time.Minute {
		t.Errorf("a taint that came again is there since %s", at)
	}
}
