package apiserver

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"

	admissionv1 "k8s.io/api/admissionregistration/v1"
	appsv1 "k8s.io/api/apps/v1"
	authnv1 "k8s.io/api/authentication/v1"
	authzv1 "k8s.io/api/authorization/v1"
	autoscalingv1 "k8s.io/api/autoscaling/v1"
	corev1 "k8s.io/api/core/v1"
	policyv1 "k8s.io/api/policy/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	apivalidation "k8s.io/apimachinery/pkg/api/validation"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/util/validation/field"
	sjson "sigs.k8s.io/json"
)

func success() *metav1.Status {
	return &metav1.Status{TypeMeta: metav1.TypeMeta{Kind: "Status", APIVersion: "v1"}, Status: metav1.StatusSuccess}
}

func into(r *http.Request, o any) error {
	b, err := body(r)
	if err == nil && len(b) > 0 {
		err = sjson.UnmarshalCaseSensitivePreserveInts(b, o)
	}
	if err != nil {
		return apierrors.NewBadRequest(err.Error())
	}
	return nil
}

func (s *server) createSub(ctx context.Context, r *http.Request, u user, q *request) (runtime.Object, error) {
	switch {
	case q.sub == "eviction":
		var e policyv1.Eviction
		if err := into(r, &e); err != nil {
			return nil, err
		}
		if err := s.restrictDeletion(ctx, u, q); err != nil {
			return nil, err
		}
		return s.evict(ctx, u, q, &e)
	case q.sub == "binding" || q.resource.plural == "bindings":
		var b corev1.Binding
		if err := into(r, &b); err != nil {
			return nil, err
		}
		_, err := s.change(ctx, q.resource, q.ns, q.name, "", false, func(o runtime.Object, m metav1.Object) (runtime.Object, error) {
			p := o.(*corev1.Pod)
			if p.Spec.NodeName != "" {
				return nil, apierrors.NewConflict(q.resource.gr(), q.name, fmt.Errorf("pod is already assigned to node %q", p.Spec.NodeName))
			}
			p.Spec.NodeName = b.Target.Name
			setCondition(&p.Status, corev1.PodCondition{Type: corev1.PodScheduled, Status: corev1.ConditionTrue, LastTransitionTime: metav1.Now()})
			return p, nil
		})
		return success(), err
	case q.sub == "token":
		return s.issueToken(ctx, r, u, q)
	case q.resource.plural == "subjectaccessreviews":
		v := &authzv1.SubjectAccessReview{}
		if err := into(r, v); err != nil {
			return nil, err
		}
		v.Status.Allowed = s.review(ctx, user{name: v.Spec.User, groups: v.Spec.Groups}, v.Spec.ResourceAttributes)
		return v, nil
	case q.resource.plural == "selfsubjectaccessreviews":
		v := &authzv1.SelfSubjectAccessReview{}
		if err := into(r, v); err != nil {
			return nil, err
		}
		v.Status.Allowed = s.review(ctx, u, v.Spec.ResourceAttributes)
		return v, nil
	case q.resource.plural == "selfsubjectreviews":
		v := &authnv1.SelfSubjectReview{TypeMeta: metav1.TypeMeta{Kind: "SelfSubjectReview", APIVersion: "authentication.k8s.io/v1"}}
		v.Status.UserInfo = u.info()
		return v, nil
	case q.resource.plural == "tokenreviews":
		v := &authnv1.TokenReview{}
		if err := into(r, v); err != nil {
			return nil, err
		}
		who, err := s.account(ctx, v.Spec.Token, v.Spec.Audiences)
		if v.Status.Authenticated = err == nil; err != nil {
			v.Status.Error = err.Error()
			return v, nil
		}
		v.Status.User = who.info()
		v.Status.Audiences = v.Spec.Audiences
		if len(v.Status.Audiences) == 0 {
			v.Status.Audiences = []string{s.tokens.issuer}
		}
		return v, nil
	}
	return nil, apierrors.NewMethodNotSupported(q.resource.gr(), "create "+q.sub)
}

func (s *server) review(ctx context.Context, u user, a *authzv1.ResourceAttributes) bool {
	if a == nil {
		return u.in("system:masters")
	}
	return s.allowed(ctx, u, access{a.Verb, a.Group, a.Resource, a.Subresource, a.Namespace, a.Name, nil})
}

func setCondition(st *corev1.PodStatus, c corev1.PodCondition) {
	for i := range st.Conditions {
		if st.Conditions[i].Type == c.Type {
			st.Conditions[i] = c
			return
		}
	}
	st.Conditions = append(st.Conditions, c)
}

