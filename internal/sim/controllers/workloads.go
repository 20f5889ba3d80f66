package controllers

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"strconv"

	appsv1 "k8s.io/api/apps/v1"
	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/util/intstr"
	"k8s.io/apimachinery/pkg/util/rand"
)

const (
	hashLabel     = "pod-template-hash"
	revisionLabel = "controller-revision-hash"
	revisionNote  = "deployment.kubernetes.io/revision"
)

func templateHash(t corev1.PodTemplateSpec) string {
	b, _ := json.Marshal(t)
	h := fnv.New32a()
	h.Write(b)
	return rand.SafeEncodeString(fmt.Sprint(h.Sum32()))
}

func ignoreGone(err error) error {
	if apierrors.IsNotFound(err) || apierrors.IsConflict(err) {
		return nil
	}
	return err
}

func (s *state) syncDeployments(ctx context.Context) error {
	var errs []error
	for _, d := range All[*appsv1.Deployment](s.deployments) {
		if d.DeletionTimestamp == nil {
			errs = append(errs, s.syncDeployment(ctx, d))
		}
	}
	return errors.Join(errs...)
}

// syncDeployment moves a deployment towards its newest template, within its surge and
// unavailability. It is long because every branch decides from the same counts of pods.
func (s *state) syncDeployment(ctx context.Context, d *appsv1.Deployment) error {
	hash := templateHash(d.Spec.Template)
	var newest *appsv1.ReplicaSet
	var old []*appsv1.ReplicaSet
	top := int64(0)
	for _, rs := range All[*appsv1.ReplicaSet](s.sets) {
		if !ownedBy(rs, d) {
			continue
		}
		rev, _ := strconv.ParseInt(rs.Annotations[revisionNote], 10, 64)
		top = max(top, rev)
		if rs.Labels[hashLabel] == hash {
			newest = rs
		} else {
			old = append(old, rs)
		}
	}
	want := *d.Spec.Replicas
	if newest == nil {
		rs := &appsv1.ReplicaSet{
			ObjectMeta: metav1.ObjectMeta{Name: d.Name + "-" + hash, Namespace: d.Namespace, Labels: withLabel(d.Spec.Template.Labels, hashLabel, hash),
				Annotations:     map[string]string{revisionNote: fmt.Sprint(top + 1)},
				OwnerReferences: []metav1.OwnerReference{*metav1.NewControllerRef(d, schema.GroupVersionKind{Group: "apps", Version: "v1", Kind: "Deployment"})}},
			Spec: appsv1.ReplicaSetSpec{Replicas: new(int32), Selector: d.Spec.Selector.DeepCopy(), Template: *d.Spec.Template.DeepCopy()},
		}
		rs.Spec.Selector.MatchLabels = withLabel(rs.Spec.Selector.MatchLabels, hashLabel, hash)
		rs.Spec.Template.Labels = withLabel(rs.Spec.Template.Labels, hashLabel, hash)
		if len(old) == 0 {
			rs.Spec.Replicas = &want
		}
		made, err := s.c.AppsV1().ReplicaSets(d.Namespace).Create(ctx, rs, metav1.CreateOptions{})
		if err != nil {
			return err
		}
		s.seen(ctx, s.sets, made)
		newest = made
	}
	surge, unavailable := int32(0), want
	if ru := d.Spec.Strategy.RollingUpdate; d.Spec.Strategy.Type == appsv1.RollingUpdateDeploymentStrategyType && ru != nil {
		a, _ := intstr.GetScaledValueFromIntOrPercent(ru.MaxSurge, int(want), true)
		b, _ := intstr.GetScaledValueFromIntOrPercent(ru.MaxUnavailable, int(want), false)
		if surge, unavailable = int32(a), int32(b); surge == 0 && unavailable == 0 {
			unavailable = 1
		}
	}
	var oldReplicas, oldReady int32
	for _, rs := range old {
		oldReplicas += *rs.Spec.Replicas
		oldReady += rs.Status.ReadyReplicas
	}
	// Up: as many as the surge allows. Down: never below what must be ready.
	up := min(want, max(*newest.Spec.Replicas, want+surge-oldReplicas))
	if oldReplicas == 0 || up < *newest.Spec.Replicas {
		up = want
	}
	if err := s.scaleSet(ctx, newest, up); err != nil {
		return err
	}
	spare := oldReady + newest.Status.ReadyReplicas - (want - unavailable)
	slices.SortFunc(old, func(a, b *appsv1.ReplicaSet) int { return cmp.Compare(a.Name, b.Name) })
	for _, rs := range old {
		broken := *rs.Spec.Replicas - min(rs.Status.ReadyReplicas, *rs.Spec.Replicas)
		down := broken + min(max(spare, 0), *rs.Spec.Replicas-broken)
		spare -= down - broken
		if err := s.scaleSet(ctx, rs, *rs.Spec.Replicas-down); err != nil {
			return err
		}
	}
	st := appsv1.DeploymentStatus{ObservedGeneration: d.Generation, UpdatedReplicas: newest.Status.Replicas, Conditions: d.Status.Conditions}
	for _, rs := range append(old, newest) {
		st.Replicas += rs.Status.Replicas
		st.ReadyReplicas += rs.Status.ReadyReplicas
		st.AvailableReplicas += rs.Status.AvailableReplicas
	}
	st.UnavailableReplicas = max(want-st.AvailableReplicas, 0)
	cond := func(t appsv1.DeploymentConditionType, ok bool, reason string) {
		v := corev1.ConditionFalse
		if ok {
			v = corev1.ConditionTrue
		}
		for i := range st.Conditions {
			if c := &st.Conditions[i]; c.Type == t {
				if c.Status != v || c.Reason != reason {
					*c = appsv1.DeploymentCondition{Type: t, Status: v, Reason: reason, LastUpdateTime: metav1.Now(), LastTransitionTime: metav1.Now()}
				}
				return
			}
		}
		st.Conditions = append(st.Conditions, appsv1.DeploymentCondition{Type: t, Status: v, Reason: reason, LastUpdateTime: metav1.Now(), LastTransitionTime: metav1.Now()})
	}
	st.Conditions = slices.Clone(st.Conditions)
	cond(appsv1.DeploymentAvailable, st.AvailableReplicas >= want-unavailable, map[bool]string{true: "MinimumReplicasAvailable", false: "MinimumReplicasUnavailable"}[st.AvailableReplicas >= want-unavailable])
	complete := st.UpdatedReplicas == want && st.Replicas == want && st.AvailableReplicas >= want
	cond(appsv1.DeploymentProgressing, true, map[bool]string{true: "NewReplicaSetAvailable", false: "ReplicaSetUpdated"}[complete])
	if sameJSON(st, d.Status) {
		return nil
	}
	d.Status = st
	_, err := s.c.AppsV1().Deployments(d.Namespace).UpdateStatus(ctx, d, metav1.UpdateOptions{})
	return ignoreGone(err)
}

