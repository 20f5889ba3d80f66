package act

import (
	"context"
	"crypto/tls"
	"crypto/x509"
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
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
	"verbund/internal/store"
)

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
	if m.Is(versions.API) && len(changed) > 0 && active[nodeconf.UnitAPIServer] {
		if err := r.apiReady(ctx, m); err != nil {
			return err
		}
	}
	if m.Is(versions.Member) && active[nodeconf.UnitEtcd] && touched("datastore-") {
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
		if q.Client && !q.Server && t.Certs[trust.WasID(q.ID)] != nil && !r.View.Seen.Now {
			if err := r.taken(ctx, q, t); err != nil {
				return err
			}
		}
		port := look.Servers[q.Name]
		if port == 0 || !active[look.ServerUnit(q.Name)] {
			continue
		}
		issued, err := trust.DecodeCert(t.Certs[q.ID])
		if err != nil {
			return err
		}
		err = session.Until(ctx, fmt.Sprintf("port %d to show the new certificate", port), func(ctx context.Context) (string, error) {
			shown, err := look.Presented(ctx, netip.AddrPortFrom(m.Address, uint16(port)).String())
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
		if how, err := look.ComeIn(ctx, at, look.AtAPI, &pair, header); err == nil && how != "" {
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
		if t.Certs[trust.WasID(q.ID)] != nil {
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
		gone = append(gone, trust.WasID(id))
	}
	return r.ChangeTrust(t, &store.Trust{}, gone...)
}

// putBack gives a machine what it had: the pairs before of those that were changed, and the files
// before, since it did not become well with the new ones; and says so.
func (r *Run) putBack(ctx context.Context, c session.Machine, m topology.Machine, changed, units []string, b before, cause error) error {
	t, ids, err := r.renewed(m)
	ids = slices.DeleteFunc(ids, func(id string) bool {
		return !slices.Contains(changed, trust.Dir+strings.TrimPrefix(id, m.Name)+".crt")
	})
	b.files = slices.DeleteFunc(slices.Clone(b.files), func(f protocol.File) bool { return !slices.Contains(changed, f.Path) })
	b.none = slices.DeleteFunc(slices.Clone(b.none), func(p string) bool { return !slices.Contains(changed, p) })
	if err != nil || len(ids)+len(b.files)+len(b.none) == 0 {
		return errors.Join(cause, err)
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Minute)
	defer cancel()
	what := "files"
	if len(ids) > 0 {
		what = "certificates"
		old := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
		var gone []string
		for _, id := range ids {
			old.Keys[id], old.Certs[id] = t.Keys[trust.WasID(id)], t.Certs[trust.WasID(id)]
			gone = append(gone, trust.WasID(id))
			base := trust.Dir + strings.TrimPrefix(id, m.Name)
			b.files = append(b.files, protocol.File{Path: base + ".crt", Mode: 0o644, Content: old.Certs[id]}, protocol.File{Path: base + ".key", Mode: 0o600, Content: old.Keys[id]})
		}
		if err := r.ChangeTrust(t, old, gone...); err != nil {
			return errors.Join(cause, err)
		}
	}
	if _, err := c.Put(ctx, b.files, b.none); err != nil {
		return errors.Join(cause, fmt.Errorf("putting the %s before back: %w", what, err))
	}
	for _, u := range units {
		if err := c.Do(ctx, protocol.UnitsRestart, u); err != nil {
			return errors.Join(cause, fmt.Errorf("restarting %s with the %s before: %w", u, what, err))
		}
	}
	if len(units) > 0 {
		if _, err := c.Put(ctx, nil, []string{nodeconf.Pending}); err != nil {
			return errors.Join(cause, err)
		}
	}
	var ue *machine.UnitError
	se := &StepError{Err: fmt.Errorf("it did not become well with its new %[1]s, and the %[1]s before were put back: %[2]w", what, cause), Todo: "the others were not touched; mend the cause and run it again"}
	if errors.As(cause, &ue) {
		se.Unit, se.Exit = ue.State.Name, ue.State.ExitCode
	}
	return se
}

// servingKubelet says whether a node's kubelet already shows the certificate
// that it asked for: until its request is approved it has none.
func (r *Run) servingKubelet(ctx context.Context, m topology.Machine) (string, error) {
	t, err := r.Trust()
	if err != nil {
		return "", err
	}
	shown, err := look.Presented(ctx, netip.AddrPortFrom(m.Address, nodeconf.KubeletPort).String())
	if err != nil {
		qs, err := look.Requests(ctx, r.Session, r.Cluster)
		if err != nil {
			return fmt.Sprintf("its kubelet has no serving certificate yet, and what it asked for cannot be looked up: %v", err), nil
		}
		return "its kubelet has no serving certificate yet: " + look.WhyUnsigned(qs, trust.ExpectedNodes(r.Cluster), m.Name), nil
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(trust.Bundle(t.Certs, string(trust.Cluster)))
	if _, err := shown.Verify(x509.VerifyOptions{Roots: pool, DNSName: m.Address.String(), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}); err != nil {
		return fmt.Sprintf("its kubelet shows a certificate that does not serve: %v", err), nil
	}
	return "", nil
}

// refresh has a node's kubelet give every pod a new token: what it knows of the
// old ones it forgets when it restarts.
func (r *Run) refresh(ctx context.Context, m topology.Machine) error {
	now, err := vouch.TokenKey(r.Session)
	if err != nil {
		return err
	}
	return r.With(ctx, m.Name, func(c session.Machine) error {
		if n, err := look.TokensNotBy(ctx, c, now); err != nil || n == 0 {
			return err
		}
		if err := c.Do(ctx, protocol.UnitsRestart, nodeconf.UnitKubelet); err != nil {
			return err
		}
		err := session.Until(ctx, "every pod there to have a token of the new key", func(ctx context.Context) (string, error) {
			n, err := look.TokensNotBy(ctx, c, now)
			if n > 0 {
				return fmt.Sprintf("%d have an old one", n), err
			}
			return "", err
		})
		if err != nil {
			return err
		}
		return r.ready(ctx, m)
	})
}
