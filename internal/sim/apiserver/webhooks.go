package apiserver

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	jsonpatch "gopkg.in/evanphx/json-patch.v4"
	admission "k8s.io/api/admission/v1"
	admissionv1 "k8s.io/api/admissionregistration/v1"
	authnv1 "k8s.io/api/authentication/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/util/uuid"
)

// hooksAge is how long the server goes by webhooks that it has read: the real one learns of
// others in about as long.
const hooksAge = 300 * time.Millisecond

// hooks are the webhooks that are asked, mutating ones first.
type hooks struct {
	mu   sync.Mutex
	read time.Time
	all  []hook
}

// hook is a webhook of either kind.
type hook struct {
	admissionv1.ValidatingWebhook
	mutates bool
}

func (s *server) webhooks(ctx context.Context) ([]hook, error) {
	s.hooks.mu.Lock()
	defer s.hooks.mu.Unlock()
	if time.Since(s.hooks.read) < hooksAge {
		return s.hooks.all, nil
	}
	var out []hook
	for _, plural := range []string{"mutatingwebhookconfigurations", "validatingwebhookconfigurations"} {
		res := findResource(admissionv1.GroupName, "v1", plural)
		kvs, _, err := s.rangeOf(ctx, res.prefix(""))
		if err != nil {
			return nil, err
		}
		for _, kv := range kvs {
			o, _, err := s.seen(res, kv).object()
			if err != nil {
				return nil, err
			}
			switch o := o.(type) {
			case *admissionv1.ValidatingWebhookConfiguration:
				for _, w := range o.Webhooks {
					out = append(out, hook{w, false})
				}
			case *admissionv1.MutatingWebhookConfiguration:
				for _, w := range o.Webhooks {
					out = append(out, hook{admissionv1.ValidatingWebhook{Name: w.Name, ClientConfig: w.ClientConfig, Rules: w.Rules, FailurePolicy: w.FailurePolicy, NamespaceSelector: w.NamespaceSelector, ObjectSelector: w.ObjectSelector, TimeoutSeconds: w.TimeoutSeconds}, true})
				}
			}
		}
	}
	s.hooks.all, s.hooks.read = out, time.Now()
	return out, nil
}

// ask asks every webhook that a request is for; it returns what they make of the object. The
// configurations of webhooks themselves are never asked about, so that they can be mended.
func (s *server) ask(ctx context.Context, u user, q *request, op admissionv1.OperationType, o, old runtime.Object) (runtime.Object, error) {
	if q.resource.group == admissionv1.GroupName {
		return o, nil
	}
	all, err := s.webhooks(ctx)
	if err != nil {
		return nil, err
	}
	for _, h := range all {
		ok, err := s.concerns(ctx, h, q, op, o)
		if err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		r, err := s.callHook(ctx, h, u, q, op, o, old)
		if err != nil {
			if h.FailurePolicy != nil && *h.FailurePolicy == admissionv1.Ignore {
				s.env.Logf("failed calling webhook, failing open %s: %v", h.Name, err)
				continue
			}
			return nil, apierrors.NewInternalError(fmt.Errorf("failed calling webhook %q: failed to call webhook: %w", h.Name, err))
		}
		if !r.Allowed {
			why := "denied the request without explanation"
			if r.Result != nil && r.Result.Message != "" {
				why = "denied the request: " + r.Result.Message
			}
			return nil, apierrors.NewForbidden(q.resource.gr(), q.name, fmt.Errorf("admission webhook %q %s", h.Name, why))
		}
		if h.mutates && len(r.Patch) > 0 && q.sub == "" {
			if o, err = mutated(q.resource, o, r.Patch); err != nil {
				return nil, apierrors.NewInternalError(fmt.Errorf("admission webhook %q: %w", h.Name, err))
			}
		}
	}
	return o, nil
}

func mutated(res *resource, o runtime.Object, patch []byte) (runtime.Object, error) {
	before, err := json.Marshal(o)
	if err != nil {
		return nil, err
	}
	p, err := jsonpatch.DecodePatch(patch)
	if err != nil {
		return nil, err
	}
	after, err := apply(p, before)
	if err != nil {
		return nil, err
	}
	n, err := res.make()
	if err != nil {
		return nil, err
	}
	return n, json.Unmarshal(after, n)
}