func sameJSON(a, b any) bool {
	x, _ := json.Marshal(a)
	y, _ := json.Marshal(b)
	return string(x) == string(y)
}

func withLabel(m map[string]string, k, v string) map[string]string {
	out := maps.Clone(m)
	if out == nil {
		out = map[string]string{}
	}
	out[k] = v
	return out
}

func (s *state) scaleSet(ctx context.Context, rs *appsv1.ReplicaSet, n int32) error {
	if *rs.Spec.Replicas == n {
		return nil
	}
	rs.Spec.Replicas = &n
	_, err := s.c.AppsV1().ReplicaSets(rs.Namespace).Update(ctx, rs, metav1.UpdateOptions{})
	return ignoreGone(err)
}

func (s *state) syncSets(ctx context.Context) error {
	pods := lying[*corev1.Pod](s.pods)
	var errs []error
	for _, rs := range All[*appsv1.ReplicaSet](s.sets) {
		if rs.DeletionTimestamp == nil {
			errs = append(errs, s.syncSet(ctx, rs, pods))
		}
	}
	return errors.Join(errs...)
}

func (s *state) syncSet(ctx context.Context, rs *appsv1.ReplicaSet, pods []*corev1.Pod) error {
	var mine []*corev1.Pod
	ready := int32(0)
	for _, p := range pods {
		if ownedBy(p, rs) && p.DeletionTimestamp == nil && !podOver(p) {
			mine = append(mine, p)
			if podReady(p) {
				ready++
			}
		}
	}
	want := int(*rs.Spec.Replicas)
	for i := len(mine); i < want; i++ {
		p := &corev1.Pod{ObjectMeta: metav1.ObjectMeta{GenerateName: rs.Name + "-", Namespace: rs.Namespace, Labels: rs.Spec.Template.Labels, Annotations: rs.Spec.Template.Annotations,
			OwnerReferences: []metav1.OwnerReference{*metav1.NewControllerRef(rs, schema.GroupVersionKind{Group: "apps", Version: "v1", Kind: "ReplicaSet"})}}, Spec: *rs.Spec.Template.Spec.DeepCopy()}
		made, err := s.c.CoreV1().Pods(rs.Namespace).Create(ctx, p, metav1.CreateOptions{})
		if err != nil {
			return err
		}
		s.seen(ctx, s.pods, made)
	}
	if over := len(mine) - want; over > 0 {
		// The youngest of those that serve the least go first.
		rank := func(p *corev1.Pod) int {
			switch {
			case p.Spec.NodeName == "":
				return 0
			case !podReady(p):
				return 1
			}
			return 2
		}
		slices.SortFunc(mine, func(a, b *corev1.Pod) int {
			return cmp.Or(cmp.Compare(rank(a), rank(b)), b.CreationTimestamp.Compare(a.CreationTimestamp.Time), cmp.Compare(a.Name, b.Name))
		})
		for _, p := range mine[:over] {
			if err := s.c.CoreV1().Pods(p.Namespace).Delete(ctx, p.Name, metav1.DeleteOptions{}); ignoreGone(err) != nil {
				return err
			}
		}
	}
	st := appsv1.ReplicaSetStatus{Replicas: int32(len(mine)), ReadyReplicas: ready, AvailableReplicas: ready, FullyLabeledReplicas: int32(len(mine)), ObservedGeneration: rs.Generation}
	if sameJSON(st, rs.Status) {
		return nil
	}
	rs.Status = st
	_, err := s.c.AppsV1().ReplicaSets(rs.Namespace).UpdateStatus(ctx, rs, metav1.UpdateOptions{})
	return ignoreGone(err)
}

