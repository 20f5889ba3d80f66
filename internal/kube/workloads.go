package kube

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

// Wanting is a workload that does not have the pods that it wants.
type Wanting struct {
	Kind      string `json:"kind"` // as the API calls it
	Namespace string `json:"namespace"`
	Name      string `json:"name"`
	Wants     int32  `json:"wants"` // pods
	Has       int32  `json:"has"`   // of them, such as serve
}

func (w Wanting) String() string {
	return fmt.Sprintf("%s %s/%s has %d of %d pods", w.Kind, w.Namespace, w.Name, w.Has, w.Wants)
}

// Wanting lists the workloads that do not have what they want, those that have nothing first; our
// own add-ons are looked at by themselves.
func (c *Client) Wanting(ctx context.Context) ([]Wanting, error) {
	var out []Wanting
	add := func(kind string, m metav1.ObjectMeta, wants, has int32) {
		if has >= wants || m.Namespace == metav1.NamespaceSystem && (m.Name == Network || m.Name == DNS) {
			return
		}
		out = append(out, Wanting{kind, m.Namespace, m.Name, wants, has})
	}
	declared := func(n *int32) int32 {
		if n == nil {
			return 1 // as the API takes it
		}
		return *n
	}
	ds, err := c.AppsV1().Deployments("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	for _, d := range ds.Items {
		add("Deployment", d.ObjectMeta, declared(d.Spec.Replicas), d.Status.AvailableReplicas)
	}
	ss, err := c.AppsV1().StatefulSets("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	for _, s := range ss.Items {
		add("StatefulSet", s.ObjectMeta, declared(s.Spec.Replicas), s.Status.AvailableReplicas)
	}
	ns, err := c.AppsV1().DaemonSets("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	for _, d := range ns.Items {
		add("DaemonSet", d.ObjectMeta, d.Status.DesiredNumberScheduled, d.Status.NumberAvailable)
	}
	rs, err := c.AppsV1().ReplicaSets("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	for _, r := range rs.Items {
		if metav1.GetControllerOf(&r) == nil {
			add("ReplicaSet", r.ObjectMeta, declared(r.Spec.Replicas), r.Status.AvailableReplicas)
		}
	}
	slices.SortFunc(out, func(a, b Wanting) int {
		return cmp.Or(cmp.Compare(min(a.Has, 1), min(b.Has, 1)), cmp.Compare(a.Namespace+"/"+a.Name, b.Namespace+"/"+b.Name))
	})
	return out, nil
}
