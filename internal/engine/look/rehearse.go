package look

import (
	"cmp"
	"context"
	"slices"
	"time"

	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/selection"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/component-helpers/resource"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/rehearse"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
)

// Rehearsal is what somebody wants to try.
type Rehearsal struct {
	Part string
	Fail string // a machine that does not come back
	// Policy changes how groups are rolled out, for the rehearsal alone; nil: as declared.
	Policy func(group string, p *rollout.Policy)
	// Usual is how long steps take.
	Usual func(plan.Step) time.Duration
}

// Rehearse gathers what is there and has the change played through in virtual time.
func Rehearse(ctx context.Context, s *session.Session, q Rehearsal) (*rehearse.Result, error) {
	v, err := Observe(ctx, s)
	if err != nil {
		return nil, err
	}
	if err := Limit(s, v, q.Part); err != nil {
		return nil, err
	}
	if err := Unseen(s, v); err != nil {
		return nil, err
	}
	if _, known := v.Seen.Machines[q.Fail]; q.Fail != "" && !known {
		if _, declared := v.Cluster.Machine(q.Fail); !declared {
			return nil, &plan.Misnamed{What: "cluster " + s.Decl.Name + " has no machine " + q.Fail, Todo: "verbund machines lists them"}
		}
	}
	in, err := rehearsalOf(ctx, s, v, q)
	if err != nil {
		return nil, err
	}
	return rehearse.Run(*in)
}

// between is what it takes to look anew between two plans, beside the steps.
const between = 300 * time.Millisecond

// podStart is how long a pod that was moved takes until it is well, in life.
const podStart = 10 * time.Second

