package engine

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"net"
	"net/netip"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/kube"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
	"verbund/internal/site"
	"verbund/internal/store"
)

// Session is one cluster as a command works on it.
type Session struct {
	Decl     *declare.Declaration
	SiteFile *declare.Site
	Cat      *versions.Catalogue
	Store    *store.Store
	Site     *site.Client
	Parallel int // how many steps and questions at a time
	// Accepted are the errors that an exception of the declaration accepts.
	Accepted declare.Findings
	// Counts and Asking are counts of pools, and certificates to be made anew, that
	// somebody asks for and that are not remembered yet: they are, once the person
	// has agreed.
	Counts map[string]int
	Asking []string
	// MayLose are pods that a drain may lose, beside those of the declaration.
	MayLose []declare.Loss
	// Alone says that this session holds the cluster's lock: whatever else
	// changes a machine is the rest of a run that was cut off, and it is waited
	// for before the machine is looked at.
	Alone bool

	mu       sync.Mutex
	machines map[string]*machine.Machine
	leases   map[string]netip.Addr // of machines whose address has changed
	trust    *store.Trust
}

// Topology works the declaration out with what earlier runs fixed.
func (s *Session) Topology() (*topology.Cluster, error) { return s.build(nil, nil) }

// topologyAt is the same with addresses that the site has leased since, and without
// those that others have there. Leases that are nil are those that it was told before.
func (s *Session) topologyAt(leases map[string]netip.Addr, taken []netip.Addr) (*topology.Cluster, error) {
	s.mu.Lock()
	if leases != nil {
		s.leases = leases
	}
	leases = s.leases
	s.mu.Unlock()
	return s.build(leases, taken)
}

func (s *Session) build(leases map[string]netip.Addr, taken []netip.Addr) (*topology.Cluster, error) {
	ms, err := s.Store.Machines()
	if err != nil {
		return nil, err
	}
	mem := topology.Memory{Addresses: map[string]netip.Addr{}, Taken: taken}
	for n, m := range ms {
		mem.Addresses[n] = m.Address
	}
	maps.Copy(mem.Addresses, leases)
	if mem.Members, err = s.Store.Members(); err != nil {
		return nil, err
	}
	if mem.Founders, err = s.Store.Founders(); err != nil {
		return nil, err
	}
	if mem.Counts, err = s.Store.Counts(); err != nil {
		return nil, err
	}
	maps.Copy(mem.Counts, s.Counts)
	return topology.Build(s.Decl, s.SiteFile, s.Cat, mem)
}

// login is the ID of the key with which the tool logs in to the site's machines.
const login = "tool/login"

// TrustDue says whether EnsureTrust has anything to make: whoever calls it then has to hold
// the cluster's lock.
func (s *Session) TrustDue(c *topology.Cluster, now time.Time) (bool, error) {
	t, err := s.Store.Trust()
	if err != nil {
		return false, err
	}
	for _, id := range []string{login, trust.ServiceAccountKey, trust.SecretsKey} {
		if t.Keys[id] == nil {
			return true, nil
		}
	}
	for _, a := range trust.Authorities {
		if t.Certs[string(a)] == nil {
			return true, nil
		}
	}
	reasons, err := s.dueNow(c, t, now)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(Certificates(c), func(r trust.Request) bool { return reasons[r.ID] != "" }), nil
}

