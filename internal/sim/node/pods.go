package node

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/pflag"
	"golang.org/x/net/dns/dnsmessage"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/cache"
	"k8s.io/utils/lru"

	"verbund/internal/core/trust"
	"verbund/internal/kubeapi"
	"verbund/internal/sim/serve"
)

// Images are the programs of all images, by name.
func Images() map[string]PodProgram {
	return map[string]PodProgram{"fairway": fairway, "coredns": coredns, "tidetable": webApp, "lampbook": webApp, "witness": webApp}
}

const cniFile = "/etc/cni/net.d/10-fairway.conflist"

// podClient is a client with the pod's service-account token. Where the API is
// it learns from its environment, as pods do.
func podClient(p *PodEnv) (*kubeapi.Clients, error) {
	env := map[string]string{}
	for _, e := range p.Pod.Spec.Containers[0].Env {
		env[e.Name] = e.Value
	}
	return kubeapi.NewForConfig(&rest.Config{Host: "https://" + net.JoinHostPort(env["KUBERNETES_SERVICE_HOST"], env["KUBERNETES_SERVICE_PORT"]), BearerTokenFile: p.Host.Path(p.Token), Dial: p.Host.Dial, QPS: -1,
		TLSClientConfig: rest.TLSClientConfig{CAFile: p.Host.Path(trust.Dir + "/" + string(trust.Cluster) + ".crt")}})
}

// fairwaySettings are what the plugin can be told.
type fairwaySettings struct{ mtu, verbosity int }

func fairwayFlags(args []string) (fairwaySettings, error) {
	var s fairwaySettings
	fs := pflag.NewFlagSet("fairway", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	fs.IntVar(&s.mtu, "mtu", 1500, "")
	fs.IntVar(&s.verbosity, "verbosity", 1, "")
	if err := fs.Parse(args); err != nil {
		return s, err
	}
	if s.mtu < 1280 || s.mtu > 9000 {
		return s, fmt.Errorf("--mtu=%d: from 1280 to 9000", s.mtu)
	}
	return s, nil
}

// fairway is the network plugin: it takes streams for this machine's pods and
// knows which machine has which.
func fairway(ctx context.Context, p *PodEnv) error {
	c, err := podClient(p)
	if err != nil {
		return err
	}
	told, err := fairwayFlags(p.Pod.Spec.Containers[0].Args)
	if err != nil {
		return err
	}
	detach, err := p.Host.Net.Attach()
	if err != nil {
		return err
	}
	defer detach()
	nodes := c.CoreV1().Nodes().Cache()
	if err := nodes.SetTransform(wayTo); err != nil {
		return err
	}
	moved := &names{more: make(chan struct{}, 1)}
	nodes.AddEventHandler(cache.ResourceEventHandlerFuncs{AddFunc: moved.add, UpdateFunc: func(before, now any) {
		if !sameWay(before.(*corev1.Node), now.(*corev1.Node)) {
			moved.add(now)
		}
	}, DeleteFunc: moved.add})
	kubeapi.Run(ctx, nodes)
	if !cache.WaitForCacheSync(ctx.Done(), nodes.HasSynced) {
		return nil
	}
	p.Logf("fairway %s carries pod traffic on %s, packets of up to %d bytes", p.Version, p.IP, told.mtu)
	// The whole table once, and then what changes of it.
	have, routes := map[string]way{}, map[netip.Prefix]netip.Addr{}
	for _, o := range nodes.GetStore().List() {
		if w := leadsTo(o); w.leads(p.IP) {
			have[o.(*corev1.Node).Name], routes[w.to] = w, w.by
		}
	}
	p.Host.Net.SetRoutes(routes)
	conf := fmt.Sprintf(`{"cniVersion": "1.1.0", "name": "fairway", "plugins": [{"type": "fairway", "version": %q, "mtu": %d}]}`+"\n", p.Version, told.mtu)
	if err := p.Host.WriteFile(cniFile, []byte(conf), 0o644); err != nil {
		return err
	}
	p.Ready()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-moved.more:
		}
		for _, name := range moved.take() {
			var w way
			if o, there, _ := nodes.GetStore().GetByKey(name); there {
				w = leadsTo(o)
			}
			was, had := have[name]
			if had && was != w {
				p.Host.Net.Unroute(was.to, was.by)
				delete(have, name)
			}
			if w.leads(p.IP) && was != w {
				p.Host.Net.Route(w.to, w.by)
				have[name] = w
			}
		}
	}
}

