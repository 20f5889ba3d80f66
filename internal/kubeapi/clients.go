package kubeapi

import (
	"context"
	"net/http"

	admissionregistrationv1 "k8s.io/api/admissionregistration/v1"
	appsv1 "k8s.io/api/apps/v1"
	authenticationv1 "k8s.io/api/authentication/v1"
	authorizationv1 "k8s.io/api/authorization/v1"
	certificatesv1 "k8s.io/api/certificates/v1"
	coordinationv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	policyv1 "k8s.io/api/policy/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/rest"
)

// Clients are clients of an API, one for each group; their names are those of the published ones.
type Clients struct {
	of map[schema.GroupVersion]rest.Interface
}

// spoken are the groups that there are clients of.
var spoken = []schema.GroupVersion{admissionregistrationv1.SchemeGroupVersion, appsv1.SchemeGroupVersion, authorizationv1.SchemeGroupVersion, certificatesv1.SchemeGroupVersion,
	coordinationv1.SchemeGroupVersion, corev1.SchemeGroupVersion, discoveryv1.SchemeGroupVersion, policyv1.SchemeGroupVersion, rbacv1.SchemeGroupVersion}

// NewForConfig makes clients that share one transport.
func NewForConfig(cfg *rest.Config) (*Clients, error) {
	c := withAgent(cfg)
	hc, err := rest.HTTPClientFor(c)
	if err != nil {
		return nil, err
	}
	return NewForConfigAndClient(c, hc)
}

// NewForConfigAndClient makes clients that go through a given one.
func NewForConfigAndClient(cfg *rest.Config, hc *http.Client) (*Clients, error) {
	cs := &Clients{of: map[schema.GroupVersion]rest.Interface{}}
	for _, gv := range spoken {
		c := withAgent(cfg)
		c.GroupVersion, c.APIPath, c.NegotiatedSerializer = &gv, "/apis", codecs{Codecs.WithoutConversion()}
		if gv.Group == corev1.GroupName {
			c.APIPath = "/api"
		}
		of, err := rest.RESTClientForConfigAndClient(c, hc)
		if err != nil {
			return nil, err
		}
		cs.of[gv] = of
	}
	return cs, nil
}

func withAgent(cfg *rest.Config) *rest.Config {
	c := rest.CopyConfig(cfg)
	if c.UserAgent == "" {
		c.UserAgent = rest.DefaultKubernetesUserAgent()
	}
	return c
}

// CoreV1 is the group without a name.
func (cs *Clients) CoreV1() Core { return Core{cs.of[corev1.SchemeGroupVersion]} }

// AppsV1 is the group apps.
func (cs *Clients) AppsV1() Apps { return Apps{cs.of[appsv1.SchemeGroupVersion]} }

// PolicyV1 is the group policy.
func (cs *Clients) PolicyV1() Policy { return Policy{cs.of[policyv1.SchemeGroupVersion]} }

// RbacV1 is the group rbac.authorization.k8s.io.
func (cs *Clients) RbacV1() RBAC { return RBAC{cs.of[rbacv1.SchemeGroupVersion]} }

// CertificatesV1 is the group certificates.k8s.io.
func (cs *Clients) CertificatesV1() Certificates {
	return Certificates{cs.of[certificatesv1.SchemeGroupVersion]}
}

// CoordinationV1 is the group coordination.k8s.io.
func (cs *Clients) CoordinationV1() Coordination {
	return Coordination{cs.of[coordinationv1.SchemeGroupVersion]}
}

// DiscoveryV1 is the group discovery.k8s.io.
func (cs *Clients) DiscoveryV1() Discovery { return Discovery{cs.of[discoveryv1.SchemeGroupVersion]} }

// AuthorizationV1 is the group authorization.k8s.io.
func (cs *Clients) AuthorizationV1() Authorization {
	return Authorization{cs.of[authorizationv1.SchemeGroupVersion]}
}

