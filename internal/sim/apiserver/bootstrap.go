package apiserver

import (
	"context"
	"fmt"
	"time"

	corev1 "k8s.io/api/core/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/util/uuid"
)

// bootstrap waits for the datastore, follows the policy, and makes the
// namespaces, roles and the service that every cluster has.
func (s *server) bootstrap(ctx context.Context) error {
	for {
		err := s.seed(ctx)
		if err == nil || ctx.Err() != nil {
			return ctx.Err()
		}
		s.env.Logf("post-start: %v, trying again", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

func (s *server) seed(ctx context.Context) error {
	tctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	if _, err := s.etcd.Get(tctx, "/registry/health"); err != nil {
		return fmt.Errorf("etcd %v: %w", s.opt.etcdServers, err)
	}
	if s.rbac == nil {
		if err := s.watchRBAC(s.life); err != nil {
			return err
		}
	}
	for _, o := range seeds() {
		gvk := o.GetObjectKind().GroupVersionKind()
		var res *resource
		for _, r := range resources {
			if r.gvk() == gvk {
				res = r
			}
		}
		m, err := meta.Accessor(o)
		if err != nil {
			return err
		}
		if _, _, _, err := s.load(tctx, res, m.GetNamespace(), m.GetName()); err == nil {
			continue
		}
		m.SetUID(uuid.NewUUID())
		m.SetCreationTimestamp(metav1.Now())
		m.SetGeneration(1)
		if svc, ok := o.(*corev1.Service); ok {
			svc.Spec.ClusterIP = s.services.Addr().Next().String()
		}
		if err := s.admit(tctx, res, o, nil); err != nil {
			return err
		}
		if err := s.put(tctx, res, o, 0); err != nil && !apierrors.IsAlreadyExists(err) {
			return err
		}
	}
	return nil
}

func rule(verbs, groups, resources []string) rbacv1.PolicyRule {
	return rbacv1.PolicyRule{Verbs: verbs, APIGroups: groups, Resources: resources}
}

// seeds are the objects that the server makes in an empty datastore, as the
// real one does: fewer roles, with the same names.
func seeds() []runtime.Object {
	var out []runtime.Object
	add := func(apiVersion, kind string, o runtime.Object) {
		gv := metav1.TypeMeta{APIVersion: apiVersion, Kind: kind}
		o.GetObjectKind().SetGroupVersionKind(gv.GroupVersionKind())
		out = append(out, o)
	}
	for _, ns := range []string{"default", "kube-system", "kube-public", "kube-node-lease"} {
		add("v1", "Namespace", &corev1.Namespace{ObjectMeta: metav1.ObjectMeta{Name: ns}})
	}
	read, write := []string{"get", "list", "watch"}, []string{"create", "update", "patch", "delete", "deletecollection", "get", "list", "watch"}
	all := []string{"*"}
	leases := rule(write, []string{"coordination.k8s.io"}, []string{"leases"})
	events := rule([]string{"create", "patch", "update"}, []string{"", "events.k8s.io"}, []string{"events"})
	roles := map[string][]rbacv1.PolicyRule{
		"cluster-admin":                  {rule(all, all, all), {Verbs: all, NonResourceURLs: all}},
		"view":                           {rule(read, []string{"", "apps", "batch", "policy", "discovery.k8s.io", "events.k8s.io"}, []string{"pods", "pods/log", "services", "configmaps", "endpoints", "events", "nodes", "namespaces", "deployments", "replicasets", "daemonsets", "statefulsets", "jobs", "poddisruptionbudgets", "endpointslices"})},
		"system:kube-controller-manager": {rule(all, []string{"", "apps", "batch", "policy", "discovery.k8s.io", "certificates.k8s.io", "events.k8s.io"}, all), rule(all, []string{"rbac.authorization.k8s.io"}, []string{"roles", "rolebindings"}), rule(read, all, all), leases},
		"system:kube-scheduler":          {rule(read, []string{""}, []string{"nodes", "pods", "services", "namespaces", "persistentvolumes", "persistentvolumeclaims", "replicationcontrollers"}), rule(read, []string{"apps"}, []string{"replicasets", "statefulsets"}), rule(read, []string{"policy"}, []string{"poddisruptionbudgets"}), rule([]string{"create"}, []string{""}, []string{"pods/binding", "bindings"}), rule([]string{"patch", "update"}, []string{""}, []string{"pods/status"}), leases, events},
		"system:node-proxier":            {rule(read, []string{"", "discovery.k8s.io"}, []string{"services", "endpoints", "nodes", "endpointslices"}), events},
		"system:kubelet-api-admin":       {rule(all, []string{""}, []string{"nodes/proxy", "nodes/log", "nodes/stats", "nodes/metrics", "nodes/pods", "nodes/healthz", "nodes/configz"}), rule([]string{"proxy", "get", "list", "watch"}, []string{""}, []string{"nodes"})},
		"system:node-bootstrapper":       {rule([]string{"create", "get", "list", "watch"}, []string{"certificates.k8s.io"}, []string{"certificatesigningrequests"})},
	}
	subjects := map[string][]rbacv1.Subject{
		"cluster-admin":                  {{Kind: "Group", APIGroup: "rbac.authorization.k8s.io", Name: "system:masters"}},
		"system:kube-controller-manager": {{Kind: "User", APIGroup: "rbac.authorization.k8s.io", Name: "system:kube-controller-manager"}},
		"system:kube-scheduler":          {{Kind: "User", APIGroup: "rbac.authorization.k8s.io", Name: "system:kube-scheduler"}},
		"system:node-proxier":            {{Kind: "User", APIGroup: "rbac.authorization.k8s.io", Name: "system:kube-proxy"}},
	}
	for name, rules := range roles {
		add("rbac.authorization.k8s.io/v1", "ClusterRole", &rbacv1.ClusterRole{ObjectMeta: metav1.ObjectMeta{Name: name}, Rules: rules})
		if ss := subjects[name]; ss != nil {
			add("rbac.authorization.k8s.io/v1", "ClusterRoleBinding", &rbacv1.ClusterRoleBinding{ObjectMeta: metav1.ObjectMeta{Name: name}, Subjects: ss,
				RoleRef: rbacv1.RoleRef{APIGroup: "rbac.authorization.k8s.io", Kind: "ClusterRole", Name: name}})
		}
	}
	add("v1", "Service", &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: "kubernetes", Namespace: "default"},
		Spec: corev1.ServiceSpec{Ports: []corev1.ServicePort{{Name: "https", Port: 443}}}})
	return out
}
