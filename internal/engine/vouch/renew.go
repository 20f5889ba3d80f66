package vouch

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Certificates lists every certificate that the tool keeps or hands out.
func Certificates(c *topology.Cluster) []trust.Request {
	wanted := append(trust.ToolRequests(c), trust.ProgramRequests(c)...)
	for _, m := range c.Machines {
		wanted = append(wanted, trust.Requests(c, m)...)
	}
	return wanted
}

// Known lists what of a cluster can be named: beside Certificates also those
// that kubelets ask for themselves.
func Known(c *topology.Cluster) []trust.Request {
	out := Certificates(c)
	if !c.Trust.OwnRenewal() {
		return out
	}
	for _, m := range c.Machines {
		if !m.IsNode() {
			continue
		}
		for _, r := range trust.KubeletRequests(c, m) {
			if !slices.ContainsFunc(out, func(x trust.Request) bool { return x.ID == r.ID }) {
				out = append(out, r)
			}
		}
	}
	return out
}

// Asked lists the certificates that somebody wants renewed.
func Asked(s *session.Session) (map[string]bool, error) {
	st, err := s.Store.Read()
	if err != nil {
		return nil, err
	}
	st.Ask(s.Asking...)
	return st.Asked, nil
}

// Due says which certificates have to be made anew, and why: those that do
// not serve any more, those that soon end, and those of which somebody asked it.
func Due(s *session.Session, c *topology.Cluster, t *store.Trust, now time.Time) (map[string]string, error) {
	asked, err := Asked(s)
	if err != nil {
		return nil, err
	}
	cas := map[trust.Authority]*x509.Certificate{}
	out := map[string]string{}
	for _, r := range Certificates(c) {
		old := t.Certs[r.ID]
		if old == nil || t.Keys[r.ID] == nil {
			out[r.ID] = "it was never made"
			continue
		}
		ca, ok := cas[r.Authority]
		if !ok {
			if ca, err = trust.DecodeCert(t.Certs[string(r.Authority)]); err != nil {
				return nil, fmt.Errorf("%s in the store: %w", r.Authority, err)
			}
			cas[r.Authority] = ca
		}
		cert, err := trust.DecodeCert(old)
		switch {
		case err != nil:
			out[r.ID] = "it cannot be read"
		case asked[r.ID]:
			out[r.ID] = AskedFor
		default:
			if why := trust.Stale(cert, r, ca, now); why != "" {
				out[r.ID] = why
			}
		}
	}
	return out, nil
}

// AskedFor is why a certificate is made anew that a person named.
const AskedFor = "its renewal was asked for"

// FirstEnded says whether the first certificate of a kubelet, which the tool
// made, has ended or is about to.
func FirstEnded(s *session.Session, id string) bool {
	t, err := s.Trust()
	if err != nil {
		return false
	}
	cert, err := trust.DecodeCert(t.Certs[id])
	return err == nil && time.Until(cert.NotAfter) < cert.NotAfter.Sub(cert.NotBefore)/10
}

// TrustMark is a digest of what pods have to trust, and where they find the
// API: when it changes, programs
// in pods that read it only when they start have to be started anew. The order
// does not matter to them.
func TrustMark(t *store.Trust, c *topology.Cluster) string {
	certs := []string{c.Server()}
	for _, id := range trust.Trusted(t.Certs, string(trust.Cluster)) {
		certs = append(certs, string(t.Certs[id]))
	}
	slices.Sort(certs)
	sum := sha256.Sum256([]byte(strings.Join(certs, "")))
	return hex.EncodeToString(sum[:8])
}
