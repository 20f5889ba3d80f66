package apiserver

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/fields"
	"k8s.io/apimachinery/pkg/runtime"
)

// selectable are the fields by which objects of a kind can be selected, beside
// their name and namespace: those of the real server.
var selectable = map[string][]string{
	"Pod":                       {"spec.nodeName", "spec.restartPolicy", "spec.schedulerName", "spec.serviceAccountName", "spec.hostNetwork", "status.phase", "status.podIP", "status.podIPs", "status.nominatedNodeName"},
	"Node":                      {"spec.unschedulable"},
	"Namespace":                 {"status.phase"},
	"Secret":                    {"type"},
	"Service":                   {"spec.clusterIP", "spec.type"},
	"ReplicaSet":                {"status.replicas"},
	"ReplicationController":     {"status.replicas"},
	"Job":                       {"status.successful"},
	"CertificateSigningRequest": {"spec.signerName"},
	"Event": {"involvedObject.kind", "involvedObject.namespace", "involvedObject.name", "involvedObject.uid", "involvedObject.apiVersion", "involvedObject.resourceVersion", "involvedObject.fieldPath",
		"regarding.kind", "regarding.namespace", "regarding.name", "regarding.uid", "regarding.apiVersion", "regarding.resourceVersion", "regarding.fieldPath", "reason", "reportingComponent", "reportingController", "source", "type"},
}

// checkFields refuses selectors of fields that nothing can be selected by.
func checkFields(res *resource, s fields.Selector) error {
	for _, r := range s.Requirements() {
		if r.Field != "metadata.name" && r.Field != "metadata.namespace" && !slices.Contains(selectable[res.kind], r.Field) {
			return apierrors.NewBadRequest(fmt.Sprintf("field label not supported: %s", r.Field))
		}
	}
	return nil
}

// next is where a list goes on that was asked for in pieces.
type next struct {
	Version string `json:"v"`
	At      int64  `json:"rv"`
	Start   string `json:"start"`
}

func (n next) String() string {
	b, _ := json.Marshal(n)
	return base64.RawURLEncoding.EncodeToString(b)
}

func readNext(text string) (next, error) {
	var n next
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(b, &n)
	}
	if err != nil || n.Version != "meta.k8s.io/v1" || n.At <= 0 || strings.Contains(n.Start, "..") {
		return n, apierrors.NewBadRequest("continue key is not valid")
	}
	return n, nil
}

func (s *server) list(w http.ResponseWriter, r *http.Request, q *request) {
	found, lm, err := s.listed(r.Context(), q)
	if err != nil {
		fail(w, err)
		return
	}
	objects := func() []runtime.Object {
		out := []runtime.Object{}
		for _, d := range found {
			out = append(out, d.o)
		}
		return out
	}
	if t := tableOptions(r); t != nil {
		writeJSON(w, http.StatusOK, toTable(q.resource, objects(), lm, true, t.include))
		return
	}
	if metadataOnly(r) {
		items := objects()
		for i, o := range items {
			items[i] = partial(o)
		}
		writeJSON(w, http.StatusOK, map[string]any{"kind": "PartialObjectMetadataList", "apiVersion": "meta.k8s.io/v1", "metadata": lm, "items": items})
		return
	}
	items := []json.RawMessage{}
	for _, d := range found {
		text, err := d.json()
		if err != nil {
			fail(w, err)
			return
		}
		items = append(items, text)
	}
	writeJSON(w, http.StatusOK, map[string]any{"kind": q.resource.kind + "List", "apiVersion": q.resource.gv().String(), "metadata": lm, "items": items})
}

