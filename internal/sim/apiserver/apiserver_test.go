package apiserver

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"strings"
	"testing"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
	"k8s.io/utils/lru"

	"verbund/internal/datastore/datastoretest"
	"verbund/internal/sim/host"
)

// fixture is a server on a real datastore, asked without sockets.
type fixture struct {
	*testing.T
	s *server
}

func newFixture(t *testing.T) *fixture {
	t.Helper()
	c, err := clientv3.New(clientv3.Config{Endpoints: []string{datastoretest.Alone(t)}, Logger: zap.NewNop()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	life, end := context.WithCancel(context.Background())
	t.Cleanup(end)
	s := &server{env: &host.Env{Version: "v1.37.2", Log: os.Stderr}, opt: &options{authorization: "Node,RBAC", admission: "NodeRestriction"}, etcd: c, life: life, services: netip.MustParsePrefix("10.112.0.0/24"), version: Version("v1.37.2"), kept: lru.New(mostKept)}
	if err := s.bootstrap(life); err != nil {
		t.Fatal(err)
	}
	s.ready.Store(true)
	return &fixture{t, s}
}

var (
	admin   = user{name: "mara", groups: []string{"system:masters", "system:authenticated"}}
	nobody  = user{name: "nobody", groups: []string{"system:authenticated"}}
	gauges1 = user{name: "system:node:gauges-1", groups: []string{"system:nodes", "system:authenticated"}}
)

type answer struct {
	code int
	text string
	body map[string]any
}

// at looks a value up by its path.
func (a answer) at(path string) any {
	var v any = a.body
	for p := range strings.SplitSeq(path, ".") {
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = m[p]
	}
	return v
}

func (f *fixture) ask(u user, method, path, contentType, body string) answer {
	f.Helper()
	r := httptest.NewRequest(method, path, strings.NewReader(body))
	r.Header.Set("Content-Type", contentType)
	w := httptest.NewRecorder()
	q, err := parseRequest(r)
	switch {
	case err != nil:
		fail(w, err)
	case q.resource == nil:
		f.s.discover(w, r)
	default:
		if err := f.s.authorize(context.Background(), u, q); err != nil {
			fail(w, err)
		} else {
			f.s.serve(w, r, u, q)
		}
	}
	a := answer{code: w.Code, text: w.Body.String()}
	json.Unmarshal(w.Body.Bytes(), &a.body)
	return a
}

func (f *fixture) want(code int, word string, a answer) answer {
	f.Helper()
	if a.code != code || !strings.Contains(a.text, word) {
		f.Errorf("answer is %d, wanted %d with %q:\n%s", a.code, code, word, a.text)
	}
	return a
}

const jsonType = "application/json"

func configMap(name, value string) string {
	return fmt.Sprintf(`{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":%q},"data":{"k":%q}}`, name, value)
}

func TestCreateUpdateDelete(t *testing.T) {
	f := newFixture(t)
	const maps = "/api/v1/namespaces/default/configmaps"
	a := f.want(201, `"k":"one"`, f.ask(admin, "POST", maps, jsonType, configMap("x", "one")))
	if a.at("metadata.uid") == nil || a.at("metadata.creationTimestamp") == nil {
		t.Errorf("metadata is incomplete: %s", a.text)
	}
	first := a.at("metadata.resourceVersion").(string)
	f.want(409, "AlreadyExists", f.ask(admin, "POST", maps, jsonType, configMap("x", "two")))
	f.want(404, "NotFound", f.ask(admin, "POST", "/api/v1/namespaces/nowhere/configmaps", jsonType, configMap("x", "two")))
	f.want(400, "unknown field", f.ask(admin, "POST", maps+"?fieldValidation=Strict", jsonType, strings.Replace(configMap("y", "1"), "data", "date", 1)))
	f.want(201, "", f.ask(admin, "POST", maps+"?dryRun=All", jsonType, configMap("dry", "1")))
	f.want(404, "", f.ask(admin, "GET", maps+"/dry", jsonType, ""))

	with := func(rv string) string {
		return strings.Replace(configMap("x", "two"), `"name"`, `"resourceVersion":"`+rv+`","name"`, 1)
	}
	second := f.want(200, `"k":"two"`, f.ask(admin, "PUT", maps+"/x", jsonType, with(first))).at("metadata.resourceVersion")
	if second == first {
		t.Error("the resource version did not change")
	}
	f.want(409, "Conflict", f.ask(admin, "PUT", maps+"/x", jsonType, with(first)))
	f.want(200, `"items":[`, f.ask(admin, "GET", maps, jsonType, ""))
	f.want(200, "", f.ask(admin, "DELETE", maps+"/x", jsonType, ""))
	f.want(404, "NotFound", f.ask(admin, "GET", maps+"/x", jsonType, ""))
	f.want(404, "", f.ask(admin, "GET", "/apis/unknown.test/v1/things", jsonType, ""))
	f.want(405, "", f.ask(admin, "GET", "/apis/authorization.k8s.io/v1/subjectaccessreviews", jsonType, ""))
}

func TestPatches(t *testing.T) {
	f := newFixture(t)
	const maps = "/api/v1/namespaces/default/configmaps"
	f.want(201, "", f.ask(admin, "POST", maps, jsonType, configMap("x", "one")))
	for _, x := range []struct{ kind, patch, want string }{
		{"application/merge-patch+json", `{"data":{"m":"merged","k":null}}`, `{"m":"merged"}`},
		{"application/json-patch+json", `[{"op":"add","path":"/data/j","value":"added"}]`, `"j":"added"`},
		{"application/strategic-merge-patch+json", `{"data":{"s":"strategic"}}`, `"s":"strategic"`},
	} {
		f.want(200, x.want, f.ask(admin, "PATCH", maps+"/x", x.kind, x.patch))
	}
	f.want(415, "server-side apply is not served", f.ask(admin, "PATCH", maps+"/x", "application/apply-patch+yaml", `{}`))
	f.want(422, "", f.ask(admin, "PATCH", maps+"/x", "application/json-patch+json", `[{"op":"remove","path":"/data/none"}]`))
	// A patch that changes nothing leaves the version alone.
	before := f.ask(admin, "GET", maps+"/x", jsonType, "").at("metadata.resourceVersion")
	if after := f.ask(admin, "PATCH", maps+"/x", "application/merge-patch+json", `{"data":{"m":"merged"}}`).at("metadata.resourceVersion"); after != before {
		t.Errorf("version %v became %v without a change", before, after)
	}
}

// A watch goes on from a version, selects by field and label, and tells when
// something leaves the selection.
func TestWatch(t *testing.T) {
	f := newFixture(t)
	const pods = "/api/v1/namespaces/default/pods"
	pod := func(name, app string) string {
		return fmt.Sprintf(`{"metadata":{"name":%q,"labels":{"app":%q}},"spec":{"containers":[{"name":"c","image":"i"}]}}`, name, app)
	}
	f.want(201, "", f.ask(admin, "POST", pods, jsonType, pod("a", "tide")))
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		q, err := parseRequest(r)
		if err != nil {
			fail(w, err)
			return
		}
		f.s.serve(w, r, admin, q)
	}))
	defer srv.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", srv.URL+pods+"?watch=true&labelSelector=app%3Dtide&sendInitialEvents=true&allowWatchBookmarks=true", nil)
	if err != nil {
		t.Fatal(err)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	sc := bufio.NewScanner(resp.Body)
	next := func() string {
		if !sc.Scan() {
			return "end"
		}
		var e struct {
			Type   string
			Object struct{ Metadata struct{ Name string } }
		}
		json.Unmarshal(sc.Bytes(), &e)
		return e.Type + " " + e.Object.Metadata.Name
	}
	expect := func(want string) {
		t.Helper()
		if got := next(); got != want {
			t.Errorf("event %q, wanted %q", got, want)
		}
	}
	expect("ADDED a")
	expect("BOOKMARK ")
	f.want(201, "", f.ask(admin, "POST", pods, jsonType, pod("other", "lamp")))
	f.want(201, "", f.ask(admin, "POST", pods, jsonType, pod("b", "tide")))
	expect("ADDED b")
	f.want(200, "", f.ask(admin, "PATCH", pods+"/a", "application/merge-patch+json", `{"metadata":{"labels":{"app":"lamp"}}}`))
	expect("DELETED a")
	f.want(200, "", f.ask(admin, "DELETE", pods+"/b", jsonType, ""))
	expect("DELETED b")
	if a := f.ask(admin, "GET", pods+"?fieldSelector=metadata.name%3Dother", jsonType, ""); strings.Count(a.text, `"phase"`) != 1 {
		t.Errorf("selected by field: %s", a.text)
	}
}

