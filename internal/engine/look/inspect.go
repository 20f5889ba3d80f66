package look

import (
	"context"
	"crypto/ecdsa"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/machine/protocol"
	"verbund/internal/site"
	"verbund/internal/store"
)

// TrustReport is every certificate as it was issued and as it was found.
type TrustReport struct {
	Entries []trust.Entry `json:"entries"`
	// Strays are keys and certificates on machines that nothing there needs.
	Strays []string `json:"strays"`
	// Unseen are machines that could not be looked at, with the reason.
	Unseen []string `json:"unseen"`
	// Founded says that the cluster was raised: then every machine should have been
	// looked at.
	Founded bool `json:"founded"`
}

// NotLooked counts the certificates that could not be looked at.
func (r *TrustReport) NotLooked() int {
	n := 0
	for _, e := range r.Entries {
		if e.NotLooked != "" {
			n++
		}
	}
	return n
}

// Troubled counts the entries that something is wrong with.
func (r *TrustReport) Troubled() int { return len(r.Wrong()) }

// Wrong lists what is wrong, the most urgent first. Machines that could not be
// looked at are not among it: whoever asks has seen that already.
func (r *TrustReport) Wrong() []string {
	out := []string{}
	for _, e := range r.Entries {
		if len(e.Troubles) > 0 {
			out = append(out, e.ID+": "+e.Troubles[0])
		}
	}
	return append(out, r.Strays...)
}

// FirstToEnd is what ends first of what nobody renews by itself.
func (r *TrustReport) FirstToEnd() (trust.Entry, bool) {
	var first trust.Entry
	for _, e := range r.Entries {
		if e.Renews == "" && !e.Expires.IsZero() && (first.ID == "" || e.Expires.Before(first.Expires)) {
			first = e
		}
	}
	return first, first.ID != ""
}

// Servers are the ports at which a machine shows a certificate.
var Servers = map[string]int{"api-server": nodeconf.APIPort, "datastore-member": nodeconf.ClientPort, "datastore-peer": nodeconf.PeerPort, "kubelet-serving": nodeconf.KubeletPort}

// Inspect holds every certificate against what was issued: in the store, on
// the machines, and on the wire. A view that only located the machines is
// enough.
func Inspect(ctx context.Context, s *session.Session, v *View, now time.Time) (*TrustReport, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	if t.Certs[string(trust.Cluster)] == nil {
		return nil, session.ErrNoTrust
	}
	r := &TrustReport{Entries: []trust.Entry{}, Strays: []string{}, Unseen: []string{}, Founded: v.Seen.Founded}
	for _, a := range trust.Authorities {
		cert, err := trust.DecodeCert(t.Certs[string(a)])
		if err != nil {
			return nil, fmt.Errorf("%s in the store: %w", a, err)
		}
		r.Entries = append(r.Entries, trust.DescribeAuthority(cert, a, v.Cluster, now))
	}
	for _, q := range append(trust.ToolRequests(v.Cluster), trust.ProgramRequests(v.Cluster)...) {
		if q.Authority != trust.Programs || t.Certs[q.ID] != nil {
			r.Entries = append(r.Entries, issued(s, t, q, now))
		}
	}
	if cert, err := trust.DecodeCert(t.Certs[string(trust.Programs)]); err == nil {
		r.Entries = append(r.Entries, trust.DescribeAuthority(cert, trust.Programs, v.Cluster, now))
	}
	began := time.Now()
	var mu sync.Mutex
	var wg sync.WaitGroup
	limit := make(chan struct{}, max(s.Parallel, 1))
	for _, m := range v.Cluster.Machines {
		im, ok := site.Machine{}, false
		if v.Inventory != nil {
			for _, x := range v.Inventory.Machines {
				if x.Name == m.Name {
					im, ok = x, true
				}
			}
		}
		wg.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			l := &trustLook{s: s, t: t, c: v.Cluster, m: m, now: now, began: began, seen: v.Seen.Machines[m.Name].Units}
			why := ""
			switch {
			case !ok:
				why = "it is not there"
			case im.Power != site.PowerOn:
				why = session.Powerless(im)
			default:
				lctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
				defer cancel()
				if err := l.look(lctx, im.SSHPort); err != nil {
					why = err.Error()
				}
			}
			mu.Lock()
			defer mu.Unlock()
			if why != "" {
				r.Unseen = append(r.Unseen, m.Name+": "+strings.TrimPrefix(why, m.Name+": "))
				for _, q := range trust.Requests(v.Cluster, m) {
					e := issued(s, t, q, now)
					e.NotLooked = why
					r.Entries = append(r.Entries, e)
				}
				return
			}
			r.Entries, r.Strays = append(r.Entries, l.entries...), append(r.Strays, l.strays...)
		})
	}
	wg.Wait()
	trust.ByUrgency(r.Entries)
	return r, ctx.Err()
}

