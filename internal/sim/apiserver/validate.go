package apiserver

import (
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	admissionv1 "k8s.io/api/admissionregistration/v1"
	appsv1 "k8s.io/api/apps/v1"
	certv1 "k8s.io/api/certificates/v1"
	coordv1 "k8s.io/api/coordination/v1"
	corev1 "k8s.io/api/core/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	policyv1 "k8s.io/api/policy/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	apiequality "k8s.io/apimachinery/pkg/api/equality"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	apivalidation "k8s.io/apimachinery/pkg/api/validation"
	pathvalidation "k8s.io/apimachinery/pkg/api/validation/path"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	metavalidation "k8s.io/apimachinery/pkg/apis/meta/v1/validation"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/util/intstr"
	"k8s.io/apimachinery/pkg/util/sets"
	"k8s.io/apimachinery/pkg/util/validation"
	"k8s.io/apimachinery/pkg/util/validation/field"
)

// nameRules say which names objects of a kind may have; the others' are DNS
// subdomains.
var nameRules = map[string]apivalidation.ValidateNameFunc{
	"Namespace": apivalidation.NameIsDNSLabel, "Service": apivalidation.NameIsDNS1035Label,
	"ClusterRole": pathvalidation.ValidatePathSegmentName, "ClusterRoleBinding": pathvalidation.ValidatePathSegmentName, "Role": pathvalidation.ValidatePathSegmentName, "RoleBinding": pathvalidation.ValidatePathSegmentName,
}

// validate refuses what the real server refuses, by the published validation of
// metadata, names, labels and selectors, and by the same rules for the fields that
// something here acts on. old is nil on creation.
func validate(res *resource, o, old runtime.Object) error {
	m, err := meta.Accessor(o)
	if err != nil {
		return err
	}
	om, ok := m.(metav1.ObjectMetaAccessor)
	if !ok {
		return fmt.Errorf("%s has no metadata", res.kind)
	}
	rule := nameRules[res.kind]
	if rule == nil {
		rule = apivalidation.NameIsDNSSubdomain
	}
	md := field.NewPath("metadata")
	errs := apivalidation.ValidateObjectMeta(om.GetObjectMeta().(*metav1.ObjectMeta), res.namespaced, rule, md)
	errs = append(errs, validateKind(o)...)
	if old != nil {
		errs = append(errs, validateChange(o, old)...)
	}
	if len(errs) == 0 {
		return nil
	}
	return apierrors.NewInvalid(res.gvk().GroupKind(), m.GetName(), errs)
}

func validateKind(o runtime.Object) field.ErrorList {
	spec := field.NewPath("spec")
	switch o := o.(type) {
	case *corev1.Pod:
		return validatePodSpec(&o.Spec, spec)
	case *corev1.Node:
		return validateNode(o)
	case *corev1.Service:
		return validateService(&o.Spec, spec)
	case *corev1.ConfigMap:
		return validateData(o.Data, o.BinaryData)
	case *corev1.Secret:
		return validateData(nil, o.Data)
	case *appsv1.Deployment:
		errs := validateWorkload(o.Spec.Selector, &o.Spec.Template, o.Spec.Replicas, spec)
		errs = append(errs, apivalidation.ValidateNonnegativeField(int64(o.Spec.MinReadySeconds), spec.Child("minReadySeconds"))...)
		if n := o.Spec.RevisionHistoryLimit; n != nil {
			errs = append(errs, apivalidation.ValidateNonnegativeField(int64(*n), spec.Child("revisionHistoryLimit"))...)
		}
		if n := o.Spec.ProgressDeadlineSeconds; n != nil && *n <= o.Spec.MinReadySeconds {
			errs = append(errs, field.Invalid(spec.Child("progressDeadlineSeconds"), *n, "must be greater than minReadySeconds"))
		}
		return append(errs, validateStrategy(&o.Spec.Strategy, spec.Child("strategy"))...)
	case *appsv1.ReplicaSet:
		return validateWorkload(o.Spec.Selector, &o.Spec.Template, o.Spec.Replicas, spec)
	case *appsv1.DaemonSet:
		errs := validateWorkload(o.Spec.Selector, &o.Spec.Template, nil, spec)
		if ru := o.Spec.UpdateStrategy.RollingUpdate; ru != nil && ru.MaxUnavailable != nil {
			errs = append(errs, validateShare(ru.MaxUnavailable, spec.Child("updateStrategy", "rollingUpdate", "maxUnavailable"), true)...)
		}
		if t := o.Spec.UpdateStrategy.Type; t != appsv1.RollingUpdateDaemonSetStrategyType && t != appsv1.OnDeleteDaemonSetStrategyType {
			errs = append(errs, field.NotSupported(spec.Child("updateStrategy", "type"), t, []string{"RollingUpdate", "OnDelete"}))
		}
		return errs
	case *policyv1.PodDisruptionBudget:
		var errs field.ErrorList
		if o.Spec.MinAvailable != nil && o.Spec.MaxUnavailable != nil {
			errs = append(errs, field.Invalid(spec, "", "minAvailable and maxUnavailable cannot be both set"))
		}
		if v := o.Spec.MinAvailable; v != nil {
			errs = append(errs, validateShare(v, spec.Child("minAvailable"), true)...)
		}
		if v := o.Spec.MaxUnavailable; v != nil {
			errs = append(errs, validateShare(v, spec.Child("maxUnavailable"), true)...)
		}
		return append(errs, metavalidation.ValidateLabelSelector(o.Spec.Selector, metavalidation.LabelSelectorValidationOptions{}, spec.Child("selector"))...)
	case *discoveryv1.EndpointSlice:
		return validateSlice(o)
	case *coordv1.Lease:
		if n := o.Spec.LeaseDurationSeconds; n != nil && *n <= 0 {
			return field.ErrorList{field.Invalid(spec.Child("leaseDurationSeconds"), *n, "must be greater than 0")}
		}
	case *certv1.CertificateSigningRequest:
		return validateRequest(o)
	case *rbacv1.ClusterRole:
		return validateRules(o.Rules)
	case *rbacv1.Role:
		return validateRules(o.Rules)
	case *rbacv1.ClusterRoleBinding:
		return validateBinding(o.RoleRef, o.Subjects, false)
	case *rbacv1.RoleBinding:
		return validateBinding(o.RoleRef, o.Subjects, true)
	}
	return nil
}

