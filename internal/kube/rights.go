package kube

import (
	"context"
	"fmt"
	"slices"

	rbacv1 "k8s.io/api/rbac/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

// Rights says in words which roles a person has, by name or by group: those
// that role bindings give, and nothing that is worked out.
func (c *Client) Rights(ctx context.Context, name string, groups []string) ([]string, error) {
	who := func(ss []rbacv1.Subject) string {
		for _, s := range ss {
			switch {
			case s.Kind == rbacv1.UserKind && s.Name == name:
				return "by name"
			case s.Kind == rbacv1.GroupKind && slices.Contains(groups, s.Name):
				return "through group " + s.Name
			}
		}
		return ""
	}
	var out []string
	all, err := c.RbacV1().ClusterRoleBindings().List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	for _, b := range all.Items {
		if w := who(b.Subjects); w != "" {
			out = append(out, fmt.Sprintf("role %s in the whole cluster, %s", b.RoleRef.Name, w))
		}
	}
	some, err := c.RbacV1().RoleBindings("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	for _, b := range some.Items {
		if w := who(b.Subjects); w != "" {
			out = append(out, fmt.Sprintf("role %s in namespace %s, %s", b.RoleRef.Name, b.Namespace, w))
		}
	}
	return out, nil
}