// issued describes a certificate as it lies in the store.
func issued(s *session.Session, t *store.Trust, q trust.Request, now time.Time) trust.Entry {
	cert, err := trust.DecodeCert(t.Certs[q.ID])
	if err != nil {
		cert = nil
	}
	e := trust.Describe(cert, q, now)
	if cert != nil {
		ca, err := trust.DecodeCert(t.Certs[string(q.Authority)])
		if err != nil {
			ca = nil
		}
		e.Troubles = append(e.Troubles, trust.Wrong(cert, q, ca)...)
	}
	return e
}

// trustLook looks at one machine.
type trustLook struct {
	s       *session.Session
	t       *store.Trust
	c       *topology.Cluster
	m       topology.Machine
	now     time.Time         // when the look began,
	began   time.Time         // by this computer's clock: what is renewed meanwhile begins later
	seen    map[string]string // units
	entries []trust.Entry
	strays  []string
}

func (l *trustLook) look(ctx context.Context, port int) error {
	c, err := l.s.Machine(ctx, l.m.Name, port)
	if err != nil {
		return err
	}
	if l.seen == nil {
		us, err := c.Units(ctx)
		if err != nil {
			return err
		}
		l.seen = map[string]string{}
		for _, u := range us {
			l.seen[u.Name] = u.State
		}
	}
	found, err := c.List(ctx, trust.Dir)
	if err != nil {
		return err
	}
	modes := map[string]protocol.File{}
	var paths []string
	for _, f := range found {
		modes[f.Path] = f
		paths = append(paths, f.Path)
	}
	digests, err := c.Digests(ctx, paths)
	if err != nil {
		return err
	}
	texts, err := l.certificates(ctx, c, paths)
	if err != nil {
		return err
	}
	expected := map[string]bool{}
	for _, f := range nodeconf.Render(l.c, l.m, nodeconf.Options{}) {
		expected[f.Path] = true
		if f.Kind != nodeconf.Text && !strings.Contains(f.From, "/") {
			l.key(f, modes, digests)
		}
	}
	shown := map[string]protocol.Shown{}
	own := l.m.IsNode() && l.c.Trust.OwnRenewal()
	if l.m.IsNode() {
		if shown, err = c.Show(ctx, trust.KubeletDir+"/*"); err != nil {
			return err
		}
	}
	if own {
		for _, q := range trust.KubeletRequests(l.c, l.m) {
			// A kubelet may renew between the look at its disk and that at its port.
			if renewed := l.own(ctx, q, shown); renewed {
				if shown, err = c.Show(ctx, trust.KubeletDir+"/*"); err != nil {
					return err
				}
				l.entries = l.entries[:len(l.entries)-1]
				l.own(ctx, q, shown)
			}
		}
	} else {
		for _, p := range slices.Sorted(maps.Keys(shown)) {
			l.strays = append(l.strays, fmt.Sprintf("%s has %s, which nothing there needs", l.m.Name, p))
		}
	}
	for _, q := range trust.Requests(l.c, l.m) {
		if _, has := shown[trust.KubeletClientFile]; own && has && q.Name == "kubelet-client" {
			continue // the first one; the kubelet has its own by now
		}
		l.one(ctx, q, modes, digests, texts)
		if own && q.Name == "kubelet-client" {
			l.entries[len(l.entries)-1].Renews = byKubelet
		}
	}
	for _, f := range found {
		if !expected[f.Path] {
			l.strays = append(l.strays, fmt.Sprintf("%s has %s, which nothing there needs", l.m.Name, f.Path))
		}
	}
	return nil
}

// certificates reads what is public; keys stay where they are.
func (l *trustLook) certificates(ctx context.Context, c session.Machine, paths []string) (map[string][]byte, error) {
	var public []string
	for _, p := range paths {
		if strings.HasSuffix(p, ".crt") {
			public = append(public, p)
		}
	}
	return c.Read(ctx, public...)
}

// key judges a key that belongs to no certificate on the machine.
func (l *trustLook) key(f nodeconf.File, modes map[string]protocol.File, digests map[string]string) {
	want, err := session.Content(f, l.t)
	if err != nil {
		return // it was never made, which shows elsewhere
	}
	switch have, ok := modes[f.Path]; {
	case !ok:
		l.strays = append(l.strays, fmt.Sprintf("%s lacks %s", l.m.Name, f.Path))
	case have.Mode.Perm() != f.Mode.Perm():
		l.strays = append(l.strays, fmt.Sprintf("%s of %s has mode %o instead of %o", f.Path, l.m.Name, have.Mode.Perm(), f.Mode.Perm()))
	case digests[f.Path] != session.FileDigest(protocol.File{Mode: f.Mode, Content: want}):
		l.strays = append(l.strays, fmt.Sprintf("%s of %s is another one than was made", f.Path, l.m.Name))
	}
}

