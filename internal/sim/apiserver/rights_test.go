package apiserver

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	rbacv1 "k8s.io/api/rbac/v1"
)

// What a pod refers to is found wherever it stands, and by one function: a kubelet reads what its
// pods need, and makes none by which it would need more.
func TestWhatPodsNeed(t *testing.T) {
	f := nodesAndPods(t)
	const pods, secret = "/api/v1/namespaces/default/pods", "/api/v1/namespaces/default/secrets/prize"
	f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/secrets", jsonType, `{"metadata":{"name":"prize"}}`))
	const c = `"containers":[{"name":"c","image":"i"}]`
	ways := map[string]string{
		"a volume":            c + `,"volumes":[{"name":"v","secret":{"secretName":"prize"}}]`,
		"a projected volume":  c + `,"volumes":[{"name":"v","projected":{"sources":[{"secret":{"name":"prize"}}]}}]`,
		"an environment":      `"containers":[{"name":"c","image":"i","env":[{"name":"A","valueFrom":{"secretKeyRef":{"name":"prize","key":"k"}}}]}]`,
		"a whole environment": `"containers":[{"name":"c","image":"i","envFrom":[{"secretRef":{"name":"prize"}}]}]`,
		"a pull secret":       c + `,"imagePullSecrets":[{"name":"prize"}]`,
	}
	for what, spec := range ways {
		for _, admission := range []string{"NodeRestriction", ""} {
			f.s.opt.admission = admission
			mirror := `{"metadata":{"name":"mirror","annotations":{"kubernetes.io/config.mirror":"x"}},"spec":{"nodeName":"gauges-1",` + spec + `}}`
			a := f.ask(gauges1, "POST", pods, jsonType, mirror)
			if admission != "" && (a.code != 403 || !strings.Contains(a.text, "can not create pods that reference")) {
				t.Errorf("a mirror pod with %s: %d\n%s", what, a.code, a.text)
			}
			// Also where nothing keeps it from making one, it gives it nothing.
			f.want(403, "", f.ask(gauges1, "GET", secret, "", ""))
			f.ask(admin, "DELETE", pods+"/mirror?gracePeriodSeconds=0", "", "")
		}
		f.want(201, "", f.ask(admin, "POST", pods, jsonType, `{"metadata":{"name":"real"},"spec":{"nodeName":"gauges-1",`+spec+`}}`))
		if a := f.ask(gauges1, "GET", secret, "", ""); a.code != 200 {
			t.Errorf("a pod that has it by %s: %d", what, a.code)
		}
		f.want(200, "", f.ask(admin, "DELETE", pods+"/real?gracePeriodSeconds=0", "", ""))
	}
	// Containers of every kind.
	var p corev1.PodSpec
	if err := json.Unmarshal([]byte(`{"initContainers":[{"name":"a","envFrom":[{"secretRef":{"name":"init"}}]}],"ephemeralContainers":[{"name":"b","envFrom":[{"configMapRef":{"name":"eph"}}]}],
		"volumes":[{"name":"v","persistentVolumeClaim":{"claimName":"claim"}},{"name":"w","configMap":{"name":"cm"}},{"name":"x","csi":{"driver":"d","nodePublishSecretRef":{"name":"driver"}}}]}`), &p); err != nil {
		t.Fatal(err)
	}
	if n := needsOf(&p); fmt.Sprint(n) != "{[driver init] [cm eph] [] [claim]}" {
		t.Errorf("it needs %v", n)
	}
}

// A token is of the account of the pod that it is bound to.
func TestTokensOfOthers(t *testing.T) {
	f := nodesAndPods(t)
	f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/serviceaccounts", jsonType, `{"metadata":{"name":"harbour"}}`))
	uid := f.ask(admin, "GET", "/api/v1/namespaces/default/pods/on-gauges-1", "", "").at("metadata.uid")
	bound := fmt.Sprintf(`{"spec":{"boundObjectRef":{"apiVersion":"v1","kind":"Pod","name":"on-gauges-1","uid":%q}}}`, uid)
	f.want(403, "", f.ask(gauges1, "POST", "/api/v1/namespaces/default/serviceaccounts/harbour/token", jsonType, bound))
	f.s.tokens = &tokens{}
	f.want(400, "different serviceaccount name", f.ask(admin, "POST", "/api/v1/namespaces/default/serviceaccounts/harbour/token", jsonType, bound))
}