// evict deletes a pod if every disruption budget over it has room.
func (s *server) evict(ctx context.Context, u user, q *request, e *policyv1.Eviction) (runtime.Object, error) {
	d := &metav1.DeleteOptions{}
	if e.DeleteOptions != nil {
		d = e.DeleteOptions
	}
	o, m, _, err := s.load(ctx, q.resource, q.ns, q.name)
	if err != nil {
		return nil, err
	}
	if _, err := s.ask(ctx, u, q, admissionv1.Create, e, nil); err != nil {
		return nil, err
	}
	p := o.(*corev1.Pod)
	dry := q.dry() || len(d.DryRun) > 0
	if p.Status.Phase == corev1.PodSucceeded || p.Status.Phase == corev1.PodFailed || p.DeletionTimestamp != nil {
		_, err := s.removeOne(ctx, q.resource, q.ns, q.name, d, dry)
		return success(), err
	}
	budgets := findResource("policy", "v1", "poddisruptionbudgets")
	kvs, _, err := s.rangeOf(ctx, budgets.prefix(q.ns))
	if err != nil {
		return nil, err
	}
	var over []string
	for _, kv := range kvs {
		bo, bm, err := s.seen(budgets, kv).object()
		if err != nil {
			return nil, err
		}
		sel, err := metav1.LabelSelectorAsSelector(bo.(*policyv1.PodDisruptionBudget).Spec.Selector)
		if err == nil && sel.Matches(labels.Set(m.GetLabels())) {
			over = append(over, bm.GetName())
		}
	}
	if len(over) > 1 {
		return nil, apierrors.NewInternalError(fmt.Errorf("this pod has more than one PodDisruptionBudget, which the eviction subresource does not support"))
	}
	for _, name := range over {
		_, err := s.change(ctx, budgets, q.ns, name, "", dry, func(o runtime.Object, _ metav1.Object) (runtime.Object, error) {
			b := o.(*policyv1.PodDisruptionBudget)
			if b.Status.ObservedGeneration < b.Generation {
				return nil, apierrors.NewTooManyRequests("the disruption budget "+name+" is still being processed by the server", 1)
			}
			if b.Status.DisruptionsAllowed < 1 {
				return nil, apierrors.NewTooManyRequests(fmt.Sprintf("Cannot evict pod as it would violate the pod's disruption budget %s: it needs %d healthy pods and has %d", name, b.Status.DesiredHealthy, b.Status.CurrentHealthy), 0)
			}
			b.Status.DisruptionsAllowed--
			if b.Status.DisruptedPods == nil {
				b.Status.DisruptedPods = map[string]metav1.Time{}
			}
			b.Status.DisruptedPods[q.name] = metav1.Now()
			return b, nil
		})
		if err != nil {
			return nil, err
		}
	}
	_, err = s.removeOne(ctx, q.resource, q.ns, q.name, d, dry)
	return success(), err
}

// scaleOf is the size of a workload as an object of its own, and where it stands.
func scaleOf(o runtime.Object) (*autoscalingv1.Scale, *int32) {
	var rep **int32
	var have int32
	var m metav1.ObjectMeta
	var sel *metav1.LabelSelector
	switch o := o.(type) {
	case *appsv1.Deployment:
		rep, have, m, sel = &o.Spec.Replicas, o.Status.Replicas, o.ObjectMeta, o.Spec.Selector
	case *appsv1.ReplicaSet:
		rep, have, m, sel = &o.Spec.Replicas, o.Status.Replicas, o.ObjectMeta, o.Spec.Selector
	default:
		return nil, nil
	}
	orDefault(rep, 1)
	text := ""
	if l, err := metav1.LabelSelectorAsSelector(sel); err == nil {
		text = l.String()
	}
	return &autoscalingv1.Scale{TypeMeta: metav1.TypeMeta{Kind: "Scale", APIVersion: "autoscaling/v1"},
		ObjectMeta: metav1.ObjectMeta{Name: m.Name, Namespace: m.Namespace, UID: m.UID, ResourceVersion: m.ResourceVersion, CreationTimestamp: m.CreationTimestamp},
		Spec:       autoscalingv1.ScaleSpec{Replicas: **rep}, Status: autoscalingv1.ScaleStatus{Replicas: have, Selector: text}}, *rep
}

