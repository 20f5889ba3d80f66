package controllers

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/spf13/pflag"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/client-go/tools/cache"
	"k8s.io/component-helpers/resource"
	schedv1 "k8s.io/kube-scheduler/config/v1"

	"verbund/internal/kubeapi"
	"verbund/internal/sim/host"
	"verbund/internal/sim/kubeclient"
	"verbund/internal/sim/serve"
)

// Scheduler is the scheduler's stand-in.
func Scheduler(ctx context.Context, e *host.Env) error {
	fs := pflag.NewFlagSet("kube-scheduler", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	config := fs.String("config", "", "")
	authn := fs.String("authentication-kubeconfig", "", "")
	authz := fs.String("authorization-kubeconfig", "", "")
	bind := fs.String("bind-address", "0.0.0.0", "")
	suites := fs.StringSlice("tls-cipher-suites", nil, "")
	port := fs.Int("secure-port", 10259, "")
	e.KnownFlags(fs)
	if err := fs.Parse(e.Args); err != nil {
		return &host.ExitError{Code: 2, Err: err}
	}
	for _, f := range []string{*authn, *authz} {
		if _, err := e.Host.ReadFile(f); err != nil {
			return err
		}
	}
	var cfg schedv1.KubeSchedulerConfiguration
	if err := e.StrictConfig(*config, &cfg); err != nil {
		return err
	}
	c, err := kubeclient.Client(e, cfg.ClientConnection.Kubeconfig)
	if err != nil {
		return err
	}
	ids, err := serve.Suites(*suites)
	if err != nil {
		return &host.ExitError{Code: 1, Err: err}
	}
	if err := kubeclient.Healthz(ctx, e, net.JoinHostPort(*bind, fmt.Sprint(*port)), true, ids, func() error { return nil }); err != nil {
		return err
	}
	e.Ready()
	le := cfg.LeaderElection
	return kubeclient.Lead(ctx, e, c, "kube-scheduler", le.LeaseDuration.Duration, le.RenewDeadline.Duration, le.RetryPeriod.Duration, func(ctx context.Context) {
		s := &state{e: e, c: c, nodes: c.CoreV1().Nodes().Cache(), pods: c.CoreV1().Pods("").Cache(), events: kubeclient.Recorder(ctx, e, c, "default-scheduler")}
		poke := make(chan struct{}, 1)
		s.nodes.AddEventHandler(Poker(poke))
		s.pods.AddEventHandler(Poker(poke))
		kubeapi.Run(ctx, s.nodes, s.pods)
		if !cache.WaitForCacheSync(ctx.Done(), s.nodes.HasSynced, s.pods.HasSynced) {
			return
		}
		assumed := map[string]string{} // pod key → node, until the cache shows it
		told := map[string]string{}    // pod key → why it could not be placed, as events say it
		tick := time.NewTicker(2 * time.Second)
		defer tick.Stop()
		for {
			s.schedule(ctx, assumed, told)
			select {
			case <-ctx.Done():
				return
			case <-poke:
			case <-tick.C:
			}
		}
	})
}

// schedule binds every waiting pod that fits somewhere.
func (s *state) schedule(ctx context.Context, assumed, told map[string]string) {
	pods := lying[*corev1.Pod](s.pods)
	on := map[string][]*corev1.Pod{}
	waiting := []*corev1.Pod{}
	live := map[string]bool{}
	for _, p := range pods {
		key := p.Namespace + "/" + p.Name + "/" + string(p.UID)
		live[key] = true
		if p.Spec.NodeName != "" {
			delete(assumed, key)
			if !podOver(p) {
				on[p.Spec.NodeName] = append(on[p.Spec.NodeName], p)
			}
		} else if n, ok := assumed[key]; ok {
			on[n] = append(on[n], p)
		} else if p.DeletionTimestamp == nil {
			waiting = append(waiting, p)
		}
	}
	for _, m := range []map[string]string{assumed, told} {
		for k := range m {
			if !live[k] {
				delete(m, k)
			}
		}
	}
	nodes := lying[*corev1.Node](s.nodes)
	for _, p := range waiting {
		best, score := "", 0
		even := spreads(p, nodes, on)
		for _, n := range nodes {
			if !fits(p, n, on[n.Name]) || !even(n) {
				continue
			}
			// Few pods, and fewer still of the same owner.
			sc := 1000 - len(on[n.Name])
			owner := metav1.GetControllerOf(p)
			for _, o := range on[n.Name] {
				if r := metav1.GetControllerOf(o); r != nil && owner != nil && r.UID == owner.UID {
					sc -= 100
				}
			}
			if best == "" || sc > score || sc == score && n.Name < best {
				best, score = n.Name, sc
			}
		}
		key := p.Namespace + "/" + p.Name + "/" + string(p.UID)
		if best == "" {
			if why := unplaced(p, nodes, on); told[key] != why {
				told[key] = why
				s.events.Event(p, corev1.EventTypeWarning, "FailedScheduling", why)
			}
			continue
		}
		delete(told, key)
		b := &corev1.Binding{ObjectMeta: metav1.ObjectMeta{Name: p.Name, Namespace: p.Namespace}, Target: corev1.ObjectReference{Kind: "Node", Name: best}}
		if err := s.c.CoreV1().Pods(p.Namespace).Bind(ctx, b, metav1.CreateOptions{}); err != nil {
			if ctx.Err() == nil && ignoreGone(err) != nil {
				s.e.Logf("binding %s to %s: %v", p.Name, best, err)
			}
			continue
		}
		assumed[key] = best
		s.events.Eventf(p, corev1.EventTypeNormal, "Scheduled", "Successfully assigned %s/%s to %s", p.Namespace, p.Name, best)
		on[best] = append(on[best], p)
	}
}

func fits(p *corev1.Pod, n *corev1.Node, there []*corev1.Pod) bool { return misfit(p, n, there) == "" }

// misfit says why a pod cannot go to a node; it is empty if it can.
func misfit(p *corev1.Pod, n *corev1.Node, there []*corev1.Pod) string {
	ready := false
	for _, c := range n.Status.Conditions {
		ready = ready || c.Type == corev1.NodeReady && c.Status == corev1.ConditionTrue
	}
	switch {
	case n.Spec.Unschedulable:
		return "were unschedulable"
	case n.DeletionTimestamp != nil || !ready:
		return "were not ready"
	case !tolerated(p.Spec.Tolerations, n.Spec.Taints, false):
		return "had untolerated taints"
	case !labels.SelectorFromSet(p.Spec.NodeSelector).Matches(labels.Set(n.Labels)):
		return "didn't match Pod's node selector"
	case int64(len(there)) >= n.Status.Allocatable.Pods().Value():
		return "had too many pods"
	}
	if apart(p, there) {
		return "didn't match pod anti-affinity rules"
	}
	for _, what := range []corev1.ResourceName{corev1.ResourceCPU, corev1.ResourceMemory} {
		used := requested(p, what)
		for _, o := range there {
			used += requested(o, what)
		}
		if have := n.Status.Allocatable[what]; used > have.MilliValue() {
			return "had insufficient " + string(what)
		}
	}
	return ""
}

// apart says whether a pod must not be beside one that is on a node. Of what keeps pods apart
// it knows what is required on the same node.
func apart(p *corev1.Pod, there []*corev1.Pod) bool {
	if p.Spec.Affinity == nil || p.Spec.Affinity.PodAntiAffinity == nil {
		return false
	}
	for _, t := range p.Spec.Affinity.PodAntiAffinity.RequiredDuringSchedulingIgnoredDuringExecution {
		sel, err := metav1.LabelSelectorAsSelector(t.LabelSelector)
		if err != nil || t.TopologyKey != corev1.LabelHostname {
			continue
		}
		for _, o := range there {
			if o.UID != p.UID && sel.Matches(labels.Set(o.Labels)) && (o.Namespace == p.Namespace && len(t.Namespaces) == 0 || slices.Contains(t.Namespaces, o.Namespace)) {
				return true
			}
		}
	}
	return false
}

// spreads counts the pods that the required spread of a pod goes by, and says which nodes it
// allows. A node that takes no pods is counted like any other, unless the pod has taints honoured.
func spreads(p *corev1.Pod, nodes []*corev1.Node, on map[string][]*corev1.Pod) func(*corev1.Node) bool {
	type counted struct {
		corev1.TopologySpreadConstraint
		there map[string]int // by domain
		least int            // of them
		self  int
	}
	var all []counted
	for _, c := range p.Spec.TopologySpreadConstraints {
		if c.WhenUnsatisfiable == corev1.DoNotSchedule {
			all = append(all, counted{TopologySpreadConstraint: c, there: map[string]int{}})
		}
	}
	lacks := func(n *corev1.Node) bool {
		return slices.ContainsFunc(all, func(c counted) bool { return n.Labels[c.TopologyKey] == "" })
	}
	for i := range all {
		c := &all[i]
		sel, err := metav1.LabelSelectorAsSelector(c.LabelSelector)
		if err != nil {
			continue
		}
		of := func(o *corev1.Pod) bool {
			return o.Namespace == p.Namespace && o.DeletionTimestamp == nil && sel.Matches(labels.Set(o.Labels)) &&
				!slices.ContainsFunc(c.MatchLabelKeys, func(k string) bool { return o.Labels[k] != p.Labels[k] })
		}
		if of(p) {
			c.self = 1
		}
		for _, n := range nodes {
			honours := c.NodeTaintsPolicy != nil && *c.NodeTaintsPolicy == corev1.NodeInclusionPolicyHonor
			chosen := c.NodeAffinityPolicy != nil && *c.NodeAffinityPolicy == corev1.NodeInclusionPolicyIgnore || labels.SelectorFromSet(p.Spec.NodeSelector).Matches(labels.Set(n.Labels))
			if lacks(n) || !chosen || honours && (n.Spec.Unschedulable || !tolerated(p.Spec.Tolerations, n.Spec.Taints, false)) {
				continue
			}
			c.there[n.Labels[c.TopologyKey]] += 0
			for _, o := range on[n.Name] {
				if of(o) {
					c.there[n.Labels[c.TopologyKey]]++
				}
			}
		}
		if len(c.there) > 0 && (c.MinDomains == nil || len(c.there) >= int(*c.MinDomains)) {
			c.least = slices.Min(slices.Collect(maps.Values(c.there)))
		}
	}
	return func(n *corev1.Node) bool {
		return !lacks(n) && !slices.ContainsFunc(all, func(c counted) bool {
			return c.there[n.Labels[c.TopologyKey]]+c.self-c.least > int(c.MaxSkew)
		})
	}
}

// unplaced says why a pod goes nowhere.
func unplaced(p *corev1.Pod, nodes []*corev1.Node, on map[string][]*corev1.Pod) string {
	count := map[string]int{}
	even := spreads(p, nodes, on)
	for _, n := range nodes {
		why := misfit(p, n, on[n.Name])
		if why == "" && !even(n) {
			why = "didn't match pod topology spread constraints"
		}
		count[why]++
	}
	var why []string
	for _, w := range slices.Sorted(maps.Keys(count)) {
		why = append(why, fmt.Sprintf("%d %s", count[w], w))
	}
	return fmt.Sprintf("0/%d nodes are available: %s.", len(nodes), strings.Join(why, ", "))
}

// requested is what a pod asks for, in thousandths.
func requested(p *corev1.Pod, what corev1.ResourceName) int64 {
	q := resource.PodRequests(p, resource.PodResourcesOptions{})[what]
	return q.MilliValue()
}
