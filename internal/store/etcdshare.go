package store

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// leaseTime is how long a lock outlives its holder in etcd's own time.
const leaseTime = 30 * time.Second

// lock takes a lock with a lease: who dies with it frees it when that is over.
func (e *inEtcd) lock(name, command string) (release func(), err error) {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	c, err := e.etcd(ctx)
	if err != nil {
		return nil, err
	}
	var lease *clientv3.LeaseGrantResponse
	err = e.ask(ctx, "taking the lock", func(c *clientv3.Client) (err error) {
		lease, err = c.Grant(ctx, int64(leaseTime/time.Second)) // one that nobody was told of ends by itself
		return err
	})
	if err != nil {
		return nil, err
	}
	give := func() {
		own, cancel := context.WithTimeout(context.Background(), min(e.patience, 3*time.Second))
		defer cancel()
		c.Revoke(own, lease.ID) // if it fails, the lease ends by itself
	}
	rev, err := e.take(ctx, c, lease.ID, name, command)
	if err != nil {
		give()
		return nil, err
	}
	alive, stop := context.WithCancel(context.Background())
	kept, err := c.KeepAlive(alive, lease.ID)
	if err != nil {
		stop()
		give()
		return nil, e.unreached(ctx, "keeping the lock", err)
	}
	var ended sync.WaitGroup
	ended.Go(func() {
		for range kept { // that it ends shows by what is written next
		}
	})
	e.mu.Lock()
	e.fences[name] = rev
	e.mu.Unlock()
	return func() {
		e.mu.Lock()
		delete(e.fences, name)
		e.mu.Unlock()
		stop()
		give()
		ended.Wait()
	}, nil
}

// take writes down who holds a lock, and returns the revision at which that was.
func (e *inEtcd) take(ctx context.Context, c *clientv3.Client, lease clientv3.LeaseID, name, command string) (int64, error) {
	host, err := os.Hostname()
	if err != nil {
		host = "a computer without a name"
	}
	own := Holder{Process: os.Getpid(), Command: command, Since: time.Now(), Host: host, Who: e.Who, Name: newName()}
	b, err := json.Marshal(own)
	if err != nil {
		return 0, err
	}
	key := e.root + "locks/" + name
	for {
		r, err := c.Txn(ctx).If(clientv3.Compare(clientv3.CreateRevision(key), "=", 0)).Then(clientv3.OpPut(key, string(b), clientv3.WithLease(lease))).Else(clientv3.OpGet(key)).Commit()
		if err == nil && r.Succeeded {
			return r.Header.Revision, nil
		}
		if err == nil {
			kvs := r.Responses[0].GetResponseRange().Kvs
			var h Holder
			if err := json.Unmarshal(kvs[0].Value, &h); err != nil {
				return 0, &Damage{e.where(), fmt.Errorf("who holds the lock: %w", err)}
			}
			if h.Name == own.Name {
				return kvs[0].CreateRevision, nil // an earlier try that was not answered
			}
			return 0, &Locked{h}
		}
		if lasts(err) || ctx.Err() != nil {
			return 0, e.unreached(ctx, "taking the lock", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(betweenTries):
		}
	}
}

func (e *inEtcd) holds() (*Holder, error) {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	r, err := e.get(ctx, "looking who holds the lock", e.root+"locks/"+lockCluster)
	if err != nil {
		return nil, err
	}
	if len(r.Kvs) == 0 {
		return nil, nil
	}
	h := &Holder{}
	if err := json.Unmarshal(r.Kvs[0].Value, h); err != nil {
		return nil, &Damage{e.where(), fmt.Errorf("who holds the lock: %w", err)}
	}
	return h, nil
}

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

func (e *inEtcd) who() string { return e.Who }

// welcome has one come that is not here yet. That it went from here goes, if it is that one that
// comes back.
func (e *inEtcd) welcome(moves int) error {
	e.comes = true
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	r, err := e.get(ctx, "looking what was there", e.root+"moved")
	if err != nil {
		return err
	}
	if len(r.Kvs) == 0 {
		return nil
	}
	var g gone
	if err := json.Unmarshal(r.Kvs[0].Value, &g); err != nil {
		return &Damage{e.where(), err}
	}
	if moves < g.Moves {
		return &Another{e.where(), fmt.Sprintf("it went from there, %s, and what is here is older than that", g)}
	}
	return e.write("taking a memory back", nil, []clientv3.Op{clientv3.OpDelete(e.root + "moved")}, nil)
}

func (e *inEtcd) clear(to *gone) error {
	var ops []clientv3.Op
	for _, below := range []string{"head", "state/", "trust/", "waiting/", "opener", "journal/", "id"} {
		ops = append(ops, clientv3.OpDelete(e.root+below, clientv3.WithPrefix()))
	}
	if to != nil {
		b, err := json.Marshal(to)
		if err != nil {
			return err
		}
		ops = append(ops, clientv3.OpPut(e.root+"moved", string(b)))
	}
	e.reading.Lock()
	defer e.reading.Unlock()
	e.read, e.unread = nil, 0
	return e.write("clearing what lies there", nil, ops, nil)
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