func (s *server) getScale(ctx context.Context, q *request) (runtime.Object, error) {
	o, _, _, err := s.load(ctx, q.resource, q.ns, q.name)
	if err != nil {
		return nil, err
	}
	sc, _ := scaleOf(o)
	if sc == nil {
		return nil, apierrors.NewNotFound(q.resource.gr(), q.name+"/scale")
	}
	return sc, nil
}

func (s *server) putScale(ctx context.Context, r *http.Request, q *request) (runtime.Object, error) {
	var n autoscalingv1.Scale
	if err := into(r, &n); err != nil {
		return nil, err
	}
	return s.changeScale(ctx, q, n.ResourceVersion, func(sc *autoscalingv1.Scale) error { *sc = n; return nil })
}

// changeScale changes the size of a workload as f says.
func (s *server) changeScale(ctx context.Context, q *request, want string, f func(*autoscalingv1.Scale) error) (runtime.Object, error) {
	o, err := s.change(ctx, q.resource, q.ns, q.name, want, q.dry(), func(o runtime.Object, m metav1.Object) (runtime.Object, error) {
		sc, rep := scaleOf(o)
		if sc == nil {
			return nil, apierrors.NewNotFound(q.resource.gr(), q.name+"/scale")
		}
		if err := f(sc); err != nil {
			return nil, err
		}
		if sc.Name != q.name || sc.Namespace != q.ns {
			return nil, apierrors.NewBadRequest(fmt.Sprintf("the scale of %s/%s is asked for, and this is that of %s/%s", q.ns, q.name, sc.Namespace, sc.Name))
		}
		if errs := apivalidation.ValidateNonnegativeField(int64(sc.Spec.Replicas), field.NewPath("spec", "replicas")); len(errs) > 0 {
			return nil, apierrors.NewInvalid(autoscalingv1.SchemeGroupVersion.WithKind("Scale").GroupKind(), q.name, errs)
		}
		if *rep == sc.Spec.Replicas {
			return nil, nil
		}
		*rep = sc.Spec.Replicas
		m.SetGeneration(m.GetGeneration() + 1)
		return o, nil
	})
	if err != nil {
		return nil, err
	}
	out, _ := scaleOf(o)
	return out, nil
}

// podLog fetches a container's log from the kubelet that has it.
func (s *server) podLog(w http.ResponseWriter, r *http.Request, q *request) {
	o, _, _, err := s.load(r.Context(), q.resource, q.ns, q.name)
	if err != nil {
		fail(w, err)
		return
	}
	p := o.(*corev1.Pod)
	if p.Spec.NodeName == "" {
		fail(w, apierrors.NewBadRequest("the pod is not on a node yet"))
		return
	}
	no, _, _, err := s.load(r.Context(), findResource("", "v1", "nodes"), "", p.Spec.NodeName)
	if err != nil {
		fail(w, err)
		return
	}
	addr := ""
	for _, a := range no.(*corev1.Node).Status.Addresses {
		if a.Type == corev1.NodeInternalIP {
			addr = a.Address
		}
	}
	c := q.query.Get("container")
	if c == "" {
		c = p.Spec.Containers[0].Name
	}
	if !slices.ContainsFunc(containersOf(&p.Spec), func(x corev1.Container) bool { return x.Name == c }) {
		fail(w, apierrors.NewBadRequest(fmt.Sprintf("container %s is not valid for pod %s", c, q.name)))
		return
	}
	port := fmt.Sprint(no.(*corev1.Node).Status.DaemonEndpoints.KubeletEndpoint.Port)
	target := url.URL{Scheme: "https", Host: net.JoinHostPort(addr, port), Path: "/containerLogs/", RawQuery: r.URL.RawQuery}
	target = *target.JoinPath(url.PathEscape(q.ns), url.PathEscape(q.name), url.PathEscape(c))
	req, err := http.NewRequestWithContext(r.Context(), http.MethodGet, target.String(), nil)
	if err != nil {
		fail(w, err)
		return
	}
	resp, err := s.kubelets.Do(req)
	if err != nil {
		fail(w, apierrors.NewInternalError(err))
		return
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		b, _ := io.ReadAll(io.LimitReader(resp.Body, 1000))
		fail(w, apierrors.NewInternalError(fmt.Errorf("kubelet of %s: %s: %s", p.Spec.NodeName, resp.Status, b)))
		return
	}
	w.Header().Set("Content-Type", "text/plain")
	buf := make([]byte, 4096)
	for {
		n, err := resp.Body.Read(buf)
		w.Write(buf[:n])
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
		if err != nil {
			return
		}
	}
}
