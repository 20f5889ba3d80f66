package vouch

import (
	"crypto/x509"
	"fmt"
	"slices"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// TokenLife is how long a service-account token lives at most: what the API
// servers are told.
const TokenLife = time.Hour

// ProofOf is where what is needed to prove that something is not trusted any
// more is kept until then: a client's pair that the old authority signed, and
// that authority's certificate; of service-account, the old key.
func ProofOf(id string) string { return "proof/" + id }

func isAuthority(id string) bool { return slices.Contains(trust.Authorities, trust.Authority(id)) }

// fresh makes what comes in the place of something.
func fresh(s *session.Session, c *topology.Cluster, id string, at time.Time) (key store.Secret, cert []byte, err error) {
	switch id {
	case trust.SecretsKey:
		return NewSecretsKey(), nil, nil
	case trust.ServiceAccountKey:
		k, err := NewKey(c.Trust.Tokens)
		if err != nil {
			return nil, nil, err
		}
		key, err = trust.EncodeKey(k)
		return key, nil, err
	}
	k, err := NewKey(c.Trust.Algorithm)
	if err != nil {
		return nil, nil, err
	}
	ca, err := trust.NewAuthority(trust.Authority(id), c.Name, time.Duration(c.Trust.Authority), k, at, Serial())
	if err != nil {
		return nil, nil, err
	}
	key, err = trust.EncodeKey(k)
	return key, trust.EncodeCert(ca), err
}

// probe keeps what the end of something that is about to go will be proven with.
// An authority signs a pair, which is nobody's: it has no group and no right. The
// key of tokens is kept itself, since a token signed now would end too soon.
func probe(c *topology.Cluster, t *store.Trust, id string, at time.Time, into *store.Trust) error {
	if id == trust.ServiceAccountKey {
		into.Keys[ProofOf(id)] = t.Keys[id]
		return nil
	}
	if !isAuthority(id) {
		return nil
	}
	into.Certs[ProofOf(id)+".authority"] = t.Certs[id]
	if t.Keys[id] == nil {
		// Its key is outside, so that it signs nothing here: one that it has signed
		// before does as well.
		old := signedBefore(c, trust.Authority(id))
		into.Certs[ProofOf(id)], into.Keys[ProofOf(id)] = t.Certs[old], t.Keys[old]
		return nil
	}
	ca, err := readAuthority(t, trust.Authority(id))
	if err != nil {
		return err
	}
	q := trust.Request{ID: ProofOf(id), Authority: trust.Authority(id), CommonName: "verbund:proof", Client: true, Life: min(30*24*time.Hour, ca.Cert.NotAfter.Sub(at)), Algorithm: "ecdsa-p256"}
	if id == string(trust.FrontProxy) {
		q.CommonName = trust.FrontProxyClient // another one would be refused for its name
	}
	if id == string(trust.Datastore) {
		q.DNS = []string{trust.DatastoreName(c, trust.DatastoreClient), trust.DatastoreName(c, trust.DatastorePeer)}
	}
	return Issue([]trust.Request{q}, map[trust.Authority]*Authority{q.Authority: ca}, at, into)
}

// signedBefore is a client of an authority, by ID: that of the tool, or of the
// first API server.
func signedBefore(c *topology.Cluster, a trust.Authority) string {
	for _, q := range trust.ToolRequests(c) {
		if q.Authority == a {
			return q.ID
		}
	}
	return c.With(versions.API)[0].Name + "/front-proxy"
}

// NextPass moves a replacement on by one pass: what is kept changes, and what
// lies on machines follows with the run after it. With now the old one is
// distrusted in the first pass already.
func NextPass(s *session.Session, c *topology.Cluster, id string, now bool, at time.Time) (trust.Replacement, error) {
	st, err := s.Store.Read()
	if err != nil {
		return trust.Replacement{}, err
	}
	r := st.Replacements[id]
	t, err := s.Trust()
	if err != nil {
		return r, err
	}
	add, gone := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}, []string{}
	put := func(id string, key store.Secret, cert []byte) {
		if key != nil {
			add.Keys[id] = key
		}
		if cert != nil {
			add.Certs[id] = cert
		}
	}
	switch {
	case r.Pass == trust.NoPass:
		if r.Began = at; isAuthority(id) && c.Trust.Keys == "outside" {
			return r, fmt.Errorf("the keys of the authorities are outside, and so is the next one: bring its certificate with verbund trust adopt %s --certificate FILE, and run this again", id)
		}
		key, cert, err := fresh(s, c, id, at)
		if err != nil {
			return r, err
		}
		if r.Pass = trust.Both; now {
			r.Pass, r.Now = trust.Drop, true
			if err := probe(c, t, id, at, add); err != nil {
				return r, err
			}
			put(id, key, cert)
		} else {
			put(trust.NextID(id), key, cert)
		}
	case r.Pass == trust.Both:
		r.Pass = trust.Reissue
		if err := probe(c, t, id, at, add); err != nil {
			return r, err
		}
		put(id, t.Keys[trust.NextID(id)], t.Certs[trust.NextID(id)])
		if isAuthority(id) {
			put(trust.OldID(id), nil, t.Certs[id]) // nobody needs its key any more
		} else {
			put(trust.OldID(id), t.Keys[id], nil)
		}
		gone = []string{trust.NextID(id), id} // the key of the old one goes, also where that of the new one is outside
	case r.Pass == trust.Reissue:
		r.Pass = trust.Drop
		gone = []string{trust.OldID(id)}
	default:
		return r, fmt.Errorf("the replacement of %s is in its last pass", id)
	}
	r.Since, r.Done = at, time.Time{}
	return r, keepReplacement(s, id, &r, t, add, gone...)
}

