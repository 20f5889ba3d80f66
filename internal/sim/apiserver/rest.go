package apiserver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	jsonpatch "gopkg.in/evanphx/json-patch.v4"
	admissionv1 "k8s.io/api/admissionregistration/v1"
	autoscalingv1 "k8s.io/api/autoscaling/v1"
	certv1 "k8s.io/api/certificates/v1"
	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/fields"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/apimachinery/pkg/util/rand"
	"k8s.io/apimachinery/pkg/util/strategicpatch"
	"k8s.io/apimachinery/pkg/util/uuid"
	"k8s.io/apimachinery/pkg/util/validation/field"
	sjson "sigs.k8s.io/json"
	"sigs.k8s.io/yaml"

	"verbund/internal/kubeapi"
)

// maxBody is the largest request that is read.
const maxBody = 3 << 20

// requestTime is how long a request may take that does not go on by its nature, as with the real
// server (--request-timeout).
const requestTime = time.Minute

func (s *server) serve(w http.ResponseWriter, r *http.Request, u user, q *request) {
	var o runtime.Object
	status := http.StatusOK
	var err error
	if q.verb != "watch" && q.sub != "log" {
		ctx, cancel := context.WithTimeout(r.Context(), requestTime)
		defer cancel()
		r = r.WithContext(ctx)
	}
	ctx, claimed := claiming(r.Context())
	if !slices.Contains(s.served(), q.resource) {
		fail(w, apierrors.NewNotFound(q.resource.gr(), q.name))
		return
	}
	s.note(w, q)
	switch {
	case q.verb == "watch":
		s.watch(w, r, q)
		return
	case q.sub == "log":
		s.podLog(w, r, q)
		return
	case q.verb == "list":
		s.list(w, r, q)
		return
	case q.verb == "get" && q.sub == "scale":
		o, err = s.getScale(ctx, q)
	case q.verb == "get" && q.query.Get("resourceVersion") == "0": // any version will do
		o, _, _, err = s.loadOlder(ctx, q.resource, q.ns, q.name)
	case q.verb == "get":
		o, _, _, err = s.load(ctx, q.resource, q.ns, q.name)
	case q.verb == "create" && (q.sub != "" || q.resource.virtual):
		status = http.StatusCreated
		o, err = s.createSub(ctx, r, u, q)
	case q.verb == "create":
		status = http.StatusCreated
		o, err = s.create(ctx, r, u, q)
	case q.verb == "update":
		o, err = s.update(ctx, r, u, q)
	case q.verb == "patch":
		o, err = s.patch(ctx, r, u, q)
	case q.verb == "delete":
		if err = s.restrictDeletion(ctx, u, q); err == nil {
			o, err = s.remove(ctx, r, q)
		}
	case q.verb == "deletecollection":
		o, err = s.removeAll(ctx, r, q)
	}
	s.settle(ctx, claimed, o, err == nil && !q.dry())
	if err != nil {
		fail(w, err)
		return
	}
	if t := tableOptions(r); t != nil && q.verb == "get" {
		o = toTable(q.resource, []runtime.Object{o}, metav1.ListMeta{}, t.headers, t.include)
	} else if metadataOnly(r) && q.sub == "" {
		o = partial(o)
	}
	writeJSON(w, status, o)
}

func body(r *http.Request) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r.Body, maxBody+1))
	if err != nil {
		return nil, apierrors.NewBadRequest(err.Error())
	}
	if len(b) > maxBody {
		return nil, apierrors.NewRequestEntityTooLargeError(fmt.Sprintf("the limit is %d bytes", maxBody))
	}
	ct := r.Header.Get("Content-Type")
	if !strings.Contains(ct, "protobuf") && depth(b) > mostDepth {
		return nil, apierrors.NewBadRequest(fmt.Sprintf("it is nested more than %d levels deep", mostDepth))
	}
	switch {
	case strings.Contains(ct, "vnd.kubernetes.protobuf") && len(b) > 0:
		// The Go client sends protobuf; everything behind this line is JSON.
		o, _, err := kubeapi.Codecs.UniversalDeserializer().Decode(b, nil, nil)
		if err != nil {
			return nil, apierrors.NewBadRequest(err.Error())
		}
		return json.Marshal(o)
	case strings.Contains(ct, "yaml"):
		if b, err = yaml.YAMLToJSON(b); err != nil {
			return nil, apierrors.NewBadRequest(err.Error())
		}
	}
	return b, nil
}

