package look

import (
	"context"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/store"
)

// Proved is one thing that was looked at to prove that something old is not
// trusted any more.
type Proved struct {
	Where string `json:"where"`
	What  string `json:"what"`
	Holds bool   `json:"holds"`
	Found string `json:"found"`
}

// Prove looks whether anything anywhere still goes by what was replaced: on
// every disk, at every port, and by trying to come in with what it signed.
func Prove(ctx context.Context, s *session.Session, v *View, id string) ([]Proved, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	switch id {
	case trust.ServiceAccountKey:
		return proveTokens(ctx, s, v)
	case trust.SecretsKey:
		all, other, err := SecretsNotBy(ctx, s, v.Cluster)
		if err != nil {
			return nil, err
		}
		return []Proved{{"the datastore", fmt.Sprintf("all of %d secrets are encrypted with the new key", all), other == 0, fmt.Sprintf("%d are not", other)}}, nil
	}
	old, err := trust.DecodeCert(t.Certs[vouch.ProofOf(id)+".authority"])
	if err != nil {
		return nil, fmt.Errorf("the old %s is not kept any more, so that nothing can be proven about it: %w", id, err)
	}
	pair, err := tls.X509KeyPair(t.Certs[vouch.ProofOf(id)], t.Keys[vouch.ProofOf(id)])
	if err != nil {
		return nil, fmt.Errorf("the pair with which the end of %s is proven: %w", id, err)
	}
	var out []Proved
	for _, m := range v.Cluster.Machines {
		p, err := proveDisk(ctx, s, m, old)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", m.Name, err)
		}
		out = append(append(out, p), proveWire(ctx, s, t, m, trust.Authority(id), old, pair)...)
	}
	return out, nil
}

// proveDisk looks for the old authority, and for what it signed, among the
// certificates on a machine.
func proveDisk(ctx context.Context, s *session.Session, m topology.Machine, old *x509.Certificate) (Proved, error) {
	p := Proved{Where: m.Name, What: "no certificate there is the old authority's, or signed by it", Holds: true}
	err := s.With(ctx, m.Name, func(c session.Machine) error {
		shown, err := c.Show(ctx, trust.Dir+"/*", trust.KubeletDir+"/*")
		if err != nil {
			return err
		}
		n := 0
		for path, f := range shown {
			for rest := f.Certificates; ; {
				var b *pem.Block
				if b, rest = pem.Decode(rest); b == nil {
					break
				}
				cert, err := x509.ParseCertificate(b.Bytes)
				if err != nil {
					continue
				}
				if n++; cert.Equal(old) || cert.CheckSignatureFrom(old) == nil {
					p.Holds, p.Found = false, path+" is"
				}
			}
		}
		if p.Holds {
			p.Found = fmt.Sprintf("%d looked at", n)
		}
		return nil
	})
	return p, err
}

// proveWire tries to come in at the ports of a machine with what the old
// authority signed, and looks at what they show.
func proveWire(ctx context.Context, s *session.Session, t *store.Trust, m topology.Machine, id trust.Authority, old *x509.Certificate, pair tls.Certificate) []Proved {
	var out []Proved
	at := func(port int) string { return netip.AddrPortFrom(m.Address, uint16(port)).String() }
	refused := func(what string, port int, path string, header http.Header) {
		p := Proved{Where: fmt.Sprintf("%s, port %d", m.Name, port), What: what + " refuses what the old authority signed"}
		how, err := ComeIn(ctx, at(port), path, &pair, header)
		switch {
		case err != nil:
			p.Found = "it could not be tried: " + err.Error()
		case how == "":
			p.Found = "it was let in"
		default:
			p.Holds, p.Found = true, how
		}
		out = append(out, p)
	}
	shows := func(what string, port int) {
		cert, err := Presented(ctx, at(port))
		p := Proved{Where: fmt.Sprintf("%s, port %d", m.Name, port), What: what + " shows a certificate of the new authority"}
		switch {
		case err != nil:
			p.Found = err.Error()
		case cert.CheckSignatureFrom(old) == nil:
			p.Found = "it shows one of the old"
		default:
			p.Holds, p.Found = true, "serial "+cert.SerialNumber.Text(16)
		}
		out = append(out, p)
	}
	switch id {
	case trust.Cluster, trust.FrontProxy:
		if m.Is(versions.API) {
			var header http.Header
			if id == trust.FrontProxy {
				header = http.Header{"X-Remote-User": {"verbund:proof"}}
			} else {
				shows("the API server", nodeconf.APIPort)
			}
			refused("the API server", nodeconf.APIPort, AtAPI, header)
		}
		if m.IsNode() && id == trust.Cluster {
			shows("the kubelet", nodeconf.KubeletPort)
			refused("the kubelet", nodeconf.KubeletPort, atKubelet, nil)
		}
	case trust.Datastore:
		if m.Is(versions.Member) {
			shows("the datastore", nodeconf.ClientPort)
			refused("the datastore, for clients", nodeconf.ClientPort, "/health", nil)
			refused("the datastore, for members", nodeconf.PeerPort, "/members", nil)
		}
	}
	return out
}

// What is asked of a server to see whether it lets one in: something that it has, since it
// may say of anything else that it has not before it asks who it is that wants it.
const (
	AtAPI     = "/api/v1/namespaces"
	atKubelet = "/pods"
)

