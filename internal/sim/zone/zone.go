// Package zone is the process in which all machines of one zone live. Its
// parent, the site, orders over standard input and output; when that ends, the
// zone ends, and everything in it, as when a building loses its power.
package zone

import (
	"context"
	"fmt"
	"io"
	"runtime"
	"sync"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"github.com/creachadair/jrpc2/handler"

	"verbund/internal/machine/protocol"
	"verbund/internal/sim/host"
)

// The methods of the zone's protocol.
const (
	MethodBoot   = "boot"
	MethodOff    = "off"
	MethodSuffer = "suffer"
)

// BootReply says where one can log in.
type BootReply struct {
	SSHPort int `json:"sshPort"`
}

// OffRequest takes a machine's power away.
type OffRequest struct {
	Name   string `json:"name"`
	Pulled bool   `json:"pulled"`
}

// SufferRequest sets what is wrong with a machine.
type SufferRequest struct {
	Name   string      `json:"name"`
	Faults host.Faults `json:"faults"`
}

// Machine is one that is on, of whatever kind.
type Machine interface {
	Is() host.Spec
	Port() int // where one logs in
	Off(pulled bool)
	Suffer(host.Faults)
}

// Boot gives a machine power and returns when one can log in; onReboot is called when the
// machine wants to be started anew.
type Boot func(ctx context.Context, s host.Spec, onReboot func()) (Machine, error)

type zone struct {
	ctx   context.Context
	power Boot
	mu    sync.Mutex
	hosts map[string]Machine
	most  int // processors that this computer gives a process
}

// perProcessor is how many machines keep a processor busy. Where there are more processors than
// work, handing it from one to the other costs more than doing it.
const perProcessor = 50

// processors is how many processors a zone's machines need, of those that there are.
func processors(machines, most int) int { return min(1+machines/perProcessor, most) }

// Run serves the parent until it hangs up.
func Run(ctx context.Context, in io.Reader, out io.WriteCloser, power Boot) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	z := &zone{ctx: ctx, power: power, hosts: map[string]Machine{}, most: runtime.GOMAXPROCS(0)}
	srv := jrpc2.NewServer(handler.Map{
		MethodBoot:   handler.New(z.boot),
		MethodOff:    handler.New(z.off),
		MethodSuffer: handler.New(z.suffer),
	}, &jrpc2.ServerOptions{Concurrency: 16})
	return srv.Start(protocol.Questions(channel.Line(in, out))).Wait()
}

func (z *zone) boot(_ context.Context, s host.Spec) (*BootReply, error) {
	z.mu.Lock()
	if _, on := z.hosts[s.Name]; on {
		z.mu.Unlock()
		return nil, fmt.Errorf("%s is on already", s.Name)
	}
	z.hosts[s.Name] = nil // booting
	runtime.GOMAXPROCS(processors(len(z.hosts), z.most))
	z.mu.Unlock()
	h, err := z.power(z.ctx, s, func() { z.restart(s.Name) })
	z.mu.Lock()
	defer z.mu.Unlock()
	if err != nil {
		delete(z.hosts, s.Name)
		return nil, err
	}
	z.hosts[s.Name] = h
	return &BootReply{SSHPort: h.Port()}, nil
}

func (z *zone) off(_ context.Context, r OffRequest) (bool, error) {
	z.mu.Lock()
	h := z.hosts[r.Name]
	z.mu.Unlock()
	if h == nil {
		return false, nil
	}
	h.Off(r.Pulled)
	z.mu.Lock()
	defer z.mu.Unlock()
	delete(z.hosts, r.Name)
	return true, nil
}

func (z *zone) restart(name string) {
	z.mu.Lock()
	h := z.hosts[name]
	z.mu.Unlock()
	if h == nil {
		return
	}
	z.off(z.ctx, OffRequest{Name: name})
	z.boot(z.ctx, h.Is())
}

func (z *zone) suffer(_ context.Context, r SufferRequest) (bool, error) {
	z.mu.Lock()
	defer z.mu.Unlock()
	h := z.hosts[r.Name]
	if h == nil {
		return false, nil
	}
	h.Suffer(r.Faults)
	return true, nil
}
