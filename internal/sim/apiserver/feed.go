package apiserver

import (
	"context"
	"encoding/json"
	"slices"
	"sort"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/runtime/schema"
)

// Every kubelet, proxy and controller watches. As in the real server, etcd is
// watched once for each resource, and everybody is fed from that: else the
// datastore would tell each of them of every change itself.

// feedLength is how many changes of a resource are kept for those who have not
// seen them; who is further behind is told to list again.
const feedLength = 2000

// feedBack is how many revisions before its begin a feed reaches back, for
// clients that were connected to a server that has just been restarted.
const feedBack = 5000

// stored is an object as it lies in etcd; it is decoded and encoded once, when
// somebody wants it. Nobody changes it: who means to takes a copy.
type stored struct {
	s     *server
	res   *resource
	value []byte
	rev   int64

	decode, encode sync.Once
	o              runtime.Object
	m              metav1.Object
	err            error
	text           []byte
}

func (d *stored) object() (runtime.Object, metav1.Object, error) {
	d.decode.Do(func() {
		d.o, d.m, d.err = d.s.decodeStored(d.res, d.value, d.rev)
		d.value = nil
	})
	return d.o, d.m, d.err
}

// copy is the object for whoever changes it.
func (d *stored) copy() (runtime.Object, metav1.Object, error) {
	o, _, err := d.object()
	if err != nil {
		return nil, nil, err
	}
	o = o.DeepCopyObject()
	m, err := meta.Accessor(o)
	return o, m, err
}

// mostKept is how many objects a server keeps as it has seen them last. Of a large cluster
// hundreds of clients read the same ones.
const mostKept = 8192

// seen is what etcd says of a key, decoded by now if this server has seen it before.
func (s *server) seen(res *resource, kv *mvccpb.KeyValue) *stored {
	key := string(kv.Key)
	if v, ok := s.kept.Get(key); ok {
		if d := v.(*stored); d.res == res && d.rev == kv.ModRevision {
			return d
		}
	}
	d := &stored{s: s, res: res, value: kv.Value, rev: kv.ModRevision}
	s.keep(key, d)
	return d
}

// keep keeps an object as it was seen last. Of events there are many, and few are read.
func (s *server) keep(key string, d *stored) {
	if d.res.kind != "Event" {
		s.kept.Add(key, d)
	}
}

// json is the object as clients read it.
func (d *stored) json() ([]byte, error) {
	o, _, err := d.object()
	if err != nil {
		return nil, err
	}
	d.encode.Do(func() { d.text, d.err = json.Marshal(o) })
	return d.text, d.err
}

// change is one change of one object: what it is now, and what it was.
type change struct {
	rev      int64
	key      string
	now, was *stored
}

func (s *server) changeOf(res *resource, ev *clientv3.Event) change {
	c := change{rev: ev.Kv.ModRevision, key: string(ev.Kv.Key)}
	if ev.Type == mvccpb.PUT {
		c.now = s.seen(res, ev.Kv)
	}
	if ev.PrevKv != nil {
		c.was = &stored{s: s, res: res, value: ev.PrevKv.Value, rev: ev.Kv.ModRevision}
	}
	return c
}

// feed is the changes of one resource, in the order of their revisions.
type feed struct {
	mu      sync.Mutex
	from    int64 // everything after this revision is here
	changes []change
	more    chan struct{} // closed when there is more
}

// feedOf is the feed of a resource; the first who asks starts it.
func (s *server) feedOf(ctx context.Context, res *resource) (*feed, error) {
	s.feedsMu.Lock()
	defer s.feedsMu.Unlock()
	if f := s.feeds[res.gr()]; f != nil {
		return f, nil
	}
	r, err := s.etcd.Get(ctx, res.prefix(""), clientv3.WithPrefix(), clientv3.WithCountOnly())
	if err != nil {
		return nil, err
	}
	f := &feed{from: max(r.Header.Revision-feedBack, 0), more: make(chan struct{})}
	if s.feeds == nil {
		s.feeds = map[schema.GroupResource]*feed{}
	}
	s.feeds[res.gr()] = f
	go s.feed(res, f)
	return f, nil
}

// feed fills a feed for as long as the server lives.
func (s *server) feed(res *resource, f *feed) {
	defer s.env.Catch()
	for s.life.Err() == nil {
		f.mu.Lock()
		from := f.from
		if n := len(f.changes); n > 0 {
			from = f.changes[n-1].rev
		}
		f.mu.Unlock()
		for r := range s.etcd.Watch(s.life, res.prefix(""), watchFrom(from+1)...) {
			f.mu.Lock()
			if r.CompactRevision > 0 { // what came before is not to be had any more
				f.from, f.changes = r.CompactRevision-1, nil
			}
			for _, ev := range r.Events {
				f.changes = append(f.changes, s.changeOf(res, ev))
			}
			// What is too old is dropped a good many at a time: whoever reads holds a part
			// of the list, so that it is copied.
			if n := len(f.changes) - feedLength; n > feedLength {
				f.from = f.changes[n-1].rev
				f.changes = slices.Clone(f.changes[n:])
			}
			close(f.more)
			f.more = make(chan struct{})
			f.mu.Unlock()
			if r.Err() != nil {
				break
			}
		}
		select {
		case <-s.life.Done():
		case <-time.After(100 * time.Millisecond): // etcd ended the watch; it is asked again
		}
	}
}

// after returns the changes after a revision, and what is closed when there are
// more; ok is false when some of them are not there any more.
func (f *feed) after(rev int64) (changes []change, more <-chan struct{}, ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if rev < f.from {
		return nil, nil, false
	}
	i := sort.Search(len(f.changes), func(i int) bool { return f.changes[i].rev > rev })
	return f.changes[i:len(f.changes):len(f.changes)], f.more, true
}
