package apiserver

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	clientv3 "go.etcd.io/etcd/client/v3"

	"verbund/internal/core/trust"
)

const (
	deployments = "/apis/apps/v1/namespaces/default/deployments"
	podsAt      = "/api/v1/namespaces/default/pods"
	mergeType   = "application/merge-patch+json"
)

func deployment(name, spec string) string {
	return fmt.Sprintf(`{"metadata":{"name":%q},"spec":{%s"selector":{"matchLabels":{"app":"tide"}},"template":{"metadata":{"labels":{"app":"tide"}},"spec":{"containers":[{"name":"c","image":"i"}]}}}}`, name, spec)
}

func onePod(name, more, container string) string {
	return fmt.Sprintf(`{"metadata":{"name":%q},"spec":{%s"containers":[{"name":"c","image":"i"%s}]}}`, name, more, container)
}

// What the real server refuses is refused, with the field that is wrong; what
// nobody here would act on is refused with that reason.
func TestValidation(t *testing.T) {
	f := newFixture(t)
	for _, x := range []struct {
		path, body string
		code       int
		word       string
	}{
		{deployments, deployment("a", `"replicas":-1,`), 422, "spec.replicas: Invalid value: -1"},
		{deployments, deployment("A_b", ""), 422, "metadata.name: Invalid value"},
		{deployments, deployment("a", `"strategy":{"rollingUpdate":{"maxSurge":0,"maxUnavailable":0}},`), 422, "may not be 0 when `maxSurge` is 0"},
		{deployments, deployment("a", `"strategy":{"rollingUpdate":{"maxSurge":"x"}},`), 422, "maxSurge"},
		{deployments, strings.Replace(deployment("a", ""), `"labels":{"app":"tide"}`, `"labels":{"app":"lamp"}`, 1), 422, "does not match template"},
		{deployments, strings.Replace(deployment("a", ""), `{"app":"tide"}}`, `{"app":"-"}}`, 1), 422, "spec.selector.matchLabels"},
		{deployments, deployment("a", `"paused":true,`), 403, "pauses nothing"},
		{podsAt, strings.Replace(onePod("a", "", ""), `"name":"a"`, `"name":"a","labels":{"no blanks":"x"}`, 1), 422, "metadata.labels"},
		{podsAt, onePod("a", "", `,"ports":[{"containerPort":70000}]`), 422, "containerPort: Invalid value: 70000"},
		{podsAt, onePod("a", "", `,"resources":{"requests":{"cpu":"-1"}}`), 422, "must be greater than or equal to 0"},
		{podsAt, onePod("a", "", `,"resources":{"requests":{"cpu":"2"},"limits":{"cpu":"1"}}`), 422, "must be less than or equal to cpu limit"},
		{podsAt, onePod("a", "", `,"resources":{"requests":{"cpu":"two"}}`), 400, "quantities must match"},
		{podsAt, onePod("a", `"tolerations":[{"operator":"Exists","value":"x"}],`, ""), 422, "value must be empty"},
		{podsAt, onePod("a", `"topologySpreadConstraints":[{"maxSkew":0,"topologyKey":"z","whenUnsatisfiable":"DoNotSchedule"}],`, ""), 422, "maxSkew: Invalid value: 0: must be greater than zero"},
		{podsAt, onePod("a", `"topologySpreadConstraints":[{"maxSkew":1,"topologyKey":"z","whenUnsatisfiable":"Never"}],`, ""), 422, "whenUnsatisfiable: Unsupported value"},
		{podsAt, onePod("a", `"topologySpreadConstraints":[{"maxSkew":1,"topologyKey":"","whenUnsatisfiable":"ScheduleAnyway","minDomains":2,"nodeTaintsPolicy":"Maybe"}],`, ""), 422, "topologyKey: Required value"},
		{podsAt, onePod("a", "", `,"volumeMounts":[{"name":"none","mountPath":"/x"}]`), 422, "volumeMounts[0].name: Not found"},
		{podsAt, onePod("a", `"initContainers":[{"name":"i","image":"i"}],`, ""), 403, "initContainers"},
		{podsAt, onePod("a", "", `,"livenessProbe":{"httpGet":{"port":80}}`), 403, "asks readiness probes only"},
		{podsAt, onePod("a", `"volumes":[{"name":"v","persistentVolumeClaim":{"claimName":"x"}}],`, ""), 403, "persistentVolumeClaim volumes"},
		{"/apis/policy/v1/namespaces/default/poddisruptionbudgets", `{"metadata":{"name":"b"},"spec":{"minAvailable":1,"maxUnavailable":1,"selector":{}}}`, 422, "cannot be both set"},
		{"/apis/policy/v1/namespaces/default/poddisruptionbudgets", `{"metadata":{"name":"b"},"spec":{"minAvailable":-2,"selector":{}}}`, 422, "spec.minAvailable"},
		{"/api/v1/namespaces/default/services", `{"metadata":{"name":"s"},"spec":{"ports":[{"port":0}]}}`, 422, "spec.ports[0].port"},
		{"/api/v1/namespaces/default/services", `{"metadata":{"name":"1s"},"spec":{"ports":[{"port":1}]}}`, 422, "metadata.name"},
		{"/api/v1/namespaces/default/services", `{"metadata":{"name":"s"},"spec":{"type":"LoadBalancer","ports":[{"port":1}]}}`, 403, "gives services no balancer"},
		{"/api/v1/namespaces/default/configmaps", `{"metadata":{"name":"c"},"data":{"a b":"x"}}`, 422, "data[a b]"},
		{"/api/v1/namespaces", `{"metadata":{"name":"a.b"}}`, 422, "metadata.name"},
		{"/apis/apps/v1/namespaces/default/statefulsets", `{"metadata":{"name":"s"},"spec":{}}`, 403, "no stateful set controller runs here"},
		{"/apis/batch/v1/namespaces/default/jobs", `{"metadata":{"name":"s"},"spec":{}}`, 403, "no job controller runs here"},
		{"/apis/rbac.authorization.k8s.io/v1/clusterrolebindings", `{"metadata":{"name":"r"},"roleRef":{"kind":"Role","name":"x"}}`, 422, "roleRef.kind"},
		{deployments, deployment("a", ""), 201, ""},
		{podsAt, onePod("a", "", ""), 201, ""},
	} {
		f.want(x.code, x.word, f.ask(admin, "POST", x.path, jsonType, x.body))
	}
	f.want(422, "field is immutable", f.ask(admin, "PATCH", deployments+"/a", mergeType, `{"spec":{"selector":{"matchLabels":{"app":"tide","x":"y"}},"template":{"metadata":{"labels":{"x":"y"}}}}}`))
	f.want(422, "spec.replicas", f.ask(admin, "PATCH", deployments+"/a", mergeType, `{"spec":{"replicas":-3}}`))
	f.want(422, "pod updates may not change fields", f.ask(admin, "PATCH", podsAt+"/a", mergeType, `{"spec":{"nodeSelector":{"a":"b"}}}`))
	f.want(200, "", f.ask(admin, "PATCH", podsAt+"/a", mergeType, `{"spec":{"terminationGracePeriodSeconds":3}}`))
}

