package apiserver

import (
	"net/http"
	"slices"
	"strings"

	apidiscovery "k8s.io/api/apidiscovery/v2"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
)

// discover answers what the server can do, in the old form and aggregated, and
// an OpenAPI description that says which requests check fields.
func (s *server) discover(w http.ResponseWriter, r *http.Request) {
	p := strings.Trim(r.URL.Path, "/")
	aggregated := strings.Contains(r.Header.Get("Accept"), "as=APIGroupDiscoveryList") && strings.Contains(r.Header.Get("Accept"), "v=v2;")
	switch parts := strings.Split(p, "/"); {
	case (p == "api" || p == "apis") && aggregated:
		w.Header().Set("Content-Type", "application/json;g=apidiscovery.k8s.io;v=v2;as=APIGroupDiscoveryList")
		writeTyped(w, aggregate(s.served(), p == "api"))
	case p == "api":
		writeJSON(w, 200, &metav1.APIVersions{TypeMeta: metav1.TypeMeta{Kind: "APIVersions"}, Versions: []string{"v1"}})
	case p == "apis":
		l := &metav1.APIGroupList{TypeMeta: metav1.TypeMeta{Kind: "APIGroupList", APIVersion: "v1"}}
		for _, gv := range groups(s.served()) {
			if gv.Group == "" {
				continue
			}
			v := metav1.GroupVersionForDiscovery{GroupVersion: gv.String(), Version: gv.Version}
			// The first version of a group in the table is the preferred one.
			if i := slices.IndexFunc(l.Groups, func(g metav1.APIGroup) bool { return g.Name == gv.Group }); i >= 0 {
				l.Groups[i].Versions = append(l.Groups[i].Versions, v)
				continue
			}
			l.Groups = append(l.Groups, metav1.APIGroup{Name: gv.Group, Versions: []metav1.GroupVersionForDiscovery{v}, PreferredVersion: v})
		}
		writeJSON(w, 200, l)
	case p == "api/v1" || len(parts) == 3 && parts[0] == "apis":
		gv := schema.GroupVersion{Version: "v1"}
		if parts[0] == "apis" {
			gv = schema.GroupVersion{Group: parts[1], Version: parts[2]}
		}
		l := resourceList(s.served(), gv)
		if len(l.APIResources) == 0 {
			fail(w, apierrors.NewNotFound(schema.GroupResource{Group: gv.Group}, gv.Version))
			return
		}
		writeJSON(w, 200, l)
	case p == "openapi/v3":
		paths := map[string]any{}
		for _, gv := range groups(s.served()) {
			k := "apis/" + gv.String()
			if gv.Group == "" {
				k = "api/v1"
			}
			paths[k] = map[string]string{"serverRelativeURL": "/openapi/v3/" + k}
		}
		writeJSON(w, 200, map[string]any{"paths": paths})
	case strings.HasPrefix(p, "openapi/v3/"):
		writeJSON(w, 200, openAPI(s.served(), strings.TrimPrefix(p, "openapi/v3/")))
	case p == "":
		writeJSON(w, 200, metav1.RootPaths{Paths: []string{"/api", "/apis", "/healthz", "/livez", "/metrics", "/openapi/v3", "/readyz", "/version"}})
	default:
		fail(w, apierrors.NewNotFound(schema.GroupResource{}, r.URL.Path))
	}
}

// writeTyped is writeJSON that keeps the content type set before.
func writeTyped(w http.ResponseWriter, v any) {
	ct := w.Header().Get("Content-Type")
	writeJSON(&typedWriter{w, ct}, 200, v)
}

type typedWriter struct {
	http.ResponseWriter
	ct string
}

func (t *typedWriter) WriteHeader(code int) {
	t.Header().Set("Content-Type", t.ct)
	t.ResponseWriter.WriteHeader(code)
}

func (r *resource) shortNames() []string {
	if r.short == "" {
		return nil
	}
	return strings.Split(r.short, ",")
}

func (r *resource) categories() []string {
	if r.all {
		return []string{"all"}
	}
	return nil
}

// subKind is the kind that a subresource takes, and its verbs.
func (r *resource) subKind(sub string) (schema.GroupVersionKind, metav1.Verbs) {
	switch sub {
	case "eviction":
		return schema.GroupVersionKind{Group: "policy", Version: "v1", Kind: "Eviction"}, metav1.Verbs{"create"}
	case "binding":
		return schema.GroupVersionKind{Version: "v1", Kind: "Binding"}, metav1.Verbs{"create"}
	case "token":
		return schema.GroupVersionKind{Group: "authentication.k8s.io", Version: "v1", Kind: "TokenRequest"}, metav1.Verbs{"create"}
	case "scale":
		return schema.GroupVersionKind{Group: "autoscaling", Version: "v1", Kind: "Scale"}, metav1.Verbs{"get", "patch", "update"}
	case "log":
		return r.gvk(), metav1.Verbs{"get"}
	}
	return r.gvk(), metav1.Verbs{"get", "patch", "update"}
}

