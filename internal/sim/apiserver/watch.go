package apiserver

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
)

// bookmarkEvery is how often clients are told where they are.
const bookmarkEvery = time.Minute

// watching is one client that is told of changes.
type watching struct {
	*server
	q     *request
	w     http.ResponseWriter
	enc   *json.Encoder
	table *tableOpts // it wants tables
	bare  bool       // it wants metadata only
	first bool       // nothing was sent yet: the first table has the heading
	rev   int64      // up to which it has seen everything
}

// watch streams changes. Without a resource version, or asked for it, the present state
// comes first; then events from etcd.
func (s *server) watch(w http.ResponseWriter, r *http.Request, q *request) {
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	stopLife := context.AfterFunc(s.life, cancel)
	defer stopLife()
	if t, err := strconv.Atoi(q.query.Get("timeoutSeconds")); err == nil && t > 0 {
		var c context.CancelFunc
		ctx, c = context.WithTimeout(ctx, time.Duration(t)*time.Second)
		defer c()
	}
	x := &watching{server: s, q: q, w: w, enc: json.NewEncoder(w), table: tableOptions(r), bare: metadataOnly(r), first: true}
	w.Header().Set("Content-Type", "application/json")
	rv := q.query.Get("resourceVersion")
	var err error
	if x.rev, err = strconv.ParseInt(rv, 10, 64); rv != "" && err != nil {
		fail(w, apierrors.NewBadRequest("resourceVersion: "+err.Error()))
		return
	}
	if !x.present(ctx) {
		return
	}
	x.flush()
	f, err := s.feedOf(ctx, q.resource)
	if err != nil {
		return
	}
	if _, _, ok := f.after(x.rev); !ok {
		x.old(ctx)
		return
	}
	x.follow(ctx, f)
}

func (x *watching) flush() {
	if fl, ok := x.w.(http.Flusher); ok {
		fl.Flush()
	}
}

// send sends an event; false means that nobody is there any more.
func (x *watching) send(typ string, o runtime.Object) bool {
	var out any = o
	if x.table != nil && typ != "ERROR" && typ != "BOOKMARK" {
		out = toTable(x.q.resource, []runtime.Object{o}, metav1.ListMeta{}, x.first, x.table.include)
		x.first = false
	} else if x.bare && typ != "ERROR" {
		out = partial(o)
	}
	if x.enc.Encode(map[string]any{"type": typ, "object": out}) != nil {
		return false
	}
	x.flush()
	return true
}

// pass sends an event of an object as others get it, too: encoded once for all.
func (x *watching) pass(typ string, d *stored) bool {
	if x.table != nil || x.bare {
		o, _, err := d.object()
		return err == nil && x.send(typ, o)
	}
	b, err := d.json()
	if err != nil {
		return false
	}
	_, err = fmt.Fprintf(x.w, "{\"type\":%q,\"object\":%s}\n", typ, b)
	return err == nil
}

// present sends what there is, where it was asked for; false ends the watch.
func (x *watching) present(ctx context.Context) bool {
	initial := x.q.query.Get("sendInitialEvents") == "true"
	if x.rev != 0 && !initial {
		return true
	}
	kvs, now, err := x.rangeOf(ctx, x.q.resource.prefix(x.q.ns))
	if err != nil {
		fail(x.w, err)
		return false
	}
	for _, kv := range kvs {
		if d := x.fits(x.seen(x.q.resource, kv)); d != nil && !x.pass("ADDED", d) {
			return false
		}
	}
	x.rev = now
	return !initial || x.bookmark(true)
}

// expired tells a client that what it has seen last is too long ago.
func (x *watching) expired() {
	st := apierrors.NewResourceExpired(fmt.Sprintf("too old resource version: %d", x.rev)).Status()
	st.TypeMeta = metav1.TypeMeta{Kind: "Status", APIVersion: "v1"}
	x.send("ERROR", &st)
}

// fits is an object if the client asked for such, and nothing otherwise.
func (x *watching) fits(d *stored) *stored {
	if d != nil {
		if o, m, err := d.object(); err == nil && matches(x.q.labels, x.q.fields, o, m) {
			return d
		}
	}
	return nil
}

// tell sends a change as it looks to this client: what comes to fit is new to it, what does
// not fit any more is gone.
func (x *watching) tell(c change) bool {
	switch now, was := x.fits(c.now), x.fits(c.was); {
	case now != nil && was == nil:
		return x.pass("ADDED", now)
	case now != nil:
		return x.pass("MODIFIED", now)
	case was != nil:
		return x.pass("DELETED", was)
	}
	return true
}

// old is for who was connected long ago, to something that seldom changes: etcd is asked.
func (x *watching) old(ctx context.Context) {
	for wr := range x.etcd.Watch(ctx, x.q.resource.prefix(x.q.ns), watchFrom(x.rev+1)...) {
		if err := wr.Err(); err != nil {
			if errors.Is(err, rpctypes.ErrCompacted) {
				x.expired()
			}
			return
		}
		for _, ev := range wr.Events {
			if !x.tell(x.changeOf(x.q.resource, ev)) {
				return
			}
		}
		x.flush()
	}
}

// follow tells of changes as the feed has them. A client that knows where it is need not
// read everything again when it comes back: it is told from time to time, also when nothing
// has changed for it.
func (x *watching) follow(ctx context.Context, f *feed) {
	var marks <-chan time.Time
	if x.q.query.Get("allowWatchBookmarks") == "true" {
		t := time.NewTicker(bookmarkEvery)
		defer t.Stop()
		marks = t.C
	}
	for {
		changes, more, ok := f.after(x.rev)
		if !ok {
			x.expired()
			return
		}
		for _, c := range changes {
			if x.rev = c.rev; strings.HasPrefix(c.key, x.q.resource.prefix(x.q.ns)) && !x.tell(c) {
				return
			}
		}
		if len(changes) > 0 {
			x.flush()
		}
		select {
		case <-ctx.Done():
			return
		case <-more:
		case <-marks:
			if !x.bookmark(false) {
				return
			}
		}
	}
}

// bookmark tells a client up to which revision it has seen everything; initial says that
// this is the end of the present state, with which it began.
func (x *watching) bookmark(initial bool) bool {
	o, err := x.q.resource.make()
	if err != nil {
		return false
	}
	m, err := meta.Accessor(o)
	if err != nil {
		return false
	}
	m.SetResourceVersion(strconv.FormatInt(x.rev, 10))
	if initial {
		m.SetAnnotations(map[string]string{metav1.InitialEventsAnnotationKey: "true"})
	}
	return x.send("BOOKMARK", o)
}