// names are nodes that have changed, each once until somebody takes them.
type names struct {
	mu   sync.Mutex
	all  map[string]bool
	more chan struct{}
}

func (n *names) add(o any) {
	name, err := cache.DeletionHandlingMetaNamespaceKeyFunc(o)
	if err != nil {
		return
	}
	n.mu.Lock()
	if n.all == nil {
		n.all = map[string]bool{}
	}
	n.all[name] = true
	n.mu.Unlock()
	tap(n.more)
}

func (n *names) take() []string {
	n.mu.Lock()
	defer n.mu.Unlock()
	all := n.all
	n.all = nil
	return slices.Collect(maps.Keys(all))
}

// way is what leads to a node's pods.
type way struct {
	to netip.Prefix
	by netip.Addr
}

// leads says whether it leads anywhere, from a machine at an address.
func (w way) leads(from netip.Addr) bool { return w.to.IsValid() && w.by.IsValid() && w.by != from }

// leadsTo is what leads to a node's pods, as far as the node says.
func leadsTo(o any) way {
	n, ok := o.(*corev1.Node)
	if !ok {
		return way{}
	}
	var w way
	var err error
	if w.to, err = netip.ParsePrefix(n.Spec.PodCIDR); err != nil {
		return way{}
	}
	for _, a := range n.Status.Addresses {
		if a.Type != corev1.NodeInternalIP {
			continue
		}
		if ip, err := netip.ParseAddr(a.Address); err == nil {
			w.by = ip
		}
	}
	return w
}

// wayTo keeps of a node what leads to its pods: every node holds this of every other, and those
// that share a process share it.
func wayTo(o any) (any, error) {
	n, ok := o.(*corev1.Node)
	if !ok {
		return o, nil
	}
	key := string(n.UID) + " " + n.ResourceVersion
	// A datastore that was restored counts its revisions anew.
	if kept, ok := waysTo.Get(key); ok && sameWay(kept.(*corev1.Node), n) {
		return kept, nil
	}
	is := bare(n)
	waysTo.Add(key, is)
	return is, nil
}

func sameWay(a, b *corev1.Node) bool {
	return a.Spec.PodCIDR == b.Spec.PodCIDR && slices.Equal(a.Status.Addresses, b.Status.Addresses)
}

// waysTo are nodes as wayTo keeps them, by UID and revision.
var waysTo = lru.New(4096)

func bare(n *corev1.Node) *corev1.Node {
	return &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: n.Name, UID: n.UID, ResourceVersion: n.ResourceVersion},
		Spec: corev1.NodeSpec{PodCIDR: n.Spec.PodCIDR}, Status: corev1.NodeStatus{Addresses: n.Status.Addresses}}
}

// podListener makes a pod's port look like a listener. What was let in before it
// was closed is still handed out: whoever was told that the connection stands
// gets an answer.
type podListener struct {
	mu     sync.Mutex
	waits  []net.Conn
	closed bool
	more   chan struct{} // one value when something has changed
	once   sync.Once
	stop   func()
	addr   netip.AddrPort
	count  atomic.Int64
}

func listenPod(p *PodEnv, port uint16) *podListener {
	l := &podListener{more: make(chan struct{}, 1), addr: netip.AddrPortFrom(p.IP, port)}
	l.stop = p.Net.Listen(port, func(c net.Conn) {
		l.count.Add(1)
		l.mu.Lock()
		l.waits = append(l.waits, c)
		l.mu.Unlock()
		tap(l.more)
	})
	return l
}

