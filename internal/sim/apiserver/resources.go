package apiserver

import (
	"strings"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"verbund/internal/kubeapi"
)

// resource is one kind of thing that the server keeps.
type resource struct {
	group, version, plural, singular, kind string
	namespaced                             bool
	short                                  string // comma separated
	status                                 bool
	subs                                   string // further subresources, comma separated
	virtual                                bool   // answered, never kept
	all                                    bool   // belongs to the category "all"
}

// resources is the table of everything that is served.
var resources = []*resource{
	{"", "v1", "namespaces", "namespace", "Namespace", false, "ns", true, "finalize", false, false},
	{"", "v1", "nodes", "node", "Node", false, "no", true, "", false, false},
	{"", "v1", "pods", "pod", "Pod", true, "po", true, "binding,eviction,log", false, true},
	{"", "v1", "services", "service", "Service", true, "svc", true, "", false, true},
	{"", "v1", "configmaps", "configmap", "ConfigMap", true, "cm", false, "", false, false},
	{"", "v1", "secrets", "secret", "Secret", true, "", false, "", false, false},
	{"", "v1", "serviceaccounts", "serviceaccount", "ServiceAccount", true, "sa", false, "token", false, false},
	{"", "v1", "events", "event", "Event", true, "ev", false, "", false, false},
	{"", "v1", "endpoints", "endpoints", "Endpoints", true, "ep", false, "", false, false},
	{"", "v1", "persistentvolumes", "persistentvolume", "PersistentVolume", false, "pv", true, "", false, false},
	{"", "v1", "persistentvolumeclaims", "persistentvolumeclaim", "PersistentVolumeClaim", true, "pvc", true, "", false, false},
	{"", "v1", "replicationcontrollers", "replicationcontroller", "ReplicationController", true, "rc", true, "", false, true},
	{"", "v1", "resourcequotas", "resourcequota", "ResourceQuota", true, "quota", true, "", false, false},
	{"", "v1", "limitranges", "limitrange", "LimitRange", true, "limits", false, "", false, false},
	{"apps", "v1", "deployments", "deployment", "Deployment", true, "deploy", true, "scale", false, true},
	{"apps", "v1", "replicasets", "replicaset", "ReplicaSet", true, "rs", true, "scale", false, true},
	{"apps", "v1", "daemonsets", "daemonset", "DaemonSet", true, "ds", true, "", false, true},
	{"apps", "v1", "statefulsets", "statefulset", "StatefulSet", true, "sts", true, "", false, true},
	{"batch", "v1", "jobs", "job", "Job", true, "", true, "", false, true},
	{"policy", "v1", "poddisruptionbudgets", "poddisruptionbudget", "PodDisruptionBudget", true, "pdb", true, "", false, false},
	{"discovery.k8s.io", "v1", "endpointslices", "endpointslice", "EndpointSlice", true, "", false, "", false, false},
	{"coordination.k8s.io", "v1", "leases", "lease", "Lease", true, "", false, "", false, false},
	{"events.k8s.io", "v1", "events", "event", "Event", true, "ev", false, "", false, false},
	{"certificates.k8s.io", "v1", "certificatesigningrequests", "certificatesigningrequest", "CertificateSigningRequest", false, "csr", true, "approval", false, false},
	{"rbac.authorization.k8s.io", "v1", "clusterroles", "clusterrole", "ClusterRole", false, "", false, "", false, false},
	{"rbac.authorization.k8s.io", "v1", "clusterrolebindings", "clusterrolebinding", "ClusterRoleBinding", false, "", false, "", false, false},
	{"rbac.authorization.k8s.io", "v1", "roles", "role", "Role", true, "", false, "", false, false},
	{"rbac.authorization.k8s.io", "v1", "rolebindings", "rolebinding", "RoleBinding", true, "", false, "", false, false},
	{"storage.k8s.io", "v1", "volumeattributesclasses", "volumeattributesclass", "VolumeAttributesClass", false, "vac", false, "", false, false},
	{"storage.k8s.io", "v1beta1", "volumeattributesclasses", "volumeattributesclass", "VolumeAttributesClass", false, "vac", false, "", false, false},
	{"admissionregistration.k8s.io", "v1", "validatingwebhookconfigurations", "validatingwebhookconfiguration", "ValidatingWebhookConfiguration", false, "", false, "", false, false},
	{"admissionregistration.k8s.io", "v1", "mutatingwebhookconfigurations", "mutatingwebhookconfiguration", "MutatingWebhookConfiguration", false, "", false, "", false, false},
	{"authorization.k8s.io", "v1", "subjectaccessreviews", "subjectaccessreview", "SubjectAccessReview", false, "", false, "", true, false},
	{"authorization.k8s.io", "v1", "selfsubjectaccessreviews", "selfsubjectaccessreview", "SelfSubjectAccessReview", false, "", false, "", true, false},
	{"authentication.k8s.io", "v1", "tokenreviews", "tokenreview", "TokenReview", false, "", false, "", true, false},
	{"authentication.k8s.io", "v1", "selfsubjectreviews", "selfsubjectreview", "SelfSubjectReview", false, "", false, "", true, false},
}

func (r *resource) gv() schema.GroupVersion {
	return schema.GroupVersion{Group: r.group, Version: r.version}
}

func (r *resource) gvk() schema.GroupVersionKind { return r.gv().WithKind(r.kind) }

func (r *resource) gr() schema.GroupResource {
	return schema.GroupResource{Group: r.group, Resource: r.plural}
}

// storageGroup is where the group lies; the two faces of events share one store.
func (r *resource) storageGroup() string {
	if r.group == "" || r.kind == "Event" {
		return "core"
	}
	return r.group
}

// prefix is where the resource's objects lie in etcd.
func (r *resource) prefix(ns string) string {
	p := "/registry/" + r.storageGroup() + "/" + r.plural + "/"
	if r.namespaced && ns != "" {
		p += ns + "/"
	}
	return p
}

func (r *resource) key(ns, name string) string { return r.prefix(ns) + name }

// make returns an empty object of the resource's kind.
func (r *resource) make() (runtime.Object, error) {
	o, err := kubeapi.Scheme.New(r.gvk())
	if err == nil {
		o.GetObjectKind().SetGroupVersionKind(r.gvk())
	}
	return o, err
}

func (r *resource) subresources() []string {
	var s []string
	if r.status {
		s = append(s, "status")
	}
	if r.subs != "" {
		s = append(s, strings.Split(r.subs, ",")...)
	}
	return s
}

func findResource(group, version, plural string) *resource {
	for _, r := range resources {
		if r.group == group && r.version == version && r.plural == plural {
			return r
		}
	}
	return nil
}

// verbs that discovery shows.
func (r *resource) verbs() metav1.Verbs {
	if r.virtual {
		return metav1.Verbs{"create"}
	}
	return metav1.Verbs{"create", "delete", "deletecollection", "get", "list", "patch", "update", "watch"}
}

// groups lists the versions of API groups in the order of the table.
func groups(served []*resource) []schema.GroupVersion {
	var out []schema.GroupVersion
	seen := map[schema.GroupVersion]bool{}
	for _, r := range served {
		if gv := r.gv(); !seen[gv] {
			seen[gv] = true
			out = append(out, gv)
		}
	}
	return out
}
