// Package kubeapitest lets the typed clients speak to a published fake: what they ask for goes
// through the same encoding and paths as to a server, and comes to the fake as an action.
package kubeapitest

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/labels"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/testing"

	"verbund/internal/kubeapi"
)

// Over are clients of what a fake has.
func Over(f *testing.Fake) *kubeapi.Clients {
	cfg := &rest.Config{Host: "http://fake.test", QPS: -1, ContentConfig: rest.ContentConfig{ContentType: "application/json"}}
	cs, err := kubeapi.NewForConfigAndClient(cfg, &http.Client{Transport: server{f}})
	if err != nil {
		panic(err) // nothing of it depends on anything
	}
	return cs
}

// server answers requests by a fake.
type server struct{ f *testing.Fake }

// RoundTrip answers one.
func (s server) RoundTrip(q *http.Request) (*http.Response, error) {
	t, err := parse(q)
	if err != nil {
		return nil, err
	}
	if t.watch {
		return s.follow(q, t)
	}
	o, err := s.f.Invokes(t.action, &metav1.Status{Status: metav1.StatusSuccess})
	if err == nil && o != nil && !t.selects.Empty() {
		err = only(o, t.selects)
	}
	return t.answer(q, o, err)
}

// asked is what a request comes to.
type asked struct {
	gv      schema.GroupVersion
	action  testing.Action
	watch   bool
	selects labels.Selector
}

func parse(q *http.Request) (*asked, error) {
	parts := strings.Split(strings.Trim(q.URL.Path, "/"), "/")
	t := &asked{selects: labels.Everything()}
	switch {
	case parts[0] == "api" && len(parts) > 2:
		t.gv, parts = schema.GroupVersion{Version: parts[1]}, parts[2:]
	case parts[0] == "apis" && len(parts) > 3:
		t.gv, parts = schema.GroupVersion{Group: parts[1], Version: parts[2]}, parts[3:]
	default:
		return nil, fmt.Errorf("the fake has nothing at %s", q.URL.Path)
	}
	ns := ""
	if parts[0] == "namespaces" && len(parts) > 2 {
		ns, parts = parts[1], parts[2:]
	}
	gvr, name, sub := t.gv.WithResource(parts[0]), "", ""
	if len(parts) > 1 {
		name, sub = parts[1], strings.Join(parts[2:], "/")
	}
	var body []byte
	if q.Body != nil {
		var err error
		if body, err = io.ReadAll(q.Body); err != nil {
			return nil, err
		}
	}
	var o runtime.Object
	if q.Method == http.MethodPost || q.Method == http.MethodPut {
		var err error
		if o, _, err = kubeapi.Codecs.UniversalDeserializer().Decode(body, nil, nil); err != nil {
			return nil, err
		}
	}
	var opts metav1.ListOptions
	if err := metav1.Convert_url_Values_To_v1_ListOptions(ptr(q.URL.Query()), &opts, nil); err != nil {
		return nil, err
	}
	switch q.Method {
	case http.MethodGet:
		switch {
		case name != "":
			t.action = testing.NewGetSubresourceAction(gvr, ns, sub, name)
		case opts.Watch:
			t.watch, t.action = true, testing.NewWatchActionWithOptions(gvr, ns, opts)
		default:
			t.action = testing.NewListActionWithOptions(gvr, kindOf(gvr), ns, opts)
			var err error
			if t.selects, err = labels.Parse(opts.LabelSelector); err != nil {
				return nil, err
			}
		}
	case http.MethodPost:
		t.action = testing.NewCreateSubresourceAction(gvr, name, sub, ns, o)
	case http.MethodPut:
		t.action = testing.NewUpdateSubresourceAction(gvr, sub, ns, o)
	case http.MethodPatch:
		t.action = testing.NewPatchSubresourceAction(gvr, ns, name, types.PatchType(q.Header.Get("Content-Type")), body, slash(sub)...)
	case http.MethodDelete:
		var how metav1.DeleteOptions
		if err := json.Unmarshal(body, &how); err != nil {
			return nil, err
		}
		if name == "" {
			t.action = testing.NewDeleteCollectionActionWithOptions(gvr, ns, how, opts)
		} else {
			t.action = testing.NewDeleteActionWithOptions(gvr, ns, name, how)
		}
	default:
		return nil, fmt.Errorf("the fake does not know %s", q.Method)
	}
	return t, nil
}