// validateNode asks for networks that are such, and for quantities of what a node has.
func validateNode(o *corev1.Node) field.ErrorList {
	spec := field.NewPath("spec")
	errs := validateTaints(o.Spec.Taints, spec.Child("taints"))
	cidrs := o.Spec.PodCIDRs
	if o.Spec.PodCIDR != "" && !slices.Contains(cidrs, o.Spec.PodCIDR) {
		cidrs = append([]string{o.Spec.PodCIDR}, cidrs...)
	}
	for i, c := range cidrs {
		if p, err := netip.ParsePrefix(c); err != nil || p != p.Masked() {
			errs = append(errs, field.Invalid(spec.Child("podCIDRs").Index(i), c, "must be a valid CIDR value, (e.g. 10.9.8.0/24)"))
		}
	}
	status := field.NewPath("status")
	for what, of := range map[string]corev1.ResourceList{"capacity": o.Status.Capacity, "allocatable": o.Status.Allocatable} {
		for name, q := range of {
			errs = append(errs, validateQuantity(name, q.Sign(), q.String(), status.Child(what).Key(string(name)))...)
		}
	}
	return errs
}

// validateRequest asks for a request that its own key has signed, and for a signer's full name.
func validateRequest(o *certv1.CertificateSigningRequest) field.ErrorList {
	spec := field.NewPath("spec")
	var errs field.ErrorList
	if q, err := readRequest(o); err != nil {
		errs = append(errs, field.Invalid(spec.Child("request"), "", err.Error()))
	} else if err := q.CheckSignature(); err != nil {
		errs = append(errs, field.Invalid(spec.Child("request"), "", err.Error()))
	}
	if !strings.Contains(o.Spec.SignerName, "/") {
		errs = append(errs, field.Invalid(spec.Child("signerName"), o.Spec.SignerName, "must be a fully qualified domain and path of the form 'example.com/signer-name'"))
	}
	if len(o.Spec.Usages) == 0 {
		errs = append(errs, field.Required(spec.Child("usages"), ""))
	}
	if n := o.Spec.ExpirationSeconds; n != nil && *n < 600 {
		errs = append(errs, field.Invalid(spec.Child("expirationSeconds"), *n, "may not specify a duration less than 600 seconds (10 minutes)"))
	}
	return errs
}

