package apiserver

import (
	"context"
	"crypto/subtle"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	authnv1 "k8s.io/api/authentication/v1"
	corev1 "k8s.io/api/core/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/fields"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"verbund/internal/core/trust"
)

const anonymous = "system:anonymous"

var metav1ResourceNone = schema.GroupResource{}

type user struct {
	name   string
	groups []string
	uid    string
	extra  map[string][]string
}

// info is how reviews tell of a user.
func (u user) info() authnv1.UserInfo {
	i := authnv1.UserInfo{Username: u.name, UID: u.uid, Groups: u.groups}
	for k, v := range u.extra {
		if i.Extra == nil {
			i.Extra = map[string]authnv1.ExtraValue{}
		}
		i.Extra[k] = v
	}
	return i
}

func (u user) in(g string) bool { return slices.Contains(u.groups, g) }

// authenticate finds out who asks: by client certificate, then by bearer
// token; who brings neither is anonymous, who brings a wrong one is refused.
func (s *server) authenticate(r *http.Request) (user, error) {
	if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
		c := r.TLS.PeerCertificates[0]
		// What stands in front says who asks; only one under its own authority,
		// with one of the allowed names, is believed.
		if s.fromFront(r, c) {
			return user{name: r.Header.Get("X-Remote-User"), groups: append(slices.Clone(r.Header.Values("X-Remote-Group")), "system:authenticated")}, nil
		}
		if err := s.verified(c); err != nil {
			return user{}, fmt.Errorf("client certificate of %q: %w", c.Subject.CommonName, err)
		}
		return user{name: c.Subject.CommonName, groups: append(slices.Clone(c.Subject.Organization), "system:authenticated")}, nil
	}
	if t, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		if s.opt.bootstrapTokens && trust.TokenForm.MatchString(t) {
			return s.enrolling(r.Context(), t)
		}
		return s.account(r.Context(), t, nil)
	}
	return user{name: anonymous, groups: []string{"system:unauthenticated"}}, nil
}

// verified verifies a client's certificate under what is trusted now. That it
// was signed is found out once for as long as the same authorities are trusted;
// that it has not ended, with every request.
func (s *server) verified(c *x509.Certificate) error {
	roots := s.cas.Now()
	if known, ok := s.known.Load(c); ok && known == roots && time.Now().Before(c.NotAfter) {
		return nil
	}
	if _, err := c.Verify(x509.VerifyOptions{Roots: roots, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}); err != nil {
		return err
	}
	if s.knownCount.Add(1) > 10_000 {
		s.knownCount.Store(0)
		s.known.Clear()
	}
	s.known.Store(c, roots)
	return nil
}

// fromFront says whether a request comes from a proxy in front of the server.
func (s *server) fromFront(r *http.Request, c *x509.Certificate) bool {
	if s.fronts == nil || r.Header.Get("X-Remote-User") == "" || !slices.Contains(s.opt.headerNames, c.Subject.CommonName) {
		return false
	}
	_, err := c.Verify(x509.VerifyOptions{Roots: s.fronts.Now(), KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}})
	return err == nil
}

// enrolling finds the Secret of an enrolment token. Whoever shows one that does
// not serve is not told why; the log says it, once for as long as the same one tries.
func (s *server) enrolling(ctx context.Context, token string) (user, error) {
	part := trust.TokenForm.FindStringSubmatch(token)
	o, _, _, err := s.load(ctx, findResource("", "v1", "secrets"), "kube-system", "bootstrap-token-"+part[1])
	sec, _ := o.(*corev1.Secret)
	why := ""
	switch {
	case err != nil || sec == nil || sec.Type != corev1.SecretTypeBootstrapToken:
		why = "it is not known, or was revoked"
	case subtle.ConstantTimeCompare(sec.Data["token-secret"], []byte(part[2])) != 1:
		why = "its secret half is another one"
	case string(sec.Data["usage-bootstrap-authentication"]) != "true":
		why = "it is not for authentication"
	default:
		if end := string(sec.Data["expiration"]); end != "" {
			if at, err := time.Parse(time.RFC3339, end); err != nil || time.Now().After(at) {
				why = "it ended at " + end
			}
		}
	}
	if why != "" {
		if text := fmt.Sprintf("refused enrolment token %s: %s", part[1], why); s.refusedToken.Swap(text) != text {
			s.env.Logf("%s", text)
		}
		return user{}, errors.New("enrolment token: it is not known, was revoked, or has ended")
	}
	groups := []string{"system:bootstrappers", "system:authenticated"}
	if extra := string(sec.Data["auth-extra-groups"]); extra != "" {
		groups = append(groups, strings.Split(extra, ",")...)
	}
	return user{name: "system:bootstrap:" + part[1], groups: groups}, nil
}

