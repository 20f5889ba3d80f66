package kube

import (
	"context"
	"fmt"
	"strings"

	appsv1 "k8s.io/api/apps/v1"
	corev1 "k8s.io/api/core/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/util/intstr"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

// The add-ons.
const (
	Network = versions.NetworkAddOn
	DNS     = versions.DNSAddOn
)

// TrustMark is the annotation of an add-on's pods that changes when they have
// to trust something else, so that they are started anew.
const TrustMark = "verbund.test/trust"

const versionLabel = "app.kubernetes.io/version"

func ensure[T any](ctx context.Context, o *T, name string,
	get func(context.Context, string, metav1.GetOptions) (*T, error),
	create func(context.Context, *T, metav1.CreateOptions) (*T, error),
	update func(context.Context, *T) error) error {
	_, err := get(ctx, name, metav1.GetOptions{})
	if apierrors.IsNotFound(err) {
		_, err = create(ctx, o, metav1.CreateOptions{})
		if !apierrors.IsAlreadyExists(err) {
			return err
		}
		err = nil
	}
	if err != nil || update == nil {
		return err
	}
	return update(ctx, o)
}

func (c *Client) account(ctx context.Context, name, role string) error {
	sas := c.CoreV1().ServiceAccounts("kube-system")
	if err := ensure(ctx, &corev1.ServiceAccount{ObjectMeta: metav1.ObjectMeta{Name: name}}, name, sas.Get, sas.Create, nil); err != nil {
		return err
	}
	return c.bind(ctx, "verbund:"+name, role, rbacv1.Subject{Kind: "ServiceAccount", Namespace: "kube-system", Name: name})
}

func (c *Client) bind(ctx context.Context, name, role string, who rbacv1.Subject) error {
	bs := c.RbacV1().ClusterRoleBindings()
	return ensure(ctx, &rbacv1.ClusterRoleBinding{ObjectMeta: metav1.ObjectMeta{Name: name}, Subjects: []rbacv1.Subject{who},
		RoleRef: rbacv1.RoleRef{APIGroup: "rbac.authorization.k8s.io", Kind: "ClusterRole", Name: role}}, name, bs.Get, bs.Create, nil)
}

// Operators is the group of people that access lets do everything. Its right
// is a binding that can be taken away, unlike that of system:masters.
const Operators = "verbund:operators"

// kubeletBinding lets the API servers use the kubelets' own API.
const kubeletBinding = "verbund:api-server-to-kubelet"

// EnsureRoles makes the bindings that a cluster needs beyond those that its
// API server makes itself.
func (c *Client) EnsureRoles(ctx context.Context) error {
	if err := c.bind(ctx, Operators, "cluster-admin", rbacv1.Subject{Kind: "Group", APIGroup: "rbac.authorization.k8s.io", Name: Operators}); err != nil {
		return err
	}
	if err := c.ensureApprover(ctx); err != nil {
		return err
	}
	if err := c.bind(ctx, enrolBinding, "system:node-bootstrapper", rbacv1.Subject{Kind: "Group", APIGroup: "rbac.authorization.k8s.io", Name: trust.TokenGroup}); err != nil {
		return err
	}
	return c.bind(ctx, kubeletBinding, "system:kubelet-api-admin", rbacv1.Subject{Kind: "User", APIGroup: "rbac.authorization.k8s.io", Name: trust.APIServerKubeletClient})
}

// enrolBinding lets machines with an enrolment token ask for their first
// certificate. Nobody is bound to the role with which the controller manager
// would approve such requests by itself: that is for our own policy.
const enrolBinding = "verbund:enrolment"

// ensureApprover lets the approver see requests and approve those of kubelets,
// and nothing else.
func (c *Client) ensureApprover(ctx context.Context) error {
	const g = "certificates.k8s.io"
	role := &rbacv1.ClusterRole{ObjectMeta: metav1.ObjectMeta{Name: trust.RequestApproverClient}, Rules: []rbacv1.PolicyRule{
		{Verbs: []string{"get", "list", "watch"}, APIGroups: []string{g}, Resources: []string{"certificatesigningrequests"}},
		{Verbs: []string{"update"}, APIGroups: []string{g}, Resources: []string{"certificatesigningrequests/approval"}},
		{Verbs: []string{"approve"}, APIGroups: []string{g}, Resources: []string{"signers"}, ResourceNames: []string{trust.KubeletClientSigner, trust.KubeletServingSigner}},
		{Verbs: []string{"get", "create", "update"}, APIGroups: []string{"coordination.k8s.io"}, Resources: []string{"leases"}},
	}}
	roles := c.RbacV1().ClusterRoles()
	if err := ensure(ctx, role, role.Name, roles.Get, roles.Create, nil); err != nil {
		return err
	}
	return c.bind(ctx, trust.RequestApproverClient, role.Name, rbacv1.Subject{Kind: "User", APIGroup: "rbac.authorization.k8s.io", Name: trust.RequestApproverClient})
}

// HasRoles says whether EnsureRoles has been done.
func (c *Client) HasRoles(ctx context.Context) (bool, error) {
	for _, b := range []string{kubeletBinding, enrolBinding, trust.RequestApproverClient} {
		_, err := c.RbacV1().ClusterRoleBindings().Get(ctx, b, metav1.GetOptions{})
		if apierrors.IsNotFound(err) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
	}
	return true, nil
}

// apiEnv tells a pod with its node's network where the API is: at the endpoint, whose name
// every machine resolves, because the pod network may not carry traffic yet.
func apiEnv(t *topology.Cluster) []corev1.EnvVar {
	return []corev1.EnvVar{{Name: "KUBERNETES_SERVICE_HOST", Value: t.Endpoint.Name}, {Name: "KUBERNETES_SERVICE_PORT", Value: fmt.Sprint(t.Endpoint.Port)}}
}

// dnsEnv is the same for a pod with a network of its own. Where the API's own service has
// endpoints, which loopback addresses cannot be, it is used as by any other pod.
func dnsEnv(t *topology.Cluster) []corev1.EnvVar {
	if t.Real {
		return nil
	}
	return apiEnv(t)
}

// fieldEnv tells a pod something of itself.
func fieldEnv(name, path string) corev1.EnvVar {
	return corev1.EnvVar{Name: name, ValueFrom: &corev1.EnvVarSource{FieldRef: &corev1.ObjectFieldSelector{APIVersion: "v1", FieldPath: path}}}
}

func addonLabels(name, version string) map[string]string {
	return map[string]string{"app.kubernetes.io/name": name, versionLabel: version, "app.kubernetes.io/managed-by": "verbund"}
}

// NetworkHealthPort is where the network plugin of a node says whether it is ready.
const NetworkHealthPort = 10470

// EnsureNetwork installs the network plugin in the cluster's version, or moves
// it there.
func (c *Client) EnsureNetwork(ctx context.Context, t *topology.Cluster, mark string) error {
	if err := c.account(ctx, Network, "system:node-proxier"); err != nil {
		return err
	}
	sel := map[string]string{"app.kubernetes.io/name": Network}
	all := intstr.FromInt32(int32(t.Batch()))
	const cni = "/etc/cni/net.d"
	made := corev1.HostPathDirectoryOrCreate
	env := append(apiEnv(t), fieldEnv("NODE_NAME", "spec.nodeName"), fieldEnv("NODE_ADDRESS", "status.hostIP"), corev1.EnvVar{Name: "POD_RANGE", Value: t.Pods.String()})
	ready := &corev1.Probe{PeriodSeconds: 2, ProbeHandler: corev1.ProbeHandler{HTTPGet: &corev1.HTTPGetAction{Path: "/ready", Port: intstr.FromInt32(NetworkHealthPort)}}}
	d := &appsv1.DaemonSet{ObjectMeta: metav1.ObjectMeta{Name: Network, Namespace: "kube-system", Labels: addonLabels(Network, t.Set.Fairway)},
		Spec: appsv1.DaemonSetSpec{Selector: &metav1.LabelSelector{MatchLabels: sel},
			UpdateStrategy: appsv1.DaemonSetUpdateStrategy{Type: appsv1.RollingUpdateDaemonSetStrategyType, RollingUpdate: &appsv1.RollingUpdateDaemonSet{MaxUnavailable: &all}},
			Template: corev1.PodTemplateSpec{ObjectMeta: metav1.ObjectMeta{Labels: addonLabels(Network, t.Set.Fairway), Annotations: map[string]string{TrustMark: mark}},
				Spec: corev1.PodSpec{ServiceAccountName: Network, HostNetwork: true, PriorityClassName: "system-node-critical",
					Tolerations: []corev1.Toleration{{Operator: corev1.TolerationOpExists}},
					Volumes:     []corev1.Volume{{Name: "cni", VolumeSource: corev1.VolumeSource{HostPath: &corev1.HostPathVolumeSource{Path: cni, Type: &made}}}},
					Containers: []corev1.Container{{Name: Network, Image: t.ImageRef(t.Set.NetworkImage()), Args: t.PluginArgs(), Env: env, ReadinessProbe: ready,
						// It sets routes and packet rules of its node, and nothing else.
						SecurityContext: &corev1.SecurityContext{Capabilities: &corev1.Capabilities{Drop: []corev1.Capability{"ALL"}, Add: []corev1.Capability{"NET_ADMIN"}}},
						VolumeMounts:    []corev1.VolumeMount{{Name: "cni", MountPath: cni}}}}}}}}
	ds := c.AppsV1().DaemonSets("kube-system")
	return ensure(ctx, d, Network, ds.Get, ds.Create, func(ctx context.Context, d *appsv1.DaemonSet) error {
		_, err := ds.Update(ctx, d, metav1.UpdateOptions{})
		return err
	})
}

// dnsRole is what the cluster's DNS may do.
const dnsRole = "verbund:cluster-dns-reader"

// EnsureDNS installs the cluster's DNS, or moves it to the cluster's version.
func (c *Client) EnsureDNS(ctx context.Context, t *topology.Cluster, mark string) error {
	// It reads what it answers about, and nothing else.
	role := &rbacv1.ClusterRole{ObjectMeta: metav1.ObjectMeta{Name: dnsRole}, Rules: []rbacv1.PolicyRule{
		{Verbs: []string{"list", "watch"}, APIGroups: []string{""}, Resources: []string{"endpoints", "services", "pods", "namespaces"}},
		{Verbs: []string{"list", "watch"}, APIGroups: []string{"discovery.k8s.io"}, Resources: []string{"endpointslices"}},
	}}
	roles := c.RbacV1().ClusterRoles()
	if err := ensure(ctx, role, role.Name, roles.Get, roles.Create, nil); err != nil {
		return err
	}
	if err := c.account(ctx, DNS, dnsRole); err != nil {
		return err
	}
	cms := c.CoreV1().ConfigMaps("kube-system")
	cm := &corev1.ConfigMap{ObjectMeta: metav1.ObjectMeta{Name: DNS}, Data: map[string]string{"Corefile": corefile(t)}}
	if err := ensure(ctx, cm, DNS, cms.Get, cms.Create, func(ctx context.Context, cm *corev1.ConfigMap) error {
		_, err := cms.Update(ctx, cm, metav1.UpdateOptions{})
		return err
	}); err != nil {
		return err
	}
	sel := map[string]string{"app.kubernetes.io/name": DNS}
	two := int32(2)
	probe := &corev1.Probe{ProbeHandler: corev1.ProbeHandler{HTTPGet: &corev1.HTTPGetAction{Path: "/ready", Port: intstr.FromInt32(8181)}}}
	d := &appsv1.Deployment{ObjectMeta: metav1.ObjectMeta{Name: DNS, Namespace: "kube-system", Labels: addonLabels(DNS, t.Set.DNS)},
		Spec: appsv1.DeploymentSpec{Replicas: &two, Selector: &metav1.LabelSelector{MatchLabels: sel},
			Template: corev1.PodTemplateSpec{ObjectMeta: metav1.ObjectMeta{Labels: addonLabels(DNS, t.Set.DNS), Annotations: map[string]string{TrustMark: mark, toldMark: strings.Join(t.DNSArgs(), " ")}},
				Spec: corev1.PodSpec{ServiceAccountName: DNS, DNSPolicy: corev1.DNSDefault, PriorityClassName: "system-cluster-critical",
					Tolerations: []corev1.Toleration{{Key: topology.ControlTaint.Key, Operator: corev1.TolerationOpExists}},
					Volumes:     []corev1.Volume{{Name: "config", VolumeSource: corev1.VolumeSource{ConfigMap: &corev1.ConfigMapVolumeSource{LocalObjectReference: corev1.LocalObjectReference{Name: DNS}}}}},
					Containers: []corev1.Container{{Name: "coredns", Image: t.ImageRef(t.Set.DNSImage()), Args: []string{"-conf", "/etc/coredns/Corefile"}, Env: dnsEnv(t), ReadinessProbe: probe,
						Ports: []corev1.ContainerPort{{Name: "dns", ContainerPort: 53, Protocol: corev1.ProtocolUDP}, {Name: "dns-tcp", ContainerPort: 53, Protocol: corev1.ProtocolTCP}}, VolumeMounts: []corev1.VolumeMount{{Name: "config", MountPath: "/etc/coredns", ReadOnly: true}}}}}}}}
	deps := c.AppsV1().Deployments("kube-system")
	if err := ensure(ctx, d, DNS, deps.Get, deps.Create, func(ctx context.Context, d *appsv1.Deployment) error {
		_, err := deps.Update(ctx, d, metav1.UpdateOptions{})
		return err
	}); err != nil {
		return err
	}
	svcs := c.CoreV1().Services("kube-system")
	return ensure(ctx, &corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: DNS, Labels: addonLabels(DNS, t.Set.DNS)},
		Spec: corev1.ServiceSpec{ClusterIP: t.ServiceAddress(10).String(), Selector: sel, Ports: []corev1.ServicePort{{Name: "dns", Port: 53, Protocol: corev1.ProtocolUDP}, {Name: "dns-tcp", Port: 53, Protocol: corev1.ProtocolTCP}}}}, DNS, svcs.Get, svcs.Create, func(ctx context.Context, s *corev1.Service) error {
		_, err := svcs.Update(ctx, s, metav1.UpdateOptions{})
		return err
	})
}

