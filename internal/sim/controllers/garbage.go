package controllers

import (
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"time"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/metadata"
	"k8s.io/client-go/tools/cache"

	"verbund/internal/kubeapi"
)

// kept is a kind of objects that may own others, or be owned.
type kept struct {
	gvr        schema.GroupVersionResource
	kind       string
	namespaced bool
	i          cache.SharedIndexInformer
}

// thing is one object, as far as the collector knows it.
type thing struct {
	metav1.Object
	of *kept
}

// keepAll lists every kind that the server keeps: those with a cache already, and
// the others by their metadata alone.
func (s *state) keepAll(ctx context.Context) {
	for _, k := range []kept{
		{schema.GroupVersionResource{Version: "v1", Resource: "nodes"}, "Node", false, s.nodes},
		{schema.GroupVersionResource{Version: "v1", Resource: "namespaces"}, "Namespace", false, s.namespaces},
		{schema.GroupVersionResource{Version: "v1", Resource: "pods"}, "Pod", true, s.pods},
		{schema.GroupVersionResource{Version: "v1", Resource: "services"}, "Service", true, s.services},
		{schema.GroupVersionResource{Version: "v1", Resource: "serviceaccounts"}, "ServiceAccount", true, s.accounts},
		{schema.GroupVersionResource{Version: "v1", Resource: "configmaps"}, "ConfigMap", true, nil},
		{schema.GroupVersionResource{Version: "v1", Resource: "secrets"}, "Secret", true, nil},
		{schema.GroupVersionResource{Group: "apps", Version: "v1", Resource: "deployments"}, "Deployment", true, s.deployments},
		{schema.GroupVersionResource{Group: "apps", Version: "v1", Resource: "replicasets"}, "ReplicaSet", true, s.sets},
		{schema.GroupVersionResource{Group: "apps", Version: "v1", Resource: "daemonsets"}, "DaemonSet", true, s.daemons},
		{schema.GroupVersionResource{Group: "policy", Version: "v1", Resource: "poddisruptionbudgets"}, "PodDisruptionBudget", true, s.budgets},
		{schema.GroupVersionResource{Group: "discovery.k8s.io", Version: "v1", Resource: "endpointslices"}, "EndpointSlice", true, s.slices},
		{schema.GroupVersionResource{Group: "coordination.k8s.io", Version: "v1", Resource: "leases"}, "Lease", true, s.leases},
		{schema.GroupVersionResource{Group: "certificates.k8s.io", Version: "v1", Resource: "certificatesigningrequests"}, "CertificateSigningRequest", false, s.csrs},
		{schema.GroupVersionResource{Group: "rbac.authorization.k8s.io", Version: "v1", Resource: "roles"}, "Role", true, nil},
		{schema.GroupVersionResource{Group: "rbac.authorization.k8s.io", Version: "v1", Resource: "rolebindings"}, "RoleBinding", true, nil},
		{schema.GroupVersionResource{Group: "rbac.authorization.k8s.io", Version: "v1", Resource: "clusterroles"}, "ClusterRole", false, nil},
		{schema.GroupVersionResource{Group: "rbac.authorization.k8s.io", Version: "v1", Resource: "clusterrolebindings"}, "ClusterRoleBinding", false, nil},
	} {
		if k.i == nil {
			k.i = kubeapi.CacheOfMetadata(s.md.Resource(k.gvr))
			kubeapi.Run(ctx, k.i)
		}
		s.kept = append(s.kept, &k)
	}
}

func (s *state) at(k *kept, ns string) metadata.ResourceInterface {
	if k.namespaced {
		return s.md.Resource(k.gvr).Namespace(ns)
	}
	return s.md.Resource(k.gvr)
}

