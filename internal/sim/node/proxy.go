package node

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/pflag"
	corev1 "k8s.io/api/core/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	"k8s.io/client-go/tools/cache"
	proxyv1 "k8s.io/kube-proxy/config/v1alpha1"

	"verbund/internal/kubeapi"
	"verbund/internal/sim/host"
	"verbund/internal/sim/kubeclient"
	"verbund/internal/unit"
)

type proxy struct {
	e         *host.Env
	addresses []netip.Prefix
	mu        sync.Mutex
	open      map[int32]net.Listener
	target    map[int32]netip.AddrPort // node port → service
	installed atomic.Bool              // the rules are there, once
}

// Proxy is the service proxy's stand-in: it keeps the machine's table of
// services, and answers on node ports.
func Proxy(ctx context.Context, e *host.Env) error {
	fs := pflag.NewFlagSet("kube-proxy", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	config := fs.String("config", "", "")
	if err := fs.Parse(e.Args); err != nil {
		return &host.ExitError{Code: 2, Err: err}
	}
	var cfg proxyv1.KubeProxyConfiguration
	if err := e.StrictConfig(*config, &cfg); err != nil {
		return err
	}
	p := &proxy{e: e, open: map[int32]net.Listener{}, target: map[int32]netip.AddrPort{}}
	for _, a := range cfg.NodePortAddresses {
		r, err := netip.ParsePrefix(a)
		if err != nil {
			return &host.ExitError{Code: 2, Err: err}
		}
		p.addresses = append(p.addresses, r)
	}
	c, err := kubeclient.Client(e, cfg.ClientConnection.Kubeconfig)
	if err != nil {
		return err
	}
	svcs, slices := c.CoreV1().Services("").Cache(), c.DiscoveryV1().EndpointSlices("").Cache()
	poke := make(chan struct{}, 1)
	nudge := cache.ResourceEventHandlerFuncs{AddFunc: func(any) { tap(poke) }, UpdateFunc: func(any, any) { tap(poke) }, DeleteFunc: func(any) { tap(poke) }}
	svcs.AddEventHandler(nudge)
	slices.AddEventHandler(nudge)
	synced := func() error {
		if !p.installed.Load() {
			return errors.New("no services installed yet")
		}
		return nil
	}
	if err := kubeclient.Healthz(ctx, e, cfg.HealthzBindAddress, false, nil, synced); err != nil {
		return err
	}
	kubeapi.Run(ctx, svcs, slices)
	e.Ready()
	for cache.WaitForCacheSync(ctx.Done(), svcs.HasSynced, slices.HasSynced) {
		p.install(svcs, slices)
		p.installed.Store(true)
		select {
		case <-ctx.Done():
		case <-poke:
		}
		if ctx.Err() != nil {
			break
		}
	}
	// What is installed stays when the proxy stops, as rules in a kernel do, and
	// so do connections; but nobody answers on node ports any more.
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.open {
		l.Close()
	}
	return nil
}

func tap(c chan<- struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// install computes the table of services anew.
func (p *proxy) install(svcs, slices cache.SharedIndexInformer) {
	eps := map[string][]discoveryv1.EndpointSlice{}
	for _, o := range slices.GetStore().List() {
		s := o.(*discoveryv1.EndpointSlice)
		k := s.Namespace + "/" + s.Labels[discoveryv1.LabelServiceName]
		eps[k] = append(eps[k], *s)
	}
	table := map[netip.AddrPort][]netip.AddrPort{}
	target := map[int32]netip.AddrPort{}
	for _, o := range svcs.GetStore().List() {
		s := o.(*corev1.Service)
		ip, err := netip.ParseAddr(s.Spec.ClusterIP)
		if err != nil {
			continue
		}
		for _, sp := range s.Spec.Ports {
			if sp.Protocol != corev1.ProtocolTCP && sp.Protocol != "" {
				continue // the fabric carries streams alone
			}
			at := netip.AddrPortFrom(ip, uint16(sp.Port))
			ready, here := p.pods(eps[s.Namespace+"/"+s.Name], sp.Name)
			table[at] = ready
			if s.Spec.InternalTrafficPolicy != nil && *s.Spec.InternalTrafficPolicy == corev1.ServiceInternalTrafficPolicyLocal {
				table[at] = here // whoever asks from within is taken to pods of this node alone
			}
			if sp.NodePort == 0 {
				continue
			}
			// Whoever comes from outside to a service with this policy is taken to pods of this
			// node alone.
			if s.Spec.ExternalTrafficPolicy == corev1.ServiceExternalTrafficPolicyLocal {
				at = netip.AddrPortFrom(netip.IPv4Unspecified(), uint16(sp.NodePort))
				table[at] = here
			}
			target[sp.NodePort] = at
		}
	}
	p.e.Host.Net.SetServices(table)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.target = target
	for port, l := range p.open {
		if _, ok := target[port]; !ok {
			l.Close()
			delete(p.open, port)
		}
	}
	for port := range target {
		if p.open[port] != nil {
			continue
		}
		for _, a := range p.addresses {
			l, err := p.e.Listen(netip.AddrPortFrom(a.Addr(), uint16(port)).String())
			if err != nil {
				p.e.Logf("node port %d: %v", port, err)
				continue
			}
			p.open[port] = l
			go p.answer(l, port)
		}
	}
}

// pods are where the pods of a service's port are, and those of them on this node that are
// ready. Endpoints on their way out serve only if there is no other.
func (p *proxy) pods(of []discoveryv1.EndpointSlice, portName string) (ready, here []netip.AddrPort) {
	serving := []netip.AddrPort{}
	ready = []netip.AddrPort{}
	for _, sl := range of {
		for _, port := range sl.Ports {
			if port.Name == nil || *port.Name != portName || port.Port == nil {
				continue
			}
			for _, ep := range sl.Endpoints {
				a, err := netip.ParseAddr(ep.Addresses[0])
				if err != nil {
					continue
				}
				to := netip.AddrPortFrom(a, uint16(*port.Port))
				if ep.Conditions.Ready == nil || *ep.Conditions.Ready {
					ready = append(ready, to)
					if ep.NodeName != nil && *ep.NodeName == p.e.Host.Spec.Name {
						here = append(here, to)
					}
				} else if ep.Conditions.Serving != nil && *ep.Conditions.Serving {
					serving = append(serving, to)
				}
			}
		}
	}
	if len(ready) == 0 {
		ready = serving
	}
	return ready, here
}

func (p *proxy) answer(l net.Listener, port int32) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		p.e.Leave(c)
		go func() {
			p.mu.Lock()
			at := p.target[port]
			p.mu.Unlock()
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			to, err := p.dial(ctx, at)
			cancel()
			if err != nil {
				p.e.Logf("node port %d: %v", port, err)
				c.Close()
				return
			}
			unit.Splice(c, to)
		}()
	}
}

// dial reaches one of the pods of a service. In life the packet that begins a
// connection goes to the pod itself: where that has gone, whoever connects is
// refused and tries again. Here the connection stands already, so another pod is
// tried in its name.
func (p *proxy) dial(ctx context.Context, at netip.AddrPort) (net.Conn, error) {
	const tries = 8
	for n := 1; ; n++ {
		to, err := p.e.Host.Net.DialPod(ctx, at)
		if !errors.Is(err, host.ErrRefused) || n == tries {
			return to, err
		}
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(time.Duration(n) * 10 * time.Millisecond):
		}
	}
}
