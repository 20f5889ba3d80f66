package kube

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"
	admissionv1 "k8s.io/api/admissionregistration/v1"
	discoveryv1 "k8s.io/api/discovery/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/client-go/metadata"

	"verbund/internal/core/beforehand"
	"verbund/internal/core/versions"
)

// deprecatedMetric is what an API server says of requests in versions that go, since it
// started.
const deprecatedMetric = "apiserver_requested_deprecated_apis"

// mostMetrics is how much of an API server's figures is read: those of a large cluster are a
// few megabytes.
const mostMetrics = 64 << 20

// Deprecated asks the API server at an address which versions that go it was asked for since
// it started.
func (c *Client) Deprecated(ctx context.Context, server, addr string) ([]beforehand.Asked, error) {
	if c.cfg.Host == "" {
		return nil, errors.New("no API server can be asked alone")
	}
	b, err := c.fresh(ctx, addr, http.MethodGet, "/metrics", nil, mostMetrics)
	if err != nil {
		return nil, err
	}
	// The page has thousands of families; one is of interest.
	var own []byte
	for line := range bytes.Lines(b) {
		if bytes.Contains(line, []byte(deprecatedMetric)) {
			own = append(own, line...)
		}
	}
	p := expfmt.NewTextParser(model.LegacyValidation)
	families, err := p.TextToMetricFamilies(bytes.NewReader(own))
	if err != nil {
		return nil, fmt.Errorf("the figures of the API server: %w", err)
	}
	var out []beforehand.Asked
	for _, m := range families[deprecatedMetric].GetMetric() {
		a := beforehand.Asked{Server: server}
		for _, l := range m.GetLabel() {
			switch l.GetName() {
			case "group":
				a.Group = l.GetValue()
			case "version":
				a.Version = l.GetValue()
			case "resource":
				a.Resource = l.GetValue()
			case "removed_release":
				_, minor, _ := strings.Cut(l.GetValue(), ".")
				a.Removed, _ = strconv.Atoi(minor)
			}
		}
		if m.GetGauge().GetValue() > 0 && a.Removed > 0 {
			out = append(out, a)
		}
	}
	return out, nil
}

// Written lists the objects of which fields were written in versions that go. What could not
// be looked at is said in the second result.
func (c *Client) Written(ctx context.Context, going []versions.Ceasing) ([]beforehand.Written, []string, error) {
	if len(going) == 0 {
		return nil, nil, nil
	}
	if c.cfg.Host == "" {
		return nil, nil, errors.New("there is no connection for that")
	}
	mc, err := metadata.NewForConfigAndClient(metadata.ConfigFor(c.cfg), c.http)
	if err != nil {
		return nil, nil, err
	}
	served, err := c.served(ctx)
	if err != nil {
		return nil, nil, err
	}
	var unlooked []string
	var out []beforehand.Written
	for _, g := range served.Groups {
		// What one version of a group lists is listed by the others, too.
		looked := map[string]bool{}
		for _, v := range preferredFirst(g) {
			gv := schema.GroupVersion{Group: g.Name, Version: v}
			if !slices.ContainsFunc(going, func(x versions.Ceasing) bool { return x.Group == gv.Group }) {
				continue
			}
			l, err := c.resources(ctx, gv)
			if err != nil {
				unlooked = append(unlooked, fmt.Sprintf("who wrote objects of %s: %v", gv, err))
				continue
			}
			for _, r := range l.APIResources {
				of := slices.DeleteFunc(slices.Clone(going), func(x versions.Ceasing) bool { return x.Group != gv.Group || x.Kind != r.Kind })
				if len(of) == 0 || looked[r.Name] || strings.Contains(r.Name, "/") || !slices.Contains(r.Verbs, "list") {
					continue
				}
				looked[r.Name] = true
				ws, err := writtenOf(ctx, mc, gv.WithResource(r.Name), of)
				if err != nil {
					unlooked = append(unlooked, fmt.Sprintf("who wrote %s of %s: %v", r.Name, gv, err))
					continue
				}
				out = append(out, ws...)
			}
		}
	}
	return out, unlooked, nil
}