// rbac is the policy as it stands in etcd, kept up to date by watching it.
type rbac struct {
	mu           sync.RWMutex
	clusterRoles map[string][]rbacv1.PolicyRule
	roles        map[string][]rbacv1.PolicyRule // by namespace/name
	clusterBinds map[string]rbacv1.ClusterRoleBinding
	binds        map[string]rbacv1.RoleBinding
}

func newRBAC() *rbac {
	return &rbac{clusterRoles: map[string][]rbacv1.PolicyRule{}, roles: map[string][]rbacv1.PolicyRule{}, clusterBinds: map[string]rbacv1.ClusterRoleBinding{}, binds: map[string]rbacv1.RoleBinding{}}
}

const rbacPrefix = "/registry/rbac.authorization.k8s.io/"

// replace takes all objects in the place of those that there were.
func (b *rbac) replace(kvs []*mvccpb.KeyValue) {
	fresh := newRBAC()
	for _, kv := range kvs {
		fresh.apply(string(kv.Key), kv.Value)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.clusterRoles, b.roles, b.clusterBinds, b.binds = fresh.clusterRoles, fresh.roles, fresh.clusterBinds, fresh.binds
}

// apply takes one object, or with a nil value its removal.
func (b *rbac) apply(key string, value []byte) {
	b.mu.Lock()
	defer b.mu.Unlock()
	kind, name, _ := strings.Cut(strings.TrimPrefix(key, rbacPrefix), "/")
	switch kind {
	case "clusterroles":
		var r rbacv1.ClusterRole
		if delete(b.clusterRoles, name); value != nil && json.Unmarshal(value, &r) == nil {
			b.clusterRoles[name] = r.Rules
		}
	case "roles":
		var r rbacv1.Role
		if delete(b.roles, name); value != nil && json.Unmarshal(value, &r) == nil {
			b.roles[name] = r.Rules
		}
	case "clusterrolebindings":
		var r rbacv1.ClusterRoleBinding
		if delete(b.clusterBinds, name); value != nil && json.Unmarshal(value, &r) == nil {
			b.clusterBinds[name] = r
		}
	case "rolebindings":
		var r rbacv1.RoleBinding
		if delete(b.binds, name); value != nil && json.Unmarshal(value, &r) == nil {
			b.binds[name] = r
		}
	}
}

func subjectMatches(ss []rbacv1.Subject, u user, ns string) bool {
	return slices.ContainsFunc(ss, func(s rbacv1.Subject) bool {
		switch s.Kind {
		case rbacv1.UserKind:
			return s.Name == u.name
		case rbacv1.GroupKind:
			return u.in(s.Name)
		case rbacv1.ServiceAccountKind:
			if s.Namespace != "" {
				ns = s.Namespace
			}
			return u.name == "system:serviceaccount:"+ns+":"+s.Name
		}
		return false
	})
}

func has(list []string, v string) bool { return slices.Contains(list, "*") || slices.Contains(list, v) }

func ruleAllows(rules []rbacv1.PolicyRule, a access) bool {
	what := a.plural
	if a.sub != "" {
		what += "/" + a.sub
	}
	return slices.ContainsFunc(rules, func(r rbacv1.PolicyRule) bool {
		return has(r.Verbs, a.verb) && has(r.APIGroups, a.group) && (has(r.Resources, what) || a.sub != "" && slices.Contains(r.Resources, "*/"+a.sub)) &&
			(len(r.ResourceNames) == 0 || slices.Contains(r.ResourceNames, a.name))
	})
}

// access is one thing that somebody wants to do.
type access struct {
	verb, group, plural, sub, ns, name string
	fields                             fields.Selector // nil: not said
}

func (b *rbac) allows(u user, a access) bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	for _, cb := range b.clusterBinds {
		if subjectMatches(cb.Subjects, u, "") && ruleAllows(b.clusterRoles[cb.RoleRef.Name], a) {
			return true
		}
	}
	for key, rb := range b.binds {
		ns := path.Dir(key)
		if ns != a.ns || !subjectMatches(rb.Subjects, u, ns) {
			continue
		}
		if ruleAllows(b.rulesAt(rb.RoleRef, ns), a) {
			return true
		}
	}
	return false
}

