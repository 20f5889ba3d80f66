package apiserver

import (
	"context"
	"errors"
	"fmt"

	appsv1 "k8s.io/api/apps/v1"
	corev1 "k8s.io/api/core/v1"
	rbacv1 "k8s.io/api/rbac/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	apivalidation "k8s.io/apimachinery/pkg/api/validation"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/util/intstr"
)

func ptr[T any](v T) *T { return &v }

func orDefault[T any](p **T, v T) {
	if *p == nil {
		*p = &v
	}
}

func orText[T ~string](p *T, v T) {
	if *p == "" {
		*p = v
	}
}

// admit fills in defaults and refuses what cannot be. old is nil on creation.
func (s *server) admit(ctx context.Context, res *resource, o, old runtime.Object) error {
	if err := s.complete(res, o, old); err != nil {
		return err
	}
	if err := validate(res, o, old); err != nil {
		return err
	}
	m, err := meta.Accessor(o)
	if err != nil {
		return err
	}
	if why := idle(res, o); why != "" && m.GetDeletionTimestamp() == nil {
		return apierrors.NewForbidden(res.gr(), m.GetName(), errors.New(why))
	}
	if svc, ok := o.(*corev1.Service); ok {
		was, _ := old.(*corev1.Service)
		return s.admitService(ctx, svc, was)
	}
	return nil
}

// complete fills in defaults.
func (s *server) complete(res *resource, o, old runtime.Object) error {
	switch o := o.(type) {
	case *corev1.Namespace:
		if old == nil {
			o.Status.Phase = corev1.NamespaceActive
			o.Spec.Finalizers = nil
			o.Finalizers = append(o.Finalizers, "verbund.test/contents")
			if o.Labels == nil {
				o.Labels = map[string]string{}
			}
			o.Labels["kubernetes.io/metadata.name"] = o.Name
		} else if o.DeletionTimestamp != nil {
			o.Status.Phase = corev1.NamespaceTerminating
		}
	case *corev1.Pod:
		defaultPodSpec(&o.Spec)
		if old == nil {
			// Whose account it has is asked before the pod is looked at, as admission is.
			if why := apivalidation.ValidateServiceAccountName(o.Spec.ServiceAccountName, false); len(why) > 0 {
				return apierrors.NewForbidden(res.gr(), o.Name, fmt.Errorf("error looking up service account %s/%s: invalid resource name %q: %v", o.Namespace, o.Spec.ServiceAccountName, o.Spec.ServiceAccountName, why))
			}
			o.Status = corev1.PodStatus{Phase: corev1.PodPending, QOSClass: corev1.PodQOSBestEffort}
			addTolerations(&o.Spec)
		}
	case *appsv1.Deployment:
		orDefault(&o.Spec.Replicas, 1)
		orDefault(&o.Spec.RevisionHistoryLimit, 10)
		orDefault(&o.Spec.ProgressDeadlineSeconds, 600)
		orText(&o.Spec.Strategy.Type, appsv1.RollingUpdateDeploymentStrategyType)
		if o.Spec.Strategy.Type == appsv1.RollingUpdateDeploymentStrategyType {
			orDefault(&o.Spec.Strategy.RollingUpdate, appsv1.RollingUpdateDeployment{})
			orDefault(&o.Spec.Strategy.RollingUpdate.MaxSurge, intstr.FromString("25%"))
			orDefault(&o.Spec.Strategy.RollingUpdate.MaxUnavailable, intstr.FromString("25%"))
		}
		defaultPodSpec(&o.Spec.Template.Spec)
	case *appsv1.ReplicaSet:
		orDefault(&o.Spec.Replicas, 1)
		defaultPodSpec(&o.Spec.Template.Spec)
	case *appsv1.DaemonSet:
		orText(&o.Spec.UpdateStrategy.Type, appsv1.RollingUpdateDaemonSetStrategyType)
		defaultPodSpec(&o.Spec.Template.Spec)
	case *corev1.Service:
		defaultService(&o.Spec)
		if was, ok := old.(*corev1.Service); ok && o.Spec.ClusterIP == "" {
			o.Spec.ClusterIP = was.Spec.ClusterIP
		}
	case *rbacv1.ClusterRoleBinding:
		orText(&o.RoleRef.APIGroup, rbacv1.GroupName)
	case *rbacv1.RoleBinding:
		orText(&o.RoleRef.APIGroup, rbacv1.GroupName)
	case *corev1.Secret:
		orText(&o.Type, corev1.SecretTypeOpaque)
		for k, v := range o.StringData {
			if o.Data == nil {
				o.Data = map[string][]byte{}
			}
			o.Data[k] = []byte(v)
		}
		o.StringData = nil
	}
	return nil
}