func TestServices(t *testing.T) {
	f := newFixture(t)
	const svcs = "/api/v1/namespaces/default/services"
	svc := func(name, rest string) string {
		return fmt.Sprintf(`{"metadata":{"name":%q},"spec":{"type":"NodePort","selector":{"a":"b"},"ports":[{"port":80%s}]}}`, name, rest)
	}
	a := f.want(201, "", f.ask(admin, "POST", svcs, jsonType, svc("one", `,"nodePort":30080`)))
	ip, err := netip.ParseAddr(fmt.Sprint(a.at("spec.clusterIP")))
	if err != nil || !f.s.services.Contains(ip) {
		t.Errorf("cluster address %v", a.at("spec.clusterIP"))
	}
	f.want(422, "30080 is taken", f.ask(admin, "POST", svcs, jsonType, svc("two", `,"nodePort":30080`)))
	f.want(422, "not within", f.ask(admin, "POST", svcs, jsonType, svc("two", `,"nodePort":80`)))
	f.want(201, `"nodePort":3`, f.ask(admin, "POST", svcs, jsonType, svc("two", "")))
	f.want(200, "", f.ask(admin, "DELETE", svcs+"/one", jsonType, ""))
	f.want(201, `"nodePort":30080`, f.ask(admin, "POST", svcs, jsonType, svc("three", `,"nodePort":30080`)))
}