// validateChange refuses changes of what cannot be changed.
func validateChange(o, old runtime.Object) field.ErrorList {
	spec := field.NewPath("spec")
	same := func(a, b any, at *field.Path) field.ErrorList { return apivalidation.ValidateImmutableField(a, b, at) }
	switch o := o.(type) {
	case *corev1.Pod:
		return validatePodChange(o, old.(*corev1.Pod))
	case *corev1.Node:
		if was := old.(*corev1.Node).Spec.PodCIDR; was != "" {
			return same(o.Spec.PodCIDR, was, spec.Child("podCIDR"))
		}
	case *corev1.Service:
		if was := old.(*corev1.Service).Spec.ClusterIP; was != "" {
			return same(o.Spec.ClusterIP, was, spec.Child("clusterIP"))
		}
	case *corev1.ConfigMap:
		was := old.(*corev1.ConfigMap)
		if was.Immutable != nil && *was.Immutable && (o.Immutable == nil || !*o.Immutable || !apiequality.Semantic.DeepEqual(o.Data, was.Data) || !apiequality.Semantic.DeepEqual(o.BinaryData, was.BinaryData)) {
			return field.ErrorList{field.Forbidden(field.NewPath("data"), "field is immutable when `immutable` is set")}
		}
	case *corev1.Secret:
		was := old.(*corev1.Secret)
		if was.Immutable != nil && *was.Immutable && (o.Immutable == nil || !*o.Immutable || !apiequality.Semantic.DeepEqual(o.Data, was.Data)) {
			return field.ErrorList{field.Forbidden(field.NewPath("data"), "field is immutable when `immutable` is set")}
		}
		return same(o.Type, was.Type, field.NewPath("type"))
	case *appsv1.Deployment:
		return same(o.Spec.Selector, old.(*appsv1.Deployment).Spec.Selector, spec.Child("selector"))
	case *appsv1.ReplicaSet:
		return same(o.Spec.Selector, old.(*appsv1.ReplicaSet).Spec.Selector, spec.Child("selector"))
	case *appsv1.DaemonSet:
		return same(o.Spec.Selector, old.(*appsv1.DaemonSet).Spec.Selector, spec.Child("selector"))
	case *discoveryv1.EndpointSlice:
		return same(o.AddressType, old.(*discoveryv1.EndpointSlice).AddressType, field.NewPath("addressType"))
	case *certv1.CertificateSigningRequest:
		was := old.(*certv1.CertificateSigningRequest)
		return append(same(o.Spec.Request, was.Spec.Request, spec.Child("request")), same(o.Spec.SignerName, was.Spec.SignerName, spec.Child("signerName"))...)
	case *rbacv1.ClusterRoleBinding:
		return same(o.RoleRef, old.(*rbacv1.ClusterRoleBinding).RoleRef, field.NewPath("roleRef"))
	case *rbacv1.RoleBinding:
		return same(o.RoleRef, old.(*rbacv1.RoleBinding).RoleRef, field.NewPath("roleRef"))
	}
	return nil
}

// validatePodChange lets only those fields of a pod change that may.
func validatePodChange(o, was *corev1.Pod) field.ErrorList {
	n := o.Spec.DeepCopy()
	for i := range n.Containers {
		if i < len(was.Spec.Containers) {
			n.Containers[i].Image = was.Spec.Containers[i].Image
		}
	}
	n.ActiveDeadlineSeconds, n.TerminationGracePeriodSeconds = was.Spec.ActiveDeadlineSeconds, was.Spec.TerminationGracePeriodSeconds
	for _, t := range was.Spec.Tolerations {
		if !slices.ContainsFunc(o.Spec.Tolerations, func(x corev1.Toleration) bool { return apiequality.Semantic.DeepEqual(x, t) }) {
			return field.ErrorList{field.Forbidden(field.NewPath("spec", "tolerations"), "existing toleration can not be modified except its tolerationSeconds")}
		}
	}
	n.Tolerations = was.Spec.Tolerations
	if was.Spec.NodeName == "" {
		n.NodeName = "" // the binding sets it
	}
	if !apiequality.Semantic.DeepEqual(*n, was.Spec) {
		return field.ErrorList{field.Forbidden(field.NewPath("spec"), "pod updates may not change fields other than `spec.containers[*].image`, `spec.activeDeadlineSeconds`, `spec.tolerations` (only additions to existing tolerations), `spec.terminationGracePeriodSeconds`")}
	}
	return nil
}

func each(msgs []string, at *field.Path, value any) field.ErrorList {
	var errs field.ErrorList
	for _, m := range msgs {
		errs = append(errs, field.Invalid(at, value, m))
	}
	return errs
}

func validateWorkload(sel *metav1.LabelSelector, t *corev1.PodTemplateSpec, replicas *int32, spec *field.Path) field.ErrorList {
	var errs field.ErrorList
	if replicas != nil {
		errs = append(errs, apivalidation.ValidateNonnegativeField(int64(*replicas), spec.Child("replicas"))...)
	}
	at := spec.Child("selector")
	if sel == nil {
		errs = append(errs, field.Required(at, ""))
	} else {
		errs = append(errs, metavalidation.ValidateLabelSelector(sel, metavalidation.LabelSelectorValidationOptions{}, at)...)
		if len(sel.MatchLabels)+len(sel.MatchExpressions) == 0 {
			errs = append(errs, field.Invalid(at, sel, "empty selector is invalid for deployment"))
		} else if l, err := metav1.LabelSelectorAsSelector(sel); err == nil && !l.Matches(labels.Set(t.Labels)) {
			errs = append(errs, field.Invalid(spec.Child("template", "metadata", "labels"), t.Labels, "`selector` does not match template `labels`"))
		}
	}
	tp := spec.Child("template")
	errs = append(errs, metavalidation.ValidateLabels(t.Labels, tp.Child("metadata", "labels"))...)
	errs = append(errs, apivalidation.ValidateAnnotations(t.Annotations, tp.Child("metadata", "annotations"))...)
	if p := t.Spec.RestartPolicy; p != corev1.RestartPolicyAlways {
		errs = append(errs, field.NotSupported(tp.Child("spec", "restartPolicy"), p, []string{"Always"}))
	}
	return append(errs, validatePodSpec(&t.Spec, tp.Child("spec"))...)
}