// keepReplacement saves a pass with what it changes, all or none; nil forgets it.
func keepReplacement(s *session.Session, id string, r *trust.Replacement, t, add *store.Trust, gone ...string) error {
	err := s.Store.UpdateWith(store.TrustChange{Add: add, Gone: store.Gone(gone...)}, func(st *memory.State) error {
		if delete(st.Replacements, id); r != nil {
			st.Replacements[id] = *r
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.SeeTrust(t, add, gone...)
	return nil
}

// PassDone remembers that a pass was carried out everywhere.
func PassDone(s *session.Session, id string, r trust.Replacement, at time.Time) (trust.Replacement, error) {
	r.Done = at
	return r, s.Remember(func(st *memory.State) { st.Replacements[id] = r })
}

// Replaced ends a replacement: nothing of it is kept.
func Replaced(s *session.Session, id string) error {
	t, err := s.Trust()
	if err != nil {
		return err
	}
	return keepReplacement(s, id, nil, t, &store.Trust{}, ProofOf(id), ProofOf(id)+".authority")
}

// TokenKey is the name by which tokens call the key that signs them now.
func TokenKey(s *session.Session) (string, error) {
	t, err := s.Trust()
	if err != nil {
		return "", err
	}
	key, err := trust.DecodeKey(t.Keys[trust.ServiceAccountKey])
	if err != nil {
		return "", err
	}
	return trust.KeyName(key.Public())
}

// PodTokens is where kubelets keep the tokens that they mount into pods.
const PodTokens = "/var/lib/kubelet/pods/*/volumes/kubernetes.io~projected/*/token"

// Resign makes a person's certificate anew under the authority that signs now:
// the same name and groups, until the same moment. One that the present
// authority signed, or that has ended, is left.
func Resign(s *session.Session, old *x509.Certificate) (cert, key []byte, err error) {
	t, err := s.Trust()
	if err != nil {
		return nil, nil, err
	}
	ca, err := readAuthority(t, trust.Cluster)
	if err != nil {
		return nil, nil, err
	}
	left := time.Until(old.NotAfter)
	if old.CheckSignatureFrom(ca.Cert) == nil || left <= 0 {
		return nil, nil, nil
	}
	q := trust.Access(old.Subject.CommonName, old.Subject.Organization, left)
	made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	if err := Issue([]trust.Request{q}, map[trust.Authority]*Authority{trust.Cluster: ca}, time.Now(), made); err != nil {
		return nil, nil, err
	}
	return made.Certs[q.ID], made.Keys[q.ID], nil
}