// AdmissionregistrationV1 is the group admissionregistration.k8s.io.
func (cs *Clients) AdmissionregistrationV1() Admission {
	return Admission{cs.of[admissionregistrationv1.SchemeGroupVersion]}
}

// The clients of each group.
type (
	Core          struct{ c rest.Interface }
	Apps          struct{ c rest.Interface }
	Policy        struct{ c rest.Interface }
	RBAC          struct{ c rest.Interface }
	Certificates  struct{ c rest.Interface }
	Coordination  struct{ c rest.Interface }
	Discovery     struct{ c rest.Interface }
	Authorization struct{ c rest.Interface }
	Admission     struct{ c rest.Interface }
)

// The resources of the core group.
type (
	ConfigMaps             = Resource[*corev1.ConfigMap, *corev1.ConfigMapList]
	Events                 = Resource[*corev1.Event, *corev1.EventList]
	Namespaces             = Resource[*corev1.Namespace, *corev1.NamespaceList]
	Nodes                  = Resource[*corev1.Node, *corev1.NodeList]
	PersistentVolumes      = Resource[*corev1.PersistentVolume, *corev1.PersistentVolumeList]
	PersistentVolumeClaims = Resource[*corev1.PersistentVolumeClaim, *corev1.PersistentVolumeClaimList]
	Secrets                = Resource[*corev1.Secret, *corev1.SecretList]
	Services               = Resource[*corev1.Service, *corev1.ServiceList]
)

// RESTClient asks what there is no method for.
func (g Core) RESTClient() rest.Interface { return g.c }

// ConfigMaps are those of a namespace.
func (g Core) ConfigMaps(namespace string) ConfigMaps {
	return of[corev1.ConfigMap, corev1.ConfigMapList](g.c, "configmaps", namespace)
}

// Events are those of a namespace.
func (g Core) Events(namespace string) Events {
	return of[corev1.Event, corev1.EventList](g.c, "events", namespace)
}

// Namespaces are all of them.
func (g Core) Namespaces() Namespaces {
	return of[corev1.Namespace, corev1.NamespaceList](g.c, "namespaces", "")
}

// Nodes are all of them.
func (g Core) Nodes() Nodes { return of[corev1.Node, corev1.NodeList](g.c, "nodes", "") }

// PersistentVolumes are all of them.
func (g Core) PersistentVolumes() PersistentVolumes {
	return of[corev1.PersistentVolume, corev1.PersistentVolumeList](g.c, "persistentvolumes", "")
}

// PersistentVolumeClaims are those of a namespace.
func (g Core) PersistentVolumeClaims(namespace string) PersistentVolumeClaims {
	return of[corev1.PersistentVolumeClaim, corev1.PersistentVolumeClaimList](g.c, "persistentvolumeclaims", namespace)
}

// Secrets are those of a namespace.
func (g Core) Secrets(namespace string) Secrets {
	return of[corev1.Secret, corev1.SecretList](g.c, "secrets", namespace)
}

// Services are those of a namespace.
func (g Core) Services(namespace string) Services {
	return of[corev1.Service, corev1.ServiceList](g.c, "services", namespace)
}

// Pods are those of a namespace.
func (g Core) Pods(namespace string) Pods {
	return Pods{g.c, namespace, of[corev1.Pod, corev1.PodList](g.c, "pods", namespace)}
}

// Pods is a client of pods.
type Pods struct {
	rest      rest.Interface
	namespace string
	Resource[*corev1.Pod, *corev1.PodList]
}

// Bind gives a pod its node.
func (p Pods) Bind(ctx context.Context, b *corev1.Binding, opts metav1.CreateOptions) error {
	return p.rest.Post().Namespace(p.namespace).Resource("pods").Name(b.Name).VersionedParams(&opts, parameters).SubResource("binding").Body(b).Do(ctx).Error()
}

// GetLogs asks for what a container has written.
func (p Pods) GetLogs(name string, opts *corev1.PodLogOptions) *rest.Request {
	return p.rest.Get().Namespace(p.namespace).Name(name).Resource("pods").SubResource("log").VersionedParams(opts, parameters)
}

