package store

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"

	"verbund/internal/datastore"
)

// Server is an etcd in which a memory lies, and as whom it is asked.
type Server struct {
	Endpoints []string // URLs of its members
	// Prefix is what stands before every key, beginning with a slash and not ending with one.
	Prefix         string
	TLS            *tls.Config
	User, Password string
	// Who is whoever works with it, for the others: in the lock, and in the journal.
	Who string
	// ID is that of the memory which is to lie there; empty: whichever does.
	ID string
}

// inEtcd is a memory in an etcd that is there already, below a key of its own. Every change is one
// transaction on the condition that nobody else has changed anything since what it is made from
// was read. etcd sees no secret: these are closed as they are in a folder.
//
//	head               the last changes, by name; it is written with each
//	state/TABLE/KEY    one entry of what is remembered
//	trust/TABLE/KEY    the same of keys and certificates
//	waiting/CHANGE/N   entries of a change that is too large for one transaction
//	opener             what opens the backups, closed
//	locks/NAME         who holds a lock, for as long as its lease lives
//	journal/RUN/N      one entry of the journal
//	id                 of the memory that was brought here; it stays when the cluster is torn down
//	moved              where it went, when it is no more here
type inEtcd struct {
	Server
	root     string // of all keys
	patience time.Duration
	comes    bool  // it is being brought here, and need not be here yet
	most     int64 // entries of the journal

	mu     sync.Mutex
	client *clientv3.Client
	fences map[string]int64 // locks that are held, with the revision at which they were taken

	reading sync.Mutex
	read    []Entry
	unread  int
	readTo  int64 // the revision at which the last of them was written
}

// awayPatience is how long an answer is waited for, also while a member ends and the others elect
// another one.
const (
	awayPatience = 10 * time.Second
	mostOps      = 100       // of a transaction; etcd takes 128 as it comes
	mostBytes    = 384 << 10 // of a transaction; etcd takes 1.5 MiB, and JSON makes three of two
)

// InEtcd is the memory of a cluster that lies in an etcd. What is on this computer alone is under
// folder, as with At.
func InEtcd(srv Server, folder, cluster string, k Keeper) *Store {
	s := At(folder, cluster, k)
	s.base = &inEtcd{Server: srv, root: srv.Prefix + "/" + cluster + "/", patience: awayPatience, most: mostEntries, fences: map[string]int64{}}
	return s
}

// Unreached is a memory elsewhere that did not answer, or not what was asked.
type Unreached struct {
	Where string
	What  string // was attempted
	Err   error
	// Unsure says that it may have been written all the same.
	Unsure bool
}

func (u *Unreached) Error() string {
	sure := "nothing was changed there"
	if u.Unsure {
		sure = "it is not known whether it was written, and the same command again finds out"
	}
	return fmt.Sprintf("%s in the memory at %s: %v; %s", u.What, u.Where, u.Err, sure)
}

func (u *Unreached) Unwrap() error { return u.Err }

// Lost is a lock that this command held, and that is not its own any more: it could not tell for
// too long that it lives. It changes nothing any more.
type Lost struct {
	Where string
	Now   *Holder // who holds it; nil: nobody
}

func (l *Lost) Error() string {
	now := "nobody holds it now"
	if l.Now != nil {
		now = "now it is held by " + l.Now.String()
	}
	return fmt.Sprintf("the lock in the memory at %s was lost, since this computer did not reach it for longer than %s; %s: nothing more is begun, and the same command again goes on from what it finds", l.Where, leaseTime, now)
}

func (e *inEtcd) where() string {
	var hosts []string
	for _, u := range e.Endpoints {
		_, h, _ := strings.Cut(u, "://")
		hosts = append(hosts, h)
	}
	return "etcd://" + strings.Join(hosts, ",") + strings.TrimSuffix(e.root, "/")
}

// etcd is the connection, which is made when it is needed first.
func (e *inEtcd) etcd(ctx context.Context) (*clientv3.Client, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.client != nil {
		return e.client, nil
	}
	// The client would go on trying with one that does not let it in, until the patience is over.
	if err := datastore.New(e.Endpoints, e.TLS).Trusted(ctx); err != nil {
		return nil, &Unreached{Where: e.where(), What: "asking", Err: err}
	}
	c, err := clientv3.New(clientv3.Config{Endpoints: e.Endpoints, TLS: e.TLS, Username: e.User, Password: e.Password, DialTimeout: e.patience,
		DialKeepAliveTime: 5 * time.Second, DialKeepAliveTimeout: 5 * time.Second, Logger: zap.NewNop()})
	if err != nil {
		return nil, e.unreached(ctx, "asking", err)
	}
	e.client = c
	return c, nil
}

func (e *inEtcd) close() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.client == nil {
		return nil
	}
	err := e.client.Close()
	e.client = nil
	return err
}

