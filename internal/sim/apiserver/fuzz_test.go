package apiserver

import (
	"net/http"
	"testing"

	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/types"
)

// FuzzPatch applies patches of any form: each is refused, or leaves something of bounded
// size.
func FuzzPatch(f *testing.F) {
	before := []byte(`{"apiVersion":"v1","kind":"ConfigMap","metadata":{"name":"a","labels":{"x":"y"}},"data":{"k":"v"}}`)
	for _, p := range []string{
		`[{"op":"copy","from":"/data","path":"/data/d"}]`, `[{"op":"move","from":"","path":"/data/x"}]`, `[{"op":"remove","path":"/-"}]`, `[{"op":"test","path":"/data/-1"}]`, `[null]`,
		`{"metadata":null}`, `{"data":{"$patch":"delete"}}`, `{"metadata":{"$setElementOrder/finalizers":[1]}}`, `{"$retainKeys":[]}`, `null`, `[]`, `"`,
	} {
		f.Add([]byte(p))
	}
	f.Fuzz(func(t *testing.T, patch []byte) {
		for _, kind := range []types.PatchType{types.JSONPatchType, types.MergePatchType, types.StrategicMergePatchType} {
			if after, err := patched(kind, before, patch, &corev1.ConfigMap{}); err == nil && len(after) > maxBody+len(patch)*2+len(before) {
				t.Errorf("%s %q: %d bytes", kind, patch, len(after))
			}
		}
	})
}

// FuzzRequestPath reads requests of any form.
func FuzzRequestPath(f *testing.F) {
	f.Add("GET", "api/v1/namespaces/default/pods/x/log?fieldSelector=a%3Db")
	f.Add("POST", "apis/apps/v1/namespaces//deployments/")
	f.Add("GET", "api/v1/nodes?fieldSelector=,=&labelSelector=!,")
	f.Fuzz(func(t *testing.T, method, path string) {
		r, err := http.NewRequest(method, "https://api/"+path, nil)
		if err != nil {
			t.Skip()
		}
		if q, err := parseRequest(r); err == nil && q.resource != nil && (q.verb == "" || q.fields == nil || q.labels == nil) {
			t.Errorf("%s %s: %+v", method, path, q)
		}
	})
}
