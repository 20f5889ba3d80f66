package node

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/pflag"
	authzv1 "k8s.io/api/authorization/v1"
	coordv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/api/equality"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/resource"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/fields"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/tools/cache"
	"k8s.io/client-go/tools/record"
	kubeletv1 "k8s.io/kubelet/config/v1beta1"

	"verbund/internal/core/trust"
	"verbund/internal/kubeapi"
	"verbund/internal/sim/apiserver"
	"verbund/internal/sim/host"
	"verbund/internal/sim/kubeclient"
	"verbund/internal/sim/serve"
)

type kubelet struct {
	e      *host.Env
	c      *kubeapi.Clients
	cfg    kubeletv1.KubeletConfiguration
	name   string
	ip     netip.Addr
	labels map[string]string
	rt     *runtime
	poke   chan struct{}
	certs  *certificates
	tokens *podTokens
	events record.EventRecorder
	// Of the loop alone.
	lease    *coordv1.Lease // as it was written last
	reported time.Time

	mu      sync.Mutex
	working map[types.UID]bool // pods that a goroutine is busy with; true when something happened since
	waiting map[types.UID]string
	wg      sync.WaitGroup
}

// Kubelet is the kubelet's stand-in.
func Kubelet(ctx context.Context, e *host.Env) error {
	fs := pflag.NewFlagSet("kubelet", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	config := fs.String("config", "", "")
	kubeconfig := fs.String("kubeconfig", "", "")
	name := fs.String("hostname-override", e.Host.Spec.Name, "")
	ip := fs.String("node-ip", "", "")
	nodeLabels := fs.StringToString("node-labels", nil, "")
	enrolment := fs.String("bootstrap-kubeconfig", "", "")
	certDir := fs.String("cert-dir", trust.KubeletDir, "")
	if err := fs.Parse(e.Args); err != nil {
		return &host.ExitError{Code: 2, Err: err}
	}
	k := &kubelet{e: e, name: *name, labels: *nodeLabels, poke: make(chan struct{}, 1), working: map[types.UID]bool{}, waiting: map[types.UID]string{}}
	if err := e.StrictConfig(*config, &k.cfg); err != nil {
		return err
	}
	var err error
	if k.ip, err = netip.ParseAddr(*ip); err != nil {
		return &host.ExitError{Code: 2, Err: fmt.Errorf("--node-ip: %w", err)}
	}
	sock, err := e.Host.Local(k.cfg.ContainerRuntimeEndpoint)
	if err != nil {
		return fmt.Errorf("container runtime: %w", err)
	}
	k.rt = sock.(*runtime)
	k.certs = &certificates{k: k, dir: *certDir}
	if k.c, err = k.certs.identify(ctx, *kubeconfig, *enrolment); err != nil {
		if ctx.Err() != nil {
			return nil
		}
		return err
	}
	k.tokens = &podTokens{k: k, known: map[types.UID]time.Time{}}
	k.events = kubeclient.Recorder(ctx, e, k.c, "kubelet")
	if k.cfg.RotateCertificates {
		k.certs.run(ctx)
	}
	if err := k.serve(ctx); err != nil {
		return err
	}
	if err := kubeclient.Healthz(ctx, e, net.JoinHostPort(k.cfg.HealthzBindAddress, fmt.Sprint(*k.cfg.HealthzPort)), false, nil, func() error { return nil }); err != nil {
		return err
	}
	for {
		if err = k.register(ctx); err == nil || ctx.Err() != nil {
			break
		}
		e.Logf("registering node %s: %v, trying again", k.name, err)
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	e.Ready()
	k.events.Event(k.node(), corev1.EventTypeNormal, "Starting", "Starting kubelet.")
	k.run(ctx)
	return nil
}

// node is what events about the node are told of.
func (k *kubelet) node() *corev1.ObjectReference {
	return &corev1.ObjectReference{Kind: "Node", Name: k.name, UID: types.UID(k.name)}
}

// register makes the node known, or takes up the one that is.
func (k *kubelet) register(ctx context.Context) error {
	l := map[string]string{"kubernetes.io/hostname": k.name, "kubernetes.io/os": "linux", "kubernetes.io/arch": "amd64"}
	maps.Copy(l, k.labels)
	n := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: k.name, Labels: l}}
	for _, t := range k.cfg.RegisterWithTaints {
		n.Spec.Taints = append(n.Spec.Taints, t)
	}
	n.Spec.Taints = append(n.Spec.Taints, corev1.Taint{Key: corev1.TaintNodeNotReady, Effect: corev1.TaintEffectNoSchedule})
	n.Status = k.status(nil)
	if _, err := k.c.CoreV1().Nodes().Create(ctx, n, metav1.CreateOptions{}); err != nil && !apierrors.IsAlreadyExists(err) {
		return err
	}
	if err := k.renew(ctx); err != nil {
		return err
	}
	return k.report(ctx)
}

