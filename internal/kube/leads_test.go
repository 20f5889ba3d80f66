package kube

import (
	"context"
	"strings"
	"testing"
	"time"

	coordv1 "k8s.io/api/coordination/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/client-go/kubernetes/fake"

	"verbund/internal/kubeapi/kubeapitest"
)

func TestLed(t *testing.T) {
	now := time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	lease := func(name, holder string, ago time.Duration) runtime.Object {
		at, secs := metav1.NewMicroTime(now.Add(-ago)), int32(6)
		return &coordv1.Lease{ObjectMeta: metav1.ObjectMeta{Name: name, Namespace: "kube-system"}, Spec: coordv1.LeaseSpec{HolderIdentity: &holder, RenewTime: &at, LeaseDurationSeconds: &secs}}
	}
	for _, x := range []struct {
		name string
		has  []runtime.Object
		want string
	}{
		{"both", []runtime.Object{lease("kube-controller-manager", "a", 5*time.Second), lease("kube-scheduler", "b", 0)}, ""},
		{"none", nil, "no kube-controller-manager leads"},
		{"one", []runtime.Object{lease("kube-controller-manager", "a", 0)}, "no kube-scheduler leads"},
		{"let go", []runtime.Object{lease("kube-controller-manager", "", 0), lease("kube-scheduler", "b", 0)}, "no kube-controller-manager leads"},
		{"silent", []runtime.Object{lease("kube-controller-manager", "a", 0), lease("kube-scheduler", "b", 7*time.Second)}, "the kube-scheduler that led last has not renewed its lease for 7s"},
	} {
		got, err := Of(kubeapitest.Over(&fake.NewClientset(x.has...).Fake)).Led(context.Background(), now)
		if err != nil || !strings.HasPrefix(got, x.want) || (got == "") != (x.want == "") {
			t.Errorf("%s: %q, %v", x.name, got, err)
		}
	}
}
