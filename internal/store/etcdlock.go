package store

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"sync"
	"time"

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
	rev, err := e.take(ctx, lease.ID, name, command)
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
func (e *inEtcd) take(ctx context.Context, lease clientv3.LeaseID, name, command string) (int64, error) {
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
	var r *clientv3.TxnResponse
	err = e.ask(ctx, "taking the lock", func(c *clientv3.Client) (err error) {
		r, err = c.Txn(ctx).If(clientv3.Compare(clientv3.CreateRevision(key), "=", 0)).Then(clientv3.OpPut(key, string(b), clientv3.WithLease(lease))).Else(clientv3.OpGet(key)).Commit()
		return err
	})
	if err != nil {
		return 0, err
	}
	if r.Succeeded {
		return r.Header.Revision, nil
	}
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