// networkTrouble says why pods cannot have a network here, if so.
func (k *kubelet) networkTrouble() string {
	if !k.e.Host.Net.Up() {
		return "container runtime network not ready: the network plugin does not run here yet"
	}
	if _, err := k.e.Host.ReadFile(cniFile); err != nil {
		return "container runtime network not ready: no network configuration in /etc/cni/net.d"
	}
	return ""
}

func (k *kubelet) status(old []corev1.NodeCondition) corev1.NodeStatus {
	h := k.e.Host
	k.rt.mu.Lock()
	rv := k.rt.version
	k.rt.mu.Unlock()
	res := corev1.ResourceList{
		corev1.ResourceCPU:    *resource.NewQuantity(int64(h.Spec.CPUs), resource.DecimalSI),
		corev1.ResourceMemory: *resource.NewQuantity(h.Spec.Memory, resource.BinarySI),
		corev1.ResourcePods:   *resource.NewQuantity(int64(cmp.Or(k.cfg.MaxPods, 110)), resource.DecimalSI),
	}
	st := corev1.NodeStatus{
		Capacity: res, Allocatable: k.allocatable(res),
		Addresses: []corev1.NodeAddress{{Type: corev1.NodeInternalIP, Address: k.ip.String()}, {Type: corev1.NodeHostName, Address: k.name}},
		NodeInfo: corev1.NodeSystemInfo{KubeletVersion: k.e.Version, ContainerRuntimeVersion: "containerd://" + strings.TrimPrefix(rv, "v"), OSImage: h.Spec.Image, KernelVersion: "simulated",
			OperatingSystem: "linux", Architecture: "amd64", BootID: h.BootID, MachineID: h.Spec.Hardware, SystemUUID: h.Spec.Hardware},
		DaemonEndpoints: corev1.NodeDaemonEndpoints{KubeletEndpoint: corev1.DaemonEndpoint{Port: k.cfg.Port}},
	}
	cond := func(t corev1.NodeConditionType, v corev1.ConditionStatus, reason, msg string) {
		c := corev1.NodeCondition{Type: t, Status: v, Reason: reason, Message: msg, LastHeartbeatTime: metav1.Now(), LastTransitionTime: metav1.Now()}
		for _, o := range old {
			if o.Type == t && o.Status == v {
				c.LastTransitionTime = o.LastTransitionTime
			}
		}
		st.Conditions = append(st.Conditions, c)
	}
	cond(corev1.NodeMemoryPressure, corev1.ConditionFalse, "KubeletHasSufficientMemory", "kubelet has sufficient memory available")
	cond(corev1.NodeDiskPressure, corev1.ConditionFalse, "KubeletHasNoDiskPressure", "kubelet has no disk pressure")
	cond(corev1.NodePIDPressure, corev1.ConditionFalse, "KubeletHasSufficientPID", "kubelet has sufficient PID available")
	if t := k.networkTrouble(); t != "" {
		cond(corev1.NodeReady, corev1.ConditionFalse, "KubeletNotReady", t)
	} else {
		cond(corev1.NodeReady, corev1.ConditionTrue, "KubeletReady", "kubelet is posting ready status")
	}
	return st
}