// validateSpread judges what has pods spread over the domains of a topology.
func validateSpread(c *corev1.TopologySpreadConstraint, at *field.Path) field.ErrorList {
	var errs field.ErrorList
	if c.MaxSkew <= 0 {
		errs = append(errs, field.Invalid(at.Child("maxSkew"), c.MaxSkew, "must be greater than zero"))
	}
	if c.TopologyKey == "" {
		errs = append(errs, field.Required(at.Child("topologyKey"), "can not be empty"))
	}
	if w := c.WhenUnsatisfiable; w != corev1.DoNotSchedule && w != corev1.ScheduleAnyway {
		errs = append(errs, field.NotSupported(at.Child("whenUnsatisfiable"), w, []corev1.UnsatisfiableConstraintAction{corev1.DoNotSchedule, corev1.ScheduleAnyway}))
	}
	if c.MinDomains != nil && (*c.MinDomains <= 0 || c.WhenUnsatisfiable != corev1.DoNotSchedule) {
		errs = append(errs, field.Invalid(at.Child("minDomains"), *c.MinDomains, "must be greater than zero, and can only use minDomains if whenUnsatisfiable=DoNotSchedule"))
	}
	inclusion := func(policy *corev1.NodeInclusionPolicy, child string) {
		if policy != nil && *policy != corev1.NodeInclusionPolicyHonor && *policy != corev1.NodeInclusionPolicyIgnore {
			errs = append(errs, field.NotSupported(at.Child(child), *policy, []corev1.NodeInclusionPolicy{corev1.NodeInclusionPolicyHonor, corev1.NodeInclusionPolicyIgnore}))
		}
	}
	inclusion(c.NodeAffinityPolicy, "nodeAffinityPolicy")
	inclusion(c.NodeTaintsPolicy, "nodeTaintsPolicy")
	return append(errs, metavalidation.ValidateLabelSelector(c.LabelSelector, metavalidation.LabelSelectorValidationOptions{}, at.Child("labelSelector"))...)
}

// validateShare judges a number, or a share in percent.
func validateShare(v *intstr.IntOrString, at *field.Path, atMostAll bool) field.ErrorList {
	if v.Type == intstr.Int {
		return apivalidation.ValidateNonnegativeField(int64(v.IntVal), at)
	}
	errs := each(validation.IsValidPercent(v.StrVal), at, v.StrVal)
	n := 0
	if fmt.Sscanf(v.StrVal, "%d%%", &n); atMostAll && n > 100 {
		errs = append(errs, field.Invalid(at, v.StrVal, "must not be greater than 100%"))
	}
	return errs
}

func validateStrategy(s *appsv1.DeploymentStrategy, at *field.Path) field.ErrorList {
	switch s.Type {
	case appsv1.RecreateDeploymentStrategyType:
		if s.RollingUpdate != nil {
			return field.ErrorList{field.Forbidden(at.Child("rollingUpdate"), "may not be specified when strategy `type` is 'Recreate'")}
		}
		return nil
	case appsv1.RollingUpdateDeploymentStrategyType:
	default:
		return field.ErrorList{field.NotSupported(at.Child("type"), s.Type, []string{"Recreate", "RollingUpdate"})}
	}
	at = at.Child("rollingUpdate")
	errs := append(validateShare(s.RollingUpdate.MaxUnavailable, at.Child("maxUnavailable"), true), validateShare(s.RollingUpdate.MaxSurge, at.Child("maxSurge"), false)...)
	zero := func(v *intstr.IntOrString) bool { return v.Type == intstr.Int && v.IntVal == 0 || v.StrVal == "0%" }
	if zero(s.RollingUpdate.MaxUnavailable) && zero(s.RollingUpdate.MaxSurge) {
		errs = append(errs, field.Invalid(at.Child("maxUnavailable"), s.RollingUpdate.MaxUnavailable, "may not be 0 when `maxSurge` is 0"))
	}
	return errs
}