// listed reads what a list request asks for: all of it, or a piece, as it stands
// now or stood when the first piece was read.
func (s *server) listed(ctx context.Context, q *request) ([]*stored, metav1.ListMeta, error) {
	var lm metav1.ListMeta
	limit, err := strconv.ParseInt(orZero(q.query.Get("limit")), 10, 64)
	if err != nil || limit < 0 {
		return nil, lm, apierrors.NewBadRequest("limit: a number that is not negative is wanted")
	}
	prefix := q.resource.prefix(q.ns)
	start, at, least := prefix, int64(0), int64(0)
	rv := q.query.Get("resourceVersion")
	if c := q.query.Get("continue"); c != "" {
		if rv != "" && rv != "0" {
			return nil, lm, apierrors.NewBadRequest("specifying resource version is not allowed when using continue")
		}
		n, err := readNext(c)
		if err != nil {
			return nil, lm, err
		}
		start, at = prefix+n.Start, n.At
	} else if rv != "" && rv != "0" {
		want, err := strconv.ParseInt(rv, 10, 64)
		if err != nil {
			return nil, lm, apierrors.NewBadRequest("resourceVersion: " + err.Error())
		}
		if q.query.Get("resourceVersionMatch") == string(metav1.ResourceVersionMatchExact) || limit > 0 && q.query.Get("resourceVersionMatch") == "" {
			at = want
		} else {
			least = want
		}
	}
	var items []*stored
	for {
		opts := []clientv3.OpOption{clientv3.WithRange(clientv3.GetPrefixRangeEnd(prefix))}
		if at > 0 {
			opts = append(opts, clientv3.WithRev(at))
		}
		if limit > 0 {
			opts = append(opts, clientv3.WithLimit(limit))
		}
		got, err := s.etcd.Get(ctx, start, opts...)
		switch {
		case errors.Is(err, rpctypes.ErrCompacted):
			return nil, lm, apierrors.NewResourceExpired("The provided continue parameter is too old to display a consistent list result. You must start a new list without the continue parameter.")
		case errors.Is(err, rpctypes.ErrFutureRev):
			return nil, lm, apierrors.NewTimeoutError("Too large resource version: "+rv, 1)
		case err != nil:
			return nil, lm, fmt.Errorf("etcd: %w", err)
		}
		if at == 0 {
			at = got.Header.Revision
		}
		if at < least {
			return nil, lm, apierrors.NewTimeoutError(fmt.Sprintf("Too large resource version: %d, current: %d", least, at), 1)
		}
		for i, kv := range got.Kvs {
			d := s.seen(q.resource, kv)
			o, m, err := d.object()
			if err != nil {
				return nil, lm, err
			}
			if matches(q.labels, q.fields, o, m) {
				items = append(items, d)
			}
			start = string(kv.Key) + "\x00"
			if more := got.Count - int64(i) - 1; limit > 0 && int64(len(items)) == limit && more > 0 {
				lm.Continue = next{"meta.k8s.io/v1", at, strings.TrimPrefix(start, prefix)}.String()
				if q.labels.Empty() && q.fields.Empty() {
					lm.RemainingItemCount = &more
				}
				break
			}
		}
		if lm.Continue != "" || !got.More {
			break
		}
	}
	lm.ResourceVersion = strconv.FormatInt(at, 10)
	return items, lm, nil
}

func orZero(s string) string {
	if s == "" {
		return "0"
	}
	return s
}

// metadataOnly says whether a client wants nothing of objects but their metadata.
func metadataOnly(r *http.Request) bool {
	for a := range strings.SplitSeq(r.Header.Get("Accept"), ",") {
		if (strings.Contains(a, "as=PartialObjectMetadata;") || strings.HasSuffix(a, "as=PartialObjectMetadata") || strings.Contains(a, "as=PartialObjectMetadataList")) && strings.Contains(a, "g=meta.k8s.io") && strings.Contains(a, "v=v1") && strings.Contains(a, "json") {
			return true
		}
	}
	return false
}

// partial is an object's metadata alone.
func partial(o runtime.Object) runtime.Object {
	m, ok := o.(metav1.ObjectMetaAccessor)
	if !ok {
		return o
	}
	return &metav1.PartialObjectMetadata{TypeMeta: metav1.TypeMeta{Kind: "PartialObjectMetadata", APIVersion: "meta.k8s.io/v1"}, ObjectMeta: *m.GetObjectMeta().(*metav1.ObjectMeta)}
}