// collect deletes what has lost all of its owners, lets go or takes along what a
// deleted object owns, as whoever deleted it said, and removes pods whose node is
// gone. A cache may be behind: the server is asked before anything goes.
func (s *state) collect(ctx context.Context) error {
	var all []thing
	live, owned := map[types.UID]thing{}, map[types.UID][]thing{}
	for _, k := range s.kept {
		if !k.i.HasSynced() {
			return nil
		}
		for _, o := range k.i.GetStore().List() {
			m, err := meta.Accessor(o)
			if err != nil {
				return err
			}
			t := thing{m, k}
			all = append(all, t)
			live[m.GetUID()] = t
			for _, r := range m.GetOwnerReferences() {
				owned[r.UID] = append(owned[r.UID], t)
			}
		}
	}
	var errs []error
	for _, t := range all {
		switch {
		case t.GetDeletionTimestamp() != nil:
			errs = append(errs, s.finish(ctx, t, owned[t.GetUID()]))
		case len(t.GetOwnerReferences()) > 0:
			errs = append(errs, s.owners(ctx, t, live, owned))
		}
	}
	return errors.Join(append(errs, s.podsWithoutNodes(ctx))...)
}

// owners looks after an object that is owned.
func (s *state) owners(ctx context.Context, t thing, live map[types.UID]thing, owned map[types.UID][]thing) error {
	var solid, gone, waiting []metav1.OwnerReference
	for _, r := range t.GetOwnerReferences() {
		o, known := live[r.UID]
		switch {
		case known && o.GetDeletionTimestamp() != nil && slices.Contains(o.GetFinalizers(), metav1.FinalizerDeleteDependents) && r.BlockOwnerDeletion != nil && *r.BlockOwnerDeletion:
			waiting = append(waiting, r)
		case known:
			solid = append(solid, r)
		default:
			there, err := s.there(ctx, t, r)
			if err != nil {
				return err
			}
			if there {
				solid = append(solid, r)
			} else {
				gone = append(gone, r)
			}
		}
	}
	uid := t.GetUID()
	d := metav1.DeleteOptions{Preconditions: &metav1.Preconditions{UID: &uid}}
	switch {
	case len(solid) > 0 && len(gone)+len(waiting) > 0:
		return s.patch(ctx, t, map[string]any{"ownerReferences": solid})
	case len(solid) > 0:
		return nil
	case len(waiting) > 0 && len(owned[uid]) > 0:
		p := metav1.DeletePropagationForeground
		d.PropagationPolicy = &p
	}
	return ignoreGone(s.at(t.of, t.GetNamespace()).Delete(ctx, t.GetName(), d))
}

// there asks the server whether an owner exists. One of a kind that is not served
// here is left alone, and what it owns with it.
func (s *state) there(ctx context.Context, t thing, r metav1.OwnerReference) (bool, error) {
	gv, err := schema.ParseGroupVersion(r.APIVersion)
	i := slices.IndexFunc(s.kept, func(k *kept) bool { return k.kind == r.Kind && k.gvr.Group == gv.Group })
	if err != nil || i < 0 {
		return true, nil
	}
	got, err := s.at(s.kept[i], t.GetNamespace()).Get(ctx, r.Name, metav1.GetOptions{})
	if apierrors.IsNotFound(err) {
		return false, nil
	}
	return err == nil && got.UID == r.UID, err
}

// finish sees to what a deleted object owns, and then lets it go.
func (s *state) finish(ctx context.Context, t thing, owned []thing) error {
	fs := t.GetFinalizers()
	switch {
	case slices.Contains(fs, metav1.FinalizerOrphanDependents):
		for _, d := range owned {
			left := slices.DeleteFunc(slices.Clone(d.GetOwnerReferences()), func(r metav1.OwnerReference) bool { return r.UID == t.GetUID() })
			if err := s.patch(ctx, d, map[string]any{"ownerReferences": left}); err != nil {
				return err
			}
		}
		return s.patch(ctx, t, map[string]any{"finalizers": slices.DeleteFunc(slices.Clone(fs), func(f string) bool { return f == metav1.FinalizerOrphanDependents })})
	case slices.Contains(fs, metav1.FinalizerDeleteDependents):
		for _, d := range owned {
			for _, r := range d.GetOwnerReferences() {
				if r.UID == t.GetUID() && r.BlockOwnerDeletion != nil && *r.BlockOwnerDeletion {
					return nil // it goes first
				}
			}
		}
		return s.patch(ctx, t, map[string]any{"finalizers": slices.DeleteFunc(slices.Clone(fs), func(f string) bool { return f == metav1.FinalizerDeleteDependents })})
	}
	return nil
}