// allocatable is what pods may ask for: without what is reserved, and without the memory that the
// kubelet keeps free (Kubernetes, Reserve Compute Resources).
func (k *kubelet) allocatable(all corev1.ResourceList) corev1.ResourceList {
	out := all.DeepCopy()
	take := func(name corev1.ResourceName, text string) {
		if q, err := resource.ParseQuantity(text); err == nil {
			left := out[name]
			left.Sub(q)
			if left.Sign() < 0 {
				left.Set(0)
			}
			out[name] = left
		}
	}
	for _, reserved := range []map[string]string{k.cfg.SystemReserved, k.cfg.KubeReserved} {
		for name, text := range reserved {
			if _, has := all[corev1.ResourceName(name)]; has {
				take(corev1.ResourceName(name), text)
			}
		}
	}
	take(corev1.ResourceMemory, cmp.Or(k.cfg.EvictionHard["memory.available"], "100Mi"))
	return out
}

// reportAgain is how often a kubelet writes its node's status when nothing has
// changed: everybody who watches nodes is told of each write.
const reportAgain = 5 * time.Minute

// report writes the node's status if it has changed.
func (k *kubelet) report(ctx context.Context) error {
	// As the real one does: what is a little old will do, for an update that starts
	// from it is refused.
	n, err := k.c.CoreV1().Nodes().Get(ctx, k.name, metav1.GetOptions{ResourceVersion: "0"})
	if err != nil {
		return err
	}
	was := n.Status
	n.Status = k.status(was.Conditions)
	same := was.DeepCopy()
	for i, c := range n.Status.Conditions {
		if i < len(same.Conditions) {
			same.Conditions[i].LastHeartbeatTime = c.LastHeartbeatTime
		}
	}
	if equality.Semantic.DeepEqual(*same, n.Status) && time.Since(k.reported) < reportAgain {
		return nil
	}
	if _, err = k.c.CoreV1().Nodes().UpdateStatus(ctx, n, metav1.UpdateOptions{}); err == nil {
		k.reported = time.Now()
	}
	return err
}

// renew says that the node lives.
func (k *kubelet) renew(ctx context.Context) error {
	leases := k.c.CoordinationV1().Leases("kube-node-lease")
	now := metav1.NowMicro()
	if k.lease != nil {
		// As a rule nobody else writes it.
		k.lease.Spec.RenewTime = &now
		if l, err := leases.Update(ctx, k.lease, metav1.UpdateOptions{}); err == nil {
			k.lease = l
			return nil
		}
		k.lease = nil
	}
	l, err := leases.Get(ctx, k.name, metav1.GetOptions{})
	if apierrors.IsNotFound(err) {
		_, err = leases.Create(ctx, &coordv1.Lease{ObjectMeta: metav1.ObjectMeta{Name: k.name},
			Spec: coordv1.LeaseSpec{HolderIdentity: &k.name, LeaseDurationSeconds: &k.cfg.NodeLeaseDurationSeconds, RenewTime: &now}}, metav1.CreateOptions{})
		return err
	}
	if err != nil {
		return err
	}
	l.Spec.RenewTime = &now
	if l, err = leases.Update(ctx, l, metav1.UpdateOptions{}); err == nil {
		k.lease = l
	}
	return err
}

// How long the loop waits before it looks at the machine's network again.
const (
	lookSoon  = 50 * time.Millisecond
	lookLater = time.Second
)

