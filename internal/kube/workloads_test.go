package kube

import (
	"fmt"
	"testing"

	appsv1 "k8s.io/api/apps/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes/fake"

	"verbund/internal/kubeapi/kubeapitest"
)

// Workloads of every kind are named that have not what they want, and no others: neither what a
// deployment owns, nor our own add-ons.
func TestWanting(t *testing.T) {
	n := func(i int32) *int32 { return &i }
	at := func(ns, name string) metav1.ObjectMeta { return metav1.ObjectMeta{Namespace: ns, Name: name} }
	owned := at("tides", "owned")
	yes := true
	owned.OwnerReferences = []metav1.OwnerReference{{Kind: "Deployment", Name: "half", Controller: &yes}}
	c := Of(kubeapitest.Over(&fake.NewClientset(
		&appsv1.Deployment{ObjectMeta: at("tides", "half"), Spec: appsv1.DeploymentSpec{Replicas: n(4)}, Status: appsv1.DeploymentStatus{AvailableReplicas: 2}},
		&appsv1.Deployment{ObjectMeta: at("tides", "whole"), Spec: appsv1.DeploymentSpec{Replicas: n(2)}, Status: appsv1.DeploymentStatus{AvailableReplicas: 2}},
		&appsv1.Deployment{ObjectMeta: at("tides", "none-wanted"), Spec: appsv1.DeploymentSpec{Replicas: n(0)}},
		&appsv1.Deployment{ObjectMeta: at("tides", "unsaid")},
		&appsv1.Deployment{ObjectMeta: at("kube-system", DNS), Spec: appsv1.DeploymentSpec{Replicas: n(2)}},
		&appsv1.StatefulSet{ObjectMeta: at("tides", "store"), Spec: appsv1.StatefulSetSpec{Replicas: n(3)}, Status: appsv1.StatefulSetStatus{AvailableReplicas: 1}},
		&appsv1.DaemonSet{ObjectMeta: at("tides", "every"), Status: appsv1.DaemonSetStatus{DesiredNumberScheduled: 5, NumberAvailable: 4}},
		&appsv1.ReplicaSet{ObjectMeta: owned, Spec: appsv1.ReplicaSetSpec{Replicas: n(4)}},
		&appsv1.ReplicaSet{ObjectMeta: at("tides", "alone"), Spec: appsv1.ReplicaSetSpec{Replicas: n(1)}, Status: appsv1.ReplicaSetStatus{}},
	).Fake))
	ws, err := c.Wanting(t.Context())
	want := "[ReplicaSet tides/alone has 0 of 1 pods Deployment tides/unsaid has 0 of 1 pods DaemonSet tides/every has 4 of 5 pods Deployment tides/half has 2 of 4 pods StatefulSet tides/store has 1 of 3 pods]"
	if got := fmt.Sprint(ws); err != nil || got != want {
		t.Errorf("%s, %v", got, err)
	}
}
