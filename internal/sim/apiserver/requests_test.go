package apiserver

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"strings"
	"testing"
	"time"
)

// csr is a request for a node's client certificate, as an object.
func csr(t *testing.T, name string) string {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "system:node:gauges-1", Organization: []string{"system:nodes"}}}, k)
	if err != nil {
		t.Fatal(err)
	}
	b := base64.StdEncoding.EncodeToString(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}))
	return fmt.Sprintf(`{"apiVersion":"certificates.k8s.io/v1","kind":"CertificateSigningRequest","metadata":{"name":%q},"spec":{"request":%q,"signerName":"kubernetes.io/kube-apiserver-client-kubelet","usages":["client auth","digital signature"],"username":"mara","groups":["system:masters"]}}`, name, b)
}

// Who asked is what the server knows, not what the request says; what was asked
// never changes; and only who may use the signer approves.
func TestCertificateRequests(t *testing.T) {
	f := newFixture(t)
	const all = "/apis/certificates.k8s.io/v1/certificatesigningrequests"
	a := f.want(201, "", f.ask(gauges1, "POST", all, jsonType, csr(t, "one")))
	if a.at("spec.username") != "system:node:gauges-1" || strings.Contains(a.text, "system:masters") {
		t.Errorf("who asked: %s", a.text)
	}
	f.want(422, "no PEM certificate request", f.ask(gauges1, "POST", all, jsonType, strings.Replace(csr(t, "two"), `"request":"`, `"request":"AAAA`, 1)))
	f.want(403, "", f.ask(nobody, "POST", all, jsonType, csr(t, "three")))
	f.want(200, "", f.ask(admin, "PATCH", all+"/one", "application/merge-patch+json", `{"spec":{"username":"mara"}}`))
	if a := f.ask(admin, "GET", all+"/one", jsonType, ""); a.at("spec.username") != "system:node:gauges-1" {
		t.Errorf("who asked can be changed: %s", a.text)
	}
	approve := `{"status":{"conditions":[{"type":"Approved","status":"True","reason":"x"}]}}`
	f.want(403, "", f.ask(gauges1, "PATCH", all+"/one/approval", "application/merge-patch+json", approve))
	// One who may approve, but not for this signer.
	f.want(201, "", f.ask(admin, "POST", "/apis/rbac.authorization.k8s.io/v1/clusterroles", jsonType, `{"apiVersion":"rbac.authorization.k8s.io/v1","kind":"ClusterRole","metadata":{"name":"half"},"rules":[{"verbs":["patch","get"],"apiGroups":["certificates.k8s.io"],"resources":["certificatesigningrequests/approval","certificatesigningrequests"]}]}`))
	f.want(201, "", f.ask(admin, "POST", "/apis/rbac.authorization.k8s.io/v1/clusterrolebindings", jsonType, `{"apiVersion":"rbac.authorization.k8s.io/v1","kind":"ClusterRoleBinding","metadata":{"name":"half"},"subjects":[{"kind":"User","apiGroup":"rbac.authorization.k8s.io","name":"half"}],"roleRef":{"apiGroup":"rbac.authorization.k8s.io","kind":"ClusterRole","name":"half"}}`))
	half := user{name: "half", groups: []string{"system:authenticated"}}
	end := time.Now().Add(5 * time.Second)
	for f.ask(half, "GET", all+"/one", jsonType, "").code != 200 && time.Now().Before(end) {
		select {
		case <-f.s.life.Done():
		case <-time.After(10 * time.Millisecond): // the policy is followed by watching it
		}
	}
	f.want(403, "may not approve for signer", f.ask(half, "PATCH", all+"/one/approval", "application/merge-patch+json", approve))
	a = f.want(200, "Approved", f.ask(admin, "PATCH", all+"/one/approval", "application/merge-patch+json", approve))
	f.want(403, "never taken back", f.ask(admin, "PATCH", all+"/one/status", "application/merge-patch+json", `{"status":{"conditions":[]}}`))
	f.want(200, "", f.ask(admin, "PATCH", all+"/one/status", "application/merge-patch+json", `{"status":{"certificate":"YQ=="}}`))
	f.want(403, "never changed", f.ask(admin, "PATCH", all+"/one/status", "application/merge-patch+json", `{"status":{"certificate":"Yg=="}}`))
	f.want(403, "is not allowed to create node", f.ask(gauges1, "POST", "/api/v1/nodes", jsonType, `{"apiVersion":"v1","kind":"Node","metadata":{"name":"gauges-2"}}`))
}

