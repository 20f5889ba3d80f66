package store

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// mostEntries is how many entries the journal may have when a run begins; of more, half of that
// stay.
const mostEntries = 20_000

func (e *inEtcd) journal() (Journal, error) {
	if err := e.shorten(); err != nil {
		return nil, err
	}
	return &etcdJournal{e: e, name: newName()}, nil
}

// shorten takes the oldest entries away, if there are too many.
func (e *inEtcd) shorten() error {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	below := e.root + "journal/"
	r, err := e.get(ctx, "reading the journal", below, clientv3.WithPrefix(), clientv3.WithCountOnly())
	if err != nil || r.Count <= e.most {
		return err
	}
	if r, err = e.get(ctx, "reading the journal", below, append(clientv3.WithFirstCreate(), clientv3.WithLimit(r.Count-e.most/2), clientv3.WithKeysOnly())...); err != nil {
		return err
	}
	for i := 0; i < len(r.Kvs); i += mostOps {
		var ops []clientv3.Op
		for _, kv := range r.Kvs[i:min(i+mostOps, len(r.Kvs))] {
			ops = append(ops, clientv3.OpDelete(string(kv.Key)))
		}
		if err := e.write("shortening the journal", nil, ops, nil); err != nil {
			return err
		}
	}
	return nil
}

// etcdJournal is the journal as one command appends to it.
type etcdJournal struct {
	e    *inEtcd
	name string // of this one, random

	mu sync.Mutex
	n  int
}

// Append writes one entry under a key of its own. Whoever has lost the lock appends nothing, and
// so begins no further step.
func (j *etcdJournal) Append(e Entry) error {
	e.Who = j.e.Who
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	j.n++
	key := fmt.Sprintf("%sjournal/%s-%s/%06d", j.e.root, e.Run, j.name, j.n)
	return j.e.write("writing the journal", nil, []clientv3.Op{clientv3.OpPut(key, string(b))}, nil)
}

// Close has nothing to do.
func (j *etcdJournal) Close() error { return nil }

// entries reads what has come since it read last, in the order in which etcd took it.
func (e *inEtcd) entries() (entries []Entry, unreadable int, err error) {
	e.reading.Lock()
	defer e.reading.Unlock()
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	r, err := e.get(ctx, "reading the journal", e.root+"journal/", clientv3.WithPrefix(), clientv3.WithMinCreateRev(e.readTo+1))
	if err != nil {
		return nil, 0, err
	}
	// Those of one transaction are in the order of their keys.
	slices.SortStableFunc(r.Kvs, func(a, b *mvccpb.KeyValue) int { return cmp.Compare(a.CreateRevision, b.CreateRevision) })
	for _, kv := range r.Kvs {
		e.readTo = kv.CreateRevision
		var x Entry
		if json.Unmarshal(kv.Value, &x) != nil {
			e.unread++
			continue
		}
		e.read = append(e.read, x)
	}
	return e.read[:len(e.read):len(e.read)], e.unread, nil
}

// append brings entries in that were written elsewhere.
func (e *inEtcd) append(es []Entry) error {
	below := e.root + "journal/0-" + newName() + "/"
	entries := map[string][]byte{}
	for i, x := range es {
		b, err := json.Marshal(x)
		if err != nil {
			return err
		}
		entries[fmt.Sprintf("%06d", i)] = b
	}
	for _, part := range inParts(entries) {
		var ops []clientv3.Op
		for _, k := range slices.Sorted(maps.Keys(part)) {
			ops = append(ops, clientv3.OpPut(below+k, string(part[k])))
		}
		if err := e.write("writing the journal", nil, ops, nil); err != nil {
			return err
		}
	}
	return nil
}

func (e *inEtcd) journals() (map[string][]byte, error) {
	es, _, err := e.entries()
	if err != nil || len(es) == 0 {
		return map[string][]byte{}, err
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	for _, x := range es {
		err = errors.Join(err, enc.Encode(x))
	}
	return map[string][]byte{Journals[1]: b.Bytes()}, err
}
