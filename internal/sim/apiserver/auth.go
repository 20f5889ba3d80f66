package apiserver

import (
	"context"
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

	"github.com/golang-jwt/jwt/v5"
	"go.etcd.io/etcd/api/v3/mvccpb"
	rbacv1 "k8s.io/api/rbac/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"verbund/internal/core/trust"
	"verbund/internal/sim/host"
)

const anonymous = "system:anonymous"

var metav1ResourceNone = schema.GroupResource{}

type user struct {
	name   string
	groups []string
}

func (u user) in(g string) bool { return slices.Contains(u.groups, g) }

// authenticate finds out who asks: by client certificate, then by bearer
// token; who brings neither is anonymous, who brings a wrong one is refused.
func (s *server) authenticate(r *http.Request) (user, error) {
	if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
		c := r.TLS.PeerCertificates[0]
		if _, err := c.Verify(x509.VerifyOptions{Roots: s.cas, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}); err != nil {
			return user{}, fmt.Errorf("client certificate of %q: %v", c.Subject.CommonName, err)
		}
		return user{c.Subject.CommonName, append(slices.Clone(c.Subject.Organization), "system:authenticated")}, nil
	}
	if t, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return s.tokens.verify(t)
	}
	return user{anonymous, []string{"system:unauthenticated"}}, nil
}

// tokens signs and verifies service-account tokens (RFC 7519).
type tokens struct {
	issuer  string
	signing any
	public  any
}

func loadTokens(h *host.Host, o *options) (*tokens, error) {
	b, err := h.ReadFile(o.saSigningKey)
	if err != nil {
		return nil, err
	}
	k, err := trust.DecodeKey(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", o.saSigningKey, err)
	}
	if b, err = h.ReadFile(o.saKey); err != nil {
		return nil, err
	}
	pub, err := jwt.ParseECPublicKeyFromPEM(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", o.saKey, err)
	}
	return &tokens{issuer: o.issuer, signing: k, public: pub}, nil
}

func (t *tokens) sign(ns, name string, life time.Duration) (string, time.Time, error) {
	end := time.Now().Add(life)
	s, err := jwt.NewWithClaims(jwt.SigningMethodES256, jwt.RegisteredClaims{
		Issuer: t.issuer, Subject: "system:serviceaccount:" + ns + ":" + name, Audience: jwt.ClaimStrings{t.issuer},
		ExpiresAt: jwt.NewNumericDate(end), IssuedAt: jwt.NewNumericDate(time.Now()),
	}).SignedString(t.signing)
	return s, end, err
}

func (t *tokens) verify(tok string) (user, error) {
	var c jwt.RegisteredClaims
	_, err := jwt.ParseWithClaims(tok, &c, func(*jwt.Token) (any, error) { return t.public, nil },
		jwt.WithValidMethods([]string{"ES256"}), jwt.WithIssuer(t.issuer), jwt.WithExpirationRequired())
	if err != nil {
		return user{}, fmt.Errorf("bearer token: %v", err)
	}
	p := strings.Split(c.Subject, ":")
	if len(p) != 4 {
		return user{}, errors.New("bearer token: its subject is no service account")
	}
	return user{c.Subject, []string{"system:serviceaccounts", "system:serviceaccounts:" + p[2], "system:authenticated"}}, nil
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
type access struct{ verb, group, plural, sub, ns, name string }

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
		rules := b.clusterRoles[rb.RoleRef.Name]
		if rb.RoleRef.Kind == "Role" {
			rules = b.roles[ns+"/"+rb.RoleRef.Name]
		}
		if ruleAllows(rules, a) {
			return true
		}
	}
	return false
}

// nodeAllows is the node authorizer with node restriction, as far as names can
// tell: a kubelet reads what nodes read, and writes only what is its own.
func nodeAllows(u user, a access) bool {
	node, ok := strings.CutPrefix(u.name, "system:node:")
	if !ok || !u.in("system:nodes") {
		return false
	}
	read := a.verb == "get" || a.verb == "list" || a.verb == "watch"
	switch a.group + "/" + a.plural {
	case "/nodes":
		return read || a.verb == "create" || (a.verb == "update" || a.verb == "patch") && a.name == node
	case "/pods":
		return read || (a.sub == "status" && a.verb != "create") || a.verb == "delete" && a.sub == ""
	case "/services", "/configmaps", "/secrets", "/endpoints", "discovery.k8s.io/endpointslices":
		return read
	case "/serviceaccounts":
		return a.sub == "token" && a.verb == "create" || a.verb == "get"
	case "/events", "events.k8s.io/events":
		return a.verb == "create" || a.verb == "patch" || a.verb == "update"
	case "coordination.k8s.io/leases":
		return a.ns == "kube-node-lease" && (a.name == node || a.verb == "create")
	case "certificates.k8s.io/certificatesigningrequests":
		return a.verb == "create" || read
	case "authorization.k8s.io/subjectaccessreviews", "authentication.k8s.io/tokenreviews":
		return a.verb == "create"
	}
	return false
}

func (s *server) allowed(u user, a access) bool {
	if u.in("system:masters") {
		return true
	}
	if u.name != anonymous && (a.plural == "selfsubjectaccessreviews" || a.plural == "selfsubjectreviews") {
		return true
	}
	return nodeAllows(u, a) || s.rbac != nil && s.rbac.allows(u, a)
}

func (s *server) authorize(u user, q *request) error {
	a := access{q.verb, q.resource.group, q.resource.plural, q.sub, q.ns, q.name}
	if s.allowed(u, a) {
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
	kvs, rev, err := s.rangeOf(ctx, rbacPrefix)
	if err != nil {
		return err
	}
	for _, kv := range kvs {
		b.apply(string(kv.Key), kv.Value)
	}
	s.rbac = b
	go func() {
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
		}
	}()
	return nil
}