// unreached says what became of a question.
func (e *inEtcd) unreached(ctx context.Context, what string, err error) error {
	u := &Unreached{Where: e.where(), What: what, Err: err}
	switch {
	case errors.Is(err, rpctypes.ErrPermissionDenied):
		u.Err = fmt.Errorf("%s may not do that below %s: %w", e.Who, e.Prefix, err)
	case errors.Is(err, rpctypes.ErrNoSpace):
		u.Err = fmt.Errorf("it is full, and takes nothing before its alarm is taken back (compact it, have each member give its space back, then disarm): %w", err)
	case errors.Is(err, rpctypes.ErrAuthFailed), errors.Is(err, rpctypes.ErrUserEmpty):
		u.Err = fmt.Errorf("it does not let %s in: %w", e.Who, err)
	case !lasts(err):
		// What asks for a majority waits; who was not let in finds that out by himself.
		own, cancel := context.WithTimeout(context.WithoutCancel(ctx), e.patience)
		defer cancel()
		if why := datastore.New(e.Endpoints, e.TLS).Unanswered(own, err); errors.Is(why, datastore.ErrNoTrust) {
			u.Err = why
		} else {
			u.Err = fmt.Errorf("it has not answered within %s: %w; see that it runs, and is reached from here", e.patience, cmp.Or(e.dial(own), err))
		}
	}
	return u
}

// ask asks something that may be asked again, until somebody answers: a member that ends, or another
// one that is elected, is waited for.
func (e *inEtcd) ask(ctx context.Context, what string, f func(*clientv3.Client) error) error {
	c, err := e.etcd(ctx)
	if err != nil {
		return err
	}
	for {
		err := f(c)
		if err == nil {
			return nil
		}
		if lasts(err) || ctx.Err() != nil {
			return e.unreached(ctx, what, err)
		}
		select {
		case <-ctx.Done():
			return e.unreached(ctx, what, err)
		case <-time.After(betweenTries):
		}
	}
}

func (e *inEtcd) get(ctx context.Context, what, key string, how ...clientv3.OpOption) (r *clientv3.GetResponse, err error) {
	err = e.ask(ctx, what, func(c *clientv3.Client) (err error) {
		r, err = c.Get(ctx, key, how...)
		return err
	})
	return r, err
}

// betweenTries is how long is waited before something is asked again.
const betweenTries = 100 * time.Millisecond

// dial says why no member is reached; nil if one is.
func (e *inEtcd) dial(ctx context.Context) error {
	var trouble error
	for _, at := range e.Endpoints {
		u, err := url.Parse(at)
		if err != nil {
			return err
		}
		c, err := (&net.Dialer{Timeout: time.Second}).DialContext(ctx, "tcp", u.Host)
		if err == nil {
			c.Close()
			return nil
		}
		trouble = cmp.Or(trouble, err)
	}
	return trouble
}