// Eviction counts against the budget; without room it is refused for now, and
// under two budgets for ever.
func TestEviction(t *testing.T) {
	f := newFixture(t)
	const ns = "/api/v1/namespaces/default"
	for _, n := range []string{"a", "b"} {
		f.want(201, "", f.ask(admin, "POST", ns+"/pods", jsonType, fmt.Sprintf(`{"metadata":{"name":%q,"labels":{"app":"tide"}},"spec":{"containers":[{"name":"c","image":"i"}]}}`, n)))
	}
	const budgets = "/apis/policy/v1/namespaces/default/poddisruptionbudgets"
	f.want(201, "", f.ask(admin, "POST", budgets, jsonType, `{"metadata":{"name":"one"},"spec":{"minAvailable":1,"selector":{"matchLabels":{"app":"tide"}}}}`))
	evict := func(pod string) answer {
		return f.ask(admin, "POST", ns+"/pods/"+pod+"/eviction", jsonType, `{"metadata":{"name":"`+pod+`"}}`)
	}
	f.want(429, "still being processed", evict("a"))
	status := `{"metadata":{"name":"one"},"status":{"observedGeneration":1,"disruptionsAllowed":1,"currentHealthy":2,"desiredHealthy":1,"expectedPods":2}}`
	f.want(200, "", f.ask(admin, "PATCH", budgets+"/one/status", "application/merge-patch+json", status))
	f.want(201, "Success", evict("a"))
	f.want(404, "", f.ask(admin, "GET", ns+"/pods/a", jsonType, ""))
	f.want(429, "would violate", evict("b"))
	f.want(201, "", f.ask(admin, "POST", budgets, jsonType, `{"metadata":{"name":"two"},"spec":{"minAvailable":0,"selector":{"matchLabels":{"app":"tide"}}}}`))
	f.want(500, "more than one PodDisruptionBudget", evict("b"))
}

// Who may do what: certificates' groups, RBAC, the node authorizer and node
// restriction.
func TestRights(t *testing.T) {
	f := newFixture(t)
	f.want(403, "cannot list", f.ask(nobody, "GET", "/api/v1/namespaces/default/secrets", jsonType, ""))
	f.want(201, "", f.ask(admin, "POST", "/apis/rbac.authorization.k8s.io/v1/namespaces/default/rolebindings", jsonType,
		`{"metadata":{"name":"r"},"roleRef":{"apiGroup":"rbac.authorization.k8s.io","kind":"ClusterRole","name":"view"},"subjects":[{"kind":"User","name":"nobody"}]}`))
	deadline := time.Now().Add(5 * time.Second)
	for f.ask(nobody, "GET", "/api/v1/namespaces/default/pods", jsonType, "").code != 200 {
		if time.Now().After(deadline) {
			t.Fatal("a binding never takes effect")
		}
	}
	f.want(403, "", f.ask(nobody, "GET", "/api/v1/namespaces/kube-system/pods", jsonType, ""))
	f.want(403, "", f.ask(nobody, "DELETE", "/api/v1/namespaces/default/pods/x", jsonType, ""))
}

// A pod that runs gets its grace; one that does not is gone at once.
func TestGracefulDeletion(t *testing.T) {
	f := newFixture(t)
	const pods = "/api/v1/namespaces/default/pods"
	f.want(201, "", f.ask(admin, "POST", pods, jsonType, `{"metadata":{"name":"a"},"spec":{"nodeName":"n","containers":[{"name":"c","image":"i"}]}}`))
	a := f.want(200, "deletionTimestamp", f.ask(admin, "DELETE", pods+"/a", jsonType, ""))
	if g := a.at("metadata.deletionGracePeriodSeconds"); g != 30.0 {
		t.Errorf("grace is %v", g)
	}
	f.want(200, "", f.ask(admin, "DELETE", pods+"/a?gracePeriodSeconds=0", jsonType, ""))
	f.want(404, "", f.ask(admin, "GET", pods+"/a", jsonType, ""))
}

