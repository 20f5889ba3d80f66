package apiserver

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"
)

const merging = "application/merge-patch+json"

// nodesAndPods is a server with two nodes, a pod on each, and what the pods need.
func nodesAndPods(t *testing.T) *fixture {
	f := newFixture(t)
	for _, n := range []string{"gauges-1", "gauges-2"} {
		f.want(201, "", f.ask(admin, "POST", "/api/v1/nodes", jsonType, `{"metadata":{"name":"`+n+`"}}`))
		f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/secrets", jsonType, `{"metadata":{"name":"for-`+n+`"}}`))
		f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/pods", jsonType,
			`{"metadata":{"name":"on-`+n+`"},"spec":{"nodeName":"`+n+`","containers":[{"name":"c","image":"i","envFrom":[{"secretRef":{"name":"for-`+n+`"}}]}]}}`))
	}
	return f
}

// A kubelet reads itself, its own pods and what these need, and nothing of others.
func TestKubeletReads(t *testing.T) {
	f := nodesAndPods(t)
	for _, x := range []struct {
		path string
		code int
	}{
		{"/api/v1/nodes/gauges-1", 200},
		{"/api/v1/nodes/gauges-2", 403},
		{"/api/v1/nodes", 403},
		{"/api/v1/nodes?fieldSelector=metadata.name%3Dgauges-1", 200},
		{"/api/v1/nodes?fieldSelector=metadata.name%3Dgauges-2", 403},
		{"/api/v1/namespaces/default/pods/on-gauges-1", 200},
		{"/api/v1/namespaces/default/pods/on-gauges-2", 403},
		{"/api/v1/namespaces/default/pods/on-gauges-1/log", 403},
		{"/api/v1/namespaces/default/pods/on-gauges-2/log", 403},
		{"/api/v1/pods", 403},
		{"/api/v1/pods?fieldSelector=spec.nodeName%3Dgauges-1", 200},
		{"/api/v1/pods?fieldSelector=spec.nodeName%3Dgauges-2", 403},
		{"/api/v1/pods?fieldSelector=spec.nodeName%21%3Dgauges-2", 403},
		{"/api/v1/namespaces/default/secrets/for-gauges-1", 200},
		{"/api/v1/namespaces/default/secrets/for-gauges-2", 403},
		{"/api/v1/namespaces/default/secrets", 403},
		{"/api/v1/namespaces/default/secrets?fieldSelector=metadata.name%3Dfor-gauges-1", 200},
		{"/api/v1/services", 200},
		{"/apis/coordination.k8s.io/v1/namespaces/kube-node-lease/leases/gauges-2", 403},
		{"/apis/rbac.authorization.k8s.io/v1/clusterroles", 403},
	} {
		if a := f.ask(gauges1, "GET", x.path, "", ""); a.code != x.code {
			t.Errorf("%s: %d, wanted %d\n%s", x.path, a.code, x.code, a.text)
		}
	}
	// What a kubelet asks before it shows its logs: nobody's kubelet may use another's.
	for _, sub := range []string{"proxy", "log", "stats", "metrics"} {
		for _, n := range []string{"gauges-1", "gauges-2"} {
			a := f.ask(gauges1, "POST", "/apis/authorization.k8s.io/v1/subjectaccessreviews", jsonType,
				`{"spec":{"user":"system:node:gauges-1","groups":["system:nodes"],"resourceAttributes":{"verb":"get","resource":"nodes","subresource":"`+sub+`","name":"`+n+`"}}}`)
			if a.at("status.allowed") == true {
				t.Errorf("nodes/%s of %s is allowed", sub, n)
			}
		}
	}
	// Of the nodes' group, and no node.
	stray := user{name: "somebody", groups: []string{"system:nodes"}}
	f.want(403, "", f.ask(stray, "GET", "/api/v1/nodes/gauges-1", "", ""))
	// Without the mode nobody is a kubelet; with none that decides everybody may.
	f.s.opt.authorization = "RBAC"
	f.want(403, "", f.ask(gauges1, "GET", "/api/v1/nodes/gauges-1", "", ""))
	f.s.opt.authorization = "AlwaysAllow"
	f.want(200, "", f.ask(gauges1, "GET", "/api/v1/nodes/gauges-2", "", ""))
}

