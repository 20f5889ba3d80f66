package look

import (
	"context"
	"crypto/x509"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/machine/protocol"
)

// ownCertificates judges what a node's kubelet has asked for itself: which of
// its files are to go.
func ownCertificates(c *topology.Cluster, m topology.Machine, shown map[string]protocol.Shown, ca *x509.Certificate, asked map[string]bool, now time.Time) OwnPairs {
	o := OwnPairs{Stale: map[string]string{}, waits: "it has not been signed yet"}
	stale := o.Stale
	files := map[string]string{"kubelet-client": trust.KubeletClientFile, "kubelet-serving": trust.KubeletServerFile}
	for _, r := range trust.KubeletRequests(c, m) {
		file := files[r.Name]
		f, ok := shown[file]
		if !ok {
			continue
		}
		cert, err := trust.DecodeCert(f.Certificates)
		switch {
		case err != nil:
			stale[file] = "there is no certificate in it"
		case ca != nil && cert.CheckSignatureFrom(ca) != nil:
			stale[file] = "another authority signed it"
		case now.After(cert.NotAfter):
			stale[file] = "it ended on " + cert.NotAfter.Format(time.DateTime)
		case asked[r.ID]:
			stale[file] = vouch.AskedFor
		default:
			// A kubelet whose address has changed asks for another one by itself.
			if why := trust.Wrong(cert, r, nil); len(why) > 0 && r.Server {
				o.waits = why[0]
				continue
			}
		}
		if why, gone := stale[file]; gone {
			// A kubelet keeps every pair that it ever had, each under its date.
			for other := range shown {
				if strings.HasPrefix(other, strings.TrimSuffix(file, current)) {
					stale[other] = why
				}
			}
			if r.Server {
				o.waits = "" // it is taken away first, and then asked for anew
			}
			continue
		}
		if r.Server {
			o.waits = ""
		} else {
			o.Client = true
		}
	}
	return o
}

// current ends the name of the pair that a kubelet uses, a link to one with a date.
const current = "current.pem"

// OwnPairs is what a kubelet has of its own.
type OwnPairs struct {
	Stale  map[string]string // files that are to go, and why
	Client bool              // it has a certificate to ask with
	waits  string            // why it has none to serve with
}

// Own asks a node for its kubelet's own certificates and judges them.
// Where the tool renews them there should be none.
func Own(ctx context.Context, s *session.Session, c *topology.Cluster, m topology.Machine, conn session.Machine) (OwnPairs, error) {
	if !m.IsNode() {
		return OwnPairs{Client: true}, nil
	}
	shown, err := conn.Show(ctx, trust.KubeletDir+"/*")
	if err != nil {
		return OwnPairs{}, err
	}
	if !c.Trust.OwnRenewal() {
		o := OwnPairs{Stale: map[string]string{}, Client: true}
		for path := range shown {
			o.Stale[path] = "this kubelet does not renew by itself any more"
		}
		return o, nil
	}
	t, err := s.Trust()
	if err != nil {
		return OwnPairs{}, err
	}
	asked, err := vouch.Asked(s)
	if err != nil {
		return OwnPairs{}, err
	}
	ca, err := trust.DecodeCert(t.Certs[string(trust.Cluster)])
	if err != nil {
		return OwnPairs{}, session.ErrNoTrust
	}
	return ownCertificates(c, m, shown, ca, asked, time.Now()), nil
}

// Pending reads which units still have to be restarted: cut are those that a run was cut off
// before it restarted, between that and writing their files, and older those that run as they
// were written before, for whatever reason.
func Pending(ctx context.Context, c session.Machine) (cut, older []string, err error) {
	b, err := c.Read(ctx, nodeconf.Pending)
	if err != nil {
		return nil, nil, err
	}
	cut = strings.Fields(string(b[nodeconf.Pending]))
	us, err := c.Units(ctx)
	for _, u := range us {
		if u.Older && !slices.Contains(cut, u.Name) {
			older = append(older, u.Name)
		}
	}
	return cut, older, err
}