func (l *podListener) Accept() (net.Conn, error) {
	for {
		l.mu.Lock()
		if len(l.waits) > 0 {
			c := l.waits[0]
			l.waits = l.waits[1:]
			l.mu.Unlock()
			return c, nil
		}
		closed := l.closed
		l.mu.Unlock()
		if closed {
			return nil, net.ErrClosed
		}
		<-l.more
	}
}

func (l *podListener) Close() error {
	l.once.Do(func() {
		l.stop()
		l.mu.Lock()
		l.closed = true
		l.mu.Unlock()
		tap(l.more)
	})
	return nil
}

func (l *podListener) Addr() net.Addr { return net.TCPAddrFromAddrPort(l.addr) }

// webApp is the example application: it says who answered. Told to end, it
// goes on serving until nobody has come for a while, as an application does
// that wants to lose no request.
func webApp(ctx context.Context, p *PodEnv) error {
	if p.Net == nil {
		return errors.New("it needs a network of its own")
	}
	port := uint16(8080)
	if ps := p.Pod.Spec.Containers[0].Ports; len(ps) > 0 {
		port = uint16(ps[0].ContainerPort)
	}
	l := listenPod(p, port)
	name := p.Pod.Spec.Containers[0].Name
	srv := serve.HTTP(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Connection", "close")
		if r.URL.Path == "/ask" {
			passOn(w, r, p)
			return
		}
		fmt.Fprintf(w, "%s %s answers from %s on %s\n", name, p.Version, p.Pod.Name, p.Host.Spec.Name)
	}))
	ended := make(chan error, 1)
	go func() { ended <- srv.Serve(l) }()
	p.Logf("%s %s serves on port %d", name, p.Version, port)
	p.Ready()
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	p.Logf("asked to end, serving until nobody comes")
	quiet := 300 * time.Millisecond
	for last := l.count.Load(); !p.Host.Pulled(); {
		select {
		case <-time.After(quiet):
		case err := <-ended:
			return err
		}
		now := l.count.Load()
		if now == last {
			break
		}
		last = now
	}
	end, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	return srv.Shutdown(end)
}

// passOn answers with what another one does whom this pod finds by a name, or at an address.
func passOn(w http.ResponseWriter, r *http.Request, p *PodEnv) {
	ctx, cancel := context.WithTimeout(r.Context(), serve.Hello)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+r.URL.Query().Get("name")+"/", nil)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	c := http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, to string) (net.Conn, error) {
		name, port, err := net.SplitHostPort(to)
		if err != nil {
			return nil, err
		}
		at, err := netip.ParseAddr(name)
		if err != nil {
			at, err = p.resolve(ctx, name)
		}
		if err != nil {
			return nil, err
		}
		n, err := strconv.ParseUint(port, 10, 16)
		if err != nil {
			return nil, err
		}
		return p.Host.Net.DialFromPod(ctx, netip.AddrPortFrom(at, uint16(n)))
	}}}
	a, err := c.Do(q)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer a.Body.Close()
	w.WriteHeader(a.StatusCode)
	io.Copy(w, io.LimitReader(a.Body, 1<<16))
}