// The size of a workload is an object of its own.
func TestScale(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", f.ask(admin, "POST", deployments, jsonType, deployment("a", `"replicas":1,`)))
	const at = deployments + "/a/scale"
	a := f.want(200, `"kind":"Scale"`, f.ask(admin, "GET", at, jsonType, ""))
	if a.at("spec.replicas") != 1.0 || a.at("status.selector") != "app=tide" {
		t.Errorf("the scale is %s", a.text)
	}
	f.want(200, `"replicas":3`, f.ask(admin, "PATCH", at, mergeType, `{"spec":{"replicas":3}}`))
	f.want(200, `"replicas":4`, f.ask(admin, "PUT", at, jsonType, `{"metadata":{"name":"a","namespace":"default"},"spec":{"replicas":4}}`))
	f.want(422, "spec.replicas", f.ask(admin, "PATCH", at, mergeType, `{"spec":{"replicas":-1}}`))
	if n := f.ask(admin, "GET", deployments+"/a", jsonType, "").at("spec.replicas"); n != 4.0 {
		t.Errorf("the deployment wants %v", n)
	}
}

// Who acts as somebody else has that one's rights, and needs the right to.
func TestImpersonation(t *testing.T) {
	f := newFixture(t)
	as := func(u user, h ...string) (user, error) {
		head := http.Header{}
		for i := 0; i < len(h); i += 2 {
			head.Add(h[i], h[i+1])
		}
		return f.s.impersonate(context.Background(), u, head)
	}
	u, err := as(admin, asUser, "nobody", asGroup, "keepers", asExtra+"Shift", "night")
	if err != nil || u.name != "nobody" || !u.in("keepers") || !u.in("system:authenticated") || u.in("system:masters") || len(u.extra["shift"]) != 1 {
		t.Errorf("as nobody: %+v, %v", u, err)
	}
	f.want(403, "", f.ask(u, "GET", "/api/v1/namespaces/default/secrets", jsonType, ""))
	if u, err = as(admin, asUser, "system:serviceaccount:default:robot"); err != nil || !u.in("system:serviceaccounts:default") {
		t.Errorf("as an account: %+v, %v", u, err)
	}
	if _, err = as(nobody, asUser, "mara"); err == nil || !strings.Contains(err.Error(), "cannot impersonate") {
		t.Errorf("without the right: %v", err)
	}
	if _, err = as(admin, asGroup, "keepers"); err == nil {
		t.Error("groups without a user are taken")
	}
}