// deputies are people who may do everything with roles in a namespace, but for what the verbs
// escalate and bind allow.
func deputies(t *testing.T) (*fixture, user) {
	f := newFixture(t)
	deputy := user{name: "deputy", groups: []string{"system:authenticated"}}
	const at = "/apis/rbac.authorization.k8s.io/v1/namespaces/default"
	f.want(201, "", f.ask(admin, "POST", at+"/roles", jsonType, `{"metadata":{"name":"deputy"},"rules":[
		{"apiGroups":["rbac.authorization.k8s.io"],"resources":["roles","rolebindings","clusterrolebindings"],"verbs":["get","create","update","patch","delete"]},
		{"apiGroups":[""],"resources":["pods"],"verbs":["get","list"]}]}`))
	f.want(201, "", f.ask(admin, "POST", at+"/rolebindings", jsonType, `{"metadata":{"name":"deputy"},"roleRef":{"kind":"Role","name":"deputy"},"subjects":[{"kind":"User","name":"deputy"}]}`))
	f.soon("the binding to count", func() bool {
		return f.s.rbac.allows(deputy, access{verb: "get", plural: "pods", ns: "default", name: "p"})
	})
	return f, deputy
}

// soon waits until the policy's watcher has seen something.
func (f *fixture) soon(what string, is func() bool) {
	f.Helper()
	for until := time.Now().Add(time.Minute); !is(); {
		if time.Now().After(until) {
			f.Fatalf("waited for %s", what)
		}
		time.Sleep(5 * time.Millisecond)
	}
}

// Whoever administers one namespace changes nothing beyond it: there is no path by which what is
// the cluster's would be authorised in a namespace.
func TestScopeDecidesThePath(t *testing.T) {
	f, deputy := deputies(t)
	patch := `{"subjects":[{"kind":"User","name":"deputy"}]}`
	f.want(404, "", f.ask(deputy, "PATCH", "/apis/rbac.authorization.k8s.io/v1/namespaces/default/clusterrolebindings/cluster-admin", merging, patch))
	f.want(403, "", f.ask(deputy, "PATCH", "/apis/rbac.authorization.k8s.io/v1/clusterrolebindings/cluster-admin", merging, patch))
	for _, p := range []string{"/api/v1/namespaces/default/nodes", "/api/v1/namespaces/default/nodes/gauges-1/status", "/apis/certificates.k8s.io/v1/namespaces/default/certificatesigningrequests"} {
		f.want(404, "", f.ask(admin, "GET", p, "", ""))
	}
	// A namespace's own paths are its own.
	f.want(200, "", f.ask(admin, "GET", "/api/v1/namespaces/default", "", ""))
}