// toldMark is the annotation of what pods were told by a file.
const toldMark = "verbund.test/told"

// corefile is the configuration of the cluster's DNS.
func corefile(t *topology.Cluster) string {
	more := ""
	if args := t.DNSArgs(); len(args) > 0 {
		more = "    forward . " + strings.Join(args[1:], " ") + "\n"
	}
	return fmt.Sprintf(".:53 {\n    errors\n    health\n    ready\n    kubernetes %s in-addr.arpa {\n        pods insecure\n    }\n%s    cache 30\n    reload\n}\n", t.Domain, more)
}

// AddOns lists the versions of the add-ons that are declared in the cluster,
// and whether all their pods of that version serve.
func (c *Client) AddOns(ctx context.Context) (map[string]AddOn, error) {
	out := map[string]AddOn{}
	d, err := c.AppsV1().DaemonSets("kube-system").Get(ctx, Network, metav1.GetOptions{})
	if err == nil {
		st := d.Status
		out[Network] = AddOn{strings.Join(d.Spec.Template.Spec.Containers[0].Args, " "), d.Spec.Template.Annotations[TrustMark], d.Labels[versionLabel], st.ObservedGeneration == d.Generation && st.NumberAvailable == st.DesiredNumberScheduled && st.UpdatedNumberScheduled == st.DesiredNumberScheduled,
			fmt.Sprintf("%d of %d nodes serve it, %d in the new version", st.NumberAvailable, st.DesiredNumberScheduled, st.UpdatedNumberScheduled)}
	} else if !apierrors.IsNotFound(err) {
		return nil, err
	}
	p, err := c.AppsV1().Deployments("kube-system").Get(ctx, DNS, metav1.GetOptions{})
	if err == nil {
		st := p.Status
		out[DNS] = AddOn{p.Spec.Template.Annotations[toldMark], p.Spec.Template.Annotations[TrustMark], p.Labels[versionLabel], st.ObservedGeneration == p.Generation && st.AvailableReplicas >= *p.Spec.Replicas && st.UpdatedReplicas == *p.Spec.Replicas && st.Replicas == *p.Spec.Replicas,
			fmt.Sprintf("%d of %d pods serve, %d in the new version", st.AvailableReplicas, *p.Spec.Replicas, st.UpdatedReplicas)}
	} else if !apierrors.IsNotFound(err) {
		return nil, err
	}
	for name, a := range out {
		if a.Ready {
			continue
		}
		why, err := c.waiting(ctx, name)
		if err != nil {
			return nil, err
		}
		a.State += why
		out[name] = a
	}
	return out, nil
}

// waiting says why pods of an add-on do not run, and on which nodes.
func (c *Client) waiting(ctx context.Context, name string) (string, error) {
	l, err := c.CoreV1().Pods("kube-system").List(ctx, metav1.ListOptions{LabelSelector: "app.kubernetes.io/name=" + name})
	if err != nil {
		return "", err
	}
	why := ""
	for _, p := range l.Items {
		for _, s := range p.Status.ContainerStatuses {
			if w := s.State.Waiting; w != nil && w.Message != "" {
				why += fmt.Sprintf("; pod %s on %s: %s: %s", p.Name, p.Spec.NodeName, w.Reason, w.Message)
			}
		}
	}
	nodes, err := c.CoreV1().Nodes().List(ctx, metav1.ListOptions{})
	if err != nil {
		return "", err
	}
	for _, n := range nodes.Items {
		if ok, trouble := Ready(&n); !ok {
			why += fmt.Sprintf("; node %s is not Ready: %s", n.Name, trouble)
		}
	}
	return why, nil
}

// AddOn is one add-on as it is.
type AddOn struct {
	Args    string // what its containers are told
	Trust   string // mark of what its pods were started to trust
	Version string
	Ready   bool
	State   string
}