// A kubelet changes its own node and pods, gives itself no label that stands for trust,
// and leaves its taints alone.
func TestKubeletWrites(t *testing.T) {
	f := nodesAndPods(t)
	const own, other = "/api/v1/nodes/gauges-1", "/api/v1/nodes/gauges-2"
	const pods = "/api/v1/namespaces/default/pods"
	label := func(k string) string { return `{"metadata":{"labels":{"` + k + `":"x"}}}` }
	for _, x := range []struct {
		method, path, body string
		code               int
		word               string
	}{
		{"PATCH", own, label("work"), 200, ""},
		{"PATCH", own, label("topology.kubernetes.io/zone"), 200, ""},
		{"PATCH", own, label("node.kubernetes.io/x"), 200, ""},
		{"PATCH", own, label("node-restriction.kubernetes.io/secret"), 403, "is not allowed to modify labels: node-restriction.kubernetes.io/secret"},
		{"PATCH", own, label("x.node-restriction.kubernetes.io/secret"), 403, "is not allowed to modify labels"},
		{"PATCH", own, label("node-role.kubernetes.io/control-plane"), 403, "is not allowed to modify labels"},
		{"PATCH", own, label("sizes.k8s.io/large"), 403, "is not allowed to modify labels"},
		{"PATCH", own, `{"spec":{"taints":[{"key":"a","effect":"NoSchedule"}]}}`, 403, "is not allowed to modify taints"},
		{"PATCH", own, `{"metadata":{"ownerReferences":[{"apiVersion":"v1","kind":"Node","name":"n","uid":"u"}]}}`, 403, "is not allowed to modify ownerReferences"},
		{"PATCH", own + "/status", `{"status":{"nodeInfo":{"kubeletVersion":"v1.37.2"}}}`, 200, ""},
		{"PATCH", other, label("work"), 403, "is not allowed to modify node"},
		{"PATCH", other + "/status", `{"status":{"nodeInfo":{"kubeletVersion":"v1.37.1"}}}`, 403, "is not allowed to modify node"},
		{"DELETE", own, "", 403, ""},
		{"POST", "/api/v1/nodes", `{"metadata":{"name":"gauges-3"}}`, 403, "is not allowed to create node"},
		{"POST", pods, onePod("p", "", ""), 403, "can only create mirror pods"},
		{"POST", pods, `{"metadata":{"name":"p","annotations":{"kubernetes.io/config.mirror":"x"}},"spec":{"nodeName":"gauges-2","containers":[{"name":"c","image":"i"}]}}`, 403, "spec.nodeName set to itself"},
		{"PATCH", pods + "/on-gauges-1/status", `{"status":{"podIP":"10.172.0.9"}}`, 200, ""},
		{"PATCH", pods + "/on-gauges-1/status", `{"metadata":{"labels":{"app":"other"}},"status":{"podIP":"10.172.0.9"}}`, 200, ""},
		{"PATCH", pods + "/on-gauges-2/status", `{"status":{"podIP":"10.172.0.9"}}`, 403, "can only update pod status"},
		{"PATCH", pods + "/on-gauges-1", label("app"), 403, ""},
		{"DELETE", pods + "/on-gauges-2", "", 403, "can only delete pods"},
		{"POST", pods + "/on-gauges-2/eviction", `{"metadata":{"name":"on-gauges-2"}}`, 403, "can only delete pods"},
		{"POST", "/api/v1/namespaces/default/serviceaccounts/default/token", `{"spec":{}}`, 403, "not bound to a pod"},
		{"POST", "/api/v1/namespaces/default/serviceaccounts/default/token", `{"spec":{"boundObjectRef":{"kind":"Pod","name":"on-gauges-2","uid":"u"}}}`, 403, "on a different node"},
		{"POST", "/api/v1/namespaces/default/secrets", `{"metadata":{"name":"s"}}`, 403, ""},
		{"DELETE", pods + "/on-gauges-1", "", 200, ""},
	} {
		contentType := jsonType
		if x.method == http.MethodPatch {
			contentType = merging
		}
		if a := f.ask(gauges1, x.method, x.path, contentType, x.body); a.code != x.code || !strings.Contains(a.text, x.word) {
			t.Errorf("%s %s %s: %d, wanted %d with %q\n%s", x.method, x.path, x.body, a.code, x.code, x.word, a.text)
		}
	}
	if a := f.ask(admin, "GET", pods+"/on-gauges-1", "", ""); strings.Contains(a.text, `"app"`) {
		t.Errorf("labels went through the status: %s", a.text)
	}
	// A node that registers gives itself no such label either.
	gauges3 := user{name: "system:node:gauges-3", groups: []string{"system:nodes"}}
	f.want(403, "is not allowed to set the following labels", f.ask(gauges3, "POST", "/api/v1/nodes", jsonType, `{"metadata":{"name":"gauges-3","labels":{"node-restriction.kubernetes.io/x":"y"}}}`))
	f.want(201, "", f.ask(gauges3, "POST", "/api/v1/nodes", jsonType, `{"metadata":{"name":"gauges-3","labels":{"kubernetes.io/hostname":"gauges-3"}},"spec":{"taints":[{"key":"a","effect":"NoSchedule"}]}}`))
	// Without the plugin only the authorizer stands in the way.
	f.s.opt.admission = ""
	f.want(200, "", f.ask(gauges1, "PATCH", own, merging, label("node-restriction.kubernetes.io/secret")))
}

// A patch that copies and copies is refused before it has eaten the memory.
func TestPatchThatGrows(t *testing.T) {
	f := newFixture(t)
	const at = "/api/v1/namespaces/default/configmaps"
	f.want(201, "", f.ask(admin, "POST", at, jsonType, configMap("one", strings.Repeat("x", 1000))))
	copies := []string{`{"op":"add","path":"/data/c0","value":"` + strings.Repeat("y", 10_000) + `"}`, `{"op":"add","path":"/metadata/annotations","value":{}}`}
	for i := range 40 {
		copies = append(copies, fmt.Sprintf(`{"op":"copy","from":"/data","path":"/data/d%d"}`, i))
	}
	began := time.Now()
	f.want(422, "", f.ask(admin, "PATCH", at+"/one", "application/json-patch+json", "["+strings.Join(copies, ",")+"]"))
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("it took %s", took)
	}
	many := slices.Repeat([]string{`{"op":"test","path":"/data/k","value":"x"}`}, mostOperations+1)
	f.want(413, "maximum operations in a JSON patch", f.ask(admin, "PATCH", at+"/one", "application/json-patch+json", "["+strings.Join(many, ",")+"]"))
	f.want(200, "", f.ask(admin, "PATCH", at+"/one", "application/json-patch+json", `[{"op":"copy","from":"/data/k","path":"/data/l"}]`))
}
