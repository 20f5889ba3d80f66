package host

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"verbund/internal/sim/serve"
	"verbund/internal/unit"
)

// FabricPort is where a machine takes streams for its pods from other machines.
const FabricPort = 8475

// Net is what a machine's kernel knows of the simulated fabric: the pods that
// live here, the services that the proxy has installed, and the routes to other
// machines' pods that the network plugin has installed. It starts empty at
// every boot.
type Net struct {
	host     *Host
	mu       sync.RWMutex
	pods     map[netip.Addr]*Pod
	services map[netip.AddrPort][]netip.AddrPort
	routes   map[netip.Prefix]netip.Addr
	fabric   net.Listener
	plugin   int // counts the plugin's starts
	dice     *rand.Rand
}

// Pod is the network of one pod on this machine.
type Pod struct {
	mu    sync.RWMutex
	ports map[uint16]func(net.Conn)
}

// NewNet is the network of a machine that has just booted.
func NewNet(h *Host) *Net {
	name := fnv.New64a()
	name.Write([]byte(h.Spec.Name))
	return &Net{host: h, pods: map[netip.Addr]*Pod{}, dice: rand.New(rand.NewPCG(h.Spec.Seed, name.Sum64()))}
}

// AddPod gives a pod its address on this machine.
func (n *Net) AddPod(ip netip.Addr) *Pod {
	n.mu.Lock()
	defer n.mu.Unlock()
	p := &Pod{ports: map[uint16]func(net.Conn){}}
	n.pods[ip] = p
	return p
}

// DropPod takes a pod's address away.
func (n *Net) DropPod(ip netip.Addr) {
	n.mu.Lock()
	defer n.mu.Unlock()
	delete(n.pods, ip)
}

// Listen hands connections to a port of the pod to serve, which takes them without
// waiting, until stopped: none comes after stop has returned.
func (p *Pod) Listen(port uint16, serve func(net.Conn)) (stop func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ports[port] = serve
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.ports, port)
	}
}

// SetServices replaces the proxy's table.
func (n *Net) SetServices(t map[netip.AddrPort][]netip.AddrPort) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.services = t
}

// linger is how long pod traffic goes on when the network plugin stops: long
// enough for its successor of another version to take over.
const linger = 10 * time.Second

// Attach is a network plugin that starts: it opens the fabric's port unless the
// one before has left it open. detach is its end; routes and port stay for a
// while, as what is in a kernel stays, and go if no other plugin attaches.
func (n *Net) Attach() (detach func(), err error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.fabric == nil {
		l, err := n.host.Listen(netip.AddrPortFrom(n.host.Spec.Address, FabricPort).String())
		if err != nil {
			return nil, err
		}
		n.fabric = l
		go n.serveFabric(l)
	}
	n.plugin++
	mine := n.plugin
	return func() {
		t := time.AfterFunc(linger, func() {
			n.mu.Lock()
			defer n.mu.Unlock()
			if n.plugin == mine {
				n.fabric.Close()
				n.fabric, n.routes = nil, nil
			}
		})
		context.AfterFunc(n.host.ctx, func() { t.Stop() })
	}, nil
}

// SetRoutes replaces the plugin's table of other machines' pods.
func (n *Net) SetRoutes(t map[netip.Prefix]netip.Addr) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.routes = t
}

// Route leads to other machines' pods by a machine; Unroute leads there no more, unless another
// machine has them by now. There has to be a table.
func (n *Net) Route(to netip.Prefix, by netip.Addr) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.routes[to] = by
}

// Unroute is described at Route.
func (n *Net) Unroute(to netip.Prefix, by netip.Addr) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.routes[to] == by {
		delete(n.routes, to)
	}
}

// Up says whether pods of this machine can be reached from others.
func (n *Net) Up() bool {
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.fabric != nil && n.routes != nil
}

// How long the first lines of a stream may be, in bytes: an address with its port, and
// what is said of it.
const (
	mostAddress = 64
	mostAnswer  = 400
)