func (k *kubelet) run(ctx context.Context) {
	pods := k.c.CoreV1().Pods("").CacheOf(func(o *metav1.ListOptions) {
		o.FieldSelector = fields.OneTermEqualSelector("spec.nodeName", k.name).String()
	})
	pods.AddEventHandler(cache.ResourceEventHandlerFuncs{AddFunc: func(any) { k.nudge() }, UpdateFunc: func(any, any) { k.nudge() }, DeleteFunc: func(any) { k.nudge() }})
	kubeapi.Run(ctx, pods)
	lease := time.NewTicker(time.Duration(k.cfg.NodeLeaseDurationSeconds) * time.Second / 4)
	beat := time.NewTicker(max(k.cfg.NodeStatusUpdateFrequency.Duration, time.Second))
	look := time.NewTimer(lookSoon)
	defer lease.Stop()
	defer beat.Stop()
	defer look.Stop()
	trouble := "unknown"
	try := func(what string, f func(context.Context) error) bool {
		c, cancel := context.WithTimeout(ctx, 5*time.Second)
		defer cancel()
		if err := f(c); err != nil && ctx.Err() == nil {
			k.e.Logf("%s: %v", what, err)
			return false
		}
		return true
	}
	for {
		select {
		case <-ctx.Done():
			k.wg.Wait()
			return
		case <-lease.C:
			try("renewing the lease", k.renew)
		case <-beat.C:
			try("node status", k.report) // a node that somebody deleted is not made again before the next start
			k.nudge()
		case <-look.C:
			if now := k.networkTrouble(); now != trouble && try("node status", k.report) {
				if trouble = now; now == "" {
					k.events.Eventf(k.node(), corev1.EventTypeNormal, "NodeReady", "Node %s status is now: NodeReady", k.name)
				} else {
					k.events.Eventf(k.node(), corev1.EventTypeNormal, "NodeNotReady", "Node %s status is now: NodeNotReady", k.name)
				}
				k.nudge()
			}
			// A network that comes is waited for; one that goes is not hurried after.
			next := lookSoon
			if trouble == "" {
				next = lookLater
			}
			look.Reset(next)
		case <-k.poke:
			if pods.HasSynced() {
				k.sync(ctx, pods)
			}
		}
	}
}

func (k *kubelet) nudge() {
	select {
	case k.poke <- struct{}{}:
	default:
	}
}

// sync gives every pod of this node a goroutine that brings it one step on.
func (k *kubelet) sync(ctx context.Context, pods cache.SharedIndexInformer) {
	here := map[types.UID]bool{}
	for _, o := range pods.GetStore().List() {
		p := o.(*corev1.Pod).DeepCopy()
		here[p.UID] = true
		k.mu.Lock()
		_, busy := k.working[p.UID]
		k.working[p.UID] = busy
		k.mu.Unlock()
		if busy {
			continue
		}
		k.wg.Go(func() {
			defer k.e.Catch()
			again := k.step(ctx, p)
			k.mu.Lock()
			missed := k.working[p.UID]
			delete(k.working, p.UID)
			k.mu.Unlock()
			if missed {
				k.nudge()
			}
			if again && ctx.Err() == nil {
				t := time.NewTimer(100 * time.Millisecond)
				defer t.Stop()
				select {
				case <-t.C:
				case <-ctx.Done():
				}
				k.nudge()
			}
		})
	}
	k.rt.mu.Lock()
	var gone []types.UID
	for uid := range k.rt.pods {
		if !here[uid] {
			gone = append(gone, uid)
		}
	}
	k.rt.mu.Unlock()
	k.tokens.sweep(here)
	for _, uid := range gone {
		k.wg.Go(func() { k.rt.stop(uid, time.Second) })
	}
}

// step brings one pod closer to what its object says; again asks for another
// step soon.
func (k *kubelet) step(ctx context.Context, p *corev1.Pod) (again bool) {
	if p.DeletionTimestamp != nil {
		k.told(p.UID, "")
		grace := 30 * time.Second
		if g := p.DeletionGracePeriodSeconds; g != nil {
			grace = time.Duration(*g) * time.Second
		}
		if k.rt.find(p.UID) != nil {
			k.events.Eventf(p, corev1.EventTypeNormal, "Killing", "Stopping container %s", p.Spec.Containers[0].Name)
		}
		k.rt.stop(p.UID, grace)
		zero := int64(0)
		err := k.c.CoreV1().Pods(p.Namespace).Delete(ctx, p.Name, metav1.DeleteOptions{GracePeriodSeconds: &zero, Preconditions: &metav1.Preconditions{UID: &p.UID}})
		return err != nil && !apierrors.IsNotFound(err) && !apierrors.IsConflict(err)
	}
	s := k.rt.find(p.UID)
	trouble := ""
	if s == nil {
		var err error
		if s, err = k.begin(ctx, p); err != nil {
			trouble = err.Error()
			if reason, msg, _ := strings.Cut(trouble, ": "); ctx.Err() == nil && k.told(p.UID, reason) {
				k.events.Event(p, corev1.EventTypeWarning, map[bool]string{true: "Failed", false: reason}[reason == "ErrImagePull"], msg)
			}
		} else {
			k.told(p.UID, "")
			k.events.Eventf(p, corev1.EventTypeNormal, "Started", "Started container %s", p.Spec.Containers[0].Name)
		}
	}
	if s != nil {
		again = k.probe(ctx, p, s)
		if err := k.tokens.write(ctx, p); err != nil && ctx.Err() == nil {
			k.e.Logf("token of pod %s: %v, trying again", p.Name, err)
			again = true
		}
	}
	if err := k.podStatus(ctx, p, s, trouble); err != nil && ctx.Err() == nil && !apierrors.IsNotFound(err) {
		k.e.Logf("status of pod %s: %v", p.Name, err)
		again = true
	}
	return again || trouble != ""
}