// served are the groups that the API serves, the one without a name among them.
func (c *Client) served(ctx context.Context) (*metav1.APIGroupList, error) {
	out := &metav1.APIGroupList{}
	if err := c.CoreV1().RESTClient().Get().AbsPath("/apis").Do(ctx).Into(out); err != nil {
		return nil, err
	}
	core := metav1.GroupVersionForDiscovery{GroupVersion: "v1", Version: "v1"}
	out.Groups = append(out.Groups, metav1.APIGroup{Versions: []metav1.GroupVersionForDiscovery{core}, PreferredVersion: core})
	return out, nil
}

// resources are what a version of a group has.
func (c *Client) resources(ctx context.Context, gv schema.GroupVersion) (*metav1.APIResourceList, error) {
	path := "/apis/" + gv.String()
	if gv.Group == "" {
		path = "/api/" + gv.Version
	}
	out := &metav1.APIResourceList{}
	return out, c.CoreV1().RESTClient().Get().AbsPath(path).Do(ctx).Into(out)
}

// preferredFirst are the versions of a group.
func preferredFirst(g metav1.APIGroup) []string {
	out := []string{g.PreferredVersion.Version}
	for _, v := range g.Versions {
		if v.Version != out[0] {
			out = append(out, v.Version)
		}
	}
	return out
}

// writtenOf looks through the objects of one resource, some hundred at a time.
func writtenOf(ctx context.Context, mc metadata.Interface, r schema.GroupVersionResource, of []versions.Ceasing) ([]beforehand.Written, error) {
	var out []beforehand.Written
	o := metav1.ListOptions{Limit: 500}
	for {
		l, err := mc.Resource(r).List(ctx, o)
		if err != nil {
			return nil, err
		}
		for _, m := range l.Items {
			name := m.Name
			if m.Namespace != "" {
				name = m.Namespace + "/" + name
			}
			for _, f := range m.ManagedFields {
				i := slices.IndexFunc(of, func(x versions.Ceasing) bool { return x.GroupVersion() == f.APIVersion })
				if i < 0 {
					continue
				}
				w := beforehand.Written{Ceasing: of[i], Object: name, Manager: f.Manager}
				if f.Time != nil {
					w.When = f.Time.Time
				}
				out = append(out, w)
			}
		}
		if o.Continue = l.Continue; o.Continue == "" {
			return out, nil
		}
	}
}

// Webhooks lists the admission webhooks that are asked about pods, evictions or nodes: those
// that can be in the way of a roll-out. One that is asked about pods of certain namespaces or
// with certain labels alone is left out where no pod is one of them.
func (c *Client) Webhooks(ctx context.Context) ([]beforehand.Webhook, error) {
	var out []beforehand.Webhook
	all, err := c.webhooks(ctx)
	if err != nil {
		return nil, err
	}
	var pods map[*metav1.ObjectMeta]labels.Set // with the labels of their namespaces, once they were asked for
	for _, w := range all {
		ofNodes := asksOf(w.Rules, "nodes", "nodes/*")
		if !ofNodes && !asksOf(w.Rules, "pods", "pods/*", "pods/eviction", "pods/binding") {
			continue
		}
		if !ofNodes && !(everything(w.NamespaceSelector) && everything(w.ObjectSelector)) {
			if pods == nil {
				if pods, err = c.labelledPods(ctx); err != nil {
					return nil, err
				}
			}
			if some, err := concerns(w.ValidatingWebhook, pods); err != nil {
				return nil, fmt.Errorf("selectors of webhook %s (%s): %w", w.Name, w.config, err)
			} else if !some {
				continue
			}
		}
		out = append(out, webhook(w.config, w.Name, w.FailurePolicy, w.ClientConfig))
	}
	for i := range out {
		ns, name, ok := strings.Cut(out[i].Service, "/")
		if !ok {
			continue
		}
		found, err := c.DiscoveryV1().EndpointSlices(ns).List(ctx, metav1.ListOptions{LabelSelector: discoveryv1.LabelServiceName + "=" + name})
		if err != nil && !apierrors.IsNotFound(err) {
			return nil, err
		}
		for _, s := range found.Items {
			for _, e := range s.Endpoints {
				if e.Conditions.Ready != nil && !*e.Conditions.Ready {
					continue
				}
				on := "?"
				if e.NodeName != nil {
					on = *e.NodeName
				}
				out[i].On = append(out[i].On, on)
			}
		}
	}
	return out, nil
}

