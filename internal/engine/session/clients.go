package session

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"

	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/kube"
	"verbund/internal/machine"
	"verbund/internal/site"
)

// Powerless says in words why nobody can log in to a machine that has no power.
func Powerless(im site.Machine) string {
	what := map[string]string{site.PowerOff: "it is switched off", site.PowerBooting: "it is still booting", site.PowerCrashed: "it has crashed", site.PowerSilent: "it does not answer"}[im.Power]
	if what == "" {
		what = "the site says of its power: " + im.Power
	}
	if im.Trouble != "" {
		what += ": " + im.Trouble
	}
	return what
}

// Peers names members by their peer URL, for those that never started.
func (s *Session) Peers(c *topology.Cluster) map[string]datastore.Member {
	out := map[string]datastore.Member{}
	for _, m := range c.With(versions.Member) {
		out[nodeconf.Peer(m)] = datastore.Member{Name: m.Name}
	}
	return out
}

// With gives a connection to a machine, newly made if the old one broke: what is done over
// it looks first whether it is so already, and may be done again.
func (s *Session) With(ctx context.Context, name string, f func(Machine) error) error {
	m, err := s.Machine(ctx, name, 0)
	if err != nil {
		return err
	}
	err = f(m)
	if errors.Is(err, machine.ErrLost) && ctx.Err() == nil {
		s.HangUp(name)
		if m, merr := s.Machine(ctx, name, 0); merr == nil {
			return f(m)
		}
	}
	return err
}

// clientTLS is the tool's own certificate for talking to the datastore.
func (s *Session) clientTLS() (*tls.Config, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	if t.Certs["tool/datastore"] == nil {
		return nil, ErrNoTrust
	}
	p, err := tls.X509KeyPair(t.Certs["tool/datastore"], t.Keys["tool/datastore"])
	if err != nil {
		return nil, fmt.Errorf("the tool's certificate for the datastore: %w", err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(trust.Bundle(t.Certs, string(trust.Datastore)))
	return &tls.Config{Certificates: []tls.Certificate{p}, RootCAs: pool, MinVersion: tls.VersionTLS12}, nil
}

// Datastore is a client of the members of the datastore.
func (s *Session) Datastore(c *topology.Cluster) (Datastore, error) {
	t, err := s.clientTLS()
	if err != nil {
		return nil, err
	}
	var eps []string
	for _, m := range c.With(versions.Member) {
		eps = append(eps, nodeconf.Datastore(m))
	}
	// Members that are on their way out may be all that answers.
	st, err := s.Store.Read()
	if err != nil {
		return nil, err
	}
	for _, n := range slices.Sorted(maps.Keys(st.Machines)) {
		if _, ok := c.Machine(n); !ok && c.HoldsMember(c.RoleOf(n)) {
			eps = append(eps, nodeconf.Datastore(topology.Machine{Address: st.Machines[n].Address}))
		}
	}
	return s.members(eps, t), nil
}

// Kube is a client of the cluster's API: through the balancer if that answers,
// otherwise to an API server directly.
func (s *Session) Kube(c *topology.Cluster) (*kube.Client, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	if t.Certs["tool/administrator"] == nil {
		return nil, ErrNoTrust
	}
	via := []string{net.JoinHostPort(c.Endpoint.Address.String(), strconv.Itoa(c.Endpoint.Port))}
	for _, m := range c.With(versions.API) {
		if a := APIAddr(m); a != via[0] {
			via = append(via, a)
		}
	}
	var may []kube.Loss
	for _, l := range slices.Concat(s.Decl.MayLose, s.MayLose) {
		sel, err := l.Selector()
		if err != nil {
			return nil, err
		}
		may = append(may, kube.Loss{Namespace: l.Namespace, Pods: sel})
	}
	return s.api(kube.Access{Server: c.Server(), Via: via, CA: trust.Bundle(t.Certs, string(trust.Cluster)), Cert: t.Certs["tool/administrator"], Key: t.Keys["tool/administrator"], MayLose: may})
}

// APIAddr is where the API server of a machine listens, as host:port.
func APIAddr(m topology.Machine) string {
	return net.JoinHostPort(m.Address.String(), strconv.Itoa(nodeconf.APIPort))
}

// ErrNotMet says that a machine was never logged in to, so that its host key
// is not known.
var ErrNotMet = errors.New("there is no machine of that name that was logged in to before")

// Machine returns an open connection to a machine; how to reach it is what the
// site says and what was remembered of its host key.
func (s *Session) Machine(ctx context.Context, name string, port int) (Machine, error) {
	s.mu.Lock()
	m := s.machines[name]
	lease, moved := s.leases[name]
	s.mu.Unlock()
	if m != nil {
		return m, nil
	}
	st, err := s.Store.Read()
	if err != nil {
		return nil, err
	}
	k, known := st.Machines[name]
	if !known || k.Fingerprint == "" {
		return nil, fmt.Errorf("%w: %s; machines lists those that there are", ErrNotMet, name)
	}
	if moved {
		k.Address = lease // the host key stays, and proves that it is the same machine
	}
	sg, err := s.Signer()
	if err != nil {
		return nil, err
	}
	if port == 0 {
		if port, err = s.sshPort(ctx, name); err != nil {
			return nil, err
		}
	}
	t := machine.Target{Name: name, Address: k.Address, Port: port, Fingerprint: k.Fingerprint, Login: sg, Bring: s.Alone && s.SiteFile != nil && s.SiteFile.Kind != declare.SimulatedSite}
	if err := s.listed(&t); err != nil {
		return nil, err
	}
	if m, err = s.reach(ctx, t); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.machines == nil {
		s.machines = map[string]Machine{}
	}
	if old := s.machines[name]; old != nil {
		m.Close()
		return old, nil
	}
	s.machines[name] = m
	return m, nil
}

func (s *Session) sshPort(ctx context.Context, name string) (int, error) {
	inv, err := s.Site.Inventory(ctx)
	if err != nil {
		return 0, err
	}
	for _, m := range inv.Machines {
		if m.Name == name {
			if m.SSHPort == 0 {
				return 0, fmt.Errorf("nobody can log in to machine %s: %s", name, Powerless(m))
			}
			return m.SSHPort, nil
		}
	}
	return 0, fmt.Errorf("the site has no machine %s", name)
}

// HangUp forgets a connection, broken or not.
func (s *Session) HangUp(name string) {
	s.mu.Lock()
	m := s.machines[name]
	delete(s.machines, name)
	s.mu.Unlock()
	if m != nil {
		m.Close()
	}
}