// told says whether a pod has another trouble than it had when this was last
// asked: each is told once.
func (k *kubelet) told(uid types.UID, reason string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	key := "trouble of " + uid
	if k.waiting[key] == reason {
		return false
	}
	if k.waiting[key] = reason; reason == "" {
		delete(k.waiting, key)
	}
	return true
}

// nameServer is whom pods ask for names; the zero address if nobody.
func (k *kubelet) nameServer() netip.Addr {
	if len(k.cfg.ClusterDNS) == 0 {
		return netip.Addr{}
	}
	a, err := netip.ParseAddr(k.cfg.ClusterDNS[0])
	if err != nil {
		k.e.Logf("clusterDNS: %v", err)
	}
	return a
}

// begin starts a pod that does not run yet.
func (k *kubelet) begin(ctx context.Context, p *corev1.Pod) (*pod, error) {
	ip := k.ip
	if !p.Spec.HostNetwork {
		if t := k.networkTrouble(); t != "" {
			return nil, errors.New("NetworkNotReady: " + t)
		}
	}
	d, err := k.rt.pull(ctx, p.Spec.Containers[0].Image)
	if err != nil {
		return nil, fmt.Errorf("ErrImagePull: %w", err)
	}
	files := map[string]string{}
	for _, v := range p.Spec.Volumes {
		if v.ConfigMap == nil {
			continue
		}
		cm, err := k.c.CoreV1().ConfigMaps(p.Namespace).Get(ctx, v.ConfigMap.Name, metav1.GetOptions{})
		if err != nil {
			return nil, fmt.Errorf("CreateContainerConfigError: %w", err)
		}
		for _, m := range p.Spec.Containers[0].VolumeMounts {
			for f, text := range cm.Data {
				if m.Name == v.Name {
					files[m.MountPath+"/"+f] = text
				}
			}
		}
	}
	if err := k.e.Host.Work(ctx, 3*time.Second); err != nil {
		return nil, err
	}
	if !p.Spec.HostNetwork {
		if ip, err = k.address(ctx); err != nil {
			return nil, err
		}
	}
	if err := k.tokens.write(ctx, p); err != nil {
		return nil, err
	}
	return k.rt.start(p, d, ip, k.nameServer(), files, tokenFile(p.UID), k.nudge), nil
}

// address is a free address of the node's range.
func (k *kubelet) address(ctx context.Context) (netip.Addr, error) {
	n, err := k.c.CoreV1().Nodes().Get(ctx, k.name, metav1.GetOptions{})
	if err != nil {
		return netip.Addr{}, err
	}
	r, err := netip.ParsePrefix(n.Spec.PodCIDR)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("FailedCreatePodSandBox: node %s has no range for pods yet", k.name)
	}
	k.rt.mu.Lock()
	defer k.rt.mu.Unlock()
	used := map[netip.Addr]bool{}
	for _, s := range k.rt.pods {
		used[s.ip] = true
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for a := r.Addr().Next().Next(); r.Contains(a); a = a.Next() {
		if !used[a] && k.reserve(a) {
			return a, nil
		}
	}
	return netip.Addr{}, fmt.Errorf("FailedCreatePodSandBox: no address left in %s", r)
}

