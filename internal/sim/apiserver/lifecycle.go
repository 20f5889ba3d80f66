package apiserver

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"

	"verbund/internal/core/versions"
)

// What published API types say of their own lives.
type (
	introduced interface{ APILifecycleIntroduced() (major, minor int) }
	deprecated interface{ APILifecycleDeprecated() (major, minor int) }
	removed    interface{ APILifecycleRemoved() (major, minor int) }
	replaced   interface {
		APILifecycleReplacement() schema.GroupVersionKind
	}
)

// serves says whether this server, in its version and told what it is, serves a resource:
// versions that are not final are served only where --runtime-config asks for them, and none
// longer than its type says.
func (s *server) serves(r *resource) bool {
	o, err := r.make()
	if err != nil {
		return false
	}
	minor := versions.Minor(s.env.Version)
	if i, ok := o.(introduced); ok {
		if _, since := i.APILifecycleIntroduced(); minor < since {
			return false
		}
	}
	if g, ok := o.(removed); ok {
		if _, gone := g.APILifecycleRemoved(); minor >= gone {
			return false
		}
	}
	on := !strings.Contains(r.version, "beta") && !strings.Contains(r.version, "alpha")
	for _, key := range []string{"api/all", "api/" + map[bool]string{true: "ga", false: "beta"}[on], r.gv().String()} {
		if v, told := s.opt.runtime[key]; told {
			on = v != "false"
		}
	}
	return on
}

// served are the resources that this server serves, in the order of the table.
func (s *server) served() []*resource {
	s.servedOnce.Do(func() {
		s.servedList = slices.DeleteFunc(slices.Clone(resources), func(r *resource) bool { return !s.serves(r) })
	})
	return s.servedList
}

// requested counts which versions that go were asked for since the server started.
type requested struct {
	mu   sync.Mutex
	seen map[string]bool // a line of the figures
}

// note takes a request: of a version that goes the client is warned, and it shows in the
// figures.
func (s *server) note(w http.ResponseWriter, q *request) {
	o, err := q.resource.make()
	if err != nil {
		return
	}
	d, ok := o.(deprecated)
	if !ok {
		return
	}
	if _, since := d.APILifecycleDeprecated(); versions.Minor(s.env.Version) < since {
		return
	}
	_, since := d.APILifecycleDeprecated()
	text := fmt.Sprintf("%s %s is deprecated in v1.%d+", q.resource.gv(), q.resource.kind, since)
	release := ""
	if g, ok := o.(removed); ok {
		_, gone := g.APILifecycleRemoved()
		release = fmt.Sprintf("1.%d", gone)
		text += fmt.Sprintf(", unavailable in v%s+", release)
	}
	if p, ok := o.(replaced); ok {
		in := p.APILifecycleReplacement()
		text += fmt.Sprintf("; use %s %s", in.GroupVersion(), in.Kind)
	}
	w.Header().Add("Warning", fmt.Sprintf("299 - %q", text))
	s.asked.mu.Lock()
	defer s.asked.mu.Unlock()
	if s.asked.seen == nil {
		s.asked.seen = map[string]bool{}
	}
	s.asked.seen[fmt.Sprintf("apiserver_requested_deprecated_apis{group=%q,removed_release=%q,resource=%q,subresource=%q,version=%q} 1", q.resource.group, release, q.resource.plural, q.sub, q.resource.version)] = true
}

// metrics answers with the server's figures, of which there are fewer than the real one has.
func (s *server) metrics(w http.ResponseWriter) {
	s.asked.mu.Lock()
	var lines []string
	for l := range s.asked.seen {
		lines = append(lines, l)
	}
	s.asked.mu.Unlock()
	slices.Sort(lines)
	w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
	if len(lines) > 0 {
		fmt.Fprint(w, "# HELP apiserver_requested_deprecated_apis [STABLE] Gauge of deprecated APIs that have been requested, broken out by API group, version, resource, subresource, and removed_release.\n# TYPE apiserver_requested_deprecated_apis gauge\n", strings.Join(lines, "\n"), "\n")
	}
}

// manage notes on an object who wrote which of its parts in which version: to the first level,
// where the real server goes down to each field. What nobody was noted on when it was made
// stays so.
func manage(q *request, m metav1.Object, fresh bool, was []metav1.ManagedFieldsEntry, parts []string) {
	if len(parts) == 0 {
		m.SetManagedFields(was)
		return
	}
	if len(was) == 0 && !fresh {
		return
	}
	now := metav1.Now()
	var fields strings.Builder
	for i, p := range parts {
		if i > 0 {
			fields.WriteByte(',')
		}
		fmt.Fprintf(&fields, `"f:%s":{}`, p)
	}
	e := metav1.ManagedFieldsEntry{Manager: q.manager, Operation: metav1.ManagedFieldsOperationUpdate, APIVersion: q.resource.gv().String(), Time: &now, FieldsType: "FieldsV1", FieldsV1: &metav1.FieldsV1{Raw: []byte("{" + fields.String() + "}")}}
	if q.sub == "status" || q.sub == "scale" {
		e.Subresource = q.sub
	}
	out := slices.DeleteFunc(slices.Clone(was), func(o metav1.ManagedFieldsEntry) bool {
		return o.Manager == e.Manager && o.Operation == e.Operation && o.APIVersion == e.APIVersion && o.Subresource == e.Subresource
	})
	// The real server folds the oldest of many into one.
	if len(out) >= mostManagers {
		out = out[1:]
	}
	m.SetManagedFields(append(out, e))
}

// mostManagers is how many writers are told apart, as with the real server.
const mostManagers = 10