// one judges a certificate with its key, on the disk and on the wire.
func (l *trustLook) one(ctx context.Context, q trust.Request, modes map[string]protocol.File, digests map[string]string, texts map[string][]byte) {
	e := issued(l.s, l.t, q, l.now)
	add := func(format string, args ...any) { e.Troubles = append(e.Troubles, fmt.Sprintf(format, args...)) }
	crt, key := trust.Dir+"/"+q.Name+".crt", trust.Dir+"/"+q.Name+".key"
	issued, _ := trust.DecodeCert(l.t.Certs[q.ID])
	ca, _ := trust.DecodeCert(l.t.Certs[string(q.Authority)])
	onDisk, err := trust.DecodeCert(texts[crt])
	switch {
	case modes[crt].Path == "":
		add("it is missing on the machine")
	case err != nil:
		add("what lies on the machine is no certificate")
	case issued == nil || !onDisk.Equal(issued):
		add("another one than was issued lies on the machine")
		for _, w := range trust.Wrong(onDisk, q, ca) {
			add("that one: %s", w)
		}
		if end := trust.Ending(onDisk, q.Renew, l.now); end != "" {
			add("that one: %s", end)
		}
	}
	switch have := modes[key]; {
	case have.Path == "":
		add("its key is missing on the machine")
	case have.Mode.Perm()&0o077 != 0:
		add("its key can be read by others: mode %o", have.Mode.Perm())
	case digests[key] != session.FileDigest(protocol.File{Mode: have.Mode, Content: l.t.Keys[q.ID]}):
		add("its key on the machine does not match")
	}
	if port := Servers[q.Name]; port != 0 && issued != nil && l.runs(q.Name) {
		shown, err := Presented(ctx, netip.AddrPortFrom(l.m.Address, uint16(port)).String())
		if err != nil {
			add("nothing shows it at port %d: %v", port, err)
		} else if !shown.Equal(issued) {
			add("port %d shows another one, %s of %s", port, shown.SerialNumber.Text(16), shown.NotBefore.Format(time.DateOnly))
		}
	}
	l.entries = append(l.entries, e)
}

const byKubelet = "the kubelet itself, at 70 to 90 percent of its life"

// own judges a certificate that a kubelet asked for itself. differs says that
// its port shows another one than its disk.
func (l *trustLook) own(ctx context.Context, q trust.Request, shown map[string]protocol.Shown) (differs bool) {
	file := map[bool]string{true: trust.KubeletServerFile, false: trust.KubeletClientFile}[q.Server]
	f, ok := shown[file]
	if !ok && q.Client && !l.m.ByToken {
		return false // it still goes by its first one, which is listed with the others
	}
	cert, err := trust.DecodeCert(f.Certificates)
	if err != nil {
		cert = nil
	}
	e := trust.Describe(cert, q, l.now.Add(time.Since(l.began)))
	add := func(format string, args ...any) { e.Troubles = append(e.Troubles, fmt.Sprintf(format, args...)) }
	e.Renews = byKubelet
	switch {
	case cert == nil:
		e.Troubles = []string{"its kubelet has none yet; requests list shows what it asked for"}
	default:
		ca, _ := trust.DecodeCert(l.t.Certs[string(q.Authority)])
		e.Troubles = append(e.Troubles, trust.Wrong(cert, q, ca)...)
		if key, err := publicKey(f.Public); err != nil {
			add("its key is missing on the machine")
		} else if k, ok := key.(*ecdsa.PublicKey); !ok || !k.Equal(cert.PublicKey) {
			add("its key on the machine does not match")
		}
		if f.Mode.Perm()&0o077 != 0 {
			add("its key can be read by others: mode %o", f.Mode.Perm())
		}
		if q.Server && l.runs(q.Name) {
			onWire, err := Presented(ctx, netip.AddrPortFrom(l.m.Address, nodeconf.KubeletPort).String())
			if err != nil {
				add("nothing shows it at port %d: %v", nodeconf.KubeletPort, err)
			} else if !onWire.Equal(cert) {
				add("port %d shows another one, %s of %s", nodeconf.KubeletPort, onWire.SerialNumber.Text(16), onWire.NotBefore.Format(time.DateOnly))
				differs = true
			}
		}
	}
	l.entries = append(l.entries, e)
	return differs
}

// runs says whether what shows a certificate runs: if not, that is another
// trouble, which status names.
func (l *trustLook) runs(name string) bool { return l.seen[ServerUnit(name)] == "active" }

// ServerUnit is the unit that shows a certificate at its port.
func ServerUnit(name string) string {
	unit := map[string]string{"api-server": nodeconf.UnitAPIServer, "kubelet-serving": nodeconf.UnitKubelet}[name]
	if unit == "" {
		unit = nodeconf.UnitEtcd
	}
	return unit
}

// Presented is the certificate that a server shows. It is looked at, not
// trusted.
func Presented(ctx context.Context, addr string) (*x509.Certificate, error) {
	var shown *x509.Certificate
	// Nothing is said over this connection: the cheaper key exchanges will do.
	d := tls.Dialer{NetDialer: &net.Dialer{Timeout: 3 * time.Second}, Config: &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS12, CurvePreferences: []tls.CurveID{tls.X25519, tls.CurveP256, tls.CurveP384},
		VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
			c, err := x509.ParseCertificate(raw[0])
			shown = c
			return err
		}}}
	c, err := d.DialContext(ctx, "tcp", addr)
	if c != nil {
		c.Close()
	}
	if shown != nil {
		return shown, nil
	}
	return nil, err
}