func rehearsalOf(ctx context.Context, s *session.Session, v *View, q Rehearsal) (*rehearse.Input, error) {
	pace := 1
	if s.SiteFile != nil {
		pace = max(s.SiteFile.Pace, 1)
	}
	in := &rehearse.Input{Seen: v.Seen, Cat: s.Cat, Numbers: v.Known.Numbers, Usual: q.Usual, Between: between, PodStart: podStart/time.Duration(pace) + ownWork, Parallel: s.Parallel, Part: q.Part, Fail: q.Fail}
	in.Declared = func(aim plan.Aim) (*topology.Cluster, error) {
		c, err := s.TopologyAs(aim)
		if err == nil && q.Policy != nil {
			for name, p := range c.Policies {
				q.Policy(name, &p)
				c.Policies[name] = p
			}
		}
		return c, err
	}
	in.Capacity = func(m topology.Machine) (cpu, memory int64, stays rehearse.Share) {
		size := s.SiteFile.Sizes[m.Size]
		system, kube := nodeconf.Reserved(m)
		cpu, memory = int64(size.CPUs)*1000-system[0]-kube[0], int64(size.Memory)-(system[1]+kube[1]+nodeconf.EvictionMemory)<<20
		// What comes with every machine of its group comes with this one.
		for _, n := range in.Nodes {
			if n.Group == m.Pool {
				stays.CPU, stays.Memory = max(stays.CPU, n.Stays.CPU), max(stays.Memory, n.Stays.Memory)
			}
		}
		return cpu, memory, stays
	}
	if !v.Seen.API {
		return in, nil
	}
	k, err := s.Kube(v.Cluster)
	if err != nil {
		return nil, err
	}
	lctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
	defer cancel()
	pods, err := k.CoreV1().Pods("").List(lctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	budgets, err := k.PolicyV1().PodDisruptionBudgets("").List(lctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	claims, err := k.CoreV1().PersistentVolumeClaims("").List(lctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	volumes, err := k.CoreV1().PersistentVolumes().List(lctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	inhabited(in, v, pods.Items, budgets.Items, bound(claims.Items, volumes.Items))
	return in, nil
}

// bound says for each claim, by namespace/name, where the volume can be reached that it is
// bound to: nil of one that can be anywhere.
func bound(claims []corev1.PersistentVolumeClaim, volumes []corev1.PersistentVolume) map[string]*corev1.NodeSelector {
	at := map[string]*corev1.NodeSelector{}
	for _, v := range volumes {
		if a := v.Spec.NodeAffinity; a != nil {
			at[v.Name] = a.Required
		}
	}
	out := map[string]*corev1.NodeSelector{}
	for _, c := range claims {
		out[c.Namespace+"/"+c.Name] = at[c.Spec.VolumeName]
	}
	return out
}

// inhabited adds nodes with their pods, and the budgets that guard these.
func inhabited(in *rehearse.Input, v *View, pods []corev1.Pod, budgets []policyv1.PodDisruptionBudget, claims map[string]*corev1.NodeSelector) {
	for _, n := range v.Nodes {
		x := rehearse.Node{Name: n.Name, Zone: n.Labels[corev1.LabelTopologyZone], CPU: n.Status.Allocatable.Cpu().MilliValue(), Memory: n.Status.Allocatable.Memory().Value(), Labels: n.Labels}
		if m, ok := v.Cluster.Machine(n.Name); ok {
			x.Group = m.Pool
		}
		for _, t := range n.Spec.Taints {
			x.Taints = append(x.Taints, rehearse.Taint{Key: t.Key, Value: t.Value, Effect: string(t.Effect)})
		}
		in.Nodes = append(in.Nodes, x)
	}
	for _, b := range budgets {
		in.Budgets = append(in.Budgets, rehearse.Budget{Name: b.Namespace + "/" + b.Name, Healthy: int(b.Status.DesiredHealthy), Pods: int(b.Status.ExpectedPods)})
	}
	labelled := map[string]*corev1.Pod{}
	for i := range pods {
		labelled[pods[i].Namespace+"/"+pods[i].Name] = &pods[i]
	}
	moved, lost := kube.Evictable(pods, nil)
	for _, l := range lost {
		moved = append(moved, l.Pod)
	}
	moves := map[types.UID]bool{}
	for _, p := range moved {
		moves[p.UID] = true
	}
	for _, p := range pods {
		if i := slices.IndexFunc(in.Nodes, func(n rehearse.Node) bool { return n.Name == p.Spec.NodeName }); i >= 0 && !moves[p.UID] {
			cpu, memory := asks(&p)
			in.Nodes[i].Stays.CPU += cpu
			in.Nodes[i].Stays.Memory += memory
		}
	}
	for _, p := range moved {
		if p.Spec.NodeName == "" {
			continue
		}
		x := rehearse.Pod{Name: p.Namespace + "/" + p.Name, Node: p.Spec.NodeName, Fits: fitsOn(p.Spec, volumesOf(&p, claims)), Apart: apart(&p, labelled), Spread: spread(&p, labelled)}
		x.CPU, x.Memory = asks(&p)
		for i, b := range budgets {
			if sel, err := metav1.LabelSelectorAsSelector(b.Spec.Selector); err == nil && b.Namespace == p.Namespace && sel.Matches(labels.Set(p.Labels)) {
				x.Budgets = append(x.Budgets, i)
			}
		}
		in.Pods = append(in.Pods, x)
	}
	slices.SortFunc(in.Pods, func(a, b rehearse.Pod) int { return cmp.Or(cmp.Compare(a.Node, b.Node), cmp.Compare(a.Name, b.Name)) })
}

// asks is what a pod asks for as the scheduler counts it: with its init and sidecar containers, its
// overhead, and what a resize has given it. One that is over asks for nothing.
func asks(p *corev1.Pod) (cpu, memory int64) {
	if p.Status.Phase == corev1.PodSucceeded || p.Status.Phase == corev1.PodFailed {
		return 0, 0
	}
	r := resource.PodRequests(p, resource.PodResourcesOptions{UseStatusResources: true})
	return r.Cpu().MilliValue(), r.Memory().Value()
}

// volumesOf are the places at which the volumes of a pod can be reached.
func volumesOf(p *corev1.Pod, claims map[string]*corev1.NodeSelector) []*corev1.NodeSelector {
	var out []*corev1.NodeSelector
	for _, v := range p.Spec.Volumes {
		if c := v.PersistentVolumeClaim; c != nil {
			if at := claims[p.Namespace+"/"+c.ClaimName]; at != nil {
				out = append(out, at)
			}
		}
	}
	return out
}

// apart are the pods beside which one may not run, by its required anti-affinity: on the same
// node or in the same zone, which are the two distances that are asked about in practice.
func apart(p *corev1.Pod, labelled map[string]*corev1.Pod) []rehearse.Apart {
	a := p.Spec.Affinity
	if a == nil || a.PodAntiAffinity == nil {
		return nil
	}
	var out []rehearse.Apart
	for _, t := range a.PodAntiAffinity.RequiredDuringSchedulingIgnoredDuringExecution {
		sel, err := metav1.LabelSelectorAsSelector(t.LabelSelector)
		if err != nil || t.TopologyKey != corev1.LabelHostname && t.TopologyKey != corev1.LabelTopologyZone {
			continue
		}
		out = append(out, rehearse.Apart{Zone: t.TopologyKey == corev1.LabelTopologyZone, Of: func(o *rehearse.Pod) bool {
			other := labelled[o.Name]
			if other == nil || !slices.Contains(t.Namespaces, other.Namespace) && (len(t.Namespaces) > 0 || other.Namespace != p.Namespace) {
				return false
			}
			return sel.Matches(labels.Set(other.Labels))
		}})
	}
	return out
}

// spread are the required topology spread constraints of a pod.
func spread(p *corev1.Pod, labelled map[string]*corev1.Pod) []rehearse.Spread {
	var out []rehearse.Spread
	for _, c := range p.Spec.TopologySpreadConstraints {
		sel, err := metav1.LabelSelectorAsSelector(c.LabelSelector)
		if err != nil || c.WhenUnsatisfiable != corev1.DoNotSchedule {
			continue
		}
		x := rehearse.Spread{Key: c.TopologyKey, Skew: int(c.MaxSkew), At: func(n rehearse.Node) string {
			switch c.TopologyKey {
			case corev1.LabelHostname:
				return n.Name
			case corev1.LabelTopologyZone:
				return n.Zone
			}
			return n.Labels[c.TopologyKey]
		}, Of: func(o *rehearse.Pod) bool {
			other := labelled[o.Name]
			return other != nil && other.Namespace == p.Namespace && sel.Matches(labels.Set(other.Labels)) &&
				!slices.ContainsFunc(c.MatchLabelKeys, func(k string) bool { return other.Labels[k] != p.Labels[k] })
		}, On: func(n rehearse.Node, closed bool) bool {
			affine := c.NodeAffinityPolicy != nil && *c.NodeAffinityPolicy == corev1.NodeInclusionPolicyIgnore || chosen(p.Spec, n)
			open := c.NodeTaintsPolicy == nil || *c.NodeTaintsPolicy != corev1.NodeInclusionPolicyHonor || !closed && tolerated(p.Spec, n)
			return affine && open
		}}
		if c.MinDomains != nil {
			x.Min = int(*c.MinDomains)
		}
		out = append(out, x)
	}
	return out
}

// fitsOn says on which nodes a pod may run: by its selector, its required node affinity, the
// places of its volumes and the taints that it tolerates. What else a scheduler goes by is not
// asked.
func fitsOn(spec corev1.PodSpec, volumes []*corev1.NodeSelector) func(rehearse.Node) bool {
	return func(n rehearse.Node) bool {
		for _, at := range volumes {
			if !slices.ContainsFunc(at.NodeSelectorTerms, func(t corev1.NodeSelectorTerm) bool { return matches(t, n) }) {
				return false
			}
		}
		return chosen(spec, n) && tolerated(spec, n)
	}
}

// chosen says whether a pod's selector and required affinity choose a node.
func chosen(spec corev1.PodSpec, n rehearse.Node) bool {
	for k, v := range spec.NodeSelector {
		if n.Labels[k] != v {
			return false
		}
	}
	a := spec.Affinity
	return a == nil || a.NodeAffinity == nil || a.NodeAffinity.RequiredDuringSchedulingIgnoredDuringExecution == nil ||
		slices.ContainsFunc(a.NodeAffinity.RequiredDuringSchedulingIgnoredDuringExecution.NodeSelectorTerms, func(t corev1.NodeSelectorTerm) bool { return matches(t, n) })
}

// tolerated says whether a pod tolerates the taints of a node that keep pods off it.
func tolerated(spec corev1.PodSpec, n rehearse.Node) bool {
	return !slices.ContainsFunc(n.Taints, func(t rehearse.Taint) bool {
		taint := corev1.Taint{Key: t.Key, Value: t.Value, Effect: corev1.TaintEffect(t.Effect)}
		return taint.Effect != corev1.TaintEffectPreferNoSchedule && !slices.ContainsFunc(spec.Tolerations, func(x corev1.Toleration) bool { return tolerates(x, taint) })
	})
}

// tolerates is the rule of Kubernetes for taints and tolerations.
func tolerates(t corev1.Toleration, taint corev1.Taint) bool {
	if t.Effect != "" && t.Effect != taint.Effect || t.Key != "" && t.Key != taint.Key {
		return false
	}
	return t.Operator == corev1.TolerationOpExists || t.Key != "" && t.Value == taint.Value
}

// selections are the operators of node selectors, as those of label selectors.
var selections = map[corev1.NodeSelectorOperator]selection.Operator{corev1.NodeSelectorOpIn: selection.In, corev1.NodeSelectorOpNotIn: selection.NotIn, corev1.NodeSelectorOpExists: selection.Exists,
	corev1.NodeSelectorOpDoesNotExist: selection.DoesNotExist, corev1.NodeSelectorOpGt: selection.GreaterThan, corev1.NodeSelectorOpLt: selection.LessThan}

// matches says whether a node is what one term of a required affinity wants.
func matches(t corev1.NodeSelectorTerm, n rehearse.Node) bool {
	for _, e := range t.MatchExpressions {
		r, err := labels.NewRequirement(e.Key, selections[e.Operator], e.Values)
		if err != nil || !r.Matches(labels.Set(n.Labels)) {
			return false
		}
	}
	for _, f := range t.MatchFields {
		if in := slices.Contains(f.Values, n.Name); f.Key != "metadata.name" || in != (f.Operator == corev1.NodeSelectorOpIn) {
			return false
		}
	}
	return len(t.MatchExpressions)+len(t.MatchFields) > 0
}
