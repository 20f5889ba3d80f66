package kube

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/types"
)

// CordonedBy marks a node that we cordoned, so that we uncordon only those.
const CordonedBy = "verbund.test/cordoned-by"

// Cordon keeps new pods off a node. A node that somebody else has cordoned is
// left as it is.
func (c *Client) Cordon(ctx context.Context, node, run string) error {
	n, err := c.CoreV1().Nodes().Get(ctx, node, metav1.GetOptions{})
	if err != nil {
		return err
	}
	if n.Spec.Unschedulable {
		return nil
	}
	return c.patchNode(ctx, node, map[string]any{"metadata": map[string]any{"annotations": map[string]any{CordonedBy: run}}, "spec": map[string]any{"unschedulable": true}})
}

// Uncordon lets pods onto a node again, if it was us who kept them off.
func (c *Client) Uncordon(ctx context.Context, node string) error {
	n, err := c.CoreV1().Nodes().Get(ctx, node, metav1.GetOptions{})
	if err != nil {
		return err
	}
	if _, ours := n.Annotations[CordonedBy]; !ours {
		return nil
	}
	return c.patchNode(ctx, node, map[string]any{"metadata": map[string]any{"annotations": map[string]any{CordonedBy: nil}}, "spec": map[string]any{"unschedulable": nil}})
}

func (c *Client) patchNode(ctx context.Context, node string, patch map[string]any) error {
	b, err := json.Marshal(patch)
	if err != nil {
		return err
	}
	_, err = c.CoreV1().Nodes().Patch(ctx, node, types.MergePatchType, b, metav1.PatchOptions{})
	return err
}

// owned says whether the tool may set a label: its own domain, the role, the
// zone, and those of the pool, whose names it wrote down on the node.
const labelsNote = "verbund.test/labels"

// SetNode brings a node's labels and taints to what is declared. Labels that
// others set stay; those that an earlier declaration had are taken away.
func (c *Client) SetNode(ctx context.Context, node string, want map[string]string, taints []corev1.Taint) error {
	n, err := c.CoreV1().Nodes().Get(ctx, node, metav1.GetOptions{})
	if err != nil {
		return err
	}
	l := map[string]any{}
	for k := range strings.SplitSeq(n.Annotations[labelsNote], ",") {
		if _, ok := want[k]; !ok && k != "" {
			l[k] = nil
		}
	}
	keys := []string{}
	for k, v := range want {
		l[k] = v
		keys = append(keys, k)
	}
	slices.Sort(keys)
	spec := map[string]any{}
	all := taints
	for _, t := range n.Spec.Taints {
		if strings.HasPrefix(t.Key, "node.kubernetes.io/") {
			all = append(all, t)
		}
	}
	spec["taints"] = all
	return c.patchNode(ctx, node, map[string]any{"metadata": map[string]any{"resourceVersion": n.ResourceVersion, "labels": l, "annotations": map[string]any{labelsNote: strings.Join(keys, ",")}}, "spec": spec})
}

// NewlyDeclared begins what differs at a node only because it is declared since.
const NewlyDeclared = "new "

// NodeDiffers says how a node's labels and taints differ from what is declared.
// What is new was not declared when the node was last labelled; what is not new
// was changed by something else, or has another value by now.
func NodeDiffers(n *corev1.Node, want map[string]string, taints []corev1.Taint) []string {
	var out []string
	set := strings.Split(n.Annotations[labelsNote], ",")
	for k, v := range want {
		if have, ok := n.Labels[k]; !ok || have != v {
			l := "label " + k + "=" + v
			if !slices.Contains(set, k) {
				l = NewlyDeclared + l
			}
			out = append(out, l)
		}
	}
	for _, k := range set {
		if _, ok := want[k]; !ok && k != "" {
			out = append(out, "label "+k+" too much")
		}
	}
	same := func(a, b corev1.Taint) bool { return a.Key == b.Key && a.Value == b.Value && a.Effect == b.Effect }
	for _, t := range taints {
		if !slices.ContainsFunc(n.Spec.Taints, func(x corev1.Taint) bool { return same(x, t) }) {
			out = append(out, "taint "+t.ToString())
		}
	}
	for _, t := range n.Spec.Taints {
		if !strings.HasPrefix(t.Key, "node.kubernetes.io/") && !slices.ContainsFunc(taints, func(x corev1.Taint) bool { return same(x, t) }) {
			out = append(out, "taint "+t.ToString()+" too much")
		}
	}
	slices.Sort(out)
	return out
}

// Lost is a pod that would not come back after an eviction.
type Lost struct {
	corev1.Pod
	Why string
}

func (l Lost) String() string { return fmt.Sprintf("pod %s/%s %s", l.Namespace, l.Name, l.Why) }

// reasons lists why pods would be lost.
func reasons(lost []Lost) string {
	var out []string
	for _, l := range lost {
		out = append(out, l.String())
	}
	return strings.Join(out, "; ")
}

// Loss is pods that may be lost.
type Loss struct {
	Namespace string // empty: every one
	Pods      labels.Selector
}

