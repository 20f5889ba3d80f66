// Package controllers holds the stand-ins of the Kubernetes controller manager
// and scheduler. Every controller looks at the whole of what it is responsible
// for whenever something changed, which is enough for a simulated cluster.
package controllers

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"time"

	"github.com/spf13/pflag"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/metadata"
	"k8s.io/client-go/tools/cache"
	"k8s.io/client-go/tools/record"

	"verbund/internal/kubeapi"
	"verbund/internal/sim/host"
	"verbund/internal/sim/kubeclient"
	"verbund/internal/sim/serve"
)

// state is what the controllers share: a client and caches of everything.
type state struct {
	e     *host.Env
	c     *kubeapi.Clients
	grace time.Duration
	cidr  netip.Prefix
	mask  int                  // length of each node's range
	given map[types.UID]string // ranges given to nodes by this leader
	heard map[types.UID]heard  // from nodes, by this leader
	sign  map[string]*signer   // by the name that requests are for
	md    metadata.Interface
	kept  []*kept
	// tainted is from when on this leader saw taints that do not say so themselves.
	tainted map[string]time.Time
	events  record.EventRecorder

	nodes, pods, services, slices, deployments, sets, daemons, budgets, namespaces, accounts, leases, csrs cache.SharedIndexInformer
}

