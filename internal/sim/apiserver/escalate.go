package apiserver

import (
	"context"
	"fmt"
	"path"

	rbacv1 "k8s.io/api/rbac/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/component-helpers/auth/rbac/validation"
)

// rulesOf are all rules that somebody has in a namespace; without one, in the whole cluster.
func (b *rbac) rulesOf(u user, ns string) []rbacv1.PolicyRule {
	b.mu.RLock()
	defer b.mu.RUnlock()
	var out []rbacv1.PolicyRule
	for _, cb := range b.clusterBinds {
		if subjectMatches(cb.Subjects, u, "") {
			out = append(out, b.clusterRoles[cb.RoleRef.Name]...)
		}
	}
	for key, rb := range b.binds {
		if of := path.Dir(key); ns != "" && of == ns && subjectMatches(rb.Subjects, u, of) {
			out = append(out, b.rulesAt(rb.RoleRef, of)...)
		}
	}
	return out
}

// rulesAt are the rules of a role that something in a namespace refers to; the caller holds the
// lock.
func (b *rbac) rulesAt(r rbacv1.RoleRef, ns string) []rbacv1.PolicyRule {
	if r.Kind == "Role" {
		return b.roles[ns+"/"+r.Name]
	}
	return b.clusterRoles[r.Name]
}

// mayGive refuses rights that somebody gives who does not have them (Kubernetes, Using RBAC
// Authorization, privilege escalation prevention): a role wants all that is in it, or the verb
// escalate; a binding all that is in its role, or the verb bind on it.
func (s *server) mayGive(ctx context.Context, u user, q *request, o runtime.Object) error {
	if s.rbac == nil || u.in("system:masters") {
		return nil
	}
	var given []rbacv1.PolicyRule
	spared := access{group: rbacv1.GroupName, ns: q.ns}
	switch o := o.(type) {
	case *rbacv1.ClusterRole:
		given, spared.verb, spared.plural, spared.name = o.Rules, "escalate", "clusterroles", o.Name
	case *rbacv1.Role:
		given, spared.verb, spared.plural, spared.name = o.Rules, "escalate", "roles", o.Name
	case *rbacv1.ClusterRoleBinding:
		spared.verb, spared.plural, spared.name = "bind", "clusterroles", o.RoleRef.Name
		given = s.rulesAt(o.RoleRef, "")
	case *rbacv1.RoleBinding:
		spared.verb, spared.plural, spared.name = "bind", "clusterroles", o.RoleRef.Name
		if o.RoleRef.Kind == "Role" {
			spared.plural = "roles"
		}
		given = s.rulesAt(o.RoleRef, q.ns)
	default:
		return nil
	}
	if s.allowed(ctx, u, spared) {
		return nil
	}
	if spared.verb == "bind" && given == nil {
		return apierrors.NewNotFound(rbacv1.Resource(spared.plural), spared.name) // nobody knows what it will hold
	}
	if covered, missing := validation.Covers(s.rbac.rulesOf(u, q.ns), given); !covered {
		return apierrors.NewForbidden(q.resource.gr(), q.name, fmt.Errorf("user %q (groups=%q) is attempting to grant RBAC permissions not currently held:\n%v", u.name, u.groups, missing))
	}
	return nil
}

// rulesAt are the rules of a role; nil when there is none.
func (s *server) rulesAt(r rbacv1.RoleRef, ns string) []rbacv1.PolicyRule {
	s.rbac.mu.RLock()
	defer s.rbac.mu.RUnlock()
	return s.rbac.rulesAt(r, ns)
}