// resolve asks the cluster's DNS for the address of a name (RFC 1035, over TCP).
func (p *PodEnv) resolve(ctx context.Context, name string) (netip.Addr, error) {
	if !p.DNS.IsValid() {
		return netip.Addr{}, fmt.Errorf("lookup %s: the pod was given no name server", name)
	}
	c, err := p.Host.Net.DialFromPod(ctx, netip.AddrPortFrom(p.DNS, 53))
	if err != nil {
		return netip.Addr{}, fmt.Errorf("lookup %s on %s: %w", name, p.DNS, err)
	}
	defer c.Close()
	if until, ok := ctx.Deadline(); ok {
		c.SetDeadline(until)
	}
	n, err := dnsmessage.NewName(strings.TrimSuffix(name, ".") + ".")
	if err != nil {
		return netip.Addr{}, fmt.Errorf("lookup %s: %w", name, err)
	}
	q := dnsmessage.Message{Header: dnsmessage.Header{ID: 1, RecursionDesired: true}, Questions: []dnsmessage.Question{{Name: n, Type: dnsmessage.TypeA, Class: dnsmessage.ClassINET}}}
	b, err := q.Pack()
	if err != nil {
		return netip.Addr{}, err
	}
	if _, err := c.Write(append([]byte{byte(len(b) >> 8), byte(len(b))}, b...)); err != nil {
		return netip.Addr{}, fmt.Errorf("lookup %s on %s: %w", name, p.DNS, err)
	}
	m, err := readDNS(c)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("lookup %s on %s: %w", name, p.DNS, err)
	}
	for _, x := range m.Answers {
		if a, ok := x.Body.(*dnsmessage.AResource); ok {
			return netip.AddrFrom4(a.A), nil
		}
	}
	return netip.Addr{}, fmt.Errorf("lookup %s on %s: no such host", name, p.DNS)
}

// readDNS reads one message with its length in front (RFC 1035, 4.2.2).
func readDNS(c io.Reader) (m dnsmessage.Message, err error) {
	var size [2]byte
	if _, err := io.ReadFull(c, size[:]); err != nil {
		return m, err
	}
	b := make([]byte, int(size[0])<<8|int(size[1]))
	if _, err := io.ReadFull(c, b); err != nil {
		return m, err
	}
	return m, m.Unpack(b)
}

// coredns answers for services, over TCP, on the pod network.
func coredns(ctx context.Context, p *PodEnv) error {
	domain := ""
	for f, text := range p.Files {
		for line := range strings.Lines(text) {
			if w := strings.Fields(line); len(w) > 1 && w[0] == "kubernetes" {
				domain = w[1]
			}
		}
		p.Logf("read %s, domain %s", f, domain)
	}
	if domain == "" {
		return errors.New("Corefile: no kubernetes line with a domain")
	}
	c, err := podClient(p)
	if err != nil {
		return err
	}
	svcs := c.CoreV1().Services("").Cache()
	kubeapi.Run(ctx, svcs)
	if !cache.WaitForCacheSync(ctx.Done(), svcs.HasSynced) {
		return nil
	}
	l, health := listenPod(p, 53), listenPod(p, 8181)
	defer l.Close()
	srv := serve.HTTP(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "OK") }))
	go srv.Serve(health)
	defer srv.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				conn.SetDeadline(time.Now().Add(5 * time.Second))
				for answerDNS(conn, domain, svcs) == nil {
				}
			}()
		}
	}()
	p.Ready()
	<-ctx.Done()
	return nil
}

// answerDNS answers one question with a length in front (RFC 1035, 4.2.2).
func answerDNS(c net.Conn, domain string, svcs cache.SharedIndexInformer) error {
	m, err := readDNS(c)
	if err != nil {
		return err
	}
	if len(m.Questions) != 1 {
		return fmt.Errorf("not one question, but %d", len(m.Questions))
	}
	q := m.Questions[0]
	r := dnsmessage.Message{Header: dnsmessage.Header{ID: m.ID, Response: true, Authoritative: true, RCode: dnsmessage.RCodeNameError}, Questions: m.Questions}
	name, ok := strings.CutSuffix(strings.ToLower(q.Name.String()), ".svc."+domain+".")
	if parts := strings.Split(name, "."); ok && len(parts) == 2 {
		if o, found, _ := svcs.GetStore().GetByKey(parts[1] + "/" + parts[0]); found {
			if ip, err := netip.ParseAddr(o.(*corev1.Service).Spec.ClusterIP); err == nil {
				r.RCode = dnsmessage.RCodeSuccess
				r.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: q.Name, Class: dnsmessage.ClassINET, TTL: 5}, Body: &dnsmessage.AResource{A: ip.As4()}}}
			}
		}
	}
	out, err := r.Pack()
	if err != nil {
		return err
	}
	_, err = c.Write(append([]byte{byte(len(out) >> 8), byte(len(out))}, out...))
	return err
}
