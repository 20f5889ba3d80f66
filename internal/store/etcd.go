package store

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

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
	fences map[string]int64             // locks that are held, with the revision at which they were taken
	last   map[string]map[string][]byte // tables as they were read last
	lastOf string                       // the change after which

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
	if err := datastore.New(e.Endpoints, e.TLS).Reached(ctx); errors.Is(err, datastore.ErrNoTrust) {
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
		why := datastore.New(e.Endpoints, e.TLS).Reached(own)
		if u.Err = why; !errors.Is(why, datastore.ErrNoTrust) {
			u.Err = fmt.Errorf("it has not answered within %s: %w; see that it runs, and is reached from here", e.patience, cmp.Or(why, err))
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

// lasts says whether another try would be answered with the same.
func lasts(err error) bool {
	for _, e := range []error{rpctypes.ErrPermissionDenied, rpctypes.ErrNoSpace, rpctypes.ErrAuthFailed, rpctypes.ErrUserEmpty, rpctypes.ErrCompacted, rpctypes.ErrRequestTooLarge, rpctypes.ErrTooManyOps} {
		if errors.Is(err, e) {
			return true
		}
	}
	return status.Code(err) == codes.Unauthenticated
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
	return e.contend(func(m *moment) error {
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
}

// contend does something that others may be faster with, until they are not.
func (e *inEtcd) contend(f func(m *moment) error) error {
	ctx, cancel := context.WithTimeout(context.Background(), e.patience)
	defer cancel()
	for {
		err := e.steadily(ctx, f)
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
	var ops []clientv3.Op
	for _, below := range []string{"head", "state/", "trust/", "waiting/"} {
		ops = append(ops, clientv3.OpDelete(e.root+below, clientv3.WithPrefix()))
	}
	return e.contend(func(m *moment) error {
		if m.headRev == 0 {
			return nil
		}
		// That there is none any more is as good as having taken it away.
		return m.decide(ops, func(h *head) bool { return h == nil })
	})
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