// concerns says whether a webhook is asked about a request.
func (s *server) concerns(ctx context.Context, h hook, q *request, op admissionv1.OperationType, o runtime.Object) (bool, error) {
	what := q.resource.plural
	if q.sub != "" {
		what += "/" + q.sub
	}
	in := func(list []string, v string) bool { return slices.Contains(list, "*") || slices.Contains(list, v) }
	if !slices.ContainsFunc(h.Rules, func(r admissionv1.RuleWithOperations) bool {
		ops := slices.Contains(r.Operations, op) || slices.Contains(r.Operations, admissionv1.OperationAll)
		resources := slices.ContainsFunc(r.Resources, func(x string) bool {
			main, sub, _ := strings.Cut(x, "/")
			return (main == "*" || main == q.resource.plural) && (sub == q.sub || sub == "*")
		})
		scope := r.Scope == nil || *r.Scope == admissionv1.AllScopes || (*r.Scope == admissionv1.NamespacedScope) == q.resource.namespaced
		return ops && resources && scope && in(r.APIGroups, q.resource.group) && in(r.APIVersions, q.resource.version)
	}) {
		return false, nil
	}
	if m, err := meta.Accessor(o); err == nil && h.ObjectSelector != nil {
		sel, err := metav1.LabelSelectorAsSelector(h.ObjectSelector)
		if err != nil || !sel.Matches(labels.Set(m.GetLabels())) {
			return false, err
		}
	}
	if h.NamespaceSelector != nil && q.ns != "" {
		_, m, _, err := s.load(ctx, findResource("", "v1", "namespaces"), "", q.ns)
		if err != nil {
			return false, err
		}
		sel, err := metav1.LabelSelectorAsSelector(h.NamespaceSelector)
		if err != nil || !sel.Matches(labels.Set(m.GetLabels())) {
			return false, err
		}
	}
	return true, nil
}

// callHook asks one webhook, at its URL or at a ready pod behind its service.
func (s *server) callHook(ctx context.Context, h hook, u user, q *request, op admissionv1.OperationType, o, old runtime.Object) (*admission.AdmissionResponse, error) {
	took := 10 * time.Second
	if h.TimeoutSeconds != nil {
		took = time.Duration(*h.TimeoutSeconds) * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, took)
	defer cancel()
	req := &admission.AdmissionRequest{UID: uuid.NewUUID(), Kind: metav1.GroupVersionKind{Group: q.resource.group, Version: q.resource.version, Kind: q.resource.kind}, Resource: metav1.GroupVersionResource{Group: q.resource.group, Version: q.resource.version, Resource: q.resource.plural},
		SubResource: q.sub, Name: q.name, Namespace: q.ns, Operation: admission.Operation(op), UserInfo: authnv1.UserInfo{Username: u.name, Groups: u.groups}, Object: runtime.RawExtension{Object: o}, OldObject: runtime.RawExtension{Object: old}}
	b, err := json.Marshal(admission.AdmissionReview{TypeMeta: metav1.TypeMeta{Kind: "AdmissionReview", APIVersion: "admission.k8s.io/v1"}, Request: req})
	if err != nil {
		return nil, err
	}
	to, dial, err := s.hookAt(ctx, h)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(h.ClientConfig.CABundle)
	c := http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: pool, ServerName: to.Hostname()}}}
	hr, err := http.NewRequestWithContext(ctx, http.MethodPost, to.String(), bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	hr.Header.Set("Content-Type", "application/json")
	resp, err := c.Do(hr)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if b, err = io.ReadAll(io.LimitReader(resp.Body, maxBody)); err != nil {
		return nil, err
	}
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answered %s", resp.Status)
	}
	var review admission.AdmissionReview
	if err := json.Unmarshal(b, &review); err != nil {
		return nil, err
	}
	if review.Response == nil || review.Response.UID != req.UID {
		return nil, errors.New("it answered another question")
	}
	return review.Response, nil
}

// hookAt is where a webhook is reached.
func (s *server) hookAt(ctx context.Context, h hook) (*url.URL, func(ctx context.Context, network, addr string) (net.Conn, error), error) {
	if u := h.ClientConfig.URL; u != nil {
		to, err := url.Parse(*u)
		return to, s.dial, err
	}
	svc := h.ClientConfig.Service
	if svc == nil {
		return nil, nil, errors.New("it has neither a URL nor a service")
	}
	port := int32(443)
	if svc.Port != nil {
		port = *svc.Port
	}
	to := &url.URL{Scheme: "https", Host: net.JoinHostPort(svc.Name+"."+svc.Namespace+".svc", strconv.Itoa(int(port)))}
	if svc.Path != nil {
		to.Path = *svc.Path
	}
	res := findResource(discoveryv1.GroupName, "v1", "endpointslices")
	kvs, _, err := s.rangeOf(ctx, res.prefix(svc.Namespace))
	if err != nil {
		return nil, nil, err
	}
	for _, kv := range kvs {
		o, m, err := s.seen(res, kv).object()
		if err != nil {
			return nil, nil, err
		}
		if m.GetLabels()[discoveryv1.LabelServiceName] != svc.Name {
			continue
		}
		sl := o.(*discoveryv1.EndpointSlice)
		for _, e := range sl.Endpoints {
			if e.Conditions.Ready != nil && !*e.Conditions.Ready || len(e.Addresses) == 0 || len(sl.Ports) == 0 || sl.Ports[0].Port == nil {
				continue
			}
			at := net.JoinHostPort(e.Addresses[0], strconv.Itoa(int(*sl.Ports[0].Port)))
			return to, func(ctx context.Context, network, _ string) (net.Conn, error) { return s.dial(ctx, network, at) }, nil
		}
	}
	return nil, nil, fmt.Errorf("Post %q: no endpoints available for service %q", to, svc.Name)
}