// How something is deleted is kept with it until the collector has seen to what
// it owns.
func TestPropagation(t *testing.T) {
	f := newFixture(t)
	for policy, finalizer := range map[string]string{"Orphan": "orphan", "Foreground": "foregroundDeletion"} {
		f.want(201, "", f.ask(admin, "POST", deployments, jsonType, deployment("a", "")))
		f.want(200, finalizer, f.ask(admin, "DELETE", deployments+"/a", jsonType, `{"propagationPolicy":"`+policy+`"}`))
		f.want(200, "deletionTimestamp", f.ask(admin, "GET", deployments+"/a", jsonType, ""))
		f.want(200, "", f.ask(admin, "PATCH", deployments+"/a", mergeType, `{"metadata":{"finalizers":null}}`))
		f.want(404, "", f.ask(admin, "GET", deployments+"/a", jsonType, ""))
	}
	f.want(400, "propagationPolicy", f.ask(admin, "DELETE", deployments+"/a", jsonType, `{"propagationPolicy":"Sometimes"}`))
}

// A list comes in pieces, as it stood when the first was read; one that is not to
// be had any more says so in full.
func TestPieces(t *testing.T) {
	f := newFixture(t)
	const maps = "/api/v1/namespaces/default/configmaps"
	for i := range 5 {
		f.want(201, "", f.ask(admin, "POST", maps, jsonType, configMap(fmt.Sprint("m", i), "x")))
	}
	names := func(a answer) string {
		var out []string
		items, _ := a.body["items"].([]any)
		for _, i := range items {
			md, _ := i.(map[string]any)["metadata"].(map[string]any)
			out = append(out, fmt.Sprint(md["name"]))
		}
		return strings.Join(out, " ")
	}
	first := f.want(200, `"remainingItemCount":3`, f.ask(admin, "GET", maps+"?limit=2", jsonType, ""))
	f.want(201, "", f.ask(admin, "POST", maps, jsonType, configMap("m00", "later")))
	second := f.ask(admin, "GET", fmt.Sprintf("%s?limit=2&continue=%v", maps, first.at("metadata.continue")), jsonType, "")
	third := f.ask(admin, "GET", fmt.Sprintf("%s?limit=2&continue=%v", maps, second.at("metadata.continue")), jsonType, "")
	if got := names(first) + "|" + names(second) + "|" + names(third); got != "m0 m1|m2 m3|m4" || third.at("metadata.continue") != nil {
		t.Errorf("the pieces are %s", got)
	}
	f.want(400, "continue key is not valid", f.ask(admin, "GET", maps+"?continue=x", jsonType, ""))
	f.want(400, "field label not supported: data.k", f.ask(admin, "GET", maps+"?fieldSelector=data.k%3Dx", jsonType, ""))
	r, err := f.s.etcd.Get(context.Background(), "x")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.s.etcd.Compact(context.Background(), r.Header.Revision, clientv3.WithCompactPhysical()); err != nil {
		t.Fatal(err)
	}
	f.want(410, `"reason":"Expired"`, f.ask(admin, "GET", fmt.Sprintf("%s?limit=2&continue=%v", maps, first.at("metadata.continue")), jsonType, ""))
	// A watch from before that gets a Status, too.
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		q, err := parseRequest(r)
		if err != nil {
			fail(w, err)
			return
		}
		f.s.serve(w, r, admin, q)
	}))
	defer srv.Close()
	resp, err := http.Get(srv.URL + maps + "?watch=true&resourceVersion=1&timeoutSeconds=5")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b := make([]byte, 4096)
	n, _ := resp.Body.Read(b)
	for _, want := range []string{`"type":"ERROR"`, `"kind":"Status"`, `"apiVersion":"v1"`, `"code":410`} {
		if !strings.Contains(string(b[:n]), want) {
			t.Errorf("the watch lacks %s: %s", want, b[:n])
		}
	}
}

