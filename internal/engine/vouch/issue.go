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
	made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	keep := func(id string, k crypto.Signer) error {
		b, err := trust.EncodeKey(k)
		made.Keys[id], t.Keys[id] = b, b
		return err
	}
	if t.Keys[session.Login] == nil {
		_, k, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return err
		}
		if err := keep(session.Login, k); err != nil {
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
		t.Keys[trust.SecretsKey] = NewSecretsKey()
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
		if cas[trust.Programs], err = programsAuthority(s, c, t, made, now); err != nil {
			return err
		}
	}
	reasons, err := Due(s, c, t, now)
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
		if old := t.Certs[r.ID]; old != nil && r.Machine != "" && t.Certs[Was(r.ID)] == nil {
			made.Certs[Was(r.ID)], made.Keys[Was(r.ID)] = old, t.Keys[r.ID]
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
	s.Hold(t)
	return nil
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
func IssueProgram(s *session.Session, q trust.Request, declared bool, now time.Time) (map[string][]byte, store.Given, error) {
	var g store.Given
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
	g = store.Given{Name: q.Name, Groups: []string{}, From: cert.NotBefore, Until: cert.NotAfter, Serial: cert.SerialNumber.Text(16), Authority: hex.EncodeToString(cert.AuthorityKeyId), Kind: "program"}
	return map[string][]byte{q.Name + ".crt": t.Certs[q.ID], q.Name + ".key": t.Keys[q.ID], string(trust.Programs) + ".crt": trust.Bundle(t.Certs, string(trust.Programs))}, g, nil
}