func validatePodSpec(p *corev1.PodSpec, at *field.Path) field.ErrorList {
	var errs field.ErrorList
	if len(p.Containers) == 0 {
		errs = append(errs, field.Required(at.Child("containers"), ""))
	}
	volumes, names := sets.New[string](), sets.New[string]()
	for i, v := range p.Volumes {
		vp := at.Child("volumes").Index(i)
		errs = append(errs, each(validation.IsDNS1123Label(v.Name), vp.Child("name"), v.Name)...)
		if volumes.Has(v.Name) {
			errs = append(errs, field.Duplicate(vp.Child("name"), v.Name))
		}
		volumes.Insert(v.Name)
	}
	for i, c := range p.Containers {
		cp := at.Child("containers").Index(i)
		errs = append(errs, each(validation.IsDNS1123Label(c.Name), cp.Child("name"), c.Name)...)
		if names.Has(c.Name) {
			errs = append(errs, field.Duplicate(cp.Child("name"), c.Name))
		}
		names.Insert(c.Name)
		if strings.TrimSpace(c.Image) == "" {
			errs = append(errs, field.Required(cp.Child("image"), ""))
		}
		errs = append(errs, validateContainer(&c, volumes, cp)...)
	}
	if n := p.TerminationGracePeriodSeconds; n != nil {
		errs = append(errs, apivalidation.ValidateNonnegativeField(*n, at.Child("terminationGracePeriodSeconds"))...)
	}
	if p.ServiceAccountName != "" {
		errs = append(errs, each(apivalidation.ValidateServiceAccountName(p.ServiceAccountName, false), at.Child("serviceAccountName"), p.ServiceAccountName)...)
	}
	if p.NodeName != "" {
		errs = append(errs, each(apivalidation.NameIsDNSSubdomain(p.NodeName, false), at.Child("nodeName"), p.NodeName)...)
	}
	oneOf := func(value, child string, of ...string) {
		if !slices.Contains(of, value) {
			errs = append(errs, field.NotSupported(at.Child(child), value, of))
		}
	}
	oneOf(string(p.RestartPolicy), "restartPolicy", "Always", "OnFailure", "Never")
	oneOf(string(p.DNSPolicy), "dnsPolicy", "ClusterFirst", "ClusterFirstWithHostNet", "Default", "None")
	errs = append(errs, metavalidation.ValidateLabels(p.NodeSelector, at.Child("nodeSelector"))...)
	for i, c := range p.TopologySpreadConstraints {
		errs = append(errs, validateSpread(&c, at.Child("topologySpreadConstraints").Index(i))...)
	}
	for i, t := range p.Tolerations {
		tp := at.Child("tolerations").Index(i)
		if t.Key != "" {
			errs = append(errs, metavalidation.ValidateLabelName(t.Key, tp.Child("key"))...)
		} else if t.Operator != corev1.TolerationOpExists {
			errs = append(errs, field.Invalid(tp.Child("operator"), t.Operator, "operator must be Exists when `key` is empty, which means \"match all values and all keys\""))
		}
		if t.Operator == corev1.TolerationOpExists && t.Value != "" {
			errs = append(errs, field.Invalid(tp.Child("operator"), t, "value must be empty when `operator` is 'Exists'"))
		}
		if o := string(t.Operator); !slices.Contains([]string{"", "Equal", "Exists"}, o) {
			errs = append(errs, field.NotSupported(tp.Child("operator"), o, []string{"Equal", "Exists"}))
		}
		if e := string(t.Effect); e != "" && !slices.Contains(effects, e) {
			errs = append(errs, field.NotSupported(tp.Child("effect"), e, effects))
		}
		if t.TolerationSeconds != nil && t.Effect != corev1.TaintEffectNoExecute {
			errs = append(errs, field.Invalid(tp.Child("effect"), t.Effect, "effect must be 'NoExecute' when `tolerationSeconds` is set"))
		}
	}
	return errs
}

var effects = []string{"NoSchedule", "PreferNoSchedule", "NoExecute"}

func validateContainer(c *corev1.Container, volumes sets.Set[string], at *field.Path) field.ErrorList {
	var errs field.ErrorList
	ports := sets.New[string]()
	for i, p := range c.Ports {
		pp := at.Child("ports").Index(i)
		if p.Name != "" {
			errs = append(errs, each(validation.IsValidPortName(p.Name), pp.Child("name"), p.Name)...)
			if ports.Has(p.Name) {
				errs = append(errs, field.Duplicate(pp.Child("name"), p.Name))
			}
			ports.Insert(p.Name)
		}
		errs = append(errs, each(validation.IsValidPortNum(int(p.ContainerPort)), pp.Child("containerPort"), p.ContainerPort)...)
		if p.HostPort != 0 {
			errs = append(errs, each(validation.IsValidPortNum(int(p.HostPort)), pp.Child("hostPort"), p.HostPort)...)
		}
		if s := string(p.Protocol); !slices.Contains(protocols, s) {
			errs = append(errs, field.NotSupported(pp.Child("protocol"), s, protocols))
		}
	}
	for i, e := range c.Env {
		ep := at.Child("env").Index(i)
		if e.Name == "" {
			errs = append(errs, field.Required(ep.Child("name"), ""))
		} else {
			errs = append(errs, each(validation.IsRelaxedEnvVarName(e.Name), ep.Child("name"), e.Name)...)
		}
		if e.Value != "" && e.ValueFrom != nil {
			errs = append(errs, field.Invalid(ep.Child("valueFrom"), "", "may not be specified when `value` is not empty"))
		}
	}
	for i, m := range c.VolumeMounts {
		mp := at.Child("volumeMounts").Index(i)
		if !volumes.Has(m.Name) {
			errs = append(errs, field.NotFound(mp.Child("name"), m.Name))
		}
		if m.MountPath == "" {
			errs = append(errs, field.Required(mp.Child("mountPath"), ""))
		}
	}
	rp := at.Child("resources")
	for what, q := range c.Resources.Limits {
		errs = append(errs, validateQuantity(what, q.Sign(), q.String(), rp.Child("limits").Key(string(what)))...)
	}
	for what, q := range c.Resources.Requests {
		key := rp.Child("requests").Key(string(what))
		errs = append(errs, validateQuantity(what, q.Sign(), q.String(), key)...)
		if l, ok := c.Resources.Limits[what]; ok && q.Cmp(l) > 0 {
			errs = append(errs, field.Invalid(key, q.String(), fmt.Sprintf("must be less than or equal to %s limit of %s", what, l.String())))
		}
	}
	if p := string(c.ImagePullPolicy); !slices.Contains([]string{"Always", "IfNotPresent", "Never"}, p) {
		errs = append(errs, field.NotSupported(at.Child("imagePullPolicy"), p, []string{"Always", "IfNotPresent", "Never"}))
	}
	if r := c.ReadinessProbe; r != nil {
		pp := at.Child("readinessProbe")
		handlers := 0
		for _, set := range []bool{r.HTTPGet != nil, r.TCPSocket != nil, r.Exec != nil, r.GRPC != nil} {
			if set {
				handlers++
			}
		}
		if handlers != 1 {
			errs = append(errs, field.Required(pp, "must specify a handler type, and only one"))
		}
		if g := r.HTTPGet; g != nil && g.Port.Type == intstr.Int {
			errs = append(errs, each(validation.IsValidPortNum(g.Port.IntValue()), pp.Child("httpGet", "port"), g.Port.IntValue())...)
		}
		for name, n := range map[string]int32{"initialDelaySeconds": r.InitialDelaySeconds, "timeoutSeconds": r.TimeoutSeconds, "periodSeconds": r.PeriodSeconds, "successThreshold": r.SuccessThreshold, "failureThreshold": r.FailureThreshold} {
			errs = append(errs, apivalidation.ValidateNonnegativeField(int64(n), pp.Child(name))...)
		}
	}
	return errs
}