// Manager is the controller manager's stand-in.
func Manager(ctx context.Context, e *host.Env) error {
	fs := pflag.NewFlagSet("kube-controller-manager", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	kubeconfig := fs.String("kubeconfig", "", "")
	authn := fs.String("authentication-kubeconfig", "", "")
	authz := fs.String("authorization-kubeconfig", "", "")
	bind := fs.String("bind-address", "0.0.0.0", "")
	suites := fs.StringSlice("tls-cipher-suites", nil, "")
	port := fs.Int("secure-port", 10257, "")
	cidr := fs.String("cluster-cidr", "", "")
	fs.Bool("allocate-node-cidrs", false, "")
	fs.String("cluster-name", "", "")
	signing := signingFlags(fs)
	rootCA := fs.String("root-ca-file", "", "")
	saKey := fs.String("service-account-private-key-file", "", "")
	fs.String("service-cluster-ip-range", "", "")
	fs.Bool("use-service-account-credentials", false, "")
	fs.Bool("leader-elect", true, "")
	lease := fs.Duration("leader-elect-lease-duration", 15*time.Second, "")
	renew := fs.Duration("leader-elect-renew-deadline", 10*time.Second, "")
	retry := fs.Duration("leader-elect-retry-period", 2*time.Second, "")
	mask := fs.Int("node-cidr-mask-size", 24, "")
	grace := fs.Duration("node-monitor-grace-period", 50*time.Second, "")
	e.KnownFlags(fs)
	if err := fs.Parse(e.Args); err != nil {
		return &host.ExitError{Code: 2, Err: err}
	}
	for _, f := range []string{*kubeconfig, *authn, *authz, *rootCA, *saKey} {
		if f == "" {
			continue
		}
		if _, err := e.Host.ReadFile(f); err != nil {
			return err
		}
	}
	sign, err := signing(e.Host)
	if err != nil {
		return err
	}
	p, err := netip.ParsePrefix(*cidr)
	if err != nil {
		return &host.ExitError{Code: 2, Err: fmt.Errorf("--cluster-cidr: %w", err)}
	}
	if *mask < p.Bits() || *mask > 30 {
		return &host.ExitError{Code: 2, Err: fmt.Errorf("--node-cidr-mask-size=%d: node ranges of that length do not lie in %s", *mask, p)}
	}
	cfg, err := kubeclient.Config(e, *kubeconfig)
	if err != nil {
		return err
	}
	c, err := kubeapi.NewForConfig(cfg)
	if err != nil {
		return err
	}
	md, err := metadata.NewForConfig(cfg)
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
	return kubeclient.Lead(ctx, e, c, "kube-controller-manager", *lease, *renew, *retry, func(ctx context.Context) {
		s := &state{e: e, c: c, sign: sign, grace: *grace, cidr: p, mask: *mask, given: map[types.UID]string{}, heard: map[types.UID]heard{}, md: md, tainted: map[string]time.Time{}}
		s.run(ctx)
	})
}

// run starts the caches and the controllers, and waits for all of them.
func (s *state) run(ctx context.Context) {
	s.nodes, s.pods, s.services = s.c.CoreV1().Nodes().Cache(), s.c.CoreV1().Pods("").Cache(), s.c.CoreV1().Services("").Cache()
	s.slices, s.deployments, s.sets = s.c.DiscoveryV1().EndpointSlices("").Cache(), s.c.AppsV1().Deployments("").Cache(), s.c.AppsV1().ReplicaSets("").Cache()
	s.daemons, s.budgets, s.namespaces = s.c.AppsV1().DaemonSets("").Cache(), s.c.PolicyV1().PodDisruptionBudgets("").Cache(), s.c.CoreV1().Namespaces().Cache()
	s.accounts, s.leases = s.c.CoreV1().ServiceAccounts("").Cache(), s.c.CoordinationV1().Leases("").Cache()
	s.csrs = s.c.CertificatesV1().CertificateSigningRequests().Cache()
	s.keepAll(ctx)
	s.events = kubeclient.Recorder(ctx, s.e, s.c, "kube-controller-manager")
	var wg sync.WaitGroup
	watch := func(name string, every time.Duration, sync func(context.Context) error, on ...cache.SharedIndexInformer) {
		poke := make(chan struct{}, 1)
		for _, i := range on {
			i.AddEventHandler(Poker(poke))
		}
		wg.Go(func() {
			defer s.e.Catch()
			s.loop(ctx, name, every, poke, sync)
		})
	}
	watch("node ranges", 0, s.nodeRanges, s.nodes)
	watch("node life", time.Second, s.nodeLife, s.nodes) // and not with every lease, which would be all the time
	watch("deployments", 0, s.syncDeployments, s.deployments, s.sets, s.pods)
	watch("replica sets", 0, s.syncSets, s.sets, s.pods)
	watch("daemon sets", 0, s.syncDaemons, s.daemons, s.pods, s.nodes)
	watch("endpoints", 0, s.syncSlices, s.services, s.pods, s.slices)
	watch("budgets", 0, s.syncBudgets, s.budgets, s.pods)
	watch("garbage", 2*time.Second, s.collect, s.pods, s.sets, s.deployments, s.daemons, s.nodes, s.services)
	watch("taints", time.Second, s.evictTainted, s.pods, s.nodes)
	watch("requests", time.Second, s.signRequests, s.csrs)
	watch("namespaces", time.Second, s.syncNamespaces, s.namespaces)
	kubeapi.Run(ctx, s.nodes, s.pods, s.services, s.slices, s.deployments, s.sets, s.daemons, s.budgets, s.namespaces, s.accounts, s.leases, s.csrs)
	wg.Wait()
}

// Poker is an event handler that only says that something happened.
func Poker(poke chan<- struct{}) cache.ResourceEventHandlerFuncs {
	p := func() {
		select {
		case poke <- struct{}{}:
		default:
		}
	}
	return cache.ResourceEventHandlerFuncs{AddFunc: func(any) { p() }, UpdateFunc: func(any, any) { p() }, DeleteFunc: func(any) { p() }}
}

func (s *state) loop(ctx context.Context, name string, every time.Duration, poke <-chan struct{}, sync func(context.Context) error) {
	if !cache.WaitForCacheSync(ctx.Done(), s.nodes.HasSynced, s.pods.HasSynced, s.services.HasSynced, s.slices.HasSynced, s.deployments.HasSynced, s.sets.HasSynced,
		s.daemons.HasSynced, s.budgets.HasSynced, s.namespaces.HasSynced, s.accounts.HasSynced, s.leases.HasSynced, s.csrs.HasSynced) {
		return
	}
	if every == 0 {
		every = 5 * time.Second
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for {
		wait := (<-chan time.Time)(nil)
		if err := sync(ctx); err != nil && ctx.Err() == nil {
			s.e.Logf("%s: %v, trying again", name, err)
			wait = time.After(50 * time.Millisecond)
		}
		select {
		case <-ctx.Done():
			return
		case <-poke:
		case <-tick.C:
		case <-wait:
		}
	}
}

// All lists a cache's objects as copies, so that they may be changed.
func All[T interface {
	runtime.Object
	DeepCopy() T
}](i cache.SharedIndexInformer) []T {
	out := lying[T](i)
	for k, o := range out {
		out[k] = o.DeepCopy()
	}
	return out
}

// lying lists a cache's objects as they lie there, for those who only read them: a large cluster
// has thousands, and every change of one of them has all looked through.
func lying[T runtime.Object](i cache.SharedIndexInformer) []T {
	var out []T
	for _, o := range i.GetStore().List() {
		out = append(out, o.(T))
	}
	return out
}

// seen waits until a cache shows what was just created, so that the next pass
// does not create it again.
func (s *state) seen(ctx context.Context, i cache.SharedIndexInformer, o metav1.Object) {
	key := o.GetName()
	if o.GetNamespace() != "" {
		key = o.GetNamespace() + "/" + key
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	for ctx.Err() == nil {
		if _, ok, _ := i.GetStore().GetByKey(key); ok {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(2 * time.Millisecond):
		}
	}
}

func podReady(p *corev1.Pod) bool {
	for _, c := range p.Status.Conditions {
		if c.Type == corev1.PodReady {
			return c.Status == corev1.ConditionTrue && p.DeletionTimestamp == nil
		}
	}
	return false
}

func podOver(p *corev1.Pod) bool {
	return p.Status.Phase == corev1.PodSucceeded || p.Status.Phase == corev1.PodFailed
}

func ownedBy(o, owner metav1.Object) bool {
	r := metav1.GetControllerOf(o)
	return r != nil && r.UID == owner.GetUID()
}