// decode reads an object strictly if the client asks for that.
func decode(res *resource, b []byte, q *request) (runtime.Object, metav1.Object, error) {
	o, err := res.make()
	if err != nil {
		return nil, nil, err
	}
	strict, err := sjson.UnmarshalStrict(b, o)
	if err != nil {
		return nil, nil, apierrors.NewBadRequest(fmt.Sprintf("%s in version %q cannot be handled: %v", res.kind, res.version, err))
	}
	if len(strict) > 0 && q.query.Get("fieldValidation") == "Strict" {
		return nil, nil, apierrors.NewBadRequest(fmt.Sprintf("%s in version %q: strict decoding error: %v", res.kind, res.version, errors.Join(strict...)))
	}
	if k := o.GetObjectKind().GroupVersionKind(); k.Kind != "" && k != res.gvk() {
		return nil, nil, apierrors.NewBadRequest(fmt.Sprintf("this is a %s, not a %s", k, res.gvk()))
	}
	o.GetObjectKind().SetGroupVersionKind(res.gvk())
	m, err := meta.Accessor(o)
	return o, m, err
}

func (s *server) create(ctx context.Context, r *http.Request, u user, q *request) (runtime.Object, error) {
	b, err := body(r)
	if err != nil {
		return nil, err
	}
	o, m, err := decode(q.resource, b, q)
	if err != nil {
		return nil, err
	}
	if m.GetNamespace() != "" && m.GetNamespace() != q.ns {
		return nil, apierrors.NewBadRequest(fmt.Sprintf("the object's namespace %q is not that of the request %q", m.GetNamespace(), q.ns))
	}
	m.SetNamespace(q.ns)
	if q.resource.namespaced {
		if _, nm, _, err := s.load(ctx, findResource("", "v1", "namespaces"), "", q.ns); err != nil {
			return nil, err
		} else if nm.GetDeletionTimestamp() != nil {
			return nil, apierrors.NewForbidden(q.resource.gr(), m.GetName(), fmt.Errorf("namespace %s is being deleted", q.ns))
		}
	}
	if m.GetName() == "" && m.GetGenerateName() != "" {
		m.SetName(m.GetGenerateName() + rand.String(5))
	}
	if m.GetName() == "" {
		return nil, apierrors.NewInvalid(q.resource.gvk().GroupKind(), "", nil)
	}
	m.SetUID(uuid.NewUUID())
	m.SetCreationTimestamp(metav1.Now())
	m.SetGeneration(1)
	m.SetResourceVersion("")
	m.SetDeletionTimestamp(nil)
	if err := s.restrictCreation(u, q, o, m); err != nil {
		return nil, err
	}
	if err := s.mayGive(ctx, u, q, o); err != nil {
		return nil, err
	}
	if csr, ok := o.(*certv1.CertificateSigningRequest); ok {
		csr.Spec.Username, csr.Spec.Groups, csr.Spec.UID, csr.Spec.Extra = u.name, u.groups, "", nil
		csr.Status = certv1.CertificateSigningRequestStatus{}
	}
	if o, err = s.ask(ctx, u, q, admissionv1.Create, o, nil); err != nil {
		return nil, err
	}
	if err := s.admit(ctx, q.resource, o, nil); err != nil {
		return nil, err
	}
	if m, err = meta.Accessor(o); err != nil {
		return nil, err
	}
	empty, err := q.resource.make()
	if err != nil {
		return nil, err
	}
	manage(q, m, true, nil, changed(empty, o))
	if q.dry() {
		return o, nil
	}
	return o, s.put(ctx, q.resource, o, 0)
}

