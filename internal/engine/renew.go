package engine

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/kube"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
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

// asked lists the certificates that somebody wants renewed.
func (s *Session) asked() (map[string]bool, error) {
	asked, err := s.Store.Asked()
	if err != nil {
		return nil, err
	}
	for _, id := range s.Asking {
		asked[id] = true
	}
	return asked, nil
}

// dueNow says which certificates have to be made anew, and why: those that do
// not serve any more, those that soon end, and those of which somebody asked it.
func (s *Session) dueNow(c *topology.Cluster, t *store.Trust, now time.Time) (map[string]string, error) {
	asked, err := s.asked()
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
			out[r.ID] = askedFor
		default:
			if why := trust.Stale(cert, r, ca, now); why != "" {
				out[r.ID] = why
			}
		}
	}
	return out, nil
}

const askedFor = "its renewal was asked for"

// was is where the pair before the present one is kept, until the present one
// has shown that it works.
func was(id string) string { return "was/" + id }

// ownCertificates judges what a node's kubelet has asked for itself: which of
// its files are to go.
func ownCertificates(c *topology.Cluster, m topology.Machine, shown map[string]protocol.Shown, ca *x509.Certificate, asked map[string]bool, now time.Time) own {
	o := own{stale: map[string]string{}, waits: "it has not been signed yet"}
	stale := o.stale
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
			stale[file] = askedFor
		default:
			// A kubelet whose address has changed asks for another one by itself.
			if why := trust.Wrong(cert, r, nil); len(why) > 0 && r.Server {
				o.waits = why[0]
				continue
			}
		}
		if _, gone := stale[file]; gone {
			if r.Server {
				o.waits = "" // it is taken away first, and then asked for anew
			}
			continue
		}
		if r.Server {
			o.waits = ""
		} else {
			o.client = true
		}
	}
	return o
}

// own is what a kubelet has of its own.
type own struct {
	stale  map[string]string // files that are to go, and why
	client bool              // it has a certificate to ask with
	waits  string            // why it has none to serve with
}

// lookAtOwn asks a node for its kubelet's own certificates and judges them.
// Where the tool renews them there should be none.
func (s *Session) lookAtOwn(ctx context.Context, c *topology.Cluster, m topology.Machine, conn *machine.Machine) (own, error) {
	if !m.IsNode() {
		return own{client: true}, nil
	}
	shown, err := conn.Show(ctx, trust.KubeletDir+"/*")
	if err != nil {
		return own{}, err
	}
	if !c.Trust.OwnRenewal() {
		o := own{stale: map[string]string{}, client: true}
		for path := range shown {
			o.stale[path] = "this kubelet does not renew by itself any more"
		}
		return o, nil
	}
	t, err := s.Trust()
	if err != nil {
		return own{}, err
	}
	asked, err := s.asked()
	if err != nil {
		return own{}, err
	}
	ca, err := trust.DecodeCert(t.Certs[string(trust.Cluster)])
	if err != nil {
		return own{}, ErrNoTrust
	}
	return ownCertificates(c, m, shown, ca, asked, time.Now()), nil
}

// pending reads which units still have to be restarted, because a run was cut
// off between writing their files and that.
func pending(ctx context.Context, c *machine.Machine) ([]string, error) {
	b, err := c.Read(ctx, nodeconf.Pending)
	return strings.Fields(string(b[nodeconf.Pending])), err
}

// worksTimeout is how long a machine may take to be well with new certificates,
// before it gets the old ones back.
const worksTimeout = 40 * time.Second