func defaultPodSpec(p *corev1.PodSpec) {
	orText(&p.RestartPolicy, corev1.RestartPolicyAlways)
	orText(&p.DNSPolicy, corev1.DNSClusterFirst)
	orText(&p.SchedulerName, "default-scheduler")
	orDefault(&p.TerminationGracePeriodSeconds, 30)
	orText(&p.ServiceAccountName, "default")
	orDefault(&p.SecurityContext, corev1.PodSecurityContext{})
	for i := range p.Containers {
		c := &p.Containers[i]
		orText(&c.ImagePullPolicy, corev1.PullIfNotPresent)
		orText(&c.TerminationMessagePath, "/dev/termination-log")
		orText(&c.TerminationMessagePolicy, corev1.TerminationMessageReadFile)
		for j := range c.Ports {
			orText(&c.Ports[j].Protocol, corev1.ProtocolTCP)
		}
		if r := c.ReadinessProbe; r != nil {
			for _, n := range []*int32{&r.PeriodSeconds, &r.TimeoutSeconds, &r.SuccessThreshold, &r.FailureThreshold} {
				*n = max(*n, 1)
			}
		}
	}
}

// addTolerations lets a pod stay for a while on a node that is in trouble.
func addTolerations(p *corev1.PodSpec) {
	for _, key := range []string{corev1.TaintNodeNotReady, corev1.TaintNodeUnreachable} {
		t := corev1.Toleration{Key: key, Operator: corev1.TolerationOpExists, Effect: corev1.TaintEffectNoExecute, TolerationSeconds: ptr[int64](300)}
		taint := &corev1.Taint{Key: key, Effect: corev1.TaintEffectNoExecute}
		have := false
		for _, x := range p.Tolerations {
			have = have || x.Key == "" && x.Operator == corev1.TolerationOpExists || x.Key == taint.Key
		}
		if !have {
			p.Tolerations = append(p.Tolerations, t)
		}
	}
}

func defaultService(s *corev1.ServiceSpec) {
	orText(&s.Type, corev1.ServiceTypeClusterIP)
	orText(&s.SessionAffinity, corev1.ServiceAffinityNone)
	orDefault(&s.IPFamilyPolicy, corev1.IPFamilyPolicySingleStack)
	s.IPFamilies = []corev1.IPFamily{corev1.IPv4Protocol}
	orDefault(&s.InternalTrafficPolicy, corev1.ServiceInternalTrafficPolicyCluster)
	for i := range s.Ports {
		p := &s.Ports[i]
		orText(&p.Protocol, corev1.ProtocolTCP)
		if p.TargetPort == (intstr.IntOrString{}) {
			p.TargetPort = intstr.FromInt32(p.Port)
		}
	}
}

// graceOf is how many seconds a deleted object may still live: only pods that
// run somewhere get any.
func graceOf(o runtime.Object, d *metav1.DeleteOptions) int64 {
	p, ok := o.(*corev1.Pod)
	if !ok || p.Spec.NodeName == "" || p.Status.Phase == corev1.PodSucceeded || p.Status.Phase == corev1.PodFailed {
		return 0
	}
	if d.GracePeriodSeconds != nil {
		return *d.GracePeriodSeconds
	}
	if p.Spec.TerminationGracePeriodSeconds != nil {
		return *p.Spec.TerminationGracePeriodSeconds
	}
	return 30
}