func (s *server) update(ctx context.Context, r *http.Request, u user, q *request) (runtime.Object, error) {
	if q.sub == "scale" {
		return s.putScale(ctx, r, q)
	}
	b, err := body(r)
	if err != nil {
		return nil, err
	}
	n, nm, err := decode(q.resource, b, q)
	if err != nil {
		return nil, err
	}
	if nm.GetName() != q.name {
		return nil, apierrors.NewBadRequest(fmt.Sprintf("the object's name %q is not that of the request", nm.GetName()))
	}
	return s.change(ctx, q.resource, q.ns, q.name, nm.GetResourceVersion(), q.dry(), func(o runtime.Object, m metav1.Object) (runtime.Object, error) {
		return s.merge(ctx, u, q, o, m, n)
	})
}

// merge turns what a client sent into what is kept: fixed metadata stays, a
// status goes only through the status subresource, and the generation counts
// changes of the rest.
func (s *server) merge(ctx context.Context, u user, q *request, old runtime.Object, om metav1.Object, n runtime.Object) (runtime.Object, error) {
	if p, ok := n.(*corev1.Pod); ok && q.sub == "" && p.Spec.NodeName != old.(*corev1.Pod).Spec.NodeName {
		return nil, apierrors.NewInvalid(q.resource.gvk().GroupKind(), q.name, field.ErrorList{field.Forbidden(field.NewPath("spec", "nodeName"), "pod updates may not change it; a binding does")})
	}
	n = n.DeepCopyObject()
	nm, err := meta.Accessor(n)
	if err != nil {
		return nil, err
	}
	if nm.GetUID() != "" && nm.GetUID() != om.GetUID() {
		return nil, conflict(q.resource, q.name)
	}
	if q.sub == "status" || q.sub == "approval" {
		kept := old.DeepCopyObject()
		copyField(kept, n, "Status")
		n = kept
		nm, _ = meta.Accessor(n)
	} else if q.resource.status {
		copyField(n, old, "Status")
	}
	if csr, ok := n.(*certv1.CertificateSigningRequest); ok {
		if err := s.mergeCSR(u, q, old.(*certv1.CertificateSigningRequest), csr); err != nil {
			return nil, err
		}
	}
	nm.SetUID(om.GetUID())
	nm.SetNamespace(om.GetNamespace())
	nm.SetCreationTimestamp(om.GetCreationTimestamp())
	nm.SetDeletionTimestamp(om.GetDeletionTimestamp())
	nm.SetDeletionGracePeriodSeconds(om.GetDeletionGracePeriodSeconds())
	nm.SetGeneration(om.GetGeneration())
	nm.SetSelfLink("")
	if err := s.restrictNode(u, q, old, n); err != nil {
		return nil, err
	}
	if err := s.mayGive(ctx, u, q, n); err != nil {
		return nil, err
	}
	if n, err = s.ask(ctx, u, q, admissionv1.Update, n, old); err != nil {
		return nil, err
	}
	if err := s.admit(ctx, q.resource, n, old); err != nil {
		return nil, err
	}
	if nm, err = meta.Accessor(n); err != nil {
		return nil, err
	}
	nm.SetManagedFields(om.GetManagedFields())
	nm.SetResourceVersion(om.GetResourceVersion())
	if specChanged(old, n) {
		nm.SetGeneration(om.GetGeneration() + 1)
	}
	if reflect.DeepEqual(old, n) {
		return nil, nil
	}
	manage(q, nm, false, om.GetManagedFields(), changed(old, n))
	return n, nil
}

// changed lists the parts of the first level, in their JSON names, in which two objects differ.
func changed(a, b runtime.Object) []string {
	var out []string
	x, y := reflect.ValueOf(a).Elem(), reflect.ValueOf(b).Elem()
	for i := range x.NumField() {
		name, _, _ := strings.Cut(x.Type().Field(i).Tag.Get("json"), ",")
		was, is := x.Field(i).Interface(), y.Field(i).Interface()
		if m, ok := was.(metav1.ObjectMeta); ok {
			was, is = chosen(m), chosen(is.(metav1.ObjectMeta))
		}
		if name != "" && !reflect.DeepEqual(was, is) {
			out = append(out, name)
		}
	}
	return out
}