// configured is a webhook, of either kind, and the configuration that it stands in.
type configured struct {
	admissionv1.ValidatingWebhook
	config string
}

func (c *Client) webhooks(ctx context.Context) ([]configured, error) {
	var out []configured
	vs, err := c.AdmissionregistrationV1().ValidatingWebhookConfigurations().List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	for _, v := range vs.Items {
		for _, w := range v.Webhooks {
			out = append(out, configured{w, v.Name})
		}
	}
	ms, err := c.AdmissionregistrationV1().MutatingWebhookConfigurations().List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	for _, m := range ms.Items {
		for _, w := range m.Webhooks {
			out = append(out, configured{admissionv1.ValidatingWebhook{Name: w.Name, Rules: w.Rules, FailurePolicy: w.FailurePolicy, ClientConfig: w.ClientConfig, NamespaceSelector: w.NamespaceSelector, ObjectSelector: w.ObjectSelector}, m.Name})
		}
	}
	return out, nil
}

// concerns says whether a webhook is asked about one of some pods, by its selectors.
func concerns(w admissionv1.ValidatingWebhook, pods map[*metav1.ObjectMeta]labels.Set) (bool, error) {
	ns, err := metav1.LabelSelectorAsSelector(w.NamespaceSelector)
	if err != nil {
		return false, err
	}
	own, err := metav1.LabelSelectorAsSelector(w.ObjectSelector)
	if err != nil {
		return false, err
	}
	for p, of := range pods {
		if (w.NamespaceSelector == nil || ns.Matches(of)) && (w.ObjectSelector == nil || own.Matches(labels.Set(p.Labels))) {
			return true, nil
		}
	}
	return false, nil
}

func webhook(config, name string, policy *admissionv1.FailurePolicyType, to admissionv1.WebhookClientConfig) beforehand.Webhook {
	w := beforehand.Webhook{Config: config, Name: name, Ignored: policy != nil && *policy == admissionv1.Ignore}
	if to.Service != nil {
		w.Service = to.Service.Namespace + "/" + to.Service.Name
	}
	return w
}

// labelledPods are all pods, each with the labels of its namespace.
func (c *Client) labelledPods(ctx context.Context) (map[*metav1.ObjectMeta]labels.Set, error) {
	nss, err := c.CoreV1().Namespaces().List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	of := map[string]labels.Set{}
	for _, n := range nss.Items {
		of[n.Name] = n.Labels
	}
	ps, err := c.CoreV1().Pods("").List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	out := map[*metav1.ObjectMeta]labels.Set{}
	for i := range ps.Items {
		out[&ps.Items[i].ObjectMeta] = of[ps.Items[i].Namespace]
	}
	return out, nil
}

// everything says whether a selector of a webhook leaves nothing out.
func everything(s *metav1.LabelSelector) bool {
	return s == nil || len(s.MatchLabels)+len(s.MatchExpressions) == 0
}

// asksOf says whether one of the rules is about resources of the core group, by these names.
func asksOf(rules []admissionv1.RuleWithOperations, names ...string) bool {
	return slices.ContainsFunc(rules, func(r admissionv1.RuleWithOperations) bool {
		if !slices.Contains(r.APIGroups, "") && !slices.Contains(r.APIGroups, "*") {
			return false
		}
		return slices.ContainsFunc(r.Resources, func(x string) bool { return x == "*" || x == "*/*" || slices.Contains(names, x) })
	})
}