func (s *state) patch(ctx context.Context, t thing, md map[string]any) error {
	md["uid"], md["resourceVersion"] = t.GetUID(), t.GetResourceVersion()
	b, err := json.Marshal(map[string]any{"metadata": md})
	if err != nil {
		return err
	}
	_, err = s.at(t.of, t.GetNamespace()).Patch(ctx, t.GetName(), types.MergePatchType, b, metav1.PatchOptions{})
	return ignoreGone(err)
}

// podsWithoutNodes removes the pods of nodes that are gone.
func (s *state) podsWithoutNodes(ctx context.Context) error {
	now := metav1.DeleteOptions{GracePeriodSeconds: new(int64)}
	var errs []error
	for _, o := range s.pods.GetStore().List() {
		p := o.(*corev1.Pod)
		if p.Spec.NodeName == "" {
			continue
		}
		if _, known, _ := s.nodes.GetStore().GetByKey(p.Spec.NodeName); known {
			continue
		}
		if _, err := s.c.CoreV1().Nodes().Get(ctx, p.Spec.NodeName, metav1.GetOptions{}); apierrors.IsNotFound(err) {
			errs = append(errs, ignoreGone(s.c.CoreV1().Pods(p.Namespace).Delete(ctx, p.Name, now)))
		}
	}
	return errors.Join(errs...)
}

// evictTainted deletes pods from nodes whose NoExecute taints they do not
// tolerate, or do not tolerate for longer.
func (s *state) evictTainted(ctx context.Context) error {
	s.forgetTaints()
	var errs []error
	for _, o := range s.pods.GetStore().List() {
		p := o.(*corev1.Pod)
		if p.Spec.NodeName == "" || p.DeletionTimestamp != nil {
			continue
		}
		no, known, _ := s.nodes.GetStore().GetByKey(p.Spec.NodeName)
		if !known {
			continue
		}
		for _, t := range no.(*corev1.Node).Spec.Taints {
			if t.Effect != corev1.TaintEffectNoExecute {
				continue
			}
			stays, ok := toleratedFor(p.Spec.Tolerations, t)
			if ok && (stays < 0 || s.since(p.Spec.NodeName, t).Add(stays).After(time.Now())) {
				continue
			}
			s.events.Eventf(p, corev1.EventTypeNormal, "TaintManagerEviction", "Marking for deletion Pod %s/%s", p.Namespace, p.Name)
			uid := p.UID
			errs = append(errs, ignoreGone(s.c.CoreV1().Pods(p.Namespace).Delete(ctx, p.Name, metav1.DeleteOptions{Preconditions: &metav1.Preconditions{UID: &uid}})))
			break
		}
	}
	return errors.Join(errs...)
}

// since is from when on a taint is there: by what it says itself, or from when
// this leader saw it.
func (s *state) since(node string, t corev1.Taint) time.Time {
	if t.TimeAdded != nil {
		return t.TimeAdded.Time
	}
	key := taintKey(node, t)
	if _, ok := s.tainted[key]; !ok {
		s.tainted[key] = time.Now()
	}
	return s.tainted[key]
}

func taintKey(node string, t corev1.Taint) string { return node + " " + t.ToString() }

// forgetTaints lets go of taints that are not there any more: one that comes again
// is a new one, and is tolerated for as long as the first was.
func (s *state) forgetTaints() {
	there := map[string]bool{}
	for _, o := range s.nodes.GetStore().List() {
		n := o.(*corev1.Node)
		for _, t := range n.Spec.Taints {
			there[taintKey(n.Name, t)] = true
		}
	}
	maps.DeleteFunc(s.tainted, func(key string, _ time.Time) bool { return !there[key] })
}

// toleratedFor says for how long a NoExecute taint is tolerated: the shortest time
// of all tolerations that fit, -1 for ever.
func toleratedFor(ts []corev1.Toleration, t corev1.Taint) (d time.Duration, ok bool) {
	d = -1
	for _, x := range ts {
		if !tolerates(x, t) {
			continue
		}
		ok = true
		if n := x.TolerationSeconds; n != nil {
			if s := max(time.Duration(*n)*time.Second, 0); d < 0 || s < d {
				d = s
			}
		}
	}
	return d, ok
}
