package controllers

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	coordv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/util/intstr"
)

// nodeRanges gives every node its part of the pods' range.
func (s *state) nodeRanges(ctx context.Context) error {
	taken := map[string]bool{}
	nodes := lying[*corev1.Node](s.nodes)
	for _, n := range nodes {
		taken[n.Spec.PodCIDR] = true
		// The cache may not show yet what was given out a moment ago.
		if s.given[n.UID] != "" {
			taken[s.given[n.UID]] = true
		}
	}
	base := binary.BigEndian.Uint32(s.cidr.Addr().AsSlice())
	next := uint32(0)
	for _, n := range nodes {
		if n.Spec.PodCIDR != "" || s.given[n.UID] != "" {
			continue
		}
		own := ""
		for own == "" {
			var b [4]byte
			binary.BigEndian.PutUint32(b[:], base+next<<(32-s.mask))
			r := netip.PrefixFrom(netip.AddrFrom4(b), s.mask)
			if next++; !s.cidr.Contains(r.Addr()) {
				return fmt.Errorf("no range left for node %s in %s", n.Name, s.cidr)
			}
			if !taken[r.String()] {
				own = r.String()
			}
		}
		taken[own] = true
		// As the real one does: whatever else changes of the node meanwhile is not in the way.
		patch := fmt.Appendf(nil, `{"spec":{"podCIDR":%q,"podCIDRs":[%q]}}`, own, own)
		if _, err := s.c.CoreV1().Nodes().Patch(ctx, n.Name, types.StrategicMergePatchType, patch, metav1.PatchOptions{}); err != nil {
			if ignoreGone(err) != nil {
				return err
			}
			continue
		}
		s.given[n.UID] = own
	}
	return nil
}

// nodeLife marks nodes whose lease is not renewed, taints those that are not
// ready, and takes their pods out of service.
func (s *state) nodeLife(ctx context.Context) error {
	leases := map[string]*coordv1.Lease{}
	for _, l := range lying[*coordv1.Lease](s.leases) {
		if l.Namespace == "kube-node-lease" {
			leases[l.Name] = l
		}
	}
	var errs []error
	for _, n := range All[*corev1.Node](s.nodes) {
		ready := corev1.ConditionUnknown
		var rc *corev1.NodeCondition
		for i := range n.Status.Conditions {
			if n.Status.Conditions[i].Type == corev1.NodeReady {
				rc = &n.Status.Conditions[i]
				ready = rc.Status
			}
		}
		silent := false
		if l := leases[n.Name]; rc != nil && rc.Status != corev1.ConditionUnknown && l != nil && s.unheard(n.UID, l) {
			// A watch that was cut off, as by an API server's restart, lags for as long
			// as its client waits before it tries again: then every node looks silent.
			l, err := s.c.CoordinationV1().Leases("kube-node-lease").Get(ctx, n.Name, metav1.GetOptions{})
			silent = err == nil && s.unheard(n.UID, l)
		}
		if silent {
			rc.Status, rc.Reason, rc.Message, rc.LastTransitionTime = corev1.ConditionUnknown, "NodeStatusUnknown", "Kubelet stopped posting node status.", metav1.Now()
			if _, err := s.c.CoreV1().Nodes().UpdateStatus(ctx, n, metav1.UpdateOptions{}); err != nil {
				errs = append(errs, ignoreGone(err))
				continue
			}
			ready = corev1.ConditionUnknown
			s.events.Eventf(n, corev1.EventTypeNormal, "NodeNotReady", "Node %s status is now: NodeNotReady", n.Name)
			errs = append(errs, s.unready(ctx, n.Name))
		}
		key := map[corev1.ConditionStatus]string{corev1.ConditionFalse: corev1.TaintNodeNotReady, corev1.ConditionUnknown: corev1.TaintNodeUnreachable}[ready]
		var want []corev1.Taint
		for _, t := range n.Spec.Taints {
			if t.Key != corev1.TaintNodeNotReady && t.Key != corev1.TaintNodeUnreachable && t.Key != corev1.TaintNodeUnschedulable {
				want = append(want, t)
			}
		}
		if key != "" {
			now := metav1.Now()
			want = append(want, corev1.Taint{Key: key, Effect: corev1.TaintEffectNoSchedule}, corev1.Taint{Key: key, Effect: corev1.TaintEffectNoExecute, TimeAdded: &now})
		}
		if n.Spec.Unschedulable {
			want = append(want, corev1.Taint{Key: corev1.TaintNodeUnschedulable, Effect: corev1.TaintEffectNoSchedule})
		}
		if !slices.EqualFunc(want, n.Spec.Taints, func(a, b corev1.Taint) bool { return a.Key == b.Key && a.Value == b.Value && a.Effect == b.Effect }) {
			n.Spec.Taints = want
			_, err := s.c.CoreV1().Nodes().Update(ctx, n, metav1.UpdateOptions{})
			errs = append(errs, ignoreGone(err))
		}
	}
	return errors.Join(errs...)
}

