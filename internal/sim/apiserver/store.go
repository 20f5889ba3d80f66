package apiserver

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"

	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	"k8s.io/apimachinery/pkg/api/meta"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
)

func watchFrom(rev int64) []clientv3.OpOption {
	return []clientv3.OpOption{clientv3.WithPrefix(), clientv3.WithRev(rev), clientv3.WithPrevKV()}
}

// rangeOf reads everything under a prefix at one revision.
func (s *server) rangeOf(ctx context.Context, prefix string) ([]*mvccpb.KeyValue, int64, error) {
	r, err := s.etcd.Get(ctx, prefix, clientv3.WithPrefix())
	if err != nil {
		return nil, 0, fmt.Errorf("etcd: %w", err)
	}
	return r.Kvs, r.Header.Revision, nil
}

// decodeStored reads an object from etcd; its resource version is etcd's
// modification revision.
func (s *server) decodeStored(res *resource, value []byte, rev int64) (runtime.Object, metav1.Object, error) {
	o, err := res.make()
	if err != nil {
		return nil, nil, err
	}
	if value, err = s.secrets.open(value); err != nil {
		return nil, nil, apierrors.NewInternalError(err)
	}
	if res.kind == "Event" {
		c := &corev1.Event{}
		if err := json.Unmarshal(value, c); err != nil {
			return nil, nil, fmt.Errorf("stored %s: %w", res.kind, err)
		}
		if o = c; res.group != "" {
			o = fromCore(c)
		}
	} else if err := json.Unmarshal(value, o); err != nil {
		return nil, nil, fmt.Errorf("stored %s: %w", res.kind, err)
	}
	o.GetObjectKind().SetGroupVersionKind(res.gvk())
	m, err := meta.Accessor(o)
	if err != nil {
		return nil, nil, err
	}
	m.SetResourceVersion(strconv.FormatInt(rev, 10))
	return o, m, nil
}

func encodeStored(o runtime.Object) ([]byte, error) {
	m, err := meta.Accessor(o)
	if err != nil {
		return nil, err
	}
	rv := m.GetResourceVersion()
	m.SetResourceVersion("")
	b, err := json.Marshal(o)
	m.SetResourceVersion(rv)
	return b, err
}

func (s *server) load(ctx context.Context, res *resource, ns, name string) (runtime.Object, metav1.Object, int64, error) {
	return s.loadWith(ctx, res, ns, name)
}

// loadOlder reads an object as the member at hand has it, without asking the
// others: it may be a little old, and costs them nothing.
func (s *server) loadOlder(ctx context.Context, res *resource, ns, name string) (runtime.Object, metav1.Object, int64, error) {
	return s.loadWith(ctx, res, ns, name, clientv3.WithSerializable())
}

// loadAs reads an object that somebody means to stand at a version: as this server has seen it
// last, if that is the version, and else as the member at hand has it. Who renews a lease every
// few seconds is the only one who writes it, and what it was need not be asked for.
func (s *server) loadAs(ctx context.Context, res *resource, ns, name, version string) (runtime.Object, metav1.Object, int64, error) {
	if v, ok := s.kept.Get(res.key(ns, name)); ok {
		if d := v.(*stored); d.res == res && strconv.FormatInt(d.rev, 10) == version {
			o, m, err := d.copy()
			return o, m, d.rev, err
		}
	}
	return s.loadOlder(ctx, res, ns, name)
}

func (s *server) loadWith(ctx context.Context, res *resource, ns, name string, how ...clientv3.OpOption) (runtime.Object, metav1.Object, int64, error) {
	r, err := s.etcd.Get(ctx, res.key(ns, name), how...)
	if err != nil {
		return nil, nil, 0, fmt.Errorf("etcd: %w", err)
	}
	if len(r.Kvs) == 0 {
		return nil, nil, 0, apierrors.NewNotFound(res.gr(), name)
	}
	o, m, err := s.seen(res, r.Kvs[0]).copy()
	return o, m, r.Kvs[0].ModRevision, err
}