func TestDiscovery(t *testing.T) {
	f := newFixture(t)
	f.want(200, `"name":"pods/eviction"`, f.ask(admin, "GET", "/api/v1", jsonType, ""))
	f.want(200, `"groupVersion":"policy/v1"`, f.ask(admin, "GET", "/apis", jsonType, ""))
	f.want(200, "fieldValidation", f.ask(admin, "GET", "/openapi/v3/apis/apps/v1", jsonType, ""))
	f.want(404, "", f.ask(admin, "GET", "/apis/none.test/v1", jsonType, ""))
}

func TestFlags(t *testing.T) {
	good := []string{"--client-ca-file=a", "--etcd-cafile=a", "--tls-cert-file=a", "--tls-private-key-file=a", "--service-account-issuer=a", "--service-account-key-file=a", "--service-account-signing-key-file=a", "--service-cluster-ip-range=10.112.0.0/16"}
	for _, x := range []struct {
		args []string
		want string
	}{
		{good, ""},
		{append(good, "--no-such-flag=1"), "unknown flag"},
		{append(good, "stray"), "unexpected argument"},
		{append(good, "--audit-log-maxage=30"), ""},
		{append(good, "--tls-curve-preferences=1"), "unknown flag"}, // of v1.36
		{append(good, "--advertise-address=127.1.2.3"), "a loopback address cannot be advertised"},
		{append(good, "--advertise-address=127.1.2.3", "--endpoint-reconciler-type=none"), ""},
		{good[1:], "--client-ca-file is missing"},
	} {
		_, err := parseFlags(&host.Env{Name: "kube-apiserver", Version: "v1.35.3", Args: x.args})
		if (err == nil) != (x.want == "") || err != nil && !strings.Contains(err.Error(), x.want) {
			t.Errorf("%v: %v, wanted %q", x.args, err, x.want)
		}
	}
}

// A server knows what it wrote itself, and supposes nothing where another one has written since.
func TestOwnWrites(t *testing.T) {
	f := newFixture(t)
	const at = "/apis/coordination.k8s.io/v1/namespaces/kube-system/leases"
	lease := func(version any, holder string) string {
		return fmt.Sprintf(`{"apiVersion":"coordination.k8s.io/v1","kind":"Lease","metadata":{"name":"watchroom","resourceVersion":"%v"},"spec":{"holderIdentity":%q}}`, version, holder)
	}
	first := f.want(201, "mara", f.ask(admin, "POST", at, jsonType, lease("", "mara")))
	// What it knows it does not ask for, and nobody changes it by changing what he got.
	gone, end := context.WithCancel(context.Background())
	end()
	leases := findResource("coordination.k8s.io", "v1", "leases")
	for range 2 {
		_, m, _, err := f.s.loadAs(gone, leases, "kube-system", "watchroom", fmt.Sprint(first.at("metadata.resourceVersion")))
		if err != nil || len(m.GetLabels()) > 0 {
			t.Fatalf("of what it wrote it knows %v, %v", m, err)
		}
		m.SetLabels(map[string]string{"changed": "by whoever asked"})
	}
	if _, m, _, err := f.s.loadAs(gone, leases, "kube-system", "watchroom", "1"); err == nil {
		t.Errorf("of another version it knows %v", m)
	}
	second := f.want(200, "jonas", f.ask(admin, "PUT", at+"/watchroom", jsonType, lease(first.at("metadata.resourceVersion"), "jonas")))
	f.want(409, "", f.ask(admin, "PUT", at+"/watchroom", jsonType, lease(first.at("metadata.resourceVersion"), "mara")))

	other := &fixture{t, &server{env: f.s.env, opt: f.s.opt, etcd: f.s.etcd, life: f.s.life, rbac: f.s.rbac, version: f.s.version, kept: lru.New(mostKept)}}
	third := f.want(200, "ilse", other.ask(admin, "PUT", at+"/watchroom", jsonType, lease(second.at("metadata.resourceVersion"), "ilse")))
	f.want(200, "ilse", f.ask(admin, "GET", at+"/watchroom", jsonType, ""))
	f.want(409, "", f.ask(admin, "PUT", at+"/watchroom", jsonType, lease(second.at("metadata.resourceVersion"), "jonas")))
	f.want(200, "mara", f.ask(admin, "PUT", at+"/watchroom", jsonType, lease(third.at("metadata.resourceVersion"), "mara")))
}