// Nobody gives rights that they do not have, by a role or by a binding, new or changed, unless
// they may escalate or bind.
func TestNoEscalation(t *testing.T) {
	f, deputy := deputies(t)
	const at = "/apis/rbac.authorization.k8s.io/v1/namespaces/default"
	role := func(name, resource string) string {
		return `{"metadata":{"name":"` + name + `"},"rules":[{"apiGroups":[""],"resources":["` + resource + `"],"verbs":["get"]}]}`
	}
	bind := func(name, kind, to string) string {
		return `{"metadata":{"name":"` + name + `"},"roleRef":{"kind":"` + kind + `","name":"` + to + `"},"subjects":[{"kind":"User","name":"deputy"}]}`
	}
	f.want(201, "", f.ask(deputy, "POST", at+"/roles", jsonType, role("own", "pods")))
	f.want(403, "not currently held", f.ask(deputy, "POST", at+"/roles", jsonType, role("more", "secrets")))
	f.want(403, "not currently held", f.ask(deputy, "PATCH", at+"/roles/own", merging, role("own", "secrets")))
	f.want(403, "not currently held", f.ask(deputy, "PUT", at+"/roles/own", jsonType, role("own", "secrets")))
	f.want(403, "not currently held", f.ask(deputy, "POST", at+"/rolebindings", jsonType, bind("all", "ClusterRole", "cluster-admin")))
	f.want(404, "", f.ask(deputy, "POST", at+"/rolebindings", jsonType, bind("later", "Role", "not-there-yet")))
	f.soon("the role to be seen", func() bool { return len(f.s.rulesAt(rbacRef("Role", "own"), "default")) > 0 })
	f.want(201, "", f.ask(deputy, "POST", at+"/rolebindings", jsonType, bind("own", "Role", "own")))
	// With the verbs they may.
	f.want(200, "", f.ask(admin, "PATCH", at+"/roles/deputy", "application/json-patch+json", `[{"op":"add","path":"/rules/-","value":{"apiGroups":["rbac.authorization.k8s.io"],"resources":["roles","clusterroles"],"verbs":["escalate","bind"]}}]`))
	f.soon("the verbs to count", func() bool {
		return f.s.allowed(context.Background(), deputy, access{verb: "bind", group: "rbac.authorization.k8s.io", plural: "clusterroles", ns: "default", name: "x"})
	})
	f.want(201, "", f.ask(deputy, "POST", at+"/roles", jsonType, role("more", "secrets")))
	f.want(201, "", f.ask(deputy, "POST", at+"/rolebindings", jsonType, bind("all", "ClusterRole", "cluster-admin")))
}

// A container that a pod does not have has no log, whatever its name would lead to.
func TestLogOfNoContainer(t *testing.T) {
	f := nodesAndPods(t)
	for _, c := range []string{"other", "..%2F..%2Fkube-system%2Fx%2Fc", "c%2F..%2Fd"} {
		f.want(400, "is not valid for pod on-gauges-1", f.ask(admin, "GET", "/api/v1/namespaces/default/pods/on-gauges-1/log?container="+c, "", ""))
	}
}

// What never came to an end does: a patch that renames, ports that there are not enough of, and
// what is nested without end. What was claimed meanwhile is there for others.
func TestEveryRequestEnds(t *testing.T) {
	f := newFixture(t)
	const at = "/api/v1/namespaces/default/configmaps"
	f.want(201, "", f.ask(admin, "POST", at, jsonType, configMap("one", "x")))
	f.want(400, "does not match the name on the URL", f.ask(admin, "PATCH", at+"/one", merging, `{"metadata":{"name":"two"}}`))
	f.want(400, "does not match the name on the URL", f.ask(admin, "PATCH", at+"/one", merging, `{"metadata":{"namespace":"kube-system"}}`))
	for _, nested := range []string{`[{"op":"add","path":"/data/k","value":` + strings.Repeat("[", 1_000_000) + strings.Repeat("]", 1_000_000) + `}]`,
		`[{"op":"add","path":"` + strings.Repeat("/0", 100_000) + `","value":"x"}]`} {
		began := time.Now()
		f.want(400, "levels", f.ask(admin, "PATCH", at+"/one", "application/json-patch+json", nested))
		if took := time.Since(began); took > 20*time.Second {
			t.Errorf("it took %s", took)
		}
	}
	f.want(200, "", f.ask(admin, "PATCH", at+"/one", merging, `{"data":{"brackets":"`+strings.Repeat("[{", 500)+`","quoted":"\"`+strings.Repeat("[", 500)+`"}}`))

	f.s.ports = nodePorts{30000, 30019}
	var ports []string
	for i := range 25 {
		ports = append(ports, fmt.Sprintf(`{"name":"p%d","port":%d}`, i, i+1))
	}
	service := func(name string, ports ...string) string {
		return `{"metadata":{"name":"` + name + `"},"spec":{"type":"NodePort","ports":[` + strings.Join(ports, ",") + `]}}`
	}
	f.want(500, "the range of ports is full", f.ask(admin, "POST", "/api/v1/namespaces/default/services", jsonType, service("greedy", ports...)))
	taken := func(kind string) int {
		m, err := f.s.takenIn(context.Background(), kind)
		if err != nil {
			t.Fatal(err)
		}
		return len(m)
	}
	if n := taken("ports"); n != 0 {
		t.Errorf("%d ports are taken by nobody", n)
	}
	addresses := taken("addresses")
	f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/services", jsonType, service("modest", `{"name":"a","port":80}`, `{"name":"b","port":81}`)))
	f.want(409, "", f.ask(admin, "POST", "/api/v1/namespaces/default/services", jsonType, service("modest", `{"name":"c","port":80}`)))
	f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/services?dryRun=All", jsonType, service("dry", `{"name":"a","port":80}`)))
	if p, a := taken("ports"), taken("addresses"); p != 2 || a != addresses+1 {
		t.Errorf("%d ports and %d addresses are taken", p, a-addresses)
	}
	// A port that a service has no more is free.
	f.want(200, "", f.ask(admin, "PATCH", "/api/v1/namespaces/default/services/modest", "application/json-patch+json", `[{"op":"remove","path":"/spec/ports/1"}]`))
	if p := taken("ports"); p != 1 {
		t.Errorf("%d ports are taken", p)
	}
	f.want(200, "", f.ask(admin, "DELETE", "/api/v1/namespaces/default/services/modest", "", ""))
	if p, a := taken("ports"), taken("addresses"); p != 0 || a != addresses {
		t.Errorf("%d ports and %d addresses are taken of nobody", p, a-addresses)
	}
}