// reserve keeps an address from being given out twice within a moment; pods
// get addresses that were not used for longest.
func (k *kubelet) reserve(a netip.Addr) bool {
	key := types.UID("address " + a.String())
	if _, taken := k.waiting[key]; taken {
		return false
	}
	k.waiting[key] = ""
	time.AfterFunc(30*time.Second, func() {
		k.mu.Lock()
		defer k.mu.Unlock()
		delete(k.waiting, key)
	})
	return true
}

// probe asks a pod with a readiness probe whether it serves.
func (k *kubelet) probe(ctx context.Context, p *corev1.Pod, s *pod) (again bool) {
	pr := p.Spec.Containers[0].ReadinessProbe
	if pr == nil || pr.HTTPGet == nil || p.Spec.HostNetwork {
		return false
	}
	c := &http.Client{Timeout: time.Second, Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return k.e.Host.Net.DialPod(ctx, netip.AddrPortFrom(s.ip, uint16(pr.HTTPGet.Port.IntVal)))
	}}}
	ok := false
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("http://%s:%d%s", s.ip, pr.HTTPGet.Port.IntVal, pr.HTTPGet.Path), nil)
	if err == nil {
		if resp, err := c.Do(req); err == nil {
			resp.Body.Close()
			ok = resp.StatusCode < 400
		}
	}
	s.mu.Lock()
	s.ready = ok
	s.mu.Unlock()
	return !ok
}

func (k *kubelet) podStatus(ctx context.Context, p *corev1.Pod, s *pod, trouble string) error {
	c := p.Spec.Containers[0]
	st := corev1.PodStatus{Phase: corev1.PodPending, HostIP: k.ip.String(), HostIPs: []corev1.HostIP{{IP: k.ip.String()}}, QOSClass: p.Status.QOSClass, StartTime: p.Status.StartTime}
	if st.StartTime == nil {
		now := metav1.Now()
		st.StartTime = &now
	}
	cs := corev1.ContainerStatus{Name: c.Name, Image: c.Image, Started: new(bool)}
	ready := corev1.ConditionFalse
	reason, msg, _ := strings.Cut(trouble, ": ")
	if s == nil {
		if reason == "" {
			reason = "ContainerCreating"
		}
		cs.State.Waiting = &corev1.ContainerStateWaiting{Reason: reason, Message: msg}
	} else {
		s.mu.Lock()
		cs.Ready, cs.RestartCount = s.ready, s.restarts
		failed := s.err
		s.mu.Unlock()
		*cs.Started = true
		st.Phase, st.PodIP, st.PodIPs = corev1.PodRunning, s.ip.String(), []corev1.PodIP{{IP: s.ip.String()}}
		cs.State.Running = &corev1.ContainerStateRunning{StartedAt: metav1.NewTime(s.started.Truncate(time.Second))}
		cs.ContainerID = "containerd://" + string(p.UID)
		if failed != nil && !cs.Ready {
			cs.State = corev1.ContainerState{Waiting: &corev1.ContainerStateWaiting{Reason: "CrashLoopBackOff", Message: failed.Error()}}
		}
		if cs.Ready {
			ready = corev1.ConditionTrue
		}
	}
	st.ContainerStatuses = []corev1.ContainerStatus{cs}
	for _, t := range []corev1.PodConditionType{corev1.PodScheduled, corev1.PodInitialized, corev1.ContainersReady, corev1.PodReady} {
		v := corev1.ConditionTrue
		if t == corev1.ContainersReady || t == corev1.PodReady {
			v = ready
		}
		pc := corev1.PodCondition{Type: t, Status: v, LastTransitionTime: metav1.NewTime(time.Now().Truncate(time.Second))}
		for _, o := range p.Status.Conditions {
			if o.Type == t && o.Status == v {
				pc.LastTransitionTime = o.LastTransitionTime
			}
		}
		st.Conditions = append(st.Conditions, pc)
	}
	if fmt.Sprintf("%+v", st) == fmt.Sprintf("%+v", p.Status) {
		return nil
	}
	if old, new := p.Status, st; len(old.ContainerStatuses) == 1 && old.Phase == new.Phase && old.PodIP == new.PodIP && old.ContainerStatuses[0].Ready == cs.Ready && old.ContainerStatuses[0].RestartCount == cs.RestartCount &&
		(old.ContainerStatuses[0].State.Waiting == nil) == (cs.State.Waiting == nil) && len(old.Conditions) == len(new.Conditions) && (cs.State.Waiting == nil || cs.State.Waiting.Reason == old.ContainerStatuses[0].State.Waiting.Reason) && old.Conditions[3].Status == ready {
		return nil
	}
	np := p.DeepCopy()
	np.Status = st
	np.ResourceVersion = ""
	_, err := k.c.CoreV1().Pods(p.Namespace).UpdateStatus(ctx, np, metav1.UpdateOptions{})
	return err
}

