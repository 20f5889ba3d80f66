package datastore

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"time"

	"go.etcd.io/bbolt"
	"go.etcd.io/etcd/api/v3/mvccpb"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.etcd.io/etcd/etcdutl/v3/snapshot"
	"go.etcd.io/etcd/server/v3/embed"
	"go.uber.org/zap"
	"google.golang.org/protobuf/proto"
)

// Contents are the keys of a datastore at a revision.
type Contents struct {
	Revision int64
	// Keys are those of objects of the API, each with the revision of its last change.
	Keys map[string]int64
}

// objects is under what API servers keep their objects.
const objects = "/registry/"

// Kind is what an object is of, by its key: the resource, as API servers file it. Empty: it is
// no object that somebody made.
func Kind(key string) string {
	parts := strings.Split(strings.TrimPrefix(key, objects), "/")
	if len(parts) < 2 || !strings.HasPrefix(key, objects) {
		return ""
	}
	kind := parts[0]
	// Groups of their own stand before the resource; those of Kubernetes itself do not, but
	// for some.
	if len(parts) > 2 && (strings.Contains(kind, ".") || grouped[kind]) {
		kind = parts[1]
	}
	if name, ok := filed[kind]; ok {
		return name
	}
	return kind
}

// Names under which API servers file what is called otherwise, and what they file for
// themselves.
var (
	filed   = map[string]string{"minions": "nodes", "controllers": "replicationcontrollers", "events": "", "leases": "", "masterleases": "", "ranges": "", "health": "", "apiserver-identity": "", "peerserverleases": ""}
	grouped = map[string]bool{"core": true, "apps": true, "batch": true, "policy": true, "autoscaling": true}
)

// ByKind counts objects by kind, without those that come and go by themselves.
func (c *Contents) ByKind() map[string]int {
	out := map[string]int{}
	for k := range c.Keys {
		if kind := Kind(k); kind != "" {
			out[kind]++
		}
	}
	return out
}

// Compare says what a datastore that is brought from one state to another one loses, gets back
// and has older than it was, by kind.
func Compare(now, then *Contents) (vanish, back, older map[string]int) {
	vanish, back, older = map[string]int{}, map[string]int{}, map[string]int{}
	count := func(to map[string]int, key string) {
		if kind := Kind(key); kind != "" {
			to[kind]++
		}
	}
	for k, rev := range now.Keys {
		switch was, there := then.Keys[k]; {
		case !there:
			count(vanish, k)
		case was != rev:
			count(older, k)
		}
	}
	for k := range then.Keys {
		if _, there := now.Keys[k]; !there {
			count(back, k)
		}
	}
	return vanish, back, older
}

// Objects are the keys of a living datastore.
func (c *Client) Objects(ctx context.Context) (*Contents, error) {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return nil, err
	}
	defer cl.Close()
	return objectsOf(ctx, cl)
}

// piece is how many keys are asked for at a time.
const piece = 5000

func objectsOf(ctx context.Context, cl *clientv3.Client) (*Contents, error) {
	out := &Contents{Keys: map[string]int64{}}
	end := clientv3.GetPrefixRangeEnd(objects)
	for from := objects; ; {
		o := []clientv3.OpOption{clientv3.WithRange(end), clientv3.WithKeysOnly(), clientv3.WithLimit(piece)}
		if out.Revision > 0 {
			o = append(o, clientv3.WithRev(out.Revision))
		}
		r, err := cl.Get(ctx, from, o...)
		if err != nil {
			return nil, err
		}
		if out.Revision == 0 {
			out.Revision = r.Header.Revision
		}
		for _, kv := range r.Kvs {
			out.Keys[string(kv.Key)] = kv.ModRevision
		}
		if !r.More || len(r.Kvs) == 0 {
			return out, nil
		}
		from = string(r.Kvs[len(r.Kvs)-1].Key) + "\x00"
	}
}

// revisionBytes is how long the names of entries are in etcd's database: a revision, of two
// numbers; those of deletions have a letter more.
const revisionBytes = 17