func resourceList(served []*resource, gv schema.GroupVersion) *metav1.APIResourceList {
	l := &metav1.APIResourceList{TypeMeta: metav1.TypeMeta{Kind: "APIResourceList", APIVersion: "v1"}, GroupVersion: gv.String()}
	for _, r := range served {
		if r.gv() != gv {
			continue
		}
		l.APIResources = append(l.APIResources, metav1.APIResource{Name: r.plural, SingularName: r.singular, Namespaced: r.namespaced, Kind: r.kind, Verbs: r.verbs(), ShortNames: r.shortNames(), Categories: r.categories()})
		for _, sub := range r.subresources() {
			k, verbs := r.subKind(sub)
			ar := metav1.APIResource{Name: r.plural + "/" + sub, Namespaced: r.namespaced, Kind: k.Kind, Verbs: verbs}
			if k.GroupVersion() != gv {
				ar.Group, ar.Version = k.Group, k.Version
			}
			l.APIResources = append(l.APIResources, ar)
		}
	}
	return l
}

func aggregate(served []*resource, core bool) *apidiscovery.APIGroupDiscoveryList {
	l := &apidiscovery.APIGroupDiscoveryList{TypeMeta: metav1.TypeMeta{Kind: "APIGroupDiscoveryList", APIVersion: "apidiscovery.k8s.io/v2"}}
	for _, gv := range groups(served) {
		if (gv.Group == "") != core {
			continue
		}
		v := apidiscovery.APIVersionDiscovery{Version: gv.Version, Freshness: apidiscovery.DiscoveryFreshnessCurrent}
		for _, r := range served {
			if r.gv() != gv {
				continue
			}
			scope := apidiscovery.ScopeCluster
			if r.namespaced {
				scope = apidiscovery.ScopeNamespace
			}
			d := apidiscovery.APIResourceDiscovery{Resource: r.plural, SingularResource: r.singular, Scope: scope, ShortNames: r.shortNames(), Categories: r.categories(), Verbs: r.verbs(),
				ResponseKind: &metav1.GroupVersionKind{Group: r.group, Version: r.version, Kind: r.kind}}
			for _, sub := range r.subresources() {
				k, verbs := r.subKind(sub)
				d.Subresources = append(d.Subresources, apidiscovery.APISubresourceDiscovery{Subresource: sub, ResponseKind: &metav1.GroupVersionKind{Group: k.Group, Version: k.Version, Kind: k.Kind}, Verbs: verbs})
			}
			v.Resources = append(v.Resources, d)
		}
		if i := slices.IndexFunc(l.Items, func(g apidiscovery.APIGroupDiscovery) bool { return g.Name == gv.Group }); i >= 0 {
			l.Items[i].Versions = append(l.Items[i].Versions, v)
			continue
		}
		l.Items = append(l.Items, apidiscovery.APIGroupDiscovery{ObjectMeta: metav1.ObjectMeta{Name: gv.Group}, Versions: []apidiscovery.APIVersionDiscovery{v}})
	}
	return l
}

// openAPI describes the writing requests of one group, so that a client sees
// that fields are checked here and need not do it itself.
func openAPI(served []*resource, gvPath string) map[string]any {
	paths := map[string]any{}
	for _, r := range served {
		base := "/api/v1"
		if r.group != "" {
			base = "/apis/" + r.gv().String()
		}
		if strings.Trim(base, "/") != gvPath {
			continue
		}
		if r.namespaced {
			base += "/namespaces/{namespace}"
		}
		op := map[string]any{
			"parameters": []any{map[string]any{"name": "fieldValidation", "in": "query", "schema": map[string]any{"type": "string"}},
				map[string]any{"name": "dryRun", "in": "query", "schema": map[string]any{"type": "string"}}},
			"x-kubernetes-group-version-kind": map[string]any{"group": r.group, "version": r.version, "kind": r.kind},
			"responses":                       map[string]any{"200": map[string]any{"description": "OK"}},
		}
		if slices.Contains(r.verbs(), "patch") {
			paths[base+"/"+r.plural+"/{name}"] = map[string]any{"patch": op, "put": op}
		}
		paths[base+"/"+r.plural] = map[string]any{"post": op}
	}
	return map[string]any{"openapi": "3.0.0", "info": map[string]any{"title": "stand-in", "version": "v1"}, "paths": paths}
}