func ptr[T any](v T) *T { return &v }

func slash(sub string) []string {
	if sub == "" {
		return nil
	}
	return strings.Split(sub, "/")
}

// kindOf is the kind that a resource keeps.
func kindOf(gvr schema.GroupVersionResource) schema.GroupVersionKind {
	for k := range kubeapi.Scheme.KnownTypes(gvr.GroupVersion()) {
		gvk := gvr.GroupVersion().WithKind(k)
		if plural, _ := meta.UnsafeGuessKindToResource(gvk); plural == gvr {
			return gvk
		}
	}
	return schema.GroupVersionKind{}
}

// only leaves in a list what a selector selects.
func only(o runtime.Object, sel labels.Selector) error {
	items, err := meta.ExtractList(o)
	if err != nil {
		return err
	}
	var left []runtime.Object
	for _, i := range items {
		m, err := meta.Accessor(i)
		if err != nil {
			return err
		}
		if sel.Matches(labels.Set(m.GetLabels())) {
			left = append(left, i)
		}
	}
	return meta.SetList(o, left)
}

// answer is what a server would say.
func (t *asked) answer(q *http.Request, o runtime.Object, err error) (*http.Response, error) {
	code := http.StatusOK
	if err != nil {
		var st apierrors.APIStatus
		if !errors.As(err, &st) {
			st = apierrors.NewInternalError(err)
		}
		s := st.Status()
		o, code = &s, int(s.Code)
	}
	b, err := t.encode(o)
	if err != nil {
		return nil, err
	}
	return reply(q, code, io.NopCloser(bytes.NewReader(b))), nil
}

func (t *asked) encode(o runtime.Object) ([]byte, error) {
	if o == nil {
		o = &metav1.Status{Status: metav1.StatusSuccess}
	}
	return runtime.Encode(kubeapi.Codecs.LegacyCodec(t.gv, schema.GroupVersion{Version: "v1"}), o)
}

func reply(q *http.Request, code int, body io.ReadCloser) *http.Response {
	return &http.Response{StatusCode: code, Status: http.StatusText(code), Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1, Header: http.Header{"Content-Type": {"application/json"}}, Body: body, Request: q, ContentLength: -1}
}

// follow tells what the fake's watch does, until whoever asked has gone. It does not send what
// there is beforehand: who wants that lists first.
func (s server) follow(q *http.Request, t *asked) (*http.Response, error) {
	if q.URL.Query().Get("sendInitialEvents") != "" {
		return t.answer(q, nil, apierrors.NewInvalid(schema.GroupKind{}, "", nil))
	}
	w, err := s.f.InvokesWatch(t.action)
	if err != nil {
		return t.answer(q, nil, err)
	}
	r, tell := io.Pipe()
	go func() {
		defer w.Stop()
		for {
			select {
			case <-q.Context().Done():
				tell.CloseWithError(q.Context().Err())
				return
			case e, more := <-w.ResultChan():
				if !more {
					tell.Close()
					return
				}
				b, err := t.encode(e.Object)
				if err == nil {
					b, err = json.Marshal(metav1.WatchEvent{Type: string(e.Type), Object: runtime.RawExtension{Raw: b}})
				}
				if err == nil {
					_, err = tell.Write(b)
				}
				if err != nil {
					tell.CloseWithError(err)
					return
				}
			}
		}
	}()
	return reply(q, http.StatusOK, r), nil
}