// works waits until a machine that got new files is well, its servers show the
// certificates that they were given, and its clients' are taken.
func (r *Run) works(ctx context.Context, m topology.Machine, changed []string, active map[string]bool) error {
	ctx, cancel := context.WithTimeout(ctx, worksTimeout)
	defer cancel()
	touched := func(names ...string) bool {
		return slices.ContainsFunc(changed, func(p string) bool {
			return slices.ContainsFunc(names, func(n string) bool { return strings.HasPrefix(p, trust.Dir+"/"+n) })
		})
	}
	if m.Is(versions.API) && len(changed) > 0 && active["kube-apiserver.service"] {
		if err := r.apiReady(ctx, m); err != nil {
			return err
		}
	}
	if m.Is(versions.Member) && active["etcd.service"] && touched("datastore-") {
		if err := r.memberWell(ctx, m); err != nil {
			return err
		}
	}
	t, err := r.Trust()
	if err != nil {
		return err
	}
	for _, q := range trust.Requests(r.Cluster, m) {
		if !touched(q.Name + ".") {
			continue
		}
		// Where an authority is distrusted at once, those who are asked do not yet
		// trust the new one.
		if q.Client && !q.Server && t.Certs[was(q.ID)] != nil && !r.View.Seen.Now {
			if err := r.taken(ctx, q, t); err != nil {
				return err
			}
		}
		port := servers[q.Name]
		if port == 0 || !active[serverUnit(q.Name)] {
			continue
		}
		issued, err := trust.DecodeCert(t.Certs[q.ID])
		if err != nil {
			return err
		}
		err = until(ctx, fmt.Sprintf("port %d to show the new certificate", port), func(ctx context.Context) (string, error) {
			shown, err := presented(ctx, netip.AddrPortFrom(m.Address, uint16(port)).String())
			if err == nil && !shown.Equal(issued) {
				return "it shows that of " + shown.NotBefore.Format(time.DateTime), nil
			}
			return "", err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// taken shows a client's new pair to those that will see it. The client itself
// shows it only when it connects the next time, which may be minutes later. One
// who does not answer says nothing about the pair.
func (r *Run) taken(ctx context.Context, q trust.Request, t *store.Trust) error {
	pair, err := tls.X509KeyPair(t.Certs[q.ID], t.Keys[q.ID])
	if err != nil {
		return fmt.Errorf("the new pair of %s: %w", q.ID, err)
	}
	part, port, header := versions.API, nodeconf.APIPort, http.Header{}
	switch q.Authority {
	case trust.Datastore:
		part, port = versions.Member, nodeconf.ClientPort
	case trust.FrontProxy:
		header.Set("X-Remote-User", "verbund:proof")
	}
	for _, m := range r.Cluster.With(part) {
		at := netip.AddrPortFrom(m.Address, uint16(port)).String()
		if how, err := comeIn(ctx, at, &pair, header); err == nil && how != "" {
			return fmt.Errorf("%s at %s refuses the new certificate of %s: %s", m.Name, at, q.Name, how)
		}
	}
	return nil
}

// renewed lists the certificates of a machine of which the pair before is still
// kept.
func (r *Run) renewed(m topology.Machine) (*store.Trust, []string, error) {
	t, err := r.Trust()
	if err != nil {
		return nil, nil, err
	}
	var ids []string
	for _, q := range trust.Requests(r.Cluster, m) {
		if t.Certs[was(q.ID)] != nil {
			ids = append(ids, q.ID)
		}
	}
	return t, ids, nil
}

// settleTrust forgets the pairs before, since the new ones work.
func (r *Run) settleTrust(m topology.Machine) error {
	t, ids, err := r.renewed(m)
	if err != nil || len(ids) == 0 {
		return err
	}
	var gone []string
	for _, id := range ids {
		gone = append(gone, was(id))
	}
	return r.changeTrust(t, &store.Trust{}, gone...)
}

// changeTrust saves what is added and what goes, and lets every step see it.
func (s *Session) changeTrust(t, add *store.Trust, gone ...string) error {
	if err := s.Store.SaveTrust(add, gone...); err != nil {
		return err
	}
	s.seeTrust(t, add, gone...)
	return nil
}

// putBack gives a machine the pairs before of those that were changed, since it
// did not become well with the new ones, and says so.
func (r *Run) putBack(ctx context.Context, c *machine.Machine, m topology.Machine, changed, units []string, cause error) error {
	t, ids, err := r.renewed(m)
	ids = slices.DeleteFunc(ids, func(id string) bool {
		return !slices.Contains(changed, trust.Dir+strings.TrimPrefix(id, m.Name)+".crt")
	})
	if err != nil || len(ids) == 0 {
		return errors.Join(cause, err)
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	old := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
	var gone []string
	var files []protocol.File
	for _, id := range ids {
		old.Keys[id], old.Certs[id] = t.Keys[was(id)], t.Certs[was(id)]
		gone = append(gone, was(id))
		base := trust.Dir + strings.TrimPrefix(id, m.Name)
		files = append(files, protocol.File{Path: base + ".crt", Mode: 0o644, Content: old.Certs[id]}, protocol.File{Path: base + ".key", Mode: 0o600, Content: old.Keys[id]})
	}
	if err := r.changeTrust(t, old, gone...); err != nil {
		return errors.Join(cause, err)
	}
	if _, err := c.Put(ctx, files, nil); err != nil {
		return errors.Join(cause, fmt.Errorf("putting the old pairs back: %w", err))
	}
	for _, u := range units {
		if err := c.Do(ctx, protocol.UnitsRestart, u); err != nil {
			return errors.Join(cause, fmt.Errorf("restarting %s with the old pairs: %w", u, err))
		}
	}
	var ue *machine.UnitError
	se := &StepError{Err: fmt.Errorf("it did not become well with its new certificates, and the old pairs were put back: %w", cause), Todo: "the others were not touched; mend the cause and run it again"}
	if errors.As(cause, &ue) {
		se.Unit, se.Exit = ue.State.Name, ue.State.ExitCode
	}
	return se
}

// firstEnded says whether the first certificate of a kubelet, which the tool
// made, has ended or is about to.
func (s *Session) firstEnded(id string) bool {
	t, err := s.Trust()
	if err != nil {
		return false
	}
	cert, err := trust.DecodeCert(t.Certs[id])
	return err == nil && time.Until(cert.NotAfter) < cert.NotAfter.Sub(cert.NotBefore)/10
}

// trustMark is a digest of what pods have to trust, and where they find the
// API: when it changes, programs
// in pods that read it only when they start have to be started anew. The order
// does not matter to them.
func trustMark(t *store.Trust, c *topology.Cluster) string {
	certs := []string{c.Server()}
	for _, id := range trust.Trusted(t.Certs, string(trust.Cluster)) {
		certs = append(certs, string(t.Certs[id]))
	}
	slices.Sort(certs)
	sum := sha256.Sum256([]byte(strings.Join(certs, "")))
	return hex.EncodeToString(sum[:8])
}

// servingKubelet says whether a node's kubelet already shows the certificate
// that it asked for: until its request is approved it has none.
func (r *Run) servingKubelet(ctx context.Context, m topology.Machine) (string, error) {
	t, err := r.Trust()
	if err != nil {
		return "", err
	}
	shown, err := presented(ctx, netip.AddrPortFrom(m.Address, nodeconf.KubeletPort).String())
	if err != nil {
		qs, err := r.requestsOf(ctx, r.Cluster)
		if err != nil {
			return fmt.Sprintf("its kubelet has no serving certificate yet, and what it asked for cannot be looked up: %v", err), nil
		}
		return "its kubelet has no serving certificate yet: " + whyUnsigned(qs, trust.ExpectedNodes(r.Cluster), m.Name), nil
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(trust.Bundle(t.Certs, string(trust.Cluster)))
	if _, err := shown.Verify(x509.VerifyOptions{Roots: pool, DNSName: m.Address.String(), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}); err != nil {
		return fmt.Sprintf("its kubelet shows a certificate that does not serve: %v", err), nil
	}
	return "", nil
}

// requestsOf lists the certificate requests of a cluster.
func (s *Session) requestsOf(ctx context.Context, c *topology.Cluster) ([]kube.Request, error) {
	ctx, cancel := context.WithTimeout(ctx, lookTimeout)
	defer cancel()
	k, err := s.Kube(c)
	if err != nil {
		return nil, err
	}
	return k.Requests(ctx)
}

// whyUnsigned says what became of the last request in which a node's kubelet asked for a
// certificate to serve with, and why the approver leaves it alone if it does.
func whyUnsigned(qs []kube.Request, expected []trust.ExpectedNode, node string) string {
	for _, q := range slices.Backward(qs) {
		if q.Signer != trust.KubeletServingSigner || q.By != "system:node:"+node {
			continue
		}
		switch d := trust.Decide(q.ForDecision(), expected, nil, nil); {
		case q.State == "issued":
			return fmt.Sprintf("its request %s was signed, and it has yet to take the certificate up", q.Name)
		case q.State == "approved":
			return fmt.Sprintf("its request %s was approved, and the controller manager has yet to sign it", q.Name)
		case q.State != "waits":
			return fmt.Sprintf("its request %s was %s: %s", q.Name, q.State, q.Why)
		case d.Approve:
			return fmt.Sprintf("its request %s fits, and waits for the approver, which runs on the control plane", q.Name)
		default:
			return fmt.Sprintf("its request %s is left alone: %s", q.Name, d.Why)
		}
	}
	return "it has not asked for one, or its request is not there any more"
}

// lookAtUnsigned finds out why kubelets have no certificate to serve with.
func (s *Session) lookAtUnsigned(ctx context.Context, c *topology.Cluster, v *View) {
	var qs []kube.Request
	looked := false
	for name, m := range v.Seen.Machines {
		if m.Unsigned == "" || !v.Seen.API {
			continue
		}
		if !looked {
			var err error
			if qs, err = s.requestsOf(ctx, c); err != nil {
				return // that the API does not answer is said elsewhere
			}
			looked = true
		}
		m.Unsigned += "; " + whyUnsigned(qs, trust.ExpectedNodes(c), name)
		v.Seen.Machines[name] = m
	}
}
