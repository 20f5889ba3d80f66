package store

import (
	"context"
	"encoding/json"
	"fmt"

	clientv3 "go.etcd.io/etcd/client/v3"
)

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