// Read reads what a snapshot holds, as etcd's maintenance API hands it out or as a member has
// it on its disk.
func Read(f *os.File) (out *Contents, err error) {
	// Pages that make no sense show as a panic of the library, or where a pointer leads nowhere.
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		if r := recover(); r != nil {
			out, err = nil, fmt.Errorf("the snapshot is damaged: %v", r)
		}
	}()
	db, err := bbolt.Open(f.Name(), 0o400, &bbolt.Options{ReadOnly: true, Timeout: time.Second, OpenFile: func(string, int, os.FileMode) (*os.File, error) {
		// The file may have no name any more.
		return os.Open(fmt.Sprintf("/proc/self/fd/%d", f.Fd()))
	}})
	if err != nil {
		return nil, fmt.Errorf("the snapshot: %w", err)
	}
	defer db.Close()
	out = &Contents{Keys: map[string]int64{}}
	err = db.View(func(tx *bbolt.Tx) error {
		b := tx.Bucket([]byte("key"))
		if b == nil {
			return errors.New("the snapshot holds no keys: it is none of etcd")
		}
		return b.ForEach(func(rev, v []byte) error {
			if len(rev) < revisionBytes {
				return fmt.Errorf("the snapshot has an entry %x, which is no revision", rev)
			}
			out.Revision = int64(binary.BigEndian.Uint64(rev))
			var kv mvccpb.KeyValue
			if err := proto.Unmarshal(v, &kv); err != nil {
				return fmt.Errorf("the snapshot's entry at revision %d: %w", out.Revision, err)
			}
			key := string(kv.Key)
			switch {
			case !strings.HasPrefix(key, objects):
			case len(rev) > revisionBytes:
				delete(out.Keys, key)
			default:
				out.Keys[key] = kv.ModRevision
			}
			return nil
		})
	})
	return out, err
}

// raiseTimeout is how long a member may take to be raised for a moment, and to say what it holds.
const raiseTimeout = 5 * time.Minute

// Raise raises a member from a snapshot, asks it what it holds, and takes it away again. It
// listens to nobody outside of a folder that only this user can enter.
func Raise(ctx context.Context, file string) (*Contents, error) {
	ctx, cancel := context.WithTimeout(ctx, raiseTimeout)
	defer cancel()
	dir, err := os.MkdirTemp("", "verbund-raise-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	cfg := embed.NewConfig()
	cfg.Name, cfg.Dir, cfg.LogLevel = "once", filepath.Join(dir, "data"), "panic"
	client, peer := url.URL{Scheme: "unix", Path: filepath.Join(dir, "c")}, url.URL{Scheme: "unix", Path: filepath.Join(dir, "p")}
	cfg.ListenClientUrls, cfg.AdvertiseClientUrls = []url.URL{client}, []url.URL{client}
	cfg.ListenPeerUrls, cfg.AdvertisePeerUrls = []url.URL{peer}, []url.URL{peer}
	cfg.InitialCluster = cfg.Name + "=" + peer.String()
	if err := snapshot.NewV3(zap.NewNop()).Restore(snapshot.RestoreConfig{SnapshotPath: file, Name: cfg.Name, OutputDataDir: cfg.Dir, PeerURLs: []string{peer.String()}, InitialCluster: cfg.InitialCluster, InitialClusterToken: "once"}); err != nil {
		return nil, fmt.Errorf("making a member from the snapshot: %w", err)
	}
	e, err := embed.StartEtcd(cfg)
	if err != nil {
		return nil, fmt.Errorf("raising a member from the snapshot: %w", err)
	}
	defer e.Close()
	select {
	case <-e.Server.ReadyNotify():
	case err := <-e.Err():
		return nil, fmt.Errorf("raising a member from the snapshot: %w", err)
	case <-ctx.Done():
		return nil, fmt.Errorf("the member that was raised from the snapshot did not come up: %w", ctx.Err())
	}
	cl, err := New([]string{client.String()}, nil).open(ctx, client.String())
	if err != nil {
		return nil, err
	}
	defer cl.Close()
	return objectsOf(ctx, cl)
}