// Evictable sorts out pods: those to be evicted, and those that would be lost,
// each with the reason; those of daemons and mirrors are neither. What may be
// lost is evicted like the others.
func Evictable(pods []corev1.Pod, may []Loss) (evict []corev1.Pod, lost []Lost) {
	free := func(p *corev1.Pod) bool {
		return slices.ContainsFunc(may, func(l Loss) bool {
			return (l.Namespace == "" || l.Namespace == p.Namespace) && l.Pods.Matches(labels.Set(p.Labels))
		})
	}
	for _, p := range pods {
		owner := metav1.GetControllerOf(&p)
		_, mirror := p.Annotations[corev1.MirrorPodAnnotationKey]
		switch {
		case mirror || owner != nil && owner.Kind == "DaemonSet":
			continue
		case p.Status.Phase == corev1.PodSucceeded || p.Status.Phase == corev1.PodFailed || p.DeletionTimestamp != nil:
		case free(&p):
		case owner == nil:
			lost = append(lost, Lost{p, "has no controller that would make it again"})
			continue
		case slices.ContainsFunc(p.Spec.Volumes, func(v corev1.Volume) bool { return v.EmptyDir != nil }):
			lost = append(lost, Lost{p, "keeps data in an emptyDir volume"})
			continue
		}
		evict = append(evict, p)
	}
	return evict, lost
}

// Unmovable finds, before anything is evicted, which of these pods a drain would
// lose or could never move, by node, and says why.
func (c *Client) Unmovable(ctx context.Context, pods []corev1.Pod) (lost, blocked map[string][]string, err error) {
	bs, err := c.PolicyV1().PodDisruptionBudgets("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, nil, err
	}
	lost, blocked = map[string][]string{}, map[string][]string{}
	on := map[string][]corev1.Pod{}
	for _, p := range pods {
		if p.Spec.NodeName != "" {
			on[p.Spec.NodeName] = append(on[p.Spec.NodeName], p)
		}
	}
	for node, ps := range on {
		evict, gone := Evictable(ps, c.mayLose)
		for _, l := range gone {
			lost[node] = append(lost[node], l.String())
		}
		if b := blockedBy(bs.Items, evict); len(b) > 0 {
			blocked[node] = b
		}
	}
	return lost, blocked, nil
}

// blockedBy finds pods that can never be evicted: under
// several budgets, or under one that allows no disruption even when all its
// pods are well.
func blockedBy(bs []policyv1.PodDisruptionBudget, pods []corev1.Pod) []string {
	var out []string
	for _, p := range pods {
		var over []policyv1.PodDisruptionBudget
		for _, b := range bs {
			sel, err := metav1.LabelSelectorAsSelector(b.Spec.Selector)
			if err == nil && b.Namespace == p.Namespace && sel.Matches(labels.Set(p.Labels)) {
				over = append(over, b)
			}
		}
		switch {
		case len(over) > 1:
			out = append(out, fmt.Sprintf("pod %s/%s stands under %d disruption budgets, and Kubernetes evicts it under none or one: delete all but one", p.Namespace, p.Name, len(over)))
		case len(over) == 1 && over[0].Status.ExpectedPods > 0 && over[0].Status.DesiredHealthy >= over[0].Status.ExpectedPods:
			out = append(out, fmt.Sprintf("disruption budget %s/%s wants all %d pods and so never lets pod %s go: lower it, or give its application another replica", p.Namespace, over[0].Name, over[0].Status.ExpectedPods, p.Name))
		}
	}
	return out
}

// Drain evicts a node's pods and waits until they are gone. Refusals by
// disruption budgets are tried again, with growing pauses, until ctx ends.
func (c *Client) Drain(ctx context.Context, node string, tell func(string)) error {
	pause := 100 * time.Millisecond
	asked := map[types.UID]bool{}
	last := ""
	for {
		pods, err := c.PodsOn(ctx, node)
		if err != nil {
			return err
		}
		evict, lost := Evictable(pods, c.mayLose)
		if len(lost) > 0 {
			return fmt.Errorf("evicting from %s would lose something: %s", node, reasons(lost))
		}
		if len(evict) == 0 {
			return nil
		}
		refused, ending := "", false
		for _, p := range evict {
			if asked[p.UID] || p.DeletionTimestamp != nil {
				continue
			}
			err := c.PolicyV1().Evictions(p.Namespace).Evict(ctx, &policyv1.Eviction{ObjectMeta: metav1.ObjectMeta{Name: p.Name, Namespace: p.Namespace}})
			switch {
			case err == nil || apierrors.IsNotFound(err):
				asked[p.UID] = true
			case apierrors.IsTooManyRequests(err):
				refused = fmt.Sprintf("pod %s/%s: %v", p.Namespace, p.Name, err)
			case apierrors.HasStatusCause(err, corev1.NamespaceTerminatingCause):
				// An eviction would be something new in a namespace that is being deleted; the
				// pod goes with it.
				ending = true
			case apierrors.IsInternalError(err):
				return fmt.Errorf("pod %s/%s will never be evicted: %w", p.Namespace, p.Name, err)
			case ctx.Err() == nil:
				return fmt.Errorf("evicting pod %s/%s: %w", p.Namespace, p.Name, err)
			}
		}
		if refused != "" && refused != last {
			tell("waits for a disruption budget: " + refused)
			last = refused
		}
		wait := 50 * time.Millisecond
		if refused != "" || ending {
			wait = pause
			pause = min(pause*3/2, 5*time.Second)
		}
		t := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			t.Stop()
			left := []string{}
			for _, p := range evict {
				left = append(left, p.Namespace+"/"+p.Name)
			}
			return fmt.Errorf("still on %s when patience ended: %s; last refusal: %s", node, strings.Join(left, ", "), last)
		case <-t.C:
		}
	}
}