// EnsureTrust makes what is missing of the cluster's keys and certificates,
// signing on all processors, and saves it before anything uses it.
func (s *Session) EnsureTrust(c *topology.Cluster, now time.Time) error {
	t, err := s.Store.Trust()
	if err != nil {
		return err
	}
	made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	keep := func(id string, k crypto.Signer) error {
		b, err := trust.EncodeKey(k)
		made.Keys[id], t.Keys[id] = b, b
		return err
	}
	if t.Keys[login] == nil {
		_, k, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		if err := keep(login, k); err != nil {
			return err
		}
	}
	if t.Keys[trust.ServiceAccountKey] == nil {
		k, err := NewKey(c.Trust.Tokens)
		if err != nil {
			return err
		}
		if err := keep(trust.ServiceAccountKey, k); err != nil {
			return err
		}
	}
	if t.Keys[trust.SecretsKey] == nil {
		t.Keys[trust.SecretsKey] = newSecretsKey()
		made.Keys[trust.SecretsKey] = t.Keys[trust.SecretsKey]
	}
	cas := map[trust.Authority]*Authority{}
	outside := c.Trust.Keys == "outside"
	for _, a := range trust.Authorities {
		if t.Certs[string(a)] == nil && outside {
			return errors.Join(s.Store.SaveTrust(made), fmt.Errorf("%s: %w", a, ErrNoAuthority))
		}
		if t.Certs[string(a)] == nil {
			k, err := NewKey(c.Trust.Algorithm)
			if err != nil {
				return err
			}
			cert, err := trust.NewAuthority(a, c.Name, time.Duration(c.Trust.Authority), k, now, Serial())
			if err != nil {
				return err
			}
			if err := keep(string(a), k); err != nil {
				return err
			}
			made.Certs[string(a)] = trust.EncodeCert(cert)
			t.Certs[string(a)] = made.Certs[string(a)]
		}
		if outside {
			continue // its certificate is all that there is
		}
		if cas[a], err = readAuthority(t, a); err != nil {
			return err
		}
	}
	if len(c.Trust.Programs) > 0 {
		if cas[trust.Programs], err = s.programsAuthority(c, t, made, now); err != nil {
			return err
		}
	}
	reasons, err := s.dueNow(c, t, now)
	if err != nil {
		return err
	}
	var due []trust.Request
	var served []string
	for _, r := range Certificates(c) {
		if reasons[r.ID] == "" {
			continue
		}
		due = append(due, r)
		if r.Name != "kubelet-client" || !c.Trust.OwnRenewal() { // that one is done when the kubelet's own is gone, too
			served = append(served, r.ID)
		}
		if old := t.Certs[r.ID]; old != nil && r.Machine != "" && t.Certs[was(r.ID)] == nil {
			made.Certs[was(r.ID)], made.Keys[was(r.ID)] = old, t.Keys[r.ID]
		}
	}
	if outside && len(due) > 0 {
		o := &Outside{}
		for _, r := range due {
			if r.Authority != trust.Programs {
				o.Missing = append(o.Missing, r.ID)
			}
		}
		if len(o.Missing) > 0 {
			return errors.Join(s.Store.SaveTrust(made), o)
		}
	}
	if err := Issue(due, cas, now, made); err != nil {
		return err
	}
	if len(made.Keys)+len(made.Certs) > 0 {
		if err := s.Store.SaveTrust(made); err != nil {
			return err
		}
	}
	// What was asked for is forgotten when it is there: not before.
	if err := s.Store.SaveAsked(served, false); err != nil {
		return err
	}
	s.Asking = slices.DeleteFunc(s.Asking, func(id string) bool { return slices.Contains(served, id) })
	maps.Copy(t.Keys, made.Keys)
	maps.Copy(t.Certs, made.Certs)
	s.hold(t)
	return nil
}

// programsAuthority makes the authority of other programs, if there is none.
func (s *Session) programsAuthority(c *topology.Cluster, t, made *store.Trust, now time.Time) (*Authority, error) {
	id := string(trust.Programs)
	if t.Certs[id] == nil {
		k, err := NewKey(c.Trust.Algorithm)
		if err != nil {
			return nil, err
		}
		cert, err := trust.NewAuthority(trust.Programs, c.Name, time.Duration(c.Trust.Authority), k, now, Serial())
		if err != nil {
			return nil, err
		}
		b, err := trust.EncodeKey(k)
		if err != nil {
			return nil, err
		}
		made.Keys[id], made.Certs[id] = b, trust.EncodeCert(cert)
		t.Keys[id], t.Certs[id] = made.Keys[id], made.Certs[id]
	}
	return readAuthority(t, trust.Programs)
}

// Authority is an authority's certificate with its key.
type Authority struct {
	Cert *x509.Certificate
	Key  crypto.Signer
}