// chosen is what somebody chooses of an object's metadata: its name and what the server adds
// have no writer.
func chosen(m metav1.ObjectMeta) metav1.ObjectMeta {
	return metav1.ObjectMeta{Labels: m.Labels, Annotations: m.Annotations, OwnerReferences: m.OwnerReferences, Finalizers: m.Finalizers}
}

func copyField(dst, src runtime.Object, field string) {
	d, v := reflect.ValueOf(dst).Elem().FieldByName(field), reflect.ValueOf(src).Elem().FieldByName(field)
	if d.IsValid() && v.IsValid() {
		d.Set(v)
	}
}

func specChanged(a, b runtime.Object) bool {
	x, y := reflect.ValueOf(a).Elem().FieldByName("Spec"), reflect.ValueOf(b).Elem().FieldByName("Spec")
	return x.IsValid() && !reflect.DeepEqual(x.Interface(), y.Interface())
}

func (s *server) patch(ctx context.Context, r *http.Request, u user, q *request) (runtime.Object, error) {
	b, err := body(r)
	if err != nil {
		return nil, err
	}
	kind := types.PatchType(strings.TrimSpace(strings.Split(r.Header.Get("Content-Type"), ";")[0]))
	if kind == types.ApplyPatchType || kind == types.ApplyCBORPatchType {
		return nil, unsupported("server-side apply is not served here; use client-side apply")
	}
	if q.sub == "scale" {
		return s.changeScale(ctx, q, "", func(sc *autoscalingv1.Scale) error {
			before, err := json.Marshal(sc)
			if err != nil {
				return err
			}
			after, err := patched(kind, before, b, &autoscalingv1.Scale{})
			if err != nil {
				return err
			}
			was := sc.ResourceVersion
			*sc = autoscalingv1.Scale{}
			if err := json.Unmarshal(after, sc); err != nil {
				return apierrors.NewBadRequest(err.Error())
			}
			if sc.ResourceVersion != was {
				return conflict(q.resource, q.name)
			}
			return nil
		})
	}
	return s.change(ctx, q.resource, q.ns, q.name, "", q.dry(), func(o runtime.Object, m metav1.Object) (runtime.Object, error) {
		before, err := json.Marshal(o)
		if err != nil {
			return nil, err
		}
		empty, err := q.resource.make()
		if err != nil {
			return nil, err
		}
		after, err := patched(kind, before, b, empty)
		if err != nil {
			return nil, err
		}
		n, nm, err := decode(q.resource, after, q)
		if err != nil {
			return nil, err
		}
		if nm.GetName() != q.name || nm.GetNamespace() != q.ns {
			return nil, apierrors.NewBadRequest(fmt.Sprintf("the name of the object (%s) does not match the name on the URL (%s)", path.Join(nm.GetNamespace(), nm.GetName()), path.Join(q.ns, q.name)))
		}
		if nm.GetResourceVersion() != m.GetResourceVersion() {
			return nil, conflict(q.resource, q.name)
		}
		return s.merge(ctx, u, q, o, m, n)
	})
}

// mostOperations is how many operations a JSON patch may have, as with the real server.
const mostOperations = 10000

// mostDepth is how deep what is sent may be nested. What is worked on level by level costs its
// length once for each of them.
const mostDepth = 200

// depth is how deep brackets are nested outside of strings.
func depth(b []byte) int {
	now, most, within := 0, 0, false
	for i := 0; i < len(b); i++ {
		switch c := b[i]; {
		case within && c == '\\':
			i++
		case c == '"':
			within = !within
		case within:
		case c == '[' || c == '{':
			now++
			most = max(most, now)
		case c == ']' || c == '}':
			now--
		}
	}
	return most
}

