package vouch

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"math/big"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"verbund/internal/core/memory"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Lacking says whether Ensure has anything to make: whoever calls it then has to hold
// the cluster's lock.
func Lacking(s *session.Session, c *topology.Cluster, now time.Time) (bool, error) {
	t, err := s.Store.Trust()
	if err != nil {
		return false, err
	}
	for _, id := range []string{session.Login, trust.ServiceAccountKey, trust.SecretsKey} {
		if t.Keys[id] == nil {
			return true, nil
		}
	}
	for _, a := range trust.Authorities {
		if t.Certs[string(a)] == nil {
			return true, nil
		}
	}
	reasons, err := Due(s, c, t, now)
	if err != nil {
		return false, err
	}
	return slices.ContainsFunc(Certificates(c), func(r trust.Request) bool { return reasons[r.ID] != "" }), nil
}

// Ensure makes what is missing of the cluster's keys and certificates,
// signing on all processors, and saves it before anything uses it.
func Ensure(s *session.Session, c *topology.Cluster, now time.Time) error {
	t, err := s.Store.Trust()
	if err != nil {
		return err
	}
	m := &making{s: s, c: c, now: now, t: t, made: &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}}
	if err := m.keys(); err != nil {
		return err
	}
	cas, err := m.authorities()
	if err != nil {
		return err
	}
	served, err := m.certificates(cas)
	if err != nil {
		return err
	}
	if len(m.made.Keys)+len(m.made.Certs)+len(served) > 0 {
		// What was asked for is forgotten when it is there: not before.
		err := s.Store.UpdateWith(store.TrustChange{Add: m.made}, func(st *memory.State) error {
			st.Renewed(served...)
			return nil
		})
		if err != nil {
			return err
		}
	}
	s.Asking = slices.DeleteFunc(s.Asking, func(id string) bool { return slices.Contains(served, id) })
	maps.Copy(t.Keys, m.made.Keys)
	maps.Copy(t.Certs, m.made.Certs)
	s.Hold(t)
	return nil
}

// making is what is made of a cluster's keys and certificates: t is what there is, with
// authorities and keys that are made now, made is what is new.
type making struct {
	s       *session.Session
	c       *topology.Cluster
	now     time.Time
	t, made *store.Trust
}

func (m *making) keep(id string, k crypto.Signer) error {
	b, err := trust.EncodeKey(k)
	m.made.Keys[id], m.t.Keys[id] = b, b
	return err
}

// keys makes those that certify nothing: to log in with, of pods' tokens, of Secrets.
func (m *making) keys() error {
	if m.t.Keys[session.Login] == nil {
		_, k, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		if err := m.keep(session.Login, k); err != nil {
			return err
		}
	}
	if m.t.Keys[trust.ServiceAccountKey] == nil {
		k, err := NewKey(m.c.Trust.Tokens)
		if err != nil {
			return err
		}
		if err := m.keep(trust.ServiceAccountKey, k); err != nil {
			return err
		}
	}
	if m.t.Keys[trust.SecretsKey] == nil {
		m.t.Keys[trust.SecretsKey] = NewSecretsKey()
		m.made.Keys[trust.SecretsKey] = m.t.Keys[trust.SecretsKey]
	}
	return nil
}

// outside says that the authorities' keys are elsewhere: their certificates are all that
// there is here.
func (m *making) outside() bool { return m.c.Trust.Keys == "outside" }

// authorities makes those that are missing, and reads those that sign.
func (m *making) authorities() (map[trust.Authority]*Authority, error) {
	cas := map[trust.Authority]*Authority{}
	var err error
	for _, a := range trust.Authorities {
		if m.t.Certs[string(a)] == nil && m.outside() {
			return nil, errors.Join(m.s.Store.SaveTrust(m.made), fmt.Errorf("%s: %w", a, ErrNoAuthority))
		}
		if m.t.Certs[string(a)] == nil {
			k, err := NewKey(m.c.Trust.Algorithm)
			if err != nil {
				return nil, err
			}
			cert, err := trust.NewAuthority(a, m.c.Name, time.Duration(m.c.Trust.Authority), k, m.now, Serial())
			if err != nil {
				return nil, err
			}
			if err := m.keep(string(a), k); err != nil {
				return nil, err
			}
			m.made.Certs[string(a)] = trust.EncodeCert(cert)
			m.t.Certs[string(a)] = m.made.Certs[string(a)]
		}
		if m.outside() {
			continue
		}
		if cas[a], err = readAuthority(m.t, a); err != nil {
			return nil, err
		}
	}
	if len(m.c.Trust.Programs) > 0 {
		if cas[trust.Programs], err = programsAuthority(m.s, m.c, m.t, m.made, m.now); err != nil {
			return nil, err
		}
	}
	return cas, nil
}

