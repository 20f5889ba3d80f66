package apiserver

import (
	"encoding/json"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	admission "k8s.io/api/admission/v1"

	"verbund/internal/sim/host"
)

// hookText is a configuration with one webhook for config maps.
func hookText(kind, policy, client string) string {
	return fmt.Sprintf(`{"apiVersion":"admissionregistration.k8s.io/v1","kind":%q,"metadata":{"name":"tides"},"webhooks":[{"name":"tides.seamark.test","failurePolicy":%q,"timeoutSeconds":2,"sideEffects":"None","admissionReviewVersions":["v1"],
		"rules":[{"operations":["CREATE"],"apiGroups":[""],"apiVersions":["v1"],"resources":["configmaps"]}],"objectSelector":{"matchExpressions":[{"key":"free","operator":"DoesNotExist"}]},"clientConfig":%s}]}`, kind, policy, client)
}

func TestWebhooks(t *testing.T) {
	f := newFixture(t)
	f.s.dial = (&net.Dialer{}).DialContext
	const maps, checks, changes = "/api/v1/namespaces/default/configmaps", "/apis/admissionregistration.k8s.io/v1/validatingwebhookconfigurations", "/apis/admissionregistration.k8s.io/v1/mutatingwebhookconfigurations"
	answer := &admission.AdmissionResponse{}
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var in admission.AdmissionReview
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil || in.Request.Operation != admission.Create || in.Request.UserInfo.Username != admin.name {
			t.Errorf("was asked %+v, %v", in.Request, err)
			return
		}
		out := *answer
		out.UID = in.Request.UID
		in.Request, in.Response = nil, &out
		json.NewEncoder(w).Encode(in)
	}))
	defer srv.Close()
	ca := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: srv.Certificate().Raw})
	at, _ := json.Marshal(map[string]any{"url": srv.URL, "caBundle": ca})
	// The server goes by what it has read for a moment.
	waits := func(code int, word, name string) {
		t.Helper()
		deadline := time.Now().Add(5 * time.Second)
		for {
			a := f.ask(admin, "POST", maps+"?dryRun=All", jsonType, configMap(name, "one"))
			if a.code == code && strings.Contains(a.text, word) {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("answer is %d, wanted %d with %q:\n%s", a.code, code, word, a.text)
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	f.want(201, "", f.ask(admin, "POST", checks, jsonType, hookText("ValidatingWebhookConfiguration", "Fail", string(at))))
	waits(403, `admission webhook \"tides.seamark.test\" denied the request`, "a")
	answer.Allowed = true
	waits(201, "", "a")
	f.want(201, "", f.ask(admin, "POST", maps+"?dryRun=All", jsonType, strings.Replace(configMap("b", "one"), `"name"`, `"labels":{"free":"yes"},"name"`, 1)))
	f.want(200, "", f.ask(admin, "DELETE", checks+"/tides", jsonType, ""))

	answer.Patch = []byte(`[{"op":"add","path":"/data/by","value":"webhook"}]`)
	f.want(201, "", f.ask(admin, "POST", changes, jsonType, hookText("MutatingWebhookConfiguration", "Fail", string(at))))
	waits(201, `"by":"webhook"`, "c")
	f.want(200, "", f.ask(admin, "DELETE", changes+"/tides", jsonType, ""))

	// Nobody behind its service: with Fail everything is refused that it is asked about, the
	// configuration itself can still be taken away.
	nobody := `{"service":{"namespace":"default","name":"tides","port":8443}}`
	f.want(201, "", f.ask(admin, "POST", checks, jsonType, hookText("ValidatingWebhookConfiguration", "Fail", nobody)))
	waits(500, `failed calling webhook`, "d")
	f.want(500, `no endpoints available for service \"tides\"`, f.ask(admin, "POST", maps, jsonType, configMap("d", "one")))
	f.want(200, "", f.ask(admin, "DELETE", checks+"/tides", jsonType, ""))
	f.want(201, "", f.ask(admin, "POST", checks, jsonType, hookText("ValidatingWebhookConfiguration", "Ignore", nobody)))
	waits(201, "", "d")
}

// A version that goes is served only where the server is told to, and only for as long as its
// type says; whoever asks for it is warned, shows in the figures, and in what they wrote.
func TestVersionsThatGo(t *testing.T) {
	f := newFixture(t)
	f.s.env.Version, f.s.opt.runtime = "v1.36.3", map[string]string{"storage.k8s.io/v1beta1": "true"}
	const old, now = "/apis/storage.k8s.io/v1beta1/volumeattributesclasses", "/apis/storage.k8s.io/v1/volumeattributesclasses"
	class := `{"apiVersion":"storage.k8s.io/v1beta1","kind":"VolumeAttributesClass","metadata":{"name":"deep"},"driverName":"disks.seamark.test"}`
	f.want(201, "", f.ask(admin, "POST", old+"?fieldManager=harbour", jsonType, class))
	f.want(200, `"apiVersion":"storage.k8s.io/v1beta1","time"`, f.ask(admin, "GET", now+"/deep", jsonType, ""))
	f.want(200, `"manager":"harbour"`, f.ask(admin, "GET", now+"/deep", jsonType, ""))
	w := httptest.NewRecorder()
	f.s.metrics(w)
	if want := `apiserver_requested_deprecated_apis{group="storage.k8s.io",removed_release="1.37",resource="volumeattributesclasses",subresource="",version="v1beta1"} 1`; !strings.Contains(w.Body.String(), want) {
		t.Errorf("the figures are\n%s", w.Body)
	}
	if a := f.ask(admin, "GET", "/apis/storage.k8s.io/v1beta1", jsonType, ""); a.code != 200 {
		t.Errorf("it does not show: %s", a.text)
	}

	for _, x := range []struct {
		version string
		told    map[string]string
	}{{"v1.36.3", nil}, {"v1.37.2", map[string]string{"storage.k8s.io/v1beta1": "true", "api/all": "true"}}} {
		f.s = &server{env: &host.Env{Version: x.version}, opt: &options{authorization: "RBAC", runtime: x.told}, etcd: f.s.etcd, life: f.s.life, rbac: f.s.rbac, kept: f.s.kept}
		f.want(404, "", f.ask(admin, "GET", old+"/deep", jsonType, ""))
		f.want(404, "", f.ask(admin, "GET", "/apis/storage.k8s.io/v1beta1", jsonType, ""))
		f.want(200, "disks.seamark.test", f.ask(admin, "GET", now+"/deep", jsonType, ""))
	}
}