var protocols = []string{"SCTP", "TCP", "UDP"}

func validateQuantity(what corev1.ResourceName, sign int, text string, at *field.Path) field.ErrorList {
	errs := each(validation.IsQualifiedName(string(what)), at, what)
	if sign < 0 {
		errs = append(errs, field.Invalid(at, text, "must be greater than or equal to 0"))
	}
	return errs
}

func validateTaints(ts []corev1.Taint, at *field.Path) field.ErrorList {
	var errs field.ErrorList
	seen := sets.New[string]()
	for i, t := range ts {
		tp := at.Index(i)
		errs = append(errs, metavalidation.ValidateLabelName(t.Key, tp.Child("key"))...)
		errs = append(errs, each(validation.IsValidLabelValue(t.Value), tp.Child("value"), t.Value)...)
		if !slices.Contains(effects, string(t.Effect)) {
			errs = append(errs, field.NotSupported(tp.Child("effect"), string(t.Effect), effects))
		}
		if k := t.Key + ":" + string(t.Effect); seen.Has(k) {
			errs = append(errs, field.Duplicate(tp, t))
		} else {
			seen.Insert(k)
		}
	}
	return errs
}

func validateService(s *corev1.ServiceSpec, at *field.Path) field.ErrorList {
	var errs field.ErrorList
	if len(s.Ports) == 0 && s.ClusterIP != corev1.ClusterIPNone {
		errs = append(errs, field.Required(at.Child("ports"), ""))
	}
	names, taken := sets.New[string](), sets.New[string]()
	if ip := s.ClusterIP; ip != "" && ip != corev1.ClusterIPNone {
		errs = append(errs, validation.IsValidIPForLegacyField(at.Child("clusterIPs").Index(0), ip, true, nil)...)
	}
	onNodes := sets.New[string]()
	for i, p := range s.Ports {
		pp := at.Child("ports").Index(i)
		if p.Name == "" && len(s.Ports) > 1 {
			errs = append(errs, field.Required(pp.Child("name"), ""))
		}
		if p.Name != "" {
			errs = append(errs, each(validation.IsDNS1123Label(p.Name), pp.Child("name"), p.Name)...)
			if names.Has(p.Name) {
				errs = append(errs, field.Duplicate(pp.Child("name"), p.Name))
			}
			names.Insert(p.Name)
		}
		errs = append(errs, each(validation.IsValidPortNum(int(p.Port)), pp.Child("port"), p.Port)...)
		if s := string(p.Protocol); !slices.Contains(protocols, s) {
			errs = append(errs, field.NotSupported(pp.Child("protocol"), s, protocols))
		}
		if p.TargetPort.Type == intstr.Int {
			errs = append(errs, each(validation.IsValidPortNum(p.TargetPort.IntValue()), pp.Child("targetPort"), p.TargetPort.IntValue())...)
		} else {
			errs = append(errs, each(validation.IsValidPortName(p.TargetPort.StrVal), pp.Child("targetPort"), p.TargetPort.StrVal)...)
		}
		if k := fmt.Sprint(p.Protocol, p.NodePort); p.NodePort != 0 && onNodes.Has(k) {
			errs = append(errs, field.Duplicate(pp.Child("nodePort"), p.NodePort))
		} else {
			onNodes.Insert(k)
		}
		if k := fmt.Sprint(p.Protocol, p.Port); taken.Has(k) {
			errs = append(errs, field.Duplicate(pp, p.Port))
		} else {
			taken.Insert(k)
		}
	}
	errs = append(errs, metavalidation.ValidateLabels(s.Selector, at.Child("selector"))...)
	if t := string(s.Type); !slices.Contains([]string{"ClusterIP", "NodePort", "LoadBalancer", "ExternalName"}, t) {
		errs = append(errs, field.NotSupported(at.Child("type"), t, []string{"ClusterIP", "NodePort", "LoadBalancer", "ExternalName"}))
	}
	return errs
}