func readAuthority(t *store.Trust, a trust.Authority) (*Authority, error) {
	cert, err := trust.DecodeCert(t.Certs[string(a)])
	if err != nil {
		return nil, fmt.Errorf("%s in the store: %w", a, err)
	}
	if t.Keys[string(a)] == nil {
		return nil, fmt.Errorf("the key of %s is outside: nothing can be signed with it here", a)
	}
	k, err := trust.DecodeKey(t.Keys[string(a)])
	if err != nil {
		return nil, fmt.Errorf("key of %s in the store: %w", a, err)
	}
	return &Authority{cert, k}, nil
}

// NewKey makes a private key of one of the declared algorithms.
func NewKey(algorithm string) (crypto.Signer, error) {
	switch algorithm {
	case "ecdsa-p256":
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	case "ecdsa-p384":
		return ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	case "rsa-2048", "rsa-3072", "rsa-4096":
		bits, err := strconv.Atoi(strings.TrimPrefix(algorithm, "rsa-"))
		if err != nil {
			return nil, err
		}
		return rsa.GenerateKey(rand.Reader, bits)
	case "ed25519":
		_, k, err := ed25519.GenerateKey(rand.Reader)
		return k, err
	}
	return nil, fmt.Errorf("there is no algorithm %q for keys", algorithm)
}

// newSecretsKey makes a key with which API servers encrypt Secrets.
func newSecretsKey() store.Secret {
	b := make([]byte, 32)
	rand.Read(b)
	return b
}

// Serial is a random serial number of 128 bits.
func Serial() *big.Int {
	b := make([]byte, 16)
	rand.Read(b)
	b[0] &= 0x7f // RFC 5280 wants a positive number
	return new(big.Int).SetBytes(b)
}