// ErrRefused is a connection to a pod port that nobody serves.
var ErrRefused = errors.New("connection refused")

// DialFromPod connects to a pod or service address, as a pod of this machine would. Where packets
// between pods of a machine do not pass the packet filter, nobody answers in the name of a service
// whose pod is here: the answer comes from an address that was not asked.
func (n *Net) DialFromPod(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	n.mu.Lock()
	eps, service := n.services[to]
	var pod netip.AddrPort
	if len(eps) > 0 {
		pod = eps[n.dice.IntN(len(eps))]
	}
	_, local := n.pods[pod.Addr()]
	n.mu.Unlock()
	if !service || len(eps) == 0 {
		return n.DialPod(ctx, to)
	}
	if local && !n.host.bridges() {
		<-ctx.Done()
		return nil, fmt.Errorf("service %s: connection timed out", to)
	}
	return n.DialPod(ctx, pod)
}

// DialPod connects to a pod or service address, as something on this machine would.
func (n *Net) DialPod(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	n.mu.Lock()
	if eps, ok := n.services[to]; ok {
		if len(eps) == 0 {
			n.mu.Unlock()
			return nil, fmt.Errorf("service %s has no endpoint: %w", to, ErrRefused)
		}
		to = eps[n.dice.IntN(len(eps))]
	}
	_, local := n.pods[to.Addr()]
	var via netip.Addr
	for r, node := range n.routes {
		if r.Contains(to.Addr()) {
			via = node
		}
	}
	n.mu.Unlock()
	if local {
		a, b := net.Pipe()
		if err := n.deliver(to, b); err != nil {
			return nil, err
		}
		return a, nil
	}
	if !via.IsValid() {
		return nil, fmt.Errorf("no route to pod %s", to)
	}
	c, err := n.host.Dial(ctx, "tcp", netip.AddrPortFrom(via, FabricPort).String())
	if err != nil {
		return nil, err
	}
	fmt.Fprintf(c, "%s\n", to)
	r := bufio.NewReader(c)
	c.SetReadDeadline(time.Now().Add(serve.Hello))
	answer, err := serve.Line(r, mostAnswer)
	c.SetReadDeadline(time.Time{})
	if err != nil || strings.TrimSpace(answer) != "ok" {
		c.Close()
		return nil, fmt.Errorf("pod %s: %s: %w", to, strings.TrimSpace(answer), ErrRefused)
	}
	return &buffered{c, r}, nil
}

type buffered struct {
	net.Conn
	r *bufio.Reader
}

func (b *buffered) Read(p []byte) (int, error) { return b.r.Read(p) }

// deliver hands a stream to a pod of this machine.
func (n *Net) deliver(to netip.AddrPort, c net.Conn) error {
	n.mu.RLock()
	p := n.pods[to.Addr()]
	n.mu.RUnlock()
	if p == nil {
		return fmt.Errorf("pod %s is not here: %w", to.Addr(), ErrRefused)
	}
	p.mu.RLock()
	defer p.mu.RUnlock()
	serve := p.ports[to.Port()]
	if serve == nil {
		return fmt.Errorf("pod %s: %w", to, ErrRefused)
	}
	serve(c)
	return nil
}

// serveFabric takes streams from other machines until the listener closes.
func (n *Net) serveFabric(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			r := bufio.NewReader(c)
			c.SetReadDeadline(time.Now().Add(serve.Hello))
			line, err := serve.Line(r, mostAddress)
			c.SetReadDeadline(time.Time{})
			to, perr := netip.ParseAddrPort(strings.TrimSpace(line))
			if err != nil || perr != nil {
				c.Close()
				return
			}
			// The answer goes out before the pod may write.
			a, b := net.Pipe()
			if err := n.deliver(to, b); err != nil {
				fmt.Fprintf(c, "%v\n", err)
				c.Close()
				return
			}
			io.WriteString(c, "ok\n")
			unit.Splice(&buffered{c, r}, a)
		}()
	}
}