// daemonTolerations let a daemon's pods run where others may not yet.
var daemonTolerations = []corev1.Toleration{
	{Key: corev1.TaintNodeNotReady, Operator: corev1.TolerationOpExists}, {Key: corev1.TaintNodeUnreachable, Operator: corev1.TolerationOpExists},
	{Key: corev1.TaintNodeUnschedulable, Operator: corev1.TolerationOpExists, Effect: corev1.TaintEffectNoSchedule},
	{Key: corev1.TaintNodeNetworkUnavailable, Operator: corev1.TolerationOpExists, Effect: corev1.TaintEffectNoSchedule},
}

func (s *state) syncDaemons(ctx context.Context) error {
	pods, nodes := lying[*corev1.Pod](s.pods), lying[*corev1.Node](s.nodes)
	var errs []error
	for _, d := range All[*appsv1.DaemonSet](s.daemons) {
		if d.DeletionTimestamp == nil {
			errs = append(errs, s.syncDaemon(ctx, d, pods, nodes))
		}
	}
	return errors.Join(errs...)
}

// syncDaemon: it is long because every branch decides from the same list of pods.
func (s *state) syncDaemon(ctx context.Context, d *appsv1.DaemonSet, pods []*corev1.Pod, nodes []*corev1.Node) error {
	hash := templateHash(d.Spec.Template)
	spec := d.Spec.Template.Spec.DeepCopy()
	spec.Tolerations = append(spec.Tolerations, daemonTolerations...)
	st := appsv1.DaemonSetStatus{ObservedGeneration: d.Generation}
	on := map[string][]*corev1.Pod{}
	for _, p := range pods {
		if ownedBy(p, d) {
			on[p.Spec.NodeName] = append(on[p.Spec.NodeName], p)
		}
	}
	var outdated []*corev1.Pod
	for _, n := range nodes {
		fits := tolerated(spec.Tolerations, n.Spec.Taints, false) && labels.SelectorFromSet(spec.NodeSelector).Matches(labels.Set(n.Labels))
		mine := on[n.Name]
		delete(on, n.Name)
		if !fits {
			on[n.Name] = mine
			continue
		}
		st.DesiredNumberScheduled++
		if len(mine) == 0 {
			p := &corev1.Pod{ObjectMeta: metav1.ObjectMeta{GenerateName: d.Name + "-", Namespace: d.Namespace, Labels: withLabel(d.Spec.Template.Labels, revisionLabel, hash), Annotations: d.Spec.Template.Annotations,
				OwnerReferences: []metav1.OwnerReference{*metav1.NewControllerRef(d, schema.GroupVersionKind{Group: "apps", Version: "v1", Kind: "DaemonSet"})}}, Spec: *spec}
			p.Spec.NodeName = n.Name
			made, err := s.c.CoreV1().Pods(d.Namespace).Create(ctx, p, metav1.CreateOptions{})
			if err != nil {
				return err
			}
			s.seen(ctx, s.pods, made)
			continue
		}
		st.CurrentNumberScheduled++
		if podReady(mine[0]) {
			st.NumberReady++
			st.NumberAvailable++
		}
		if mine[0].Labels[revisionLabel] == hash {
			st.UpdatedNumberScheduled++
		} else {
			outdated = append(outdated, mine[0])
		}
		on[n.Name] = mine[1:]
	}
	st.NumberUnavailable = st.DesiredNumberScheduled - st.NumberAvailable
	for _, extra := range on {
		for _, p := range extra {
			if p.DeletionTimestamp == nil {
				if err := s.c.CoreV1().Pods(p.Namespace).Delete(ctx, p.Name, metav1.DeleteOptions{}); ignoreGone(err) != nil {
					return err
				}
			}
		}
	}
	// Replace outdated pods, a few at a time; those that do not serve anyway
	// cost nothing.
	room := 1
	if ru := d.Spec.UpdateStrategy.RollingUpdate; ru != nil && ru.MaxUnavailable != nil {
		room, _ = intstr.GetScaledValueFromIntOrPercent(ru.MaxUnavailable, int(st.DesiredNumberScheduled), true)
		room = max(room, 1)
	}
	room -= int(st.NumberUnavailable)
	for _, p := range outdated {
		if podReady(p) {
			if room <= 0 {
				continue
			}
			room--
		}
		if p.DeletionTimestamp == nil {
			if err := s.c.CoreV1().Pods(p.Namespace).Delete(ctx, p.Name, metav1.DeleteOptions{}); ignoreGone(err) != nil {
				return err
			}
		}
	}
	if sameJSON(st, d.Status) {
		return nil
	}
	d.Status = st
	_, err := s.c.AppsV1().DaemonSets(d.Namespace).UpdateStatus(ctx, d, metav1.UpdateOptions{})
	return ignoreGone(err)
}

