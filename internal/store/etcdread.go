package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	clientv3 "go.etcd.io/etcd/client/v3"
)

// head is what is written with every change.
type head struct {
	// Changes are the names of the last ones, the last one first: who was not answered finds
	// out by them whether his was made.
	Changes []string `json:"changes"`
	// Waiting says that entries of the last one do not lie in their places yet.
	Waiting bool `json:"waiting,omitempty"`
}

// mostChanges is how many changes others may make before somebody who was not answered asks
// again whether his was made.
const mostChanges = 64

// moment is a memory in etcd as it is at one revision, and what is to be changed of it.
type moment struct {
	e       *inEtcd
	ctx     context.Context
	rev     int64 // of etcd
	head    head
	headRev int64 // at which it was written; 0: there is none
	tables  map[string]map[string][]byte
	waiting map[string][]byte // entries that wait, by their keys; nil: gone
	changes map[string][]byte // by keys; nil: gone
	beside  []clientv3.Op     // what is written with them
	err     error             // of reading, which none of the tables could tell
	after   []func(version string)
}

// moment looks what there is.
func (e *inEtcd) moment(ctx context.Context) (*moment, error) {
	var r *clientv3.TxnResponse
	err := e.ask(ctx, "reading", func(c *clientv3.Client) (err error) {
		r, err = c.Txn(ctx).Then(clientv3.OpGet(e.root+"head"), clientv3.OpGet(e.root+"moved"), clientv3.OpGet(e.root+"id")).Commit()
		return err
	})
	if err != nil {
		return nil, err
	}
	m := &moment{e: e, ctx: ctx, rev: r.Header.Revision, tables: map[string]map[string][]byte{}, changes: map[string][]byte{}}
	if moved := r.Responses[1].GetResponseRange().Kvs; len(moved) > 0 {
		var g gone
		if err := json.Unmarshal(moved[0].Value, &g); err != nil {
			return nil, &Damage{e.where(), fmt.Errorf("where it went: %w", err)}
		}
		return nil, &Went{e.where(), g}
	}
	if is := r.Responses[2].GetResponseRange().Kvs; e.ID != "" && !e.comes {
		if len(is) == 0 {
			return nil, fmt.Errorf("no memory of a cluster is at %s, and it says beside the declaration that one was brought there: it is another etcd or prefix, or it was lost, and nothing is begun without it; bring it back from that etcd's own backup, or correct the file", e.where())
		}
		if string(is[0].Value) != e.ID {
			return nil, fmt.Errorf("another memory is at %s than the one that was brought there: %s instead of %s; take the files beside the declaration from whoever brought it", e.where(), printable(is[0].Value), e.ID)
		}
	}
	if at := r.Responses[0].GetResponseRange().Kvs; len(at) > 0 {
		m.headRev = at[0].ModRevision
		if err := json.Unmarshal(at[0].Value, &m.head); err != nil || len(m.head.Changes) == 0 {
			return nil, &Damage{e.where(), errors.Join(errors.New("what its last change was is not as it was written"), err)}
		}
	}
	return m, nil
}

// shelf says below which key tables lie, and which ones are read together.
func shelf(table string) string {
	if table == tableSecrets || table == tableCerts {
		return "trust/" + table + "/"
	}
	return "state/"
}

func keyOf(table, key string) string {
	if s := shelf(table); s != "state/" {
		return s + key
	}
	return "state/" + table + "/" + key
}

// tableOf is the table and the key in it of a key.
func tableOf(key string) (table, name string) {
	_, key, _ = strings.Cut(key, "/")
	table, name, _ = strings.Cut(key, "/")
	return table, name
}