// lasts says whether another try would be answered with the same.
func lasts(err error) bool {
	for _, e := range []error{rpctypes.ErrPermissionDenied, rpctypes.ErrNoSpace, rpctypes.ErrAuthFailed, rpctypes.ErrUserEmpty, rpctypes.ErrCompacted, rpctypes.ErrRequestTooLarge, rpctypes.ErrTooManyOps} {
		if errors.Is(err, e) {
			return true
		}
	}
	return status.Code(err) == codes.Unauthenticated
}

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
		return nil, fmt.Errorf("the memory is not at %s any more: %s; take the files beside the declaration from there", e.where(), g)
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
	if m.headRev == 0 {
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

// Member is the ID of the member that has answered, of a store that lies in an etcd.
func (s *Store) Member() (uint64, error) {
	e, ok := s.base.(*inEtcd)
	if !ok {
		return 0, fmt.Errorf("the store %s lies in no etcd", s.Where())
	}
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	r, err := e.get(ctx, "looking who answers", e.root+"head")
	if err != nil {
		return 0, err
	}
	return r.Header.MemberId, nil
}

// exists says yes also when nobody answers: what is asked next says why.
func (e *inEtcd) exists() bool {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	m, err := e.moment(ctx)
	return err != nil || m.headRev != 0
}

func (e *inEtcd) view(f func(*tx) error) error {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	return e.steadily(ctx, func(m *moment) error {
		if m.headRev == 0 {
			return nil
		}
		return m.do(f)
	})
}

// steadily does something at a moment, and again at the next one, when etcd has forgotten that one
// (it was compacted).
func (e *inEtcd) steadily(ctx context.Context, f func(m *moment) error) error {
	for {
		m, err := e.moment(ctx)
		if err == nil {
			err = f(m)
		}
		if !errors.Is(err, rpctypes.ErrCompacted) || ctx.Err() != nil {
			return err
		}
	}
}

// do does something with the tables of a moment that this program knows.
func (m *moment) do(f func(*tx) error) error {
	t := m.tx()
	err := t.known()
	if err == nil && m.err == nil {
		err = f(t)
	}
	if m.err != nil {
		return m.err // of which what f made of it is only the consequence
	}
	return err
}

func (e *inEtcd) found(first func(*tx) error) (made bool, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	err = e.steadily(ctx, func(m *moment) error {
		if m.headRev != 0 {
			return errFaster
		}
		t := m.tx()
		if err := errors.Join(t.furnish(), first(t)); err != nil {
			return err
		}
		if e.ID != "" {
			m.beside = append(m.beside, clientv3.OpPut(e.root+"id", e.ID))
		}
		return m.commit()
	})
	if errors.Is(err, errFaster) {
		return false, nil
	}
	return err == nil, err
}

// errFaster says that somebody else has changed something since it was read.
var errFaster = errors.New("somebody else has changed it meanwhile")

func (e *inEtcd) update(f func(*tx) error) error {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	for {
		err := e.steadily(ctx, func(m *moment) error {
			if m.headRev == 0 {
				return fmt.Errorf("the store %s: %w", e.where(), os.ErrNotExist)
			}
			if m.head.Waiting {
				if err := m.await(); err != nil {
					return err
				}
				return errors.Join(m.settle(), errFaster)
			}
			if err := m.do(f); err != nil {
				return err
			}
			return m.commit()
		})
		if !errors.Is(err, errFaster) {
			return err
		}
		if ctx.Err() != nil {
			return fmt.Errorf("writing in the memory at %s: others have changed it again and again for %s, and nothing of this was changed; try again", e.where(), e.patience)
		}
	}
}

func (e *inEtcd) anew(f func(from, to *tx) error) error {
	return e.update(func(from *tx) error {
		m := from.bucket(tableMeta).(shelved).m
		fresh := &moment{e: e, ctx: m.ctx, tables: map[string]map[string][]byte{}, changes: map[string][]byte{}}
		to := fresh.tx()
		if err := errors.Join(to.furnish(), f(from, to)); err != nil {
			return err
		}
		for _, name := range append(slices.Clone(tables), tableSums) {
			was, is := m.tables[name], fresh.tables[name]
			for k, v := range is {
				if !bytes.Equal(was[k], v) {
					m.changes[keyOf(name, k)] = v
				}
			}
			for k := range was {
				if _, there := is[k]; !there {
					m.changes[keyOf(name, k)] = nil
				}
			}
		}
		return nil
	})
}

func (e *inEtcd) remove() error {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	var ops []clientv3.Op
	for _, below := range []string{"head", "state/", "trust/", "waiting/"} {
		ops = append(ops, clientv3.OpDelete(e.root+below, clientv3.WithPrefix()))
	}
	for {
		err := e.steadily(ctx, func(m *moment) error {
			if m.headRev == 0 {
				return nil
			}
			// That there is none any more is as good as having taken it away.
			return m.decide(ops, func(h *head) bool { return h == nil })
		})
		if !errors.Is(err, errFaster) || ctx.Err() != nil {
			return err
		}
	}
}

func (e *inEtcd) opener() ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	r, err := e.get(ctx, "reading", e.root+"opener")
	if err != nil {
		return nil, err
	}
	if len(r.Kvs) == 0 {
		return nil, nil
	}
	return r.Kvs[0].Value, nil
}

func (e *inEtcd) keepOpener(closed []byte) error {
	op := clientv3.OpPut(e.root+"opener", string(closed))
	if closed == nil {
		op = clientv3.OpDelete(e.root + "opener")
	}
	return e.write("keeping what opens the backups", nil, []clientv3.Op{op}, nil)
}

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
	c, err := e.etcd(ctx)
	if err != nil {
		return err
	}
	e.mu.Lock()
	fence := e.fences[lockCluster]
	e.mu.Unlock()
	if fence != 0 {
		when = append(slices.Clone(when), clientv3.Compare(clientv3.CreateRevision(e.root+"locks/"+lockCluster), "=", fence))
	}
	for tries := 0; ; tries++ {
		one, done := context.WithTimeout(ctx, max(e.patience/3, time.Second))
		r, err := c.Txn(one).If(when...).Then(ops...).Else(clientv3.OpGet(e.root+"head"), clientv3.OpGet(e.root+"locks/"+lockCluster)).Commit()
		done()
		switch {
		case err == nil && r.Succeeded:
			return nil
		case err == nil:
			return e.refused(r, fence, made)
		case lasts(err):
			return e.unreached(ctx, what, err)
		}
		select {
		case <-ctx.Done():
			err := e.unreached(ctx, what, err)
			if u := (*Unreached)(nil); errors.As(err, &u) {
				u.Unsure = true
			}
			return err
		case <-time.After(betweenTries):
		}
	}
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
