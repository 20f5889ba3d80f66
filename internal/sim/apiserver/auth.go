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
			return user{}, fmt.Errorf("client certificate of %q: %v", c.Subject.CommonName, err)
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

// nodeAllows is the node authorizer with node restriction: a kubelet reads what
// its own pods need, and writes only what is its own.
func (s *server) nodeAllows(ctx context.Context, u user, a access) bool {
	node, ok := strings.CutPrefix(u.name, "system:node:")
	if !ok || !u.in("system:nodes") {
		return false
	}
	read := a.verb == "get" || a.verb == "list" || a.verb == "watch"
	switch a.group + "/" + a.plural {
	case "/nodes":
		return read || a.verb == "create" || (a.verb == "update" || a.verb == "patch") && a.name == node
	case "/pods":
		if read {
			return true
		}
		if a.sub != "status" && (a.sub != "" || a.verb != "delete") || a.verb == "create" {
			return false
		}
		o, _, _, err := s.load(ctx, findResource("", "v1", "pods"), a.ns, a.name)
		p, ok := o.(*corev1.Pod)
		return err == nil && ok && p.Spec.NodeName == node
	case "/services", "/endpoints", "discovery.k8s.io/endpointslices":
		return read
	case "/configmaps", "/secrets":
		return a.verb == "get" && s.podsOf(ctx, node, a.ns, func(p *corev1.Pod) bool { return refers(p, a.plural, a.name) })
	case "/serviceaccounts":
		return (a.sub == "token" && a.verb == "create" || a.verb == "get") && s.podsOf(ctx, node, a.ns, func(p *corev1.Pod) bool { return p.Spec.ServiceAccountName == a.name })
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

// podsOf says whether one of a node's pods in a namespace is as asked.
func (s *server) podsOf(ctx context.Context, node, ns string, is func(*corev1.Pod) bool) bool {
	res := findResource("", "v1", "pods")
	kvs, _, err := s.rangeOf(ctx, res.prefix(ns))
	if err != nil {
		return false
	}
	return slices.ContainsFunc(kvs, func(kv *mvccpb.KeyValue) bool {
		o, _, err := s.decodeStored(res, kv.Value, kv.ModRevision)
		p, ok := o.(*corev1.Pod)
		return err == nil && ok && p.Spec.NodeName == node && is(p)
	})
}

// refers says whether a pod needs a Secret or a ConfigMap.
func refers(p *corev1.Pod, plural, name string) bool {
	secret := plural == "secrets"
	for _, v := range p.Spec.Volumes {
		if secret && v.Secret != nil && v.Secret.SecretName == name || !secret && v.ConfigMap != nil && v.ConfigMap.Name == name {
			return true
		}
	}
	for _, c := range p.Spec.Containers {
		for _, e := range c.EnvFrom {
			if secret && e.SecretRef != nil && e.SecretRef.Name == name || !secret && e.ConfigMapRef != nil && e.ConfigMapRef.Name == name {
				return true
			}
		}
		for _, e := range c.Env {
			if f := e.ValueFrom; f != nil && (secret && f.SecretKeyRef != nil && f.SecretKeyRef.Name == name || !secret && f.ConfigMapKeyRef != nil && f.ConfigMapKeyRef.Name == name) {
				return true
			}
		}
	}
	return secret && slices.ContainsFunc(p.Spec.ImagePullSecrets, func(r corev1.LocalObjectReference) bool { return r.Name == name })
}

func (s *server) allowed(ctx context.Context, u user, a access) bool {
	if u.in("system:masters") {
		return true
	}
	if u.name != anonymous && (a.plural == "selfsubjectaccessreviews" || a.plural == "selfsubjectreviews") {
		return true
	}
	return s.nodeAllows(ctx, u, a) || s.rbac != nil && s.rbac.allows(u, a)
}

func (s *server) authorize(ctx context.Context, u user, q *request) error {
	a := access{q.verb, q.resource.group, q.resource.plural, q.sub, q.ns, q.name}
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
	kvs, rev, err := s.rangeOf(ctx, rbacPrefix)
	if err != nil {
		return err
	}
	for _, kv := range kvs {
		b.apply(string(kv.Key), kv.Value)
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
		}
	}()
	return nil
}