// maxData is how much a ConfigMap or a Secret may hold, in bytes.
const maxData = 1 << 20

func validateData(text map[string]string, data map[string][]byte) field.ErrorList {
	var errs field.ErrorList
	total := 0
	at := field.NewPath("data")
	for k, v := range text {
		errs, total = append(errs, each(validation.IsConfigMapKey(k), at.Key(k), k)...), total+len(v)
	}
	for k, v := range data {
		errs, total = append(errs, each(validation.IsConfigMapKey(k), at.Key(k), k)...), total+len(v)
	}
	if total > maxData {
		errs = append(errs, field.TooLong(at, "", maxData))
	}
	return errs
}

func validateSlice(o *discoveryv1.EndpointSlice) field.ErrorList {
	var errs field.ErrorList
	if t := o.AddressType; t != discoveryv1.AddressTypeIPv4 && t != discoveryv1.AddressTypeIPv6 && t != discoveryv1.AddressTypeFQDN {
		errs = append(errs, field.NotSupported(field.NewPath("addressType"), t, []string{"FQDN", "IPv4", "IPv6"}))
	}
	for i, e := range o.Endpoints {
		at := field.NewPath("endpoints").Index(i).Child("addresses")
		if len(e.Addresses) == 0 {
			errs = append(errs, field.Required(at, "must contain at least 1 address"))
		}
		for j, a := range e.Addresses {
			if o.AddressType != discoveryv1.AddressTypeFQDN {
				errs = append(errs, validation.IsValidIP(at.Index(j), a)...)
			}
		}
	}
	return errs
}

func validateRules(rules []rbacv1.PolicyRule) field.ErrorList {
	var errs field.ErrorList
	for i, r := range rules {
		at := field.NewPath("rules").Index(i)
		if len(r.Verbs) == 0 {
			errs = append(errs, field.Required(at.Child("verbs"), "verbs must contain at least one value"))
		}
		if len(r.NonResourceURLs) == 0 && (len(r.APIGroups) == 0 || len(r.Resources) == 0) {
			errs = append(errs, field.Required(at.Child("resources"), "resource rules must supply at least one api group and one resource"))
		}
	}
	return errs
}

func validateBinding(ref rbacv1.RoleRef, subjects []rbacv1.Subject, namespaced bool) field.ErrorList {
	var errs field.ErrorList
	at := field.NewPath("roleRef")
	if ref.APIGroup != rbacv1.GroupName {
		errs = append(errs, field.NotSupported(at.Child("apiGroup"), ref.APIGroup, []string{rbacv1.GroupName}))
	}
	if kinds := []string{"ClusterRole", "Role"}; !slices.Contains(kinds, ref.Kind) || !namespaced && ref.Kind == "Role" {
		errs = append(errs, field.NotSupported(at.Child("kind"), ref.Kind, kinds))
	}
	if ref.Name == "" {
		errs = append(errs, field.Required(at.Child("name"), ""))
	}
	for i, s := range subjects {
		sp := field.NewPath("subjects").Index(i)
		if s.Name == "" {
			errs = append(errs, field.Required(sp.Child("name"), ""))
		}
		if kinds := []string{"User", "Group", "ServiceAccount"}; !slices.Contains(kinds, s.Kind) {
			errs = append(errs, field.NotSupported(sp.Child("kind"), s.Kind, kinds))
		}
		if s.Kind == "ServiceAccount" && s.Namespace == "" && !namespaced {
			errs = append(errs, field.Required(sp.Child("namespace"), ""))
		}
	}
	return errs
}

// idle says why nobody here would ever act on an object, or on something that it
// asks for: it is refused, where the real cluster has something that acts on it.
func idle(res *resource, o runtime.Object) string {
	if why := idleKinds[res.kind]; why != "" {
		return why
	}
	switch o := o.(type) {
	case *corev1.Pod:
		return idlePod(&o.Spec)
	case *admissionv1.ValidatingWebhookConfiguration:
		for _, w := range o.Webhooks {
			if why := idleHook(w.MatchConditions, w.Rules); why != "" {
				return why
			}
		}
	case *admissionv1.MutatingWebhookConfiguration:
		for _, w := range o.Webhooks {
			if why := idleHook(w.MatchConditions, w.Rules); why != "" {
				return why
			}
		}
	case *appsv1.Deployment:
		switch {
		case o.Spec.Paused:
			return "spec.paused: the deployment controller here pauses nothing"
		case o.Spec.MinReadySeconds > 0:
			return "spec.minReadySeconds: the deployment controller here waits for no time beyond readiness"
		}
		return idlePod(&o.Spec.Template.Spec)
	case *appsv1.ReplicaSet:
		return idlePod(&o.Spec.Template.Spec)
	case *appsv1.DaemonSet:
		if o.Spec.UpdateStrategy.Type == appsv1.OnDeleteDaemonSetStrategyType {
			return "spec.updateStrategy: the daemon set controller here only does RollingUpdate"
		}
		return idlePod(&o.Spec.Template.Spec)
	case *corev1.Service:
		switch {
		case o.Spec.Type == corev1.ServiceTypeLoadBalancer:
			return "spec.type LoadBalancer: the site gives services no balancer; use NodePort, and forward of the declaration"
		case o.Spec.Type == corev1.ServiceTypeExternalName:
			return "spec.type ExternalName: the DNS here does not serve it"
		case o.Spec.SessionAffinity != corev1.ServiceAffinityNone:
			return "spec.sessionAffinity: the proxy here keeps none"
		}
	}
	return ""
}