// What is wrong is refused, as the real server does.
func TestRefusedValues(t *testing.T) {
	f := newFixture(t)
	service := func(spec string) string { return `{"metadata":{"name":"s"},"spec":{` + spec + `}}` }
	const port = `"ports":[{"port":80}]`
	for what, x := range map[string]struct{ path, body string }{
		"an address that is none":     {"/api/v1/namespaces/default/services", service(`"clusterIP":"x",` + port)},
		"the first of the range":      {"/api/v1/namespaces/default/services", service(`"clusterIP":"10.112.0.0",` + port)},
		"the last of the range":       {"/api/v1/namespaces/default/services", service(`"clusterIP":"10.112.0.255",` + port)},
		"an address that is taken":    {"/api/v1/namespaces/default/services", service(`"clusterIP":"10.112.0.1",` + port)},
		"a port twice":                {"/api/v1/namespaces/default/services", service(`"ports":[{"name":"a","port":80},{"name":"b","port":80}]`)},
		"a node port twice":           {"/api/v1/namespaces/default/services", service(`"type":"NodePort","ports":[{"name":"a","port":80,"nodePort":30100},{"name":"b","port":81,"nodePort":30100}]`)},
		"a range of pods that's none": {"/api/v1/nodes", `{"metadata":{"name":"n"},"spec":{"podCIDR":"300.1.1.1/99"}}`},
		"one that is not its own":     {"/api/v1/nodes", `{"metadata":{"name":"n"},"spec":{"podCIDRs":["10.172.1.7/24"]}}`},
		"negative capacity":           {"/api/v1/nodes", `{"metadata":{"name":"n"},"status":{"capacity":{"cpu":"-1"}}}`},
	} {
		if a := f.ask(admin, "POST", x.path, jsonType, x.body); a.code != 422 {
			t.Errorf("%s: %d\n%s", what, a.code, a.text)
		}
	}
	pod := `{"metadata":{"name":"p"},"spec":{"serviceAccountName":"../x","containers":[{"name":"c","image":"i"}]}}`
	f.want(403, "invalid resource name", f.ask(admin, "POST", "/api/v1/namespaces/default/pods", jsonType, pod))
	f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/services", jsonType, service(`"clusterIP":"10.112.0.9",`+port)))
}

func rbacRef(kind, name string) rbacv1.RoleRef { return rbacv1.RoleRef{Kind: kind, Name: name} }