// ComeIn tries to get in at a server, at a path, with a client's pair if there is one and
// with headers, and says how it was refused; nothing when it was let in: who is
// known and only may not do something was. An error says that it proves nothing:
// nobody answered.
func ComeIn(ctx context.Context, addr, path string, pair *tls.Certificate, header http.Header) (refused string, err error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	config := &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12}
	if pair != nil {
		config.GetClientCertificate = func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return pair, nil }
	}
	tr := &http.Transport{DisableKeepAlives: true, TLSClientConfig: config,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "tcp", addr)
		}}
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "https://"+addr+path, nil)
	if err != nil {
		return "", err
	}
	maps.Copy(q.Header, header)
	r, err := tr.RoundTrip(q)
	if err != nil {
		// Only a server that says so has refused: one that is gone, or that does
		// not answer in time, has not.
		var op *net.OpError
		if errors.As(err, &op) && op.Op == "remote error" {
			return err.Error(), nil
		}
		return "", err
	}
	defer r.Body.Close()
	io.Copy(io.Discard, io.LimitReader(r.Body, 4096))
	if r.StatusCode == http.StatusUnauthorized {
		return strings.ToLower(r.Status), nil
	}
	return "", nil
}

// proveTokens looks at the tokens of all pods and at the keys that the API
// servers were given, and tries to come in with a token that the old key signs
// now, beside one of the new key that says the same.
func proveTokens(ctx context.Context, s *session.Session, v *View) ([]Proved, error) {
	old, err := OldTokens(ctx, s, v)
	if err != nil {
		return nil, err
	}
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	key, err := trust.DecodeKey(t.Keys[trust.ServiceAccountKey])
	if err != nil {
		return nil, err
	}
	want, err := trust.EncodePublic(key.Public())
	if err != nil {
		return nil, err
	}
	gone, err := trust.DecodeKey(t.Keys[vouch.ProofOf(trust.ServiceAccountKey)])
	if err != nil {
		return nil, fmt.Errorf("the old key is not kept any more, so that nothing can be proven about it: %w", err)
	}
	k, err := s.Kube(v.Cluster)
	if err != nil {
		return nil, err
	}
	genuine, err := k.ServiceAccountToken(ctx, "kube-system", "default")
	if err != nil {
		return nil, fmt.Errorf("a token of the new key, to compare with: %w", err)
	}
	forged, err := signedBy(gone, genuine)
	if err != nil {
		return nil, err
	}
	n := 0
	for _, k := range old {
		n += k
	}
	out := []Proved{{"all nodes", "every pod's token is of the new key", n == 0, fmt.Sprintf("%d are not", n)}}
	for _, m := range v.Cluster.With(versions.API) {
		err := s.With(ctx, m.Name, func(c session.Machine) error {
			b, err := c.Read(ctx, trust.Dir+"/"+trust.ServiceAccountKey+".pub")
			got := b[trust.Dir+"/"+trust.ServiceAccountKey+".pub"]
			out = append(out, Proved{m.Name, "its API server is given the new public key alone", err == nil && string(got) == string(want), fmt.Sprintf("%d in its file", strings.Count(string(got), "BEGIN PUBLIC KEY"))})
			return err
		})
		if err != nil {
			return nil, err
		}
		out = append(out, proveToken(ctx, m, genuine, forged))
	}
	return out, nil
}

// proveToken shows both tokens to an API server. That it takes the genuine one
// says that the other one is refused for its key.
func proveToken(ctx context.Context, m topology.Machine, genuine, forged string) Proved {
	at := netip.AddrPortFrom(m.Address, nodeconf.APIPort).String()
	show := func(token string) (string, error) {
		return ComeIn(ctx, at, AtAPI, nil, http.Header{"Authorization": {"Bearer " + token}})
	}
	p := Proved{Where: fmt.Sprintf("%s, port %d", m.Name, nodeconf.APIPort), What: "the API server refuses a token that the old key signed"}
	taken, err := show(genuine)
	var refused string
	if err == nil {
		refused, err = show(forged)
	}
	switch {
	case err != nil:
		p.Found = "it could not be tried: " + err.Error()
	case taken != "":
		p.Found = "it refuses one of the new key, too: " + taken
	case refused == "":
		p.Found = "it was let in"
	default:
		p.Holds, p.Found = true, refused
	}
	return p
}

// signedBy signs what a token says with another key.
func signedBy(key crypto.Signer, token string) (string, error) {
	claims := jwt.MapClaims{}
	if _, _, err := jwt.NewParser().ParseUnverified(token, claims); err != nil {
		return "", fmt.Errorf("reading a service-account token: %w", err)
	}
	var method jwt.SigningMethod = jwt.SigningMethodES256
	switch trust.AlgorithmOf(key.Public()) {
	case "ecdsa-p256":
	case "ecdsa-p384":
		method = jwt.SigningMethodES384
	default:
		method = jwt.SigningMethodRS256
	}
	t := jwt.NewWithClaims(method, claims)
	var err error
	if t.Header["kid"], err = trust.KeyName(key.Public()); err != nil {
		return "", err
	}
	return t.SignedString(key)
}
