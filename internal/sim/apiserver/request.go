package apiserver

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/fields"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime/schema"
)

// request is a parsed resource request.
type request struct {
	resource      *resource // nil: not about a resource
	ns, name, sub string
	rest          string // behind a subresource
	verb          string
	query         url.Values
	labels        labels.Selector
	fields        fields.Selector
	manager       string // of the fields that it writes
}

func parseRequest(r *http.Request) (*request, error) {
	q := &request{query: r.URL.Query()}
	if q.manager = q.query.Get("fieldManager"); q.manager == "" {
		q.manager, _, _ = strings.Cut(r.UserAgent(), "/")
	}
	if q.manager == "" {
		q.manager = "unknown"
	}
	p := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	var gv schema.GroupVersion
	switch {
	case len(p) > 2 && p[0] == "api":
		gv, p = schema.GroupVersion{Version: p[1]}, p[2:]
	case len(p) > 3 && p[0] == "apis":
		gv, p = schema.GroupVersion{Group: p[1], Version: p[2]}, p[3:]
	default:
		return q, nil
	}
	if p[0] == "namespaces" && len(p) > 2 && findResource(gv.Group, gv.Version, p[2]) != nil && p[2] != "namespaces" {
		q.ns, p = p[1], p[2:]
	}
	q.resource = findResource(gv.Group, gv.Version, p[0])
	if q.resource == nil {
		return nil, apierrors.NewNotFound(schema.GroupResource{Group: gv.Group, Resource: p[0]}, "")
	}
	if q.ns != "" && !q.resource.namespaced {
		// What is authorised in a namespace must not act beyond it: there is no such path.
		return nil, apierrors.NewNotFound(q.resource.gr(), strings.Join(p[1:], "/"))
	}
	if len(p) > 1 {
		q.name = p[1]
	}
	if len(p) > 2 {
		if q.sub = p[2]; !slices.Contains(q.resource.subresources(), q.sub) {
			return nil, apierrors.NewNotFound(q.resource.gr(), q.name+"/"+q.sub)
		}
		q.rest = strings.Join(p[3:], "/")
	}
	if q.resource.plural == "namespaces" && q.resource.group == "" {
		q.ns = ""
	}
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		q.verb = "get"
		if q.name == "" {
			if q.verb = "list"; q.query.Get("watch") == "true" || q.query.Get("watch") == "1" {
				q.verb = "watch"
			}
		}
	case http.MethodPost:
		q.verb = "create"
	case http.MethodPut:
		q.verb = "update"
	case http.MethodPatch:
		q.verb = "patch"
	case http.MethodDelete:
		if q.verb = "delete"; q.name == "" {
			q.verb = "deletecollection"
		}
	default:
		return nil, apierrors.NewMethodNotSupported(q.resource.gr(), r.Method)
	}
	if q.resource.virtual && q.verb != "create" {
		return nil, apierrors.NewMethodNotSupported(q.resource.gr(), q.verb)
	}
	if q.resource.namespaced && q.ns == "" && q.verb != "list" && q.verb != "watch" {
		return nil, apierrors.NewBadRequest(fmt.Sprintf("%s live in namespaces, and none is named", q.resource.plural))
	}
	var e1, e2 error
	q.labels, e1 = labels.Parse(q.query.Get("labelSelector"))
	q.fields, e2 = fields.ParseSelector(q.query.Get("fieldSelector"))
	if err := errors.Join(e1, e2); err != nil {
		return nil, apierrors.NewBadRequest(err.Error())
	}
	return q, checkFields(q.resource, q.fields)
}

// dry says whether nothing is to be kept.
func (q *request) dry() bool { return slices.Contains(q.query["dryRun"], "All") }