var idleKinds = map[string]string{
	"StatefulSet": "no stateful set controller runs here", "Job": "no job controller runs here", "PersistentVolume": "there is no storage here", "PersistentVolumeClaim": "there is no storage here",
	"ReplicationController": "no replication controller runs here; use a Deployment", "ResourceQuota": "nothing here counts what namespaces use", "LimitRange": "nothing here limits what pods ask for",
	"Endpoints": "nothing here reads endpoints; use an EndpointSlice",
}

func idleHook(conditions []admissionv1.MatchCondition, rules []admissionv1.RuleWithOperations) string {
	if len(conditions) > 0 {
		return "webhooks.matchConditions: expressions are not evaluated here"
	}
	for _, r := range rules {
		if slices.Contains(r.Operations, admissionv1.Delete) || slices.Contains(r.Operations, admissionv1.Connect) {
			return "webhooks.rules.operations: webhooks are asked about CREATE and UPDATE here"
		}
	}
	return ""
}

// apartOnly says whether an affinity asks for nothing but that pods must not be on the same node.
func apartOnly(a *corev1.Affinity) bool {
	if a.NodeAffinity != nil || a.PodAffinity != nil || a.PodAntiAffinity == nil || len(a.PodAntiAffinity.PreferredDuringSchedulingIgnoredDuringExecution) > 0 {
		return false
	}
	return !slices.ContainsFunc(a.PodAntiAffinity.RequiredDuringSchedulingIgnoredDuringExecution, func(t corev1.PodAffinityTerm) bool {
		return t.TopologyKey != corev1.LabelHostname || t.NamespaceSelector != nil || len(t.MatchLabelKeys)+len(t.MismatchLabelKeys) > 0
	})
}

func idlePod(p *corev1.PodSpec) string {
	switch {
	case len(p.InitContainers) > 0:
		return "spec.initContainers: the kubelet here runs none"
	case len(p.EphemeralContainers) > 0:
		return "spec.ephemeralContainers: the kubelet here runs none"
	case len(p.Containers) > 1:
		return "spec.containers: the kubelet here runs one container a pod"
	case p.Affinity != nil && !apartOnly(p.Affinity):
		return "spec.affinity: the scheduler here knows node selectors, taints, and what keeps pods apart on the same node"
	case p.SchedulerName != "" && p.SchedulerName != corev1.DefaultSchedulerName:
		return "spec.schedulerName: no scheduler " + p.SchedulerName + " runs here"
	case len(p.SchedulingGates) > 0:
		return "spec.schedulingGates: nothing here takes them away"
	case p.ActiveDeadlineSeconds != nil:
		return "spec.activeDeadlineSeconds: the kubelet here ends no pod by time"
	}
	for _, v := range p.Volumes {
		if s := v.VolumeSource; s.ConfigMap == nil && s.Secret == nil && s.EmptyDir == nil && s.Projected == nil && s.DownwardAPI == nil && s.HostPath == nil {
			return "spec.volumes " + v.Name + ": " + volumeKind(s) + " volumes are not to be had here"
		}
	}
	for _, c := range p.Containers {
		switch {
		case c.LivenessProbe != nil || c.StartupProbe != nil:
			return "spec.containers " + c.Name + ": the kubelet here asks readiness probes only"
		case c.Lifecycle != nil:
			return "spec.containers " + c.Name + ": the kubelet here calls no lifecycle handlers"
		case c.ReadinessProbe != nil && (c.ReadinessProbe.HTTPGet == nil || c.ReadinessProbe.HTTPGet.Port.Type == intstr.String):
			return "spec.containers " + c.Name + ": the kubelet here asks readiness probes by HTTP at a numbered port only"
		}
		for _, port := range c.Ports {
			if port.HostPort != 0 && !p.HostNetwork {
				return "spec.containers " + c.Name + ": the network plugin here opens no host ports"
			}
		}
	}
	return ""
}

// volumeKind names the field of a volume that is set.
func volumeKind(s corev1.VolumeSource) string {
	v := reflect.ValueOf(s)
	for i := range v.NumField() {
		if !v.Field(i).IsNil() {
			return strings.Split(v.Type().Field(i).Tag.Get("json"), ",")[0]
		}
	}
	return "empty"
}
