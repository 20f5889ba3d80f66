package vouch

import (
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Outside says that certificates have to be signed by somebody outside.
type Outside struct{ Missing []string }

func (o *Outside) Error() string {
	few := strings.Join(o.Missing[:min(3, len(o.Missing))], ", ")
	if more := len(o.Missing) - 3; more > 0 {
		few += fmt.Sprintf(" and %d more", more)
	}
	return fmt.Sprintf("the keys of the authorities are outside, and these have to be signed there: %s; write the requests with trust request, and bring the answers with trust accept", few)
}

// ErrNoAuthority says that an authority whose key is outside was not brought.
var ErrNoAuthority = errors.New("its certificate is not here yet; bring it with: verbund trust adopt AUTHORITY --certificate FILE")

// pendingKey is where the key of a request lies that waits for its answer.
func pendingKey(id string) string { return "pending/" + id }

// Adopt takes an authority that somebody else made: with its key, or without
// when that stays outside. In a living cluster it comes as the next one, and is
// taken up in the passes of a replacement.
func Adopt(s *session.Session, c *topology.Cluster, id string, cert *x509.Certificate, key crypto.Signer, founded bool, at time.Time) error {
	if !isAuthority(id) {
		return fmt.Errorf("there is no authority %s; choose one of %v", id, trust.Authorities)
	}
	if err := trust.CheckAuthority(cert, key, time.Duration(c.Trust.Leaf), at); err != nil {
		return err
	}
	add := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	t, err := s.Trust()
	if err != nil {
		return err
	}
	into := id
	if founded {
		into = trust.NextID(id)
	}
	if key != nil {
		if add.Keys[into], err = trust.EncodeKey(key); err != nil {
			return err
		}
	}
	add.Certs[into] = trust.EncodeCert(cert)
	if !founded {
		var gone []string
		if key == nil {
			gone = append(gone, id)
		}
		return s.ChangeTrust(t, add, gone...)
	}
	st, err := s.Store.Read()
	if err != nil {
		return err
	}
	if r, under := st.Replacements[id]; under {
		return fmt.Errorf("the replacement of %s is in pass %d; finish that one first", id, r.Pass)
	}
	return keepReplacement(s, id, &trust.Replacement{Pass: trust.Both, Began: at, Since: at}, t, add)
}

// Waiting lists the certificates that have to be signed outside, and why.
func Waiting(s *session.Session, c *topology.Cluster, now time.Time) ([]trust.Request, map[string]string, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, nil, err
	}
	for _, a := range trust.Authorities {
		if t.Certs[string(a)] == nil {
			return nil, nil, fmt.Errorf("%s: %w", a, ErrNoAuthority)
		}
	}
	reasons, err := Due(s, c, t, now)
	if err != nil {
		return nil, nil, err
	}
	var out []trust.Request
	for _, q := range Certificates(c) {
		if reasons[q.ID] != "" && q.Authority != trust.Programs {
			out = append(out, q)
		}
	}
	return out, reasons, nil
}

// SigningRequests makes the keys of what is to be signed outside, keeps them,
// and writes the requests by ID.
func SigningRequests(s *session.Session, c *topology.Cluster, now time.Time) (map[string][]byte, error) {
	due, _, err := Waiting(s, c, now)
	if err != nil {
		return nil, err
	}
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	add := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	out := map[string][]byte{}
	for _, q := range due {
		var key crypto.Signer
		if old := t.Keys[pendingKey(q.ID)]; old != nil {
			if key, err = trust.DecodeKey(old); err != nil {
				return nil, err
			}
		}
		if key == nil || trust.AlgorithmOf(key.Public()) != q.Algorithm {
			if key, err = NewKey(q.Algorithm); err != nil {
				return nil, err
			}
			if add.Keys[pendingKey(q.ID)], err = trust.EncodeKey(key); err != nil {
				return nil, err
			}
		}
		if out[q.ID], err = trust.SigningRequest(q, key); err != nil {
			return nil, err
		}
	}
	// Keys are on disk before anybody signs for them.
	return out, s.ChangeTrust(t, add)
}

// Signed is what came of a certificate that was brought from outside.
type Signed struct {
	ID     string   `json:"id"` // empty when it belongs to no request
	File   string   `json:"file"`
	Wrong  []string `json:"wrong,omitempty"`
	Serial string   `json:"serial,omitempty"`
}

// Accept takes the certificates that somebody outside has signed: those that
// are right are kept, each with its key; the others are refused by name.
func Accept(s *session.Session, c *topology.Cluster, files map[string][]byte, now time.Time) ([]Signed, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	cas := map[trust.Authority]*x509.Certificate{}
	for _, a := range trust.Authorities {
		if cas[a], err = trust.DecodeCert(t.Certs[string(a)]); err != nil {
			return nil, fmt.Errorf("%s: %w", a, ErrNoAuthority)
		}
	}
	type waiting struct {
		q      trust.Request
		public crypto.PublicKey
	}
	var open []waiting
	for _, q := range Certificates(c) {
		if b := t.Keys[pendingKey(q.ID)]; b != nil {
			k, err := trust.DecodeKey(b)
			if err != nil {
				return nil, err
			}
			open = append(open, waiting{q, k.Public()})
		}
	}
	add, gone := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}, []string{}
	out := []Signed{}
	for file, b := range files {
		for rest := b; ; {
			var p *pem.Block
			if p, rest = pem.Decode(rest); p == nil {
				break
			}
			if p.Type != "CERTIFICATE" {
				continue
			}
			cert, err := x509.ParseCertificate(p.Bytes)
			if err != nil {
				out = append(out, Signed{File: file, Wrong: []string{"it cannot be read: " + err.Error()}})
				continue
			}
			if cert.IsCA {
				continue // the chain, which lies here already
			}
			i := slices.IndexFunc(open, func(w waiting) bool { return sameKey(cert, w.public) })
			if i < 0 {
				out = append(out, Signed{File: file, Serial: cert.SerialNumber.Text(16), Wrong: []string{fmt.Sprintf("no request waits for a certificate with its key (%s)", cert.Subject)}})
				continue
			}
			q := open[i].q
			a := Signed{ID: q.ID, File: file, Serial: cert.SerialNumber.Text(16), Wrong: trust.CheckAnswer(cert, q, open[i].public, cas[q.Authority], now)}
			if out = append(out, a); len(a.Wrong) > 0 {
				continue
			}
			if old := t.Certs[q.ID]; old != nil && q.Machine != "" {
				add.Certs[trust.WasID(q.ID)], add.Keys[trust.WasID(q.ID)] = old, t.Keys[q.ID]
			}
			add.Certs[q.ID], add.Keys[q.ID] = trust.EncodeCert(cert), t.Keys[pendingKey(q.ID)]
			gone = append(gone, pendingKey(q.ID))
		}
	}
	slices.SortFunc(out, func(a, b Signed) int { return strings.Compare(a.File+a.ID, b.File+b.ID) })
	if err := s.ChangeTrust(t, add, gone...); err != nil {
		return out, err
	}
	// What somebody asked to be renewed has been, by whoever signed it.
	return out, s.Remember(func(st *memory.State) { st.Renewed(slices.Collect(maps.Keys(add.Certs))...) })
}

func sameKey(cert *x509.Certificate, public crypto.PublicKey) bool {
	k, ok := cert.PublicKey.(interface{ Equal(crypto.PublicKey) bool })
	return ok && k.Equal(public)
}