// deep says whether an operation of a patch leads deeper than anything may be nested.
func deep(o jsonpatch.Operation) bool {
	p, err := o.Path()
	from, ferr := o.From()
	return err == nil && strings.Count(p, "/") > mostDepth || ferr == nil && strings.Count(from, "/") > mostDepth
}

// What the copies of a JSON patch may add up to, as with the real server: each may
// double what is there.
func init() { jsonpatch.AccumulatedCopySizeLimit = maxBody }

// apply carries out a JSON patch. The library panics on some that are none; the real
// server answers the request that made it, and lives on.
func apply(p jsonpatch.Patch, before []byte) (after []byte, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the patch cannot be applied: %v", r)
		}
	}()
	return p.Apply(before)
}

// patched applies a patch; empty is of the kind that is patched.
func patched(kind types.PatchType, before, patch []byte, empty any) (after []byte, err error) {
	switch kind {
	case types.JSONPatchType:
		p, err := jsonpatch.DecodePatch(patch)
		switch {
		case err != nil:
			return nil, apierrors.NewBadRequest(err.Error())
		case slices.ContainsFunc(p, deep):
			return nil, apierrors.NewBadRequest(fmt.Sprintf("a path of the patch has more than %d levels", mostDepth))
		case len(p) > mostOperations:
			return nil, apierrors.NewRequestEntityTooLargeError(fmt.Sprintf("The allowed maximum operations in a JSON patch is %d, got %d", mostOperations, len(p)))
		}
		if after, err = apply(p, before); err != nil {
			return nil, apierrors.NewGenericServerResponse(http.StatusUnprocessableEntity, "", schema.GroupResource{}, "", err.Error(), 0, false)
		}
		return after, nil
	case types.MergePatchType:
		after, err = jsonpatch.MergePatch(before, patch)
	case types.StrategicMergePatchType:
		after, err = strategicpatch.StrategicMergePatch(before, patch, empty)
	default:
		return nil, unsupported(fmt.Sprintf("patches of type %q are not known", kind))
	}
	if err != nil {
		return nil, apierrors.NewBadRequest(err.Error())
	}
	return after, nil
}

func unsupported(msg string) error {
	return &apierrors.StatusError{ErrStatus: metav1.Status{Status: metav1.StatusFailure, Code: http.StatusUnsupportedMediaType, Reason: metav1.StatusReasonUnsupportedMediaType, Message: msg}}
}

// matches evaluates both selectors; a field is looked up by its path in the
// object's JSON. Which fields may be asked for was looked at before.
func matches(ls labels.Selector, fs fields.Selector, o runtime.Object, m metav1.Object) bool {
	if !ls.Matches(labels.Set(m.GetLabels())) {
		return false
	}
	if fs.Empty() {
		return true
	}
	set := fields.Set{}
	var u map[string]any
	for _, rq := range fs.Requirements() {
		// What everybody asks for is looked up directly.
		p, isPod := o.(*corev1.Pod)
		switch {
		case rq.Field == "metadata.name":
			set[rq.Field] = m.GetName()
			continue
		case rq.Field == "spec.nodeName" && isPod:
			set[rq.Field] = p.Spec.NodeName
			continue
		case u == nil:
			var err error
			if u, err = runtime.DefaultUnstructuredConverter.ToUnstructured(o); err != nil {
				return false
			}
		}
		var v any = u
		for _, p := range strings.Split(rq.Field, ".") {
			next, ok := v.(map[string]any)
			if !ok {
				v = nil
				break
			}
			v = next[p]
		}
		switch v := v.(type) {
		case nil:
		case map[string]any: // of an event, whose source is told by its component
			set[rq.Field], _ = v["component"].(string)
		default:
			set[rq.Field] = fmt.Sprint(v)
		}
	}
	return fs.Matches(set)
}

// mergedKeys are the keys of both maps, sorted.
func mergedKeys(a, b map[string]string) []string {
	all := maps.Clone(a)
	if all == nil {
		all = map[string]string{}
	}
	maps.Copy(all, b)
	return slices.Sorted(maps.Keys(all))
}