// ServiceAccounts are those of a namespace.
func (g Core) ServiceAccounts(namespace string) ServiceAccounts {
	return ServiceAccounts{g.c, namespace, of[corev1.ServiceAccount, corev1.ServiceAccountList](g.c, "serviceaccounts", namespace)}
}

// ServiceAccounts is a client of service accounts.
type ServiceAccounts struct {
	rest      rest.Interface
	namespace string
	Resource[*corev1.ServiceAccount, *corev1.ServiceAccountList]
}

// CreateToken asks for a token of an account.
func (s ServiceAccounts) CreateToken(ctx context.Context, account string, q *authenticationv1.TokenRequest, opts metav1.CreateOptions) (*authenticationv1.TokenRequest, error) {
	out := &authenticationv1.TokenRequest{}
	err := s.rest.Post().UseProtobufAsDefault().Namespace(s.namespace).Resource("serviceaccounts").Name(account).SubResource("token").VersionedParams(&opts, parameters).Body(q).Do(ctx).Into(out)
	return out, err
}

// The resources of other groups.
type (
	DaemonSets           = Resource[*appsv1.DaemonSet, *appsv1.DaemonSetList]
	Deployments          = Resource[*appsv1.Deployment, *appsv1.DeploymentList]
	ReplicaSets          = Resource[*appsv1.ReplicaSet, *appsv1.ReplicaSetList]
	StatefulSets         = Resource[*appsv1.StatefulSet, *appsv1.StatefulSetList]
	PodDisruptionBudgets = Resource[*policyv1.PodDisruptionBudget, *policyv1.PodDisruptionBudgetList]
	ClusterRoleBindings  = Resource[*rbacv1.ClusterRoleBinding, *rbacv1.ClusterRoleBindingList]
	ClusterRoles         = Resource[*rbacv1.ClusterRole, *rbacv1.ClusterRoleList]
	RoleBindings         = Resource[*rbacv1.RoleBinding, *rbacv1.RoleBindingList]
	Leases               = Resource[*coordinationv1.Lease, *coordinationv1.LeaseList]
	EndpointSlices       = Resource[*discoveryv1.EndpointSlice, *discoveryv1.EndpointSliceList]
	MutatingWebhooks     = Resource[*admissionregistrationv1.MutatingWebhookConfiguration, *admissionregistrationv1.MutatingWebhookConfigurationList]
	ValidatingWebhooks   = Resource[*admissionregistrationv1.ValidatingWebhookConfiguration, *admissionregistrationv1.ValidatingWebhookConfigurationList]
)

// DaemonSets are those of a namespace.
func (g Apps) DaemonSets(namespace string) DaemonSets {
	return of[appsv1.DaemonSet, appsv1.DaemonSetList](g.c, "daemonsets", namespace)
}

// Deployments are those of a namespace.
func (g Apps) Deployments(namespace string) Deployments {
	return of[appsv1.Deployment, appsv1.DeploymentList](g.c, "deployments", namespace)
}

// ReplicaSets are those of a namespace.
func (g Apps) ReplicaSets(namespace string) ReplicaSets {
	return of[appsv1.ReplicaSet, appsv1.ReplicaSetList](g.c, "replicasets", namespace)
}

// StatefulSets are those of a namespace.
func (g Apps) StatefulSets(namespace string) StatefulSets {
	return of[appsv1.StatefulSet, appsv1.StatefulSetList](g.c, "statefulsets", namespace)
}

// PodDisruptionBudgets are those of a namespace.
func (g Policy) PodDisruptionBudgets(namespace string) PodDisruptionBudgets {
	return of[policyv1.PodDisruptionBudget, policyv1.PodDisruptionBudgetList](g.c, "poddisruptionbudgets", namespace)
}

// Evictions asks pods of a namespace to leave.
func (g Policy) Evictions(namespace string) Evictions { return Evictions{g.c, namespace} }

// Evictions is a client of evictions, which the core group serves.
type Evictions struct {
	c         rest.Interface
	namespace string
}