// Issue makes keys and signs certificates for requests, on all processors.
func Issue(rs []trust.Request, cas map[trust.Authority]*Authority, now time.Time, into *store.Trust) error {
	keys, certs := make([]store.Secret, len(rs)), make([][]byte, len(rs))
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, r := range rs {
		g.Go(func() error {
			k, err := NewKey(r.Algorithm)
			if err != nil {
				return err
			}
			if certs[i], err = trust.SignPEM(r, k.Public(), cas[r.Authority].Cert, cas[r.Authority].Key, now, Serial()); err != nil {
				return err
			}
			keys[i], err = trust.EncodeKey(k)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, r := range rs {
		into.Keys[r.ID], into.Certs[r.ID] = keys[i], certs[i]
	}
	return nil
}

// Trust reads the cluster's keys and certificates, once.
func (s *Session) Trust() (*store.Trust, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.trust == nil {
		t, err := s.Store.Trust()
		if err != nil {
			return nil, err
		}
		s.trust = t
	}
	return s.trust, nil
}

// hold lets every step see keys and certificates that were saved, in place of those that
// were read before.
func (s *Session) hold(t *store.Trust) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.trust = t
}

// ErrNoTrust says that certificates have not been made yet.
var ErrNoTrust = errors.New("the cluster has no certificates yet; converge or render makes them")

// Content gives a rendered file its bytes.
func Content(f nodeconf.File, t *store.Trust) ([]byte, error) {
	switch f.Kind {
	case nodeconf.Cert:
		if c := t.Certs[f.From]; c != nil {
			return c, nil
		}
	case nodeconf.Key:
		if k := t.Keys[f.From]; k != nil {
			return k, nil
		}
	case nodeconf.Bundle:
		if t.Certs[f.From] != nil {
			return trust.Bundle(t.Certs, f.From), nil
		}
	case nodeconf.PublicKey:
		if t.Keys[f.From] != nil {
			var out []byte
			for _, id := range trust.Trusted(t.Keys, f.From) {
				sg, err := trust.DecodeKey(t.Keys[id])
				if err != nil {
					return nil, err
				}
				b, err := trust.EncodePublic(sg.Public())
				if err != nil {
					return nil, err
				}
				out = append(out, b...)
			}
			return out, nil
		}
	case nodeconf.SecretsConfig:
		if t.Keys[f.From] != nil {
			var keys [][]byte
			for _, id := range trust.Trusted(t.Keys, f.From) {
				keys = append(keys, t.Keys[id])
			}
			return trust.SecretsConfig(keys), nil
		}
	default:
		return []byte(f.Content), nil
	}
	return nil, fmt.Errorf("%s: %w", f.From, ErrNoTrust)
}

// place moves a slotted file into a slot.
func place(f nodeconf.File, slot string) string {
	if rest, ok := strings.CutPrefix(f.Path, nodeconf.Active); ok {
		return protocol.SlotDir + slot + "/" + rest
	}
	return f.Path
}

// files renders a machine's files with their bytes, slotted ones into a slot.
func (s *Session) files(c *topology.Cluster, m topology.Machine, o nodeconf.Options, slot string) ([]protocol.File, []nodeconf.File, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, nil, err
	}
	rendered := nodeconf.Render(c, m, o)
	out := make([]protocol.File, len(rendered))
	var unmade error
	for i, f := range rendered {
		b, err := Content(f, t)
		if errors.Is(err, ErrNoTrust) {
			unmade = err
		} else if err != nil {
			return nil, nil, err
		}
		out[i] = protocol.File{Path: place(f, slot), Mode: f.Mode, Content: b}
	}
	return out, rendered, unmade
}

// Rendered is one file of a machine with its bytes.
type Rendered struct {
	nodeconf.File
	Bytes []byte
}

// RenderAll renders the files of every machine on all processors and hands each
// machine's to each, which is called from several goroutines at once. It ends with
// the first error; what is yet to be made is one: ErrNoTrust.
func RenderAll(c *topology.Cluster, t *store.Trust, each func(topology.Machine, []Rendered) error) error {
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, m := range c.Machines {
		g.Go(func() error {
			fs := nodeconf.Render(c, m, nodeconf.Options{})
			out := make([]Rendered, len(fs))
			for i, f := range fs {
				b, err := Content(f, t)
				if err != nil {
					return fmt.Errorf("machine %s, %s: %w", m.Name, f.Path, err)
				}
				out[i] = Rendered{f, b}
			}
			return each(m, out)
		})
	}
	return g.Wait()
}

// digest is what the agent says of a file with this content and mode.
func digest(f protocol.File) string {
	sum := sha256.Sum256(f.Content)
	return fmt.Sprintf("%s %o", hex.EncodeToString(sum[:]), f.Mode.Perm())
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
func (s *Session) Datastore(c *topology.Cluster) (*datastore.Client, error) {
	t, err := s.clientTLS()
	if err != nil {
		return nil, err
	}
	var eps []string
	for _, m := range c.With(versions.Member) {
		eps = append(eps, nodeconf.Datastore(m))
	}
	// Members that are on their way out may be all that answers.
	ms, err := s.Store.Machines()
	if err != nil {
		return nil, err
	}
	for _, n := range slices.Sorted(maps.Keys(ms)) {
		if _, ok := c.Machine(n); !ok && c.HoldsMember(c.RoleOf(n)) {
			eps = append(eps, nodeconf.Datastore(topology.Machine{Address: ms[n].Address}))
		}
	}
	return datastore.New(eps, t), nil
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
		if a := apiAddr(m); a != via[0] {
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
	return kube.New(kube.Access{Server: c.Server(), Via: via, CA: trust.Bundle(t.Certs, string(trust.Cluster)), Cert: t.Certs["tool/administrator"], Key: t.Keys["tool/administrator"], MayLose: may})
}

func apiAddr(m topology.Machine) string {
	return net.JoinHostPort(m.Address.String(), strconv.Itoa(nodeconf.APIPort))
}

// signer is the key with which the tool logs in.
func (s *Session) signer() (ssh.Signer, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	if t.Keys[login] == nil {
		return nil, ErrNoTrust
	}
	k, err := trust.DecodeKey(t.Keys[login])
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(k)
}

// LoginKey is the private key with which one logs in to the machines, in the
// form that the ordinary ssh client reads.
func (s *Session) LoginKey() ([]byte, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	if t.Keys[login] == nil {
		return nil, ErrNoTrust
	}
	k, err := trust.DecodeKey(t.Keys[login])
	if err != nil {
		return nil, err
	}
	b, err := ssh.MarshalPrivateKey(k, "verbund")
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(b), nil
}

// ErrNotMet says that a machine was never logged in to, so that its host key
// is not known.
var ErrNotMet = errors.New("there is no machine of that name that was logged in to before")

// Machine returns an open connection to a machine; how to reach it is what the
// site says and what was remembered of its host key.
func (s *Session) Machine(ctx context.Context, name string, port int) (*machine.Machine, error) {
	s.mu.Lock()
	m := s.machines[name]
	lease, moved := s.leases[name]
	s.mu.Unlock()
	if m != nil {
		return m, nil
	}
	k, known, err := s.Store.Machine(name)
	if err != nil {
		return nil, err
	}
	if !known || k.Fingerprint == "" {
		return nil, fmt.Errorf("%w: %s; machines lists those that there are", ErrNotMet, name)
	}
	if moved {
		k.Address = lease // the host key stays, and proves that it is the same machine
	}
	sg, err := s.signer()
	if err != nil {
		return nil, err
	}
	if port == 0 {
		if port, err = s.sshPort(ctx, name); err != nil {
			return nil, err
		}
	}
	if m, err = machine.Dial(ctx, machine.Target{Name: name, Address: k.Address, Port: port, Fingerprint: k.Fingerprint, Login: sg}); err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.machines == nil {
		s.machines = map[string]*machine.Machine{}
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
				return 0, fmt.Errorf("nobody can log in to machine %s: %s", name, powerless(m))
			}
			return m.SSHPort, nil
		}
	}
	return 0, fmt.Errorf("the site has no machine %s", name)
}

// hangUp forgets a connection, broken or not.
func (s *Session) hangUp(name string) {
	s.mu.Lock()
	m := s.machines[name]
	delete(s.machines, name)
	s.mu.Unlock()
	if m != nil {
		m.Close()
	}
}

// Close hangs up everywhere.
func (s *Session) Close() {
	s.mu.Lock()
	ms := s.machines
	s.machines = nil
	s.mu.Unlock()
	for _, m := range ms {
		m.Close()
	}
}

// Person signs a certificate for a person; it is not kept.
func (s *Session) Person(q trust.Request) (cert, key, ca []byte, err error) {
	t, err := s.Trust()
	if err != nil {
		return nil, nil, nil, err
	}
	if t.Certs[string(trust.Cluster)] == nil {
		return nil, nil, nil, ErrNoTrust
	}
	a, err := readAuthority(t, trust.Cluster)
	if err != nil {
		return nil, nil, nil, err
	}
	made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	if err := Issue([]trust.Request{q}, map[trust.Authority]*Authority{trust.Cluster: a}, time.Now(), made); err != nil {
		return nil, nil, nil, err
	}
	return made.Certs[q.ID], made.Keys[q.ID], trust.Bundle(t.Certs, string(trust.Cluster)), nil
}

// IssueProgram gives out the certificate of another program, with its key and
// its authority, by file name: one that is kept in the store, or one that is
// issued once.
func (s *Session) IssueProgram(q trust.Request, declared bool, now time.Time) (map[string][]byte, store.Given, error) {
	var g store.Given
	c, err := s.Topology()
	if err != nil {
		return nil, g, err
	}
	if err := s.EnsureTrust(c, now); err != nil {
		return nil, g, err
	}
	t, err := s.Trust()
	if err != nil {
		return nil, g, err
	}
	made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	if !declared {
		ca, err := s.programsAuthority(c, t, made, now)
		if err != nil {
			return nil, g, err
		}
		if err := s.Store.SaveTrust(made); err != nil {
			return nil, g, err
		}
		if err := Issue([]trust.Request{q}, map[trust.Authority]*Authority{trust.Programs: ca}, now, made); err != nil {
			return nil, g, err
		}
		t = &store.Trust{Keys: made.Keys, Certs: map[string][]byte{q.ID: made.Certs[q.ID], string(trust.Programs): trust.EncodeCert(ca.Cert)}}
	}
	cert, err := trust.DecodeCert(t.Certs[q.ID])
	if err != nil {
		return nil, g, err
	}
	g = store.Given{Name: q.Name, Groups: []string{}, From: cert.NotBefore, Until: cert.NotAfter, Serial: cert.SerialNumber.Text(16), Authority: hex.EncodeToString(cert.AuthorityKeyId), Kind: "program"}
	return map[string][]byte{q.Name + ".crt": t.Certs[q.ID], q.Name + ".key": t.Keys[q.ID], string(trust.Programs) + ".crt": trust.Bundle(t.Certs, string(trust.Programs))}, g, nil
}