// heard is when a leader saw a node's lease renewed.
type heard struct {
	renewed metav1.MicroTime // as the lease says, by the node's clock
	at      time.Time
}

// unheard says whether a lease has not been renewed for longer than the grace
// period. That counts from when this leader saw it renewed, or first saw it: who
// could not see it, because the API was away, has not waited yet.
func (s *state) unheard(node types.UID, l *coordv1.Lease) bool {
	h, ok := s.heard[node]
	if now := l.Spec.RenewTime; !ok || now != nil && now.After(h.renewed.Time) {
		h = heard{at: time.Now()}
		if now != nil {
			h.renewed = *now
		}
		s.heard[node] = h
	}
	return time.Since(h.at) > s.grace
}

// unready takes the pods of a silent node out of service.
func (s *state) unready(ctx context.Context, node string) error {
	for _, p := range All[*corev1.Pod](s.pods) {
		if p.Spec.NodeName != node || !podReady(p) {
			continue
		}
		for i := range p.Status.Conditions {
			if c := &p.Status.Conditions[i]; c.Type == corev1.PodReady {
				c.Status, c.Reason = corev1.ConditionFalse, "NodeNotReady"
			}
		}
		if _, err := s.c.CoreV1().Pods(p.Namespace).UpdateStatus(ctx, p, metav1.UpdateOptions{}); ignoreGone(err) != nil {
			return err
		}
	}
	return nil
}