// Whoever wants only metadata gets only that.
func TestMetadataOnly(t *testing.T) {
	f := newFixture(t)
	const maps = "/api/v1/namespaces/default/configmaps"
	f.want(201, "", f.ask(admin, "POST", maps, jsonType, configMap("m", "not this")))
	r := httptest.NewRequest("GET", maps, nil)
	r.Header.Set("Accept", "application/vnd.kubernetes.protobuf;as=PartialObjectMetadataList;g=meta.k8s.io;v=v1,application/json;as=PartialObjectMetadataList;g=meta.k8s.io;v=v1,application/json")
	q, err := parseRequest(r)
	if err != nil {
		t.Fatal(err)
	}
	w := httptest.NewRecorder()
	f.s.serve(w, r, admin, q)
	if text := w.Body.String(); !strings.Contains(text, `"kind":"PartialObjectMetadataList"`) || !strings.Contains(text, `"name":"m"`) || strings.Contains(text, "not this") {
		t.Errorf("the list is %s", text)
	}
}

// The two groups of events are two views of the same events, which end.
func TestEvents(t *testing.T) {
	f := newFixture(t)
	f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/events", jsonType, `{"metadata":{"name":"e"},"involvedObject":{"kind":"Pod","name":"p"},"reason":"Started","message":"Started container","source":{"component":"kubelet"}}`))
	a := f.want(200, `"note":"Started container"`, f.ask(admin, "GET", "/apis/events.k8s.io/v1/namespaces/default/events/e", jsonType, ""))
	if a.at("regarding.name") != "p" || a.at("kind") != "Event" {
		t.Errorf("the other face: %s", a.text)
	}
	f.want(201, "", f.ask(admin, "POST", "/apis/events.k8s.io/v1/namespaces/default/events", jsonType, `{"metadata":{"name":"n"},"regarding":{"kind":"Node","name":"x"},"reason":"NodeReady","note":"ready"}`))
	f.want(200, `"message":"ready"`, f.ask(admin, "GET", "/api/v1/namespaces/default/events/n", jsonType, ""))
	if a := f.ask(admin, "GET", "/api/v1/namespaces/default/events?fieldSelector=involvedObject.kind%3DNode", jsonType, ""); strings.Count(a.text, `"reason"`) != 1 {
		t.Errorf("selected: %s", a.text)
	}
	r, err := f.s.etcd.Get(context.Background(), "/registry/core/events/default/e")
	if err != nil || len(r.Kvs) != 1 || r.Kvs[0].Lease == 0 {
		t.Errorf("the event never ends: %v, %v", r, err)
	}
}