// Evict asks a pod to leave, as its budgets allow.
func (e Evictions) Evict(ctx context.Context, ev *policyv1.Eviction) error {
	return e.c.Post().AbsPath("/api/v1").Namespace(e.namespace).Resource("pods").Name(ev.Name).SubResource("eviction").Body(ev).Do(ctx).Error()
}

// ClusterRoleBindings are all of them.
func (g RBAC) ClusterRoleBindings() ClusterRoleBindings {
	return of[rbacv1.ClusterRoleBinding, rbacv1.ClusterRoleBindingList](g.c, "clusterrolebindings", "")
}

// ClusterRoles are all of them.
func (g RBAC) ClusterRoles() ClusterRoles {
	return of[rbacv1.ClusterRole, rbacv1.ClusterRoleList](g.c, "clusterroles", "")
}

// RoleBindings are those of a namespace.
func (g RBAC) RoleBindings(namespace string) RoleBindings {
	return of[rbacv1.RoleBinding, rbacv1.RoleBindingList](g.c, "rolebindings", namespace)
}

// Leases are those of a namespace.
func (g Coordination) Leases(namespace string) Leases {
	return of[coordinationv1.Lease, coordinationv1.LeaseList](g.c, "leases", namespace)
}

// EndpointSlices are those of a namespace.
func (g Discovery) EndpointSlices(namespace string) EndpointSlices {
	return of[discoveryv1.EndpointSlice, discoveryv1.EndpointSliceList](g.c, "endpointslices", namespace)
}

// MutatingWebhookConfigurations are all of them.
func (g Admission) MutatingWebhookConfigurations() MutatingWebhooks {
	return of[admissionregistrationv1.MutatingWebhookConfiguration, admissionregistrationv1.MutatingWebhookConfigurationList](g.c, "mutatingwebhookconfigurations", "")
}

// ValidatingWebhookConfigurations are all of them.
func (g Admission) ValidatingWebhookConfigurations() ValidatingWebhooks {
	return of[admissionregistrationv1.ValidatingWebhookConfiguration, admissionregistrationv1.ValidatingWebhookConfigurationList](g.c, "validatingwebhookconfigurations", "")
}

// CertificateSigningRequests are all of them.
func (g Certificates) CertificateSigningRequests() Requests {
	return Requests{g.c, of[certificatesv1.CertificateSigningRequest, certificatesv1.CertificateSigningRequestList](g.c, "certificatesigningrequests", "")}
}

// Requests is a client of certificate requests.
type Requests struct {
	rest rest.Interface
	Resource[*certificatesv1.CertificateSigningRequest, *certificatesv1.CertificateSigningRequestList]
}

// UpdateApproval approves or denies a request.
func (r Requests) UpdateApproval(ctx context.Context, name string, csr *certificatesv1.CertificateSigningRequest, opts metav1.UpdateOptions) (*certificatesv1.CertificateSigningRequest, error) {
	out := &certificatesv1.CertificateSigningRequest{}
	err := r.rest.Put().UseProtobufAsDefault().Resource("certificatesigningrequests").Name(name).SubResource("approval").VersionedParams(&opts, parameters).Body(csr).Do(ctx).Into(out)
	return out, err
}

// SelfSubjectAccessReviews asks what whoever asks may do.
func (g Authorization) SelfSubjectAccessReviews() Reviews[*authorizationv1.SelfSubjectAccessReview] {
	return of[authorizationv1.SelfSubjectAccessReview, metav1.List](g.c, "selfsubjectaccessreviews", "")
}

// SubjectAccessReviews asks what somebody may do.
func (g Authorization) SubjectAccessReviews() Reviews[*authorizationv1.SubjectAccessReview] {
	return of[authorizationv1.SubjectAccessReview, metav1.List](g.c, "subjectaccessreviews", "")
}

// Reviews is a client of questions that are answered and not kept.
type Reviews[O object] interface {
	// Create asks.
	Create(ctx context.Context, o O, opts metav1.CreateOptions) (O, error)
}