// tolerated says whether all taints that keep pods off are tolerated.
func tolerated(ts []corev1.Toleration, taints []corev1.Taint, onlyExecute bool) bool {
	for _, t := range taints {
		if t.Effect == corev1.TaintEffectPreferNoSchedule || onlyExecute && t.Effect != corev1.TaintEffectNoExecute {
			continue
		}
		if !slices.ContainsFunc(ts, func(x corev1.Toleration) bool { return tolerates(x, t) }) {
			return false
		}
	}
	return true
}

func tolerates(x corev1.Toleration, t corev1.Taint) bool {
	if x.Effect != "" && x.Effect != t.Effect || x.Key != "" && x.Key != t.Key {
		return false
	}
	return x.Operator == corev1.TolerationOpExists || x.Key != "" && x.Value == t.Value
}

// syncBudgets keeps the count of disruptions that budgets allow.
func (s *state) syncBudgets(ctx context.Context) error {
	pods := lying[*corev1.Pod](s.pods)
	for _, b := range All[*policyv1.PodDisruptionBudget](s.budgets) {
		sel, err := metav1.LabelSelectorAsSelector(b.Spec.Selector)
		if err != nil {
			return err
		}
		var total, healthy int32
		disrupted := map[string]metav1.Time{}
		for _, p := range pods {
			if p.Namespace != b.Namespace || !sel.Matches(labels.Set(p.Labels)) || podOver(p) {
				continue
			}
			// What is on its way out does not count any more, and what is gone
			// will be replaced: the expected number is the controllers'.
			total++
			if t, ok := b.Status.DisruptedPods[p.Name]; ok && p.DeletionTimestamp == nil {
				disrupted[p.Name] = t
				continue
			}
			if podReady(p) {
				healthy++
			}
		}
		expected := s.expected(b.Namespace, sel, pods, total)
		need := int32(0)
		switch {
		case b.Spec.MinAvailable != nil:
			n, _ := intstr.GetScaledValueFromIntOrPercent(b.Spec.MinAvailable, int(expected), true)
			need = int32(n)
		case b.Spec.MaxUnavailable != nil:
			n, _ := intstr.GetScaledValueFromIntOrPercent(b.Spec.MaxUnavailable, int(expected), true)
			need = expected - int32(n)
		}
		st := policyv1.PodDisruptionBudgetStatus{ObservedGeneration: b.Generation, ExpectedPods: expected, CurrentHealthy: healthy, DesiredHealthy: max(need, 0), DisruptionsAllowed: max(healthy-need, 0)}
		if len(disrupted) > 0 {
			st.DisruptedPods = disrupted
		}
		if sameJSON(st, b.Status) {
			continue
		}
		b.Status = st
		// The update fails if an eviction counted meanwhile; then the next pass.
		if _, err := s.c.PolicyV1().PodDisruptionBudgets(b.Namespace).UpdateStatus(ctx, b, metav1.UpdateOptions{}); err != nil {
			if apierrors.IsNotFound(err) {
				continue
			}
			return err
		}
	}
	return nil
}

// expected is how many pods there should be: what their replica sets want, and
// those without one as they are.
func (s *state) expected(ns string, sel labels.Selector, pods []*corev1.Pod, total int32) int32 {
	n := int32(0)
	found := false
	for _, rs := range All[*appsv1.ReplicaSet](s.sets) {
		if rs.Namespace == ns && sel.Matches(labels.Set(rs.Spec.Template.Labels)) {
			n += *rs.Spec.Replicas
			found = true
		}
	}
	if !found {
		return total
	}
	for _, p := range pods {
		if p.Namespace == ns && sel.Matches(labels.Set(p.Labels)) && metav1.GetControllerOf(p) == nil {
			n++
		}
	}
	return n
}
