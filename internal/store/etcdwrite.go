package store

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	clientv3 "go.etcd.io/etcd/client/v3"
)

// commit writes what was changed.
func (m *moment) commit() error {
	h := head{Changes: append([]string{newName()}, m.head.Changes[:min(len(m.head.Changes), mostChanges-1)]...)}
	ops, size := m.ops(m.changes)
	if len(ops) > mostOps || size > mostBytes {
		if err := m.stage(h.Changes[0]); err != nil {
			return err
		}
		h.Waiting, ops = true, nil
	}
	made := func(is *head) bool { return is != nil && slices.Contains(is.Changes, h.Changes[0]) }
	put, err := m.putHead(h)
	if err != nil {
		return err
	}
	// What others have left there, who were not as fast, is nobody's.
	own := m.e.root + "waiting/" + h.Changes[0] + "/"
	below := m.e.root + "waiting/"
	ops = append(append(ops, m.beside...), put, clientv3.OpDelete(below, clientv3.WithRange(own)), clientv3.OpDelete(clientv3.GetPrefixRangeEnd(own), clientv3.WithRange(clientv3.GetPrefixRangeEnd(below))))
	if err := m.decide(ops, made); err != nil {
		return err
	}
	if h.Waiting {
		// It is made; who comes next puts its entries in their places, if this fails.
		if next, err := m.e.moment(m.ctx); err == nil && next.head.Waiting && next.head.Changes[0] == h.Changes[0] {
			next.waiting = m.changes
			next.settle()
		}
	}
	for _, f := range m.after {
		f(h.Changes[0])
	}
	return nil
}

func newName() string {
	b := make([]byte, 8)
	rand.Read(b)
	return fmt.Sprintf("%x", b)
}

func (m *moment) putHead(h head) (clientv3.Op, error) {
	b, err := json.Marshal(h)
	return clientv3.OpPut(m.e.root+"head", string(b)), err
}

// ops are entries as a transaction takes them, and their bytes.
func (m *moment) ops(entries map[string][]byte) (ops []clientv3.Op, size int) {
	for _, key := range slices.Sorted(maps.Keys(entries)) {
		v := entries[key]
		if size += len(key) + len(v); v == nil {
			ops = append(ops, clientv3.OpDelete(m.e.root+key))
		} else {
			ops = append(ops, clientv3.OpPut(m.e.root+key, string(v)))
		}
	}
	return ops, size
}

// inParts divides entries into such as fit into one transaction each.
func inParts(entries map[string][]byte) []map[string][]byte {
	var out []map[string][]byte
	size := 0
	for _, key := range slices.Sorted(maps.Keys(entries)) {
		n := len(key) + len(entries[key])
		if len(out) == 0 || len(out[len(out)-1]) == mostOps || size+n > mostBytes {
			out, size = append(out, map[string][]byte{}), 0
		}
		out[len(out)-1][key] = entries[key]
		size += n
	}
	return out
}

// stage writes what is too large for one transaction where it waits for being valid.
func (m *moment) stage(change string) error {
	for i, part := range inParts(m.changes) {
		b, err := json.Marshal(part)
		if err == nil {
			op := clientv3.OpPut(fmt.Sprintf("%swaiting/%s/%06d", m.e.root, change, i), string(b))
			err = m.e.write("writing", nil, []clientv3.Op{op}, nil)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// settle puts the entries that wait in their places: whoever does it writes the same, and nobody
// changes anything before it is done.
func (m *moment) settle() error {
	still := []clientv3.Cmp{clientv3.Compare(clientv3.ModRevision(m.e.root+"head"), "=", m.headRev)}
	for _, part := range inParts(m.waiting) {
		ops, _ := m.ops(part)
		if err := m.e.write("writing", still, ops, nil); err != nil {
			return err
		}
	}
	put, err := m.putHead(head{Changes: m.head.Changes})
	if err != nil {
		return err
	}
	return m.e.write("writing", still, []clientv3.Op{put, clientv3.OpDelete(m.e.root+"waiting/", clientv3.WithPrefix())}, nil)
}

// decide writes on the condition that nothing has changed since the moment, and that the lock is
// still held, if it was; made says by the head whether it has been written already.
func (m *moment) decide(ops []clientv3.Op, made func(*head) bool) error {
	at := clientv3.Compare(clientv3.ModRevision(m.e.root+"head"), "=", m.headRev)
	if m.headRev == 0 {
		at = clientv3.Compare(clientv3.CreateRevision(m.e.root+"head"), "=", 0)
	}
	return m.e.write("writing", []clientv3.Cmp{at}, ops, made)
}

// write writes while the lock is still held, if it was, and the conditions hold: else the error is
// errFaster. It tries again as long as nobody answers: made says by the head whether an earlier
// try has come through; nil: writing twice is as good as once.
func (e *inEtcd) write(what string, when []clientv3.Cmp, ops []clientv3.Op, made func(*head) bool) error {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	if _, err := e.etcd(ctx); err != nil {
		return err
	}
	e.mu.Lock()
	fence := e.fences[lockCluster]
	e.mu.Unlock()
	if fence != 0 {
		when = append(slices.Clone(when), clientv3.Compare(clientv3.CreateRevision(e.root+"locks/"+lockCluster), "=", fence))
	}
	var r *clientv3.TxnResponse
	err := e.ask(ctx, what, func(c *clientv3.Client) (err error) {
		one, done := context.WithTimeout(ctx, max(e.patience/3, time.Second))
		defer done()
		r, err = c.Txn(one).If(when...).Then(ops...).Else(clientv3.OpGet(e.root+"head"), clientv3.OpGet(e.root+"locks/"+lockCluster)).Commit()
		return err
	})
	if u := (*Unreached)(nil); errors.As(err, &u) {
		u.Unsure = !lasts(err)
	}
	if err != nil || r.Succeeded {
		return err
	}
	return e.refused(r, fence, made)
}

// refused says why a transaction was: it was made by an earlier try, the lock is lost, or somebody
// else was faster.
func (e *inEtcd) refused(r *clientv3.TxnResponse, fence int64, made func(*head) bool) error {
	at := func(i int) *etcdserverpb.RangeResponse { return r.Responses[i].GetResponseRange() }
	var is *head
	if kvs := at(0).Kvs; len(kvs) > 0 {
		is = &head{}
		if err := json.Unmarshal(kvs[0].Value, is); err != nil {
			return &Damage{e.where(), err}
		}
	}
	if made != nil && made(is) {
		return nil
	}
	if fence == 0 {
		return errFaster
	}
	kvs := at(1).Kvs
	if len(kvs) > 0 && kvs[0].CreateRevision == fence {
		return errFaster
	}
	lost := &Lost{Where: e.where()}
	if len(kvs) > 0 {
		lost.Now = &Holder{}
		json.Unmarshal(kvs[0].Value, lost.Now)
	}
	return lost
}