// put writes an object if it is still at revision rev (0: does not exist).
func (s *server) put(ctx context.Context, res *resource, o runtime.Object, rev int64) error {
	m, err := meta.Accessor(o)
	if err != nil {
		return err
	}
	kept := toCore(o)
	if kept != o {
		if m, err = meta.Accessor(kept); err != nil {
			return err
		}
	}
	b, err := encodeStored(kept)
	if err == nil {
		b, err = s.secrets.seal(res, b)
	}
	if err != nil {
		return err
	}
	var opts []clientv3.OpOption
	if res.kind == "Event" {
		o, err := s.events.option(ctx, s.etcd)
		if err != nil {
			return fmt.Errorf("etcd: %w", err)
		}
		opts = append(opts, o)
	}
	key := res.key(m.GetNamespace(), m.GetName())
	r, err := s.etcd.Txn(ctx).If(clientv3.Compare(clientv3.ModRevision(key), "=", rev)).Then(clientv3.OpPut(key, string(b), opts...)).Commit()
	switch {
	case err != nil:
		return fmt.Errorf("etcd: %w", err)
	case !r.Succeeded && rev == 0:
		return apierrors.NewAlreadyExists(res.gr(), m.GetName())
	case !r.Succeeded:
		return conflict(res, m.GetName())
	}
	if m, err = meta.Accessor(o); err != nil {
		return err
	}
	m.SetResourceVersion(strconv.FormatInt(r.Header.Revision, 10))
	s.keep(key, &stored{s: s, res: res, value: b, rev: r.Header.Revision})
	return nil
}

// stale says whether an object is kept encrypted in another way than it would
// be written today.
func (s *server) stale(ctx context.Context, res *resource, ns, name string) bool {
	if !s.secrets.covers(res) {
		return false
	}
	r, err := s.etcd.Get(ctx, res.key(ns, name))
	return err == nil && len(r.Kvs) > 0 && s.secrets.stale(res, r.Kvs[0].Value)
}

func (s *server) drop(ctx context.Context, res *resource, ns, name string, rev int64) error {
	key := res.key(ns, name)
	r, err := s.etcd.Txn(ctx).If(clientv3.Compare(clientv3.ModRevision(key), "=", rev)).Then(clientv3.OpDelete(key)).Commit()
	if err != nil {
		return fmt.Errorf("etcd: %w", err)
	}
	if !r.Succeeded {
		return conflict(res, name)
	}
	return nil
}

func conflict(res *resource, name string) error {
	return apierrors.NewConflict(res.gr(), name, fmt.Errorf("the object has been modified; please apply your changes to the latest version and try again"))
}

// change loads an object, lets f change it, and writes it back, again if
// somebody else was faster. A non-empty want is the revision it must have.
func (s *server) change(ctx context.Context, res *resource, ns, name, want string, dry bool, f func(o runtime.Object, m metav1.Object) (runtime.Object, error)) (runtime.Object, error) {
	// Whoever says which version is meant is believed first: should it be an older
	// one, the write is refused, and what is the latest is asked for then.
	older := want != ""
	for range mostTries {
		load := s.load
		if older {
			load = func(ctx context.Context, res *resource, ns, name string) (runtime.Object, metav1.Object, int64, error) {
				return s.loadAs(ctx, res, ns, name, want)
			}
		}
		o, m, rev, err := load(ctx, res, ns, name)
		if older && (err != nil || want != m.GetResourceVersion()) {
			older = false
			continue
		}
		if err != nil {
			return nil, err
		}
		if want != "" && want != m.GetResourceVersion() {
			return nil, conflict(res, name)
		}
		n, err := f(o, m)
		if older && (err != nil || n == nil || dry) {
			older = false // nothing is written that would be refused
			continue
		}
		if err != nil {
			return nil, err
		}
		if n == nil {
			if dry || !s.stale(ctx, res, ns, name) {
				return o, nil
			}
			n = o
		}
		nm, err := meta.Accessor(n)
		if err != nil {
			return nil, err
		}
		if dry {
			return n, nil
		}
		// The last finalizer of something that is being deleted has gone.
		if nm.GetDeletionTimestamp() != nil && len(nm.GetFinalizers()) == 0 && (nm.GetDeletionGracePeriodSeconds() == nil || *nm.GetDeletionGracePeriodSeconds() == 0) {
			err = s.drop(ctx, res, ns, name, rev)
		} else {
			err = s.put(ctx, res, n, rev)
		}
		if err == nil {
			return n, nil
		}
		if !apierrors.IsConflict(err) || want != "" || ctx.Err() != nil {
			return nil, err
		}
	}
	return nil, conflict(res, name)
}

// mostTries is how often an object is read and written anew that somebody else changes meanwhile.
const mostTries = 1000