// serve opens the kubelet's own API: logs, for those that the API server lets
// read them.
func (k *kubelet) serve(ctx context.Context) error {
	h := k.e.Host
	cert, err := k.certs.server(h, tlsFiles{k.cfg.TLSCertFile, k.cfg.TLSPrivateKeyFile})
	if err != nil {
		return err
	}
	trusted, err := apiserver.ReadTrusted(h, k.cfg.Authentication.X509.ClientCAFile)
	if err != nil {
		return err
	}
	l, err := k.e.Listen(net.JoinHostPort(k.cfg.Address, fmt.Sprint(k.cfg.Port)))
	if err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /containerLogs/{ns}/{pod}/{container}", k.logs)
	suites, err := serve.Suites(k.cfg.TLSCipherSuites)
	if err != nil {
		return &host.ExitError{Code: 1, Err: err}
	}
	srv := serve.HTTP(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		who := r.TLS.PeerCertificates[0].Subject
		rev, err := k.c.AuthorizationV1().SubjectAccessReviews().Create(r.Context(), &authzv1.SubjectAccessReview{Spec: authzv1.SubjectAccessReviewSpec{User: who.CommonName, Groups: who.Organization,
			ResourceAttributes: &authzv1.ResourceAttributes{Verb: "get", Resource: "nodes", Subresource: "proxy", Name: k.name}}}, metav1.CreateOptions{})
		if err != nil || !rev.Status.Allowed {
			http.Error(w, fmt.Sprintf("%s may not use this kubelet (%v)", who.CommonName, err), http.StatusForbidden)
			return
		}
		mux.ServeHTTP(w, r)
	}))
	srv.TLSConfig = &tls.Config{GetCertificate: cert, ClientAuth: tls.RequireAndVerifyClientCert, MinVersion: tls.VersionTLS12, CipherSuites: suites,
		GetConfigForClient: func(*tls.ClientHelloInfo) (*tls.Config, error) {
			return &tls.Config{GetCertificate: cert, ClientCAs: trusted.Now(), ClientAuth: tls.RequireAndVerifyClientCert, MinVersion: tls.VersionTLS12, CipherSuites: suites}, nil
		}}
	go srv.ServeTLS(l, "", "")
	context.AfterFunc(ctx, func() { srv.Close() })
	return nil
}

func (k *kubelet) logs(w http.ResponseWriter, r *http.Request) {
	p, err := k.c.CoreV1().Pods(r.PathValue("ns")).Get(r.Context(), r.PathValue("pod"), metav1.GetOptions{})
	if err != nil {
		http.Error(w, err.Error(), http.StatusNotFound)
		return
	}
	if !slices.ContainsFunc(p.Spec.Containers, func(c corev1.Container) bool { return c.Name == r.PathValue("container") }) {
		http.Error(w, fmt.Sprintf("container %q is not found in pod %s", r.PathValue("container"), p.Name), http.StatusBadRequest)
		return
	}
	s := k.rt.find(p.UID)
	if s == nil {
		http.Error(w, "the pod does not run here", http.StatusNotFound)
		return
	}
	sent := 0
	for {
		text, changed := s.log.read()
		if sent < len(text) {
			io.WriteString(w, text[sent:])
			sent = len(text)
			if f, ok := w.(http.Flusher); ok {
				f.Flush()
			}
		}
		if r.URL.Query().Get("follow") != "true" {
			return
		}
		select {
		case <-changed:
		case <-s.done:
			return
		case <-r.Context().Done():
			return
		}
	}
}