// A token is for its audiences, and ends with its account and with what it is
// bound to.
func TestTokens(t *testing.T) {
	f := newFixture(t)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	id, err := trust.KeyName(key.Public())
	if err != nil {
		t.Fatal(err)
	}
	f.s.tokens = &tokens{issuer: "https://api.tidewatch.test", signing: key, method: jwt.SigningMethodES256, publics: map[string]crypto.PublicKey{id: key.Public()}, longest: 2 * time.Hour}
	const accounts = "/api/v1/namespaces/default/serviceaccounts"
	f.want(201, "", f.ask(admin, "POST", accounts, jsonType, `{"metadata":{"name":"robot"}}`))
	f.want(201, "", f.ask(admin, "POST", podsAt, jsonType, strings.Replace(onePod("p", "", ""), `"containers"`, `"serviceAccountName":"robot","containers"`, 1)))
	issue := func(spec string) string {
		t.Helper()
		text, _ := f.want(201, "TokenRequest", f.ask(admin, "POST", accounts+"/robot/token", jsonType, `{"spec":{`+spec+`}}`)).at("status.token").(string)
		return text
	}
	who := func(token string, audiences ...string) (user, error) {
		return f.s.account(context.Background(), token, audiences)
	}
	own, other, bound := issue(""), issue(`"audiences":["vault"]`), issue(`"boundObjectRef":{"apiVersion":"v1","kind":"Pod","name":"p"}`)
	if u, err := who(own); err != nil || u.name != "system:serviceaccount:default:robot" || u.uid == "" {
		t.Errorf("the own token: %+v, %v", u, err)
	}
	if _, err := who(other); err == nil || !strings.Contains(err.Error(), "audiences [vault]") {
		t.Errorf("one for another audience: %v", err)
	}
	if _, err := who(other, "vault"); err != nil {
		t.Errorf("at its audience: %v", err)
	}
	if u, err := who(bound); err != nil || len(u.extra["authentication.kubernetes.io/pod-name"]) != 1 {
		t.Errorf("the bound one: %+v, %v", u, err)
	}
	f.want(422, "less than 10 minutes", f.ask(admin, "POST", accounts+"/robot/token", jsonType, `{"spec":{"expirationSeconds":5}}`))
	f.want(404, "", f.ask(admin, "POST", accounts+"/robot/token", jsonType, `{"spec":{"boundObjectRef":{"apiVersion":"v1","kind":"Pod","name":"none"}}}`))
	review := func(token, audiences string) answer {
		return f.ask(admin, "POST", "/apis/authentication.k8s.io/v1/tokenreviews", jsonType, `{"spec":{"token":"`+token+`"`+audiences+`}}`)
	}
	if a := review(other, `,"audiences":["vault"]`); a.at("status.authenticated") != true {
		t.Errorf("review: %s", a.text)
	}
	f.want(200, "", f.ask(admin, "DELETE", podsAt+"/p?gracePeriodSeconds=0", jsonType, ""))
	if _, err := who(bound); err == nil || !strings.Contains(err.Error(), "bound to pod p") {
		t.Errorf("after its pod: %v", err)
	}
	f.want(200, "", f.ask(admin, "DELETE", accounts+"/robot", jsonType, ""))
	if _, err := who(own); err == nil {
		t.Error("a token outlives its account")
	}
}