// load reads the tables that lie where one does.
func (m *moment) load(name string) {
	if m.tables[name] != nil || m.err != nil {
		return
	}
	below := shelf(name)
	of := []string{name}
	if below == "state/" {
		of = nil
		for _, t := range append(slices.Clone(tables), tableSums) {
			if shelf(t) == below {
				of = append(of, t)
			}
		}
	}
	for _, t := range of {
		m.tables[t] = map[string][]byte{}
	}
	if m.headRev == 0 || m.recall(of) {
		return
	}
	if m.err = m.await(); m.err != nil {
		return
	}
	found, err := m.readBelow(below)
	if m.err = err; err != nil {
		return
	}
	for key, v := range found {
		t, k := tableOf(key)
		if m.tables[t] == nil {
			m.err = &Damage{m.e.where(), fmt.Errorf("key %s is of a table that this program does not know", printable([]byte(key)))}
			return
		}
		m.tables[t][k] = v
	}
	for key, v := range m.waiting {
		t, k := tableOf(key)
		if shelf(t) != below || m.tables[t] == nil || below != "state/" && t != name {
			continue
		}
		if v == nil {
			delete(m.tables[t], k)
		} else {
			m.tables[t][k] = v
		}
	}
	m.note(of)
}

// recall takes tables from what was read at an earlier moment, if nothing has changed since.
func (m *moment) recall(of []string) bool {
	m.e.mu.Lock()
	defer m.e.mu.Unlock()
	if m.e.lastOf != m.head.Changes[0] || m.e.last[of[0]] == nil {
		return false
	}
	for _, t := range of {
		m.tables[t] = maps.Clone(m.e.last[t])
	}
	return true
}

// note keeps tables for later moments.
func (m *moment) note(of []string) {
	m.e.mu.Lock()
	defer m.e.mu.Unlock()
	if m.e.lastOf != m.head.Changes[0] {
		m.e.lastOf, m.e.last = m.head.Changes[0], map[string]map[string][]byte{}
	}
	for _, t := range of {
		m.e.last[t] = maps.Clone(m.tables[t])
	}
}

// readBelow reads all below a key, by the rest of each key behind the memory's own.
func (m *moment) readBelow(below string) (map[string][]byte, error) {
	r, err := m.e.get(m.ctx, "reading", m.e.root+below, clientv3.WithPrefix(), clientv3.WithRev(m.rev))
	if err != nil {
		return nil, err
	}
	out := make(map[string][]byte, len(r.Kvs))
	for _, kv := range r.Kvs {
		out[strings.TrimPrefix(string(kv.Key), m.e.root)] = kv.Value
	}
	return out, nil
}

// await reads the entries of the last change that do not lie in their places yet.
func (m *moment) await() error {
	if !m.head.Waiting || m.waiting != nil {
		return nil
	}
	parts, err := m.readBelow("waiting/" + m.head.Changes[0] + "/")
	if err != nil {
		return err
	}
	m.waiting = map[string][]byte{}
	for _, key := range slices.Sorted(maps.Keys(parts)) {
		var entries map[string][]byte
		if err := json.Unmarshal(parts[key], &entries); err != nil {
			return &Damage{m.e.where(), fmt.Errorf("part %s of its last change: %w", printable([]byte(key)), err)}
		}
		maps.Copy(m.waiting, entries)
	}
	return nil
}

func (m *moment) tx() *tx {
	version := ""
	if m.headRev != 0 {
		version = m.head.Changes[0]
	}
	return &tx{path: m.e.where(), version: version, bucket: func(name string) bucket { return shelved{m, name} },
		onCommit: func(f func(string)) { m.after = append(m.after, f) }}
}

// shelved is a table at a moment.
type shelved struct {
	m    *moment
	name string
}

func (b shelved) Get(key []byte) []byte {
	b.m.load(b.name)
	return b.m.tables[b.name][string(key)]
}

func (b shelved) Put(key, value []byte) error {
	if b.m.load(b.name); b.m.err != nil {
		return b.m.err
	}
	b.m.tables[b.name][string(key)] = value
	b.m.changes[keyOf(b.name, string(key))] = value
	return nil
}

func (b shelved) Delete(key []byte) error {
	if b.m.load(b.name); b.m.err != nil {
		return b.m.err
	}
	delete(b.m.tables[b.name], string(key))
	b.m.changes[keyOf(b.name, string(key))] = nil
	return nil
}

func (b shelved) ForEach(f func(key, value []byte) error) error {
	if b.m.load(b.name); b.m.err != nil {
		return b.m.err
	}
	t := b.m.tables[b.name]
	for _, k := range slices.Sorted(maps.Keys(t)) {
		if err := f([]byte(k), t[k]); err != nil {
			return err
		}
	}
	return nil
}
