// Package carrier carries the endpoint's virtual address: a small unit of our
// own on every control-plane machine. They elect one holder in the datastore;
// the holder takes the address and passes connections on to the API server of
// its own machine. Only a machine whose API server is ready stands for
// election, and a holder whose API server is not ready any more, or whose lease
// has ended, lets go.
//
// On a real machine taking an address means adding it to a network card and
// announcing it. On a simulated site it means that nobody else on this computer
// can listen there.
package carrier

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"time"

	"github.com/spf13/pflag"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.etcd.io/etcd/client/v3/concurrency"
	"google.golang.org/grpc"

	"verbund/internal/unit"
)

// config is the carrier's file; docs/protocols.md describes it.
type config struct {
	Address            string   `json:"address"`
	Ports              []int    `json:"ports"`
	Server             string   `json:"server"`
	Name               string   `json:"name"`
	Authority          string   `json:"authority"`
	Datastore          []string `json:"datastore"`
	DatastoreAuthority string   `json:"datastoreAuthority"`
	Certificate        string   `json:"certificate"`
	Key                string   `json:"key"`
	Election           string   `json:"election"`
	Holder             string   `json:"holder"`
	LeaseSeconds       int      `json:"leaseSeconds"`
}

// checkEvery is how often the own API server is asked whether it is ready.
const checkEvery = 250 * time.Millisecond

// checksMissed is how many times it may be slow or not ready before the
// address is let go.
const checksMissed = 4

type carrier struct {
	m     unit.Machine
	cfg   config
	api   *http.Client
	store *tls.Config
}

// Run is the unit's program.
func Run(ctx context.Context, m unit.Machine, args []string) error {
	fs := pflag.NewFlagSet("endpoint-carrier", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	file := fs.String("config", "", "")
	if err := fs.Parse(args); err != nil {
		return unit.Usage(err)
	}
	c := &carrier{m: m}
	if err := c.read(*file); err != nil {
		return err
	}
	m.Ready()
	for ctx.Err() == nil {
		if err := c.term(ctx); err != nil && ctx.Err() == nil {
			m.Logf("not carrying %s: %v", c.cfg.Address, err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(checkEvery):
		}
	}
	return nil
}

func (c *carrier) read(file string) error {
	h := c.m
	b, err := h.ReadFile(file)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, &c.cfg); err != nil {
		return unit.Usage(fmt.Errorf("%s: %w", file, err))
	}
	roots, err := unit.Pool(h, c.cfg.Authority)
	if err != nil {
		return err
	}
	c.api = &http.Client{Timeout: time.Second, Transport: &http.Transport{DialContext: c.m.Dial, TLSClientConfig: &tls.Config{RootCAs: roots, ServerName: c.cfg.Name}}}
	c.store, err = unit.Datastore(h, c.cfg.DatastoreAuthority, c.cfg.Certificate, c.cfg.Key)
	return err
}

// ready asks the machine's own API server.
func (c *carrier) ready(ctx context.Context) error {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+c.cfg.Server+"/readyz", nil)
	if err != nil {
		return err
	}
	r, err := c.api.Do(q)
	if err != nil {
		return err
	}
	defer r.Body.Close()
	if r.StatusCode != http.StatusOK {
		return fmt.Errorf("its API server says %s", r.Status)
	}
	return nil
}

// term stands for election once, and carries the address for as long as it may.
func (c *carrier) term(ctx context.Context) error {
	if err := c.ready(ctx); err != nil {
		return fmt.Errorf("its API server is not ready: %w", err)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cl, err := clientv3.New(clientv3.Config{Endpoints: c.cfg.Datastore, TLS: c.store, DialTimeout: 2 * time.Second, Context: ctx,
		DialOptions: []grpc.DialOption{grpc.WithContextDialer(func(ctx context.Context, addr string) (net.Conn, error) { return c.m.Dial(ctx, "tcp", addr) })}})
	if err != nil {
		return err
	}
	defer cl.Close()
	s, err := concurrency.NewSession(cl, concurrency.WithTTL(c.cfg.LeaseSeconds), concurrency.WithContext(ctx))
	if err != nil {
		return fmt.Errorf("lease in the datastore: %w", err)
	}
	defer s.Close()
	lost := make(chan error, 1)
	go func() { lost <- c.watch(ctx, s.Done()); cancel() }()
	el := concurrency.NewElection(s, c.cfg.Election)
	if err := el.Campaign(ctx, c.cfg.Holder); err != nil {
		cancel()
		return errors.Join(<-lost, err)
	}
	err = c.carry(ctx)
	cancel()
	why := <-lost
	// Letting go at once spares the others the wait for the lease's end.
	end, stop := context.WithTimeout(context.WithoutCancel(ctx), time.Second)
	defer stop()
	el.Resign(end)
	return errors.Join(err, why)
}

// watch ends when the lease has ended or the API server is not ready any more.
func (c *carrier) watch(ctx context.Context, lease <-chan struct{}) error {
	t := time.NewTicker(checkEvery)
	defer t.Stop()
	missed := 0
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-lease:
			return errors.New("its lease in the datastore has ended")
		case <-t.C:
		}
		err := c.ready(ctx)
		if err == nil {
			missed = 0
		} else if missed++; missed >= checksMissed {
			return err
		}
	}
}

// carry answers at the address until ctx ends.
func (c *carrier) carry(ctx context.Context) error {
	a, err := netip.ParseAddr(c.cfg.Address)
	if err != nil {
		return err
	}
	letGo, err := c.m.Carry(ctx, a)
	if err != nil {
		return err
	}
	defer letGo()
	var open []net.Listener
	defer func() {
		for _, l := range open {
			l.Close()
		}
	}()
	for _, p := range c.cfg.Ports {
		l, err := c.listen(ctx, net.JoinHostPort(c.cfg.Address, fmt.Sprint(p)))
		if err != nil {
			return err
		}
		open = append(open, l)
		go c.serve(ctx, l)
	}
	c.m.Logf("carrying %s", c.cfg.Address)
	<-ctx.Done()
	c.m.Logf("letting go of %s", c.cfg.Address)
	return nil
}

// listen takes the address; whoever held it before may need a moment to let go.
func (c *carrier) listen(ctx context.Context, addr string) (net.Listener, error) {
	t := time.NewTicker(checkEvery / 5)
	defer t.Stop()
	for {
		l, err := c.m.Listen(addr)
		if err == nil {
			return l, nil
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("taking %s: %w", addr, err)
		case <-t.C:
		}
	}
}

func (c *carrier) serve(ctx context.Context, l net.Listener) {
	for {
		in, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			out, err := c.m.Dial(ctx, "tcp", c.cfg.Server)
			if err != nil {
				in.Close()
				return
			}
			stop := context.AfterFunc(ctx, func() { in.Close(); out.Close() })
			defer stop()
			unit.Splice(in, out)
		}()
	}
}
