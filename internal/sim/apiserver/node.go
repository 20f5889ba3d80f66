package apiserver

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"go.etcd.io/etcd/api/v3/mvccpb"
	authnv1 "k8s.io/api/authentication/v1"
	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/fields"
	"k8s.io/apimachinery/pkg/runtime"
)

// nodeOf is the node whose kubelet somebody is. A user of the nodes' group without a
// node's name is a kubelet of no node.
func nodeOf(u user) (node string, is bool) {
	node, ok := strings.CutPrefix(u.name, "system:node:")
	if !u.in("system:nodes") {
		return "", false
	}
	return map[bool]string{true: node}[ok], true
}

// only says whether a selector asks for nothing but one value of a field.
func only(s fields.Selector, field, value string) bool {
	if s == nil {
		return false
	}
	v, ok := s.RequiresExactMatch(field)
	return ok && v == value
}

func among(verb string, verbs ...string) bool { return slices.Contains(verbs, verb) }

// nodeAllows is the node authorizer, with selectors (authorization mode Node): a kubelet
// reads itself, its own pods, and what these need, and nothing of other nodes. What it
// writes, node restriction looks at besides.
func (s *server) nodeAllows(ctx context.Context, u user, a access) bool {
	node, ok := nodeOf(u)
	if !ok || node == "" {
		return false
	}
	read := among(a.verb, "get", "list", "watch")
	switch a.group + "/" + a.plural {
	case "/nodes":
		switch {
		case a.sub == "status":
			return among(a.verb, "update", "patch")
		case a.sub != "":
			return false
		}
		return among(a.verb, "create", "update", "patch") || read && (a.name == node || a.name == "" && only(a.fields, "metadata.name", node))
	case "/pods":
		switch {
		case a.sub == "status":
			return among(a.verb, "update", "patch")
		case a.sub == "eviction":
			return a.verb == "create"
		case a.sub != "":
			return false
		case a.verb == "get":
			return s.runsOn(ctx, node, a.ns, a.name)
		}
		return among(a.verb, "create", "delete") || among(a.verb, "list", "watch") && only(a.fields, "spec.nodeName", node)
	case "/services":
		return read && a.sub == ""
	case "/configmaps", "/secrets":
		name := a.name
		if name == "" && a.fields != nil {
			name, _ = a.fields.RequiresExactMatch("metadata.name")
		}
		return read && a.sub == "" && name != "" && s.podsOf(ctx, node, a.ns, a.plural, name)
	case "/serviceaccounts":
		return (a.sub == "token" && a.verb == "create" || a.sub == "" && a.verb == "get") && s.podsOf(ctx, node, a.ns, a.plural, a.name)
	case "/events", "events.k8s.io/events":
		return among(a.verb, "create", "update", "patch")
	case "coordination.k8s.io/leases":
		return a.ns == corev1.NamespaceNodeLease && (a.verb == "create" || among(a.verb, "get", "update", "patch", "delete") && a.name == node)
	case "certificates.k8s.io/certificatesigningrequests":
		return a.sub == "" && (a.verb == "create" || read)
	case "authorization.k8s.io/subjectaccessreviews", "authentication.k8s.io/tokenreviews":
		return a.verb == "create"
	}
	return false
}

// runsOn says whether a pod is bound to a node.
func (s *server) runsOn(ctx context.Context, node, ns, name string) bool {
	o, _, _, err := s.load(ctx, findResource("", "v1", "pods"), ns, name)
	p, ok := o.(*corev1.Pod)
	return err == nil && ok && p.Spec.NodeName == node
}

// podsOf says whether one of a node's pods in a namespace needs an object. Mirror pods, which a
// kubelet makes itself, give it nothing.
func (s *server) podsOf(ctx context.Context, node, ns, plural, name string) bool {
	res := findResource("", "v1", "pods")
	kvs, _, err := s.rangeOf(ctx, res.prefix(ns))
	if err != nil {
		return false
	}
	return slices.ContainsFunc(kvs, func(kv *mvccpb.KeyValue) bool {
		o, _, err := s.seen(res, kv).object()
		p, ok := o.(*corev1.Pod)
		if err != nil || !ok || p.Spec.NodeName != node {
			return false
		}
		_, mirror := p.Annotations[corev1.MirrorPodAnnotationKey]
		return !mirror && slices.Contains(needsOf(&p.Spec).of(plural), name)
	})
}

// restricts says whether node restriction looks at what a user writes, and for which node.
func (s *server) restricts(u user) (node string, yes bool) {
	if !slices.Contains(strings.Split(s.opt.admission, ","), "NodeRestriction") {
		return "", false
	}
	return nodeOf(u)
}

func forbidden(q *request, name, format string, args ...any) error {
	return apierrors.NewForbidden(q.resource.gr(), name, fmt.Errorf(format, args...))
}