// syncSlices keeps, for every service with a selector, the endpoints that its
// pods are.
func (s *state) syncSlices(ctx context.Context) error {
	pods := lying[*corev1.Pod](s.pods)
	have := map[string]*discoveryv1.EndpointSlice{}
	for _, sl := range All[*discoveryv1.EndpointSlice](s.slices) {
		have[sl.Namespace+"/"+sl.Labels[discoveryv1.LabelServiceName]] = sl
	}
	for _, svc := range All[*corev1.Service](s.services) {
		if len(svc.Spec.Selector) == 0 || svc.DeletionTimestamp != nil {
			continue
		}
		want := &discoveryv1.EndpointSlice{
			ObjectMeta: metav1.ObjectMeta{GenerateName: svc.Name + "-", Namespace: svc.Namespace, Labels: map[string]string{discoveryv1.LabelServiceName: svc.Name, discoveryv1.LabelManagedBy: "endpointslice-controller.k8s.io"},
				OwnerReferences: []metav1.OwnerReference{*metav1.NewControllerRef(svc, schema.GroupVersionKind{Version: "v1", Kind: "Service"})}},
			AddressType: discoveryv1.AddressTypeIPv4, Endpoints: []discoveryv1.Endpoint{},
		}
		sel := labels.SelectorFromSet(svc.Spec.Selector)
		var first *corev1.Pod
		for _, p := range pods {
			if p.Namespace != svc.Namespace || p.Status.PodIP == "" || podOver(p) || !sel.Matches(labels.Set(p.Labels)) {
				continue
			}
			if first == nil {
				first = p
			}
			ready, terminating, node := podReady(p), p.DeletionTimestamp != nil, p.Spec.NodeName
			serving := slices.ContainsFunc(p.Status.Conditions, func(c corev1.PodCondition) bool { return c.Type == corev1.PodReady && c.Status == corev1.ConditionTrue })
			want.Endpoints = append(want.Endpoints, discoveryv1.Endpoint{Addresses: []string{p.Status.PodIP}, NodeName: &node,
				Conditions: discoveryv1.EndpointConditions{Ready: &ready, Serving: &serving, Terminating: &terminating},
				TargetRef:  &corev1.ObjectReference{Kind: "Pod", Namespace: p.Namespace, Name: p.Name, UID: p.UID}})
		}
		slices.SortFunc(want.Endpoints, func(a, b discoveryv1.Endpoint) int { return strings.Compare(a.Addresses[0], b.Addresses[0]) })
		for _, sp := range svc.Spec.Ports {
			name, proto, port := sp.Name, sp.Protocol, sp.TargetPort.IntVal
			if sp.TargetPort.Type == intstr.String && first != nil {
				for _, c := range first.Spec.Containers {
					for _, cp := range c.Ports {
						if cp.Name == sp.TargetPort.StrVal {
							port = cp.ContainerPort
						}
					}
				}
			}
			want.Ports = append(want.Ports, discoveryv1.EndpointPort{Name: &name, Protocol: &proto, Port: &port})
		}
		old := have[svc.Namespace+"/"+svc.Name]
		switch {
		case old == nil:
			made, err := s.c.DiscoveryV1().EndpointSlices(svc.Namespace).Create(ctx, want, metav1.CreateOptions{})
			if err != nil {
				return err
			}
			s.seen(ctx, s.slices, made)
		case !sameJSON(old.Endpoints, want.Endpoints) || !sameJSON(old.Ports, want.Ports):
			old.Endpoints, old.Ports = want.Endpoints, want.Ports
			if _, err := s.c.DiscoveryV1().EndpointSlices(svc.Namespace).Update(ctx, old, metav1.UpdateOptions{}); ignoreGone(err) != nil {
				return err
			}
		}
	}
	return nil
}

// syncNamespaces gives every namespace its default account, and empties those
// that are being deleted.
func (s *state) syncNamespaces(ctx context.Context) error {
	accounts := map[string]bool{}
	for _, a := range s.accounts.GetStore().List() {
		m := a.(*corev1.ServiceAccount)
		accounts[m.Namespace+"/"+m.Name] = true
	}
	var errs []error
	for _, ns := range All[*corev1.Namespace](s.namespaces) {
		if ns.DeletionTimestamp == nil {
			if !accounts[ns.Name+"/default"] {
				_, err := s.c.CoreV1().ServiceAccounts(ns.Name).Create(ctx, &corev1.ServiceAccount{ObjectMeta: metav1.ObjectMeta{Name: "default"}}, metav1.CreateOptions{})
				if err != nil && !apierrors.IsAlreadyExists(err) {
					errs = append(errs, err)
				}
			}
			continue
		}
		errs = append(errs, s.empty(ctx, ns))
	}
	return errors.Join(errs...)
}

// events are no kind that anything else is kept for.
var events = schema.GroupVersionResource{Version: "v1", Resource: "events"}

// empty deletes everything in a namespace that is being deleted, and the namespace
// when nothing is left.
func (s *state) empty(ctx context.Context, ns *corev1.Namespace) error {
	kinds := []schema.GroupVersionResource{events}
	for _, k := range s.kept {
		if k.namespaced {
			kinds = append(kinds, k.gvr)
		}
	}
	left := 0
	var errs []error
	for _, gvr := range kinds {
		of := s.md.Resource(gvr).Namespace(ns.Name)
		if err := of.DeleteCollection(ctx, metav1.DeleteOptions{}, metav1.ListOptions{}); err != nil {
			errs = append(errs, err)
			continue
		}
		l, err := of.List(ctx, metav1.ListOptions{Limit: 1})
		if err != nil {
			errs = append(errs, err)
			continue
		}
		left += len(l.Items)
	}
	if err := errors.Join(errs...); err != nil || left > 0 {
		return err
	}
	ns.Finalizers = nil
	_, err := s.c.CoreV1().Namespaces().Update(ctx, ns, metav1.UpdateOptions{})
	return ignoreGone(err)
}