// certificates issues what is due; the pair before is kept until the new one has shown that
// it works. served are those that nobody has to ask for any more.
func (m *making) certificates(cas map[trust.Authority]*Authority) (served []string, err error) {
	reasons, err := Due(m.s, m.c, m.t, m.now)
	if err != nil {
		return nil, err
	}
	var due []trust.Request
	for _, r := range Certificates(m.c) {
		if reasons[r.ID] == "" {
			continue
		}
		due = append(due, r)
		if r.Name != "kubelet-client" || !m.c.Trust.OwnRenewal() { // that one is done when the kubelet's own is gone, too
			served = append(served, r.ID)
		}
		if old := m.t.Certs[r.ID]; old != nil && r.Machine != "" && m.t.Certs[trust.WasID(r.ID)] == nil {
			m.made.Certs[trust.WasID(r.ID)], m.made.Keys[trust.WasID(r.ID)] = old, m.t.Keys[r.ID]
		}
	}
	if m.outside() {
		o := &Outside{}
		for _, r := range due {
			if r.Authority != trust.Programs {
				o.Missing = append(o.Missing, r.ID)
			}
		}
		if len(o.Missing) > 0 {
			return nil, errors.Join(m.s.Store.SaveTrust(m.made), o)
		}
	}
	return served, Issue(due, cas, m.now, m.made)
}

// programsAuthority makes the authority of other programs, if there is none.
func programsAuthority(s *session.Session, c *topology.Cluster, t, made *store.Trust, now time.Time) (*Authority, error) {
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

// NewSecretsKey makes a key with which API servers encrypt Secrets.
func NewSecretsKey() store.Secret {
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

// Shorten makes a certificate of the cluster anew, which ends after life; one that is about to
// end is what the next run is to renew.
func Shorten(s *session.Session, c *topology.Cluster, id string, life time.Duration, now time.Time) error {
	rs := Certificates(c)
	i := slices.IndexFunc(rs, func(q trust.Request) bool { return q.ID == id })
	if i < 0 {
		return fmt.Errorf("the tool issues no certificate %s; verbund trust list shows those that there are", id)
	}
	t, err := s.Trust()
	if err != nil {
		return err
	}
	q := rs[i]
	q.Life = life
	a, err := readAuthority(t, q.Authority)
	if err != nil {
		return err
	}
	made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	if err := Issue([]trust.Request{q}, map[trust.Authority]*Authority{q.Authority: a}, now, made); err != nil {
		return err
	}
	return s.ChangeTrust(t, made)
}

// Person signs a certificate for a person; it is not kept.
func Person(s *session.Session, q trust.Request) (cert, key, ca []byte, err error) {
	t, err := s.Trust()
	if err != nil {
		return nil, nil, nil, err
	}
	if t.Certs[string(trust.Cluster)] == nil {
		return nil, nil, nil, session.ErrNoTrust
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
func IssueProgram(s *session.Session, q trust.Request, declared bool, now time.Time) (map[string][]byte, memory.Given, error) {
	var g memory.Given
	c, err := s.Topology()
	if err != nil {
		return nil, g, err
	}
	if err := Ensure(s, c, now); err != nil {
		return nil, g, err
	}
	t, err := s.Trust()
	if err != nil {
		return nil, g, err
	}
	made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	if !declared {
		ca, err := programsAuthority(s, c, t, made, now)
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
	g = memory.Given{Name: q.Name, Groups: []string{}, From: cert.NotBefore, Until: cert.NotAfter, Serial: cert.SerialNumber.Text(16), Authority: hex.EncodeToString(cert.AuthorityKeyId), Kind: "program"}
	return map[string][]byte{q.Name + ".crt": t.Certs[q.ID], q.Name + ".key": t.Keys[q.ID], string(trust.Programs) + ".crt": trust.Bundle(t.Certs, string(trust.Programs))}, g, nil
}