// Secrets reach the datastore encrypted with the first key, are read with any,
// and one that was encrypted otherwise is written anew by an update that
// changes nothing.
func TestSecretsAtRest(t *testing.T) {
	f := newFixture(t)
	const secrets = "/api/v1/namespaces/default/secrets"
	body := `{"apiVersion":"v1","kind":"Secret","metadata":{"name":"tide"},"stringData":{"level":"high-water-mark"}}`
	raw := func() string {
		r, err := f.s.etcd.Get(context.Background(), findResource("", "v1", "secrets").key("default", "tide"))
		if err != nil || len(r.Kvs) != 1 {
			t.Fatal(err)
		}
		return string(r.Kvs[0].Value)
	}
	plain := base64.StdEncoding.EncodeToString([]byte("high-water-mark"))
	f.want(201, plain, f.ask(admin, "POST", secrets, jsonType, body))
	if !strings.Contains(raw(), plain) {
		t.Error("it is encrypted without a key")
	}
	one, two := boxKey{"one", [32]byte{1}}, boxKey{"two", [32]byte{2}}
	touch := func() {
		t.Helper()
		a := f.want(200, plain, f.ask(admin, "GET", secrets+"/tide", jsonType, ""))
		f.want(200, plain, f.ask(admin, "PUT", secrets+"/tide", jsonType, a.text))
	}
	f.s.secrets = &encryption{keys: []boxKey{one}}
	touch()
	if v := raw(); !strings.HasPrefix(v, boxed+"one:") || strings.Contains(v, plain) {
		t.Errorf("it lies there as %.60q", v)
	}
	f.s.secrets = &encryption{keys: []boxKey{two, one}}
	f.want(200, plain, f.ask(admin, "GET", secrets, jsonType, ""))
	touch()
	if v := raw(); !strings.HasPrefix(v, boxed+"two:") {
		t.Errorf("it was not written anew: %.60q", v)
	}
	f.s.secrets = &encryption{keys: []boxKey{one}}
	f.want(500, "no configured key opens this secret", f.ask(admin, "GET", secrets+"/tide", jsonType, ""))
	// Nothing else is encrypted.
	f.s.secrets = &encryption{keys: []boxKey{two}}
	f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/configmaps", jsonType, configMap("open", "sea")))
	r, err := f.s.etcd.Get(context.Background(), findResource("", "v1", "configmaps").key("default", "open"))
	if err != nil || !strings.Contains(string(r.Kvs[0].Value), "sea") {
		t.Errorf("a config map is encrypted: %v", err)
	}
}

// An enrolment token works as long as its Secret says, and gives its groups.
func TestEnrolmentTokens(t *testing.T) {
	f := newFixture(t)
	make := func(id, secret, more string, ends time.Time) {
		f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/kube-system/secrets", jsonType, fmt.Sprintf(`{"apiVersion":"v1","kind":"Secret","type":"bootstrap.kubernetes.io/token","metadata":{"name":"bootstrap-token-%s"},"stringData":{"token-id":%q,"token-secret":%q,"expiration":%q,"auth-extra-groups":"system:bootstrappers:verbund"%s}}`,
			id, id, secret, ends.UTC().Format(time.RFC3339), more)))
	}
	use := `,"usage-bootstrap-authentication":"true"`
	make("abcdef", "0123456789abcdef", use, time.Now().Add(time.Hour))
	make("ended0", "0123456789abcdef", use, time.Now().Add(-time.Hour))
	make("signs0", "0123456789abcdef", "", time.Now().Add(time.Hour))
	u, err := f.s.enrolling(context.Background(), "abcdef.0123456789abcdef")
	if err != nil || u.name != "system:bootstrap:abcdef" || !u.in("system:bootstrappers:verbund") || !u.in("system:bootstrappers") {
		t.Errorf("a good token: %+v, %v", u, err)
	}
	for _, bad := range []string{"abcdef.0123456789abcdee", "ended0.0123456789abcdef", "signs0.0123456789abcdef", "nobody.0123456789abcdef"} {
		if u, err := f.s.enrolling(context.Background(), bad); err == nil {
			t.Errorf("%s is let in as %+v", bad, u)
		}
	}
}

// A node reads the secrets of its own pods and no other's.
func TestNodeReads(t *testing.T) {
	f := newFixture(t)
	for _, s := range []string{"mine", "theirs", "pulls", "mounted"} {
		f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/secrets", jsonType, fmt.Sprintf(`{"apiVersion":"v1","kind":"Secret","metadata":{"name":%q}}`, s)))
	}
	pod := func(name, node, spec string) {
		f.want(201, "", f.ask(admin, "POST", "/api/v1/namespaces/default/pods", jsonType, fmt.Sprintf(`{"apiVersion":"v1","kind":"Pod","metadata":{"name":%q},"spec":{"nodeName":%q,%s}}`, name, node, spec)))
	}
	pod("a", "gauges-1", `"imagePullSecrets":[{"name":"pulls"}],"volumes":[{"name":"v","secret":{"secretName":"mounted"}}],"containers":[{"name":"c","image":"x","envFrom":[{"secretRef":{"name":"mine"}}]}]`)
	pod("b", "gauges-2", `"containers":[{"name":"c","image":"x","envFrom":[{"secretRef":{"name":"theirs"}}]}]`)
	for name, code := range map[string]int{"mine": 200, "pulls": 200, "mounted": 200, "theirs": 403, "none": 403} {
		f.want(code, "", f.ask(gauges1, "GET", "/api/v1/namespaces/default/secrets/"+name, jsonType, ""))
	}
	f.want(403, "", f.ask(gauges1, "GET", "/api/v1/namespaces/default/secrets", jsonType, ""))
	f.want(403, "", f.ask(gauges1, "DELETE", "/api/v1/namespaces/default/pods/b", jsonType, ""))
	f.want(200, "", f.ask(gauges1, "DELETE", "/api/v1/namespaces/default/pods/a", jsonType, `{"gracePeriodSeconds":0}`))
}