// allowsPath says whether somebody may ask for what is no resource.
func (b *rbac) allowsPath(u user, verb, at string) bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	for _, cb := range b.clusterBinds {
		if subjectMatches(cb.Subjects, u, "") && slices.ContainsFunc(b.clusterRoles[cb.RoleRef.Name], func(r rbacv1.PolicyRule) bool {
			return has(r.Verbs, verb) && slices.ContainsFunc(r.NonResourceURLs, func(x string) bool {
				head, all := strings.CutSuffix(x, "*")
				return x == at || all && strings.HasPrefix(at, head)
			})
		}) {
			return true
		}
	}
	return false
}

func (s *server) allowed(ctx context.Context, u user, a access) bool {
	if u.in("system:masters") {
		return true
	}
	if u.name != anonymous && (a.plural == "selfsubjectaccessreviews" || a.plural == "selfsubjectreviews") {
		return true
	}
	for mode := range strings.SplitSeq(s.opt.authorization, ",") {
		switch {
		case mode == "AlwaysAllow", mode == "Node" && s.nodeAllows(ctx, u, a), mode == "RBAC" && s.rbac != nil && s.rbac.allows(u, a):
			return true
		}
	}
	return false
}

func (s *server) authorize(ctx context.Context, u user, q *request) error {
	a := access{q.verb, q.resource.group, q.resource.plural, q.sub, q.ns, q.name, q.fields}
	if s.allowed(ctx, u, a) {
		return nil
	}
	what := q.resource.gr()
	if q.sub != "" {
		what.Resource += "/" + q.sub
	}
	where := ""
	if q.ns != "" {
		where = fmt.Sprintf(" in the namespace %q", q.ns)
	}
	return apierrors.NewForbidden(what, q.name, fmt.Errorf("user %q cannot %s this%s", u.name, q.verb, where))
}

// watchRBAC loads the policy and follows it until ctx ends.
func (s *server) watchRBAC(ctx context.Context) error {
	b := newRBAC()
	load := func() (int64, error) {
		kvs, rev, err := s.rangeOf(ctx, rbacPrefix)
		if err == nil {
			b.replace(kvs)
		}
		return rev, err
	}
	rev, err := load()
	if err != nil {
		return err
	}
	s.rbac = b
	go func() {
		defer s.env.Catch()
		for ctx.Err() == nil {
			for r := range s.etcd.Watch(ctx, rbacPrefix, watchFrom(rev+1)...) {
				for _, ev := range r.Events {
					v := ev.Kv.Value
					if ev.Type == mvccpb.DELETE {
						v = nil
					}
					b.apply(string(ev.Kv.Key), v)
					rev = ev.Kv.ModRevision
				}
			}
			// A watch ends when the datastore goes, or has compacted what was to come
			// next: then all of it is read anew.
			if now, err := load(); err == nil {
				rev = now
			}
			select {
			case <-ctx.Done():
			case <-time.After(again):
			}
		}
	}()
	return nil
}

// again is how long the policy's watcher waits before it watches anew: whatever ended the
// watch may end the next one as well.
const again = 200 * time.Millisecond