// restrictCreation is node restriction (admission plugin NodeRestriction) for what a
// kubelet makes: itself, its lease, and mirror pods of its own.
func (s *server) restrictCreation(u user, q *request, o runtime.Object, m metav1.Object) error {
	node, yes := s.restricts(u)
	if !yes {
		return nil
	}
	switch o := o.(type) {
	case *corev1.Node:
		if o.Name != node {
			return forbidden(q, o.Name, "node %q is not allowed to create node %q", node, o.Name)
		}
		if bad := forbiddenLabels(nil, o.Labels); len(bad) > 0 {
			return forbidden(q, o.Name, "node %q is not allowed to set the following labels: %s", node, strings.Join(bad, ", "))
		}
	case *corev1.Pod:
		if _, mirror := o.Annotations[corev1.MirrorPodAnnotationKey]; !mirror {
			return forbidden(q, o.Name, "pod does not have %q annotation, node %q can only create mirror pods", corev1.MirrorPodAnnotationKey, node)
		}
		if o.Spec.NodeName != node {
			return forbidden(q, o.Name, "node %q can only create pods with spec.nodeName set to itself", node)
		}
		if needsOf(&o.Spec).any() {
			return forbidden(q, o.Name, "node %q can not create pods that reference a service account, secrets, config maps or claims of storage", node)
		}
	}
	if q.resource.plural == "leases" && m.GetName() != node {
		return forbidden(q, m.GetName(), "node %q can only make the lease of its own name", node)
	}
	return nil
}

// restrictDeletion is node restriction for what a kubelet deletes or evicts.
func (s *server) restrictDeletion(ctx context.Context, u user, q *request) error {
	node, yes := s.restricts(u)
	if yes && q.resource.plural == "pods" && q.resource.group == "" && !s.runsOn(ctx, node, q.ns, q.name) {
		return forbidden(q, q.name, "node %q can only delete pods with spec.nodeName set to itself", node)
	}
	return nil
}

// restrictToken is node restriction for the tokens that a kubelet asks for: each bound to
// a pod that is its own.
func (s *server) restrictToken(ctx context.Context, u user, q *request, b *authnv1.BoundObjectReference) error {
	node, yes := s.restricts(u)
	if !yes {
		return nil
	}
	if b == nil || b.Kind != "Pod" || b.UID == "" {
		return forbidden(q, q.name, "node requested token not bound to a pod")
	}
	if !s.runsOn(ctx, node, q.ns, b.Name) {
		return forbidden(q, q.name, "node requested token bound to a pod scheduled on a different node")
	}
	return nil
}

// restrictNode is node restriction for what a kubelet changes of nodes and pods.
func (s *server) restrictNode(u user, q *request, old, n runtime.Object) error {
	node, yes := s.restricts(u)
	if !yes {
		return nil
	}
	switch n := n.(type) {
	case *corev1.Node:
		was := old.(*corev1.Node)
		if n.Name != node {
			return forbidden(q, n.Name, "node %q is not allowed to modify node %q", node, n.Name)
		}
		if bad := forbiddenLabels(was.Labels, n.Labels); len(bad) > 0 {
			return forbidden(q, n.Name, "is not allowed to modify labels: %s", strings.Join(bad, ", "))
		}
		if !reflect.DeepEqual(was.Spec.Taints, n.Spec.Taints) {
			return forbidden(q, n.Name, "node %q is not allowed to modify taints", node)
		}
		if !reflect.DeepEqual(was.OwnerReferences, n.OwnerReferences) {
			return forbidden(q, n.Name, "node %q is not allowed to modify ownerReferences", node)
		}
	case *corev1.Pod:
		was := old.(*corev1.Pod)
		if was.Spec.NodeName != node {
			return forbidden(q, n.Name, "node %q can only update pod status for pods with spec.nodeName set to itself", node)
		}
		if !reflect.DeepEqual(was.Labels, n.Labels) {
			return forbidden(q, n.Name, "node %q can not update labels through pod status", node)
		}
	}
	return nil
}

// kubeletLabels are the labels of Kubernetes that a kubelet may give its own node, beside
// those under kubelet.kubernetes.io and node.kubernetes.io.
var kubeletLabels = []string{
	corev1.LabelHostname, corev1.LabelTopologyZone, corev1.LabelTopologyRegion, corev1.LabelFailureDomainBetaZone, corev1.LabelFailureDomainBetaRegion,
	corev1.LabelInstanceType, corev1.LabelInstanceTypeStable, corev1.LabelOSStable, corev1.LabelArchStable, "beta.kubernetes.io/os", "beta.kubernetes.io/arch",
}

// forbiddenLabels are those that differ and that a kubelet may not change.
func forbiddenLabels(was, now map[string]string) []string {
	under := func(ns, domain string) bool { return ns == domain || strings.HasSuffix(ns, "."+domain) }
	var out []string
	for _, k := range mergedKeys(was, now) {
		a, had := was[k]
		b, has := now[k]
		ns, _, ok := strings.Cut(k, "/")
		if had == has && a == b || !ok {
			continue
		}
		of := under(ns, "kubernetes.io") || under(ns, "k8s.io")
		if under(ns, corev1.LabelNamespaceNodeRestriction) || of && !slices.Contains(kubeletLabels, k) && !under(ns, "kubelet.kubernetes.io") && !under(ns, "node.kubernetes.io") {
			out = append(out, k)
		}
	}
	return out
}
