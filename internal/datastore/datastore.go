// Package datastore is etcd seen from outside: its members, their health, and
// snapshots.
package datastore

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"
)

// Member is one member of the datastore.
type Member struct {
	ID      uint64
	Name    string // empty before it has started for the first time
	Peer    string // its peer URL
	Learner bool
	Leads   bool // the one that was asked says so
	Healthy bool
	Trouble string
}

// Client talks to a datastore.
type Client struct {
	tls       *tls.Config
	endpoints []string
	dial      Dial
}

// Dial connects to an address, as net.Dialer.DialContext does.
type Dial func(ctx context.Context, network, addr string) (net.Conn, error)

// New is a client of the members at endpoints, of which some may be down.
func New(endpoints []string, t *tls.Config) *Client { return &Client{tls: t, endpoints: endpoints} }

// Through is New, for whoever connects in another way.
func Through(endpoints []string, t *tls.Config, dial Dial) *Client {
	return &Client{t, endpoints, dial}
}

// Open is a client of etcd for all of the members.
func (c *Client) Open(ctx context.Context) (*clientv3.Client, error) {
	return c.open(ctx, c.endpoints...)
}

func (c *Client) open(ctx context.Context, endpoints ...string) (*clientv3.Client, error) {
	cfg := clientv3.Config{Context: ctx, Endpoints: endpoints, TLS: c.tls, DialTimeout: 3 * time.Second, Logger: zap.NewNop()}
	if c.dial != nil {
		cfg.DialOptions = []grpc.DialOption{grpc.WithContextDialer(func(ctx context.Context, addr string) (net.Conn, error) { return c.dial(ctx, "tcp", addr) })}
	}
	return clientv3.New(cfg)
}

// ErrNoQuorum says that no member can decide anything.
var ErrNoQuorum = errors.New("the datastore has no quorum: less than half of its members answer")

// ErrNoTrust says that members answer, and that they and whoever asks do not accept each other's
// certificates: nothing is known of the quorum then.
var ErrNoTrust = errors.New("the datastore's members answer, and one side does not accept the other's certificate")

// Unanswered says why nobody has answered what only a majority can: none decides, or nobody was
// let in to ask.
func (c *Client) Unanswered(ctx context.Context, err error) error {
	if errors.Is(err, rpctypes.ErrPermissionDenied) || errors.Is(err, rpctypes.ErrUserEmpty) || ctx.Err() != nil {
		return err
	}
	if refused := c.Reached(ctx); errors.Is(refused, ErrNoTrust) {
		return refused
	}
	return fmt.Errorf("%w (%w)", ErrNoQuorum, err)
}

// Reached is nil if a member lets this client in; ErrNoTrust where members answer, and none does or
// none is whom it asks for; else why nobody answers.
func (c *Client) Reached(ctx context.Context) error {
	why := make([]error, len(c.endpoints))
	var wg sync.WaitGroup
	for i, e := range c.endpoints {
		wg.Go(func() { why[i] = c.shakeHands(ctx, e) })
	}
	wg.Wait()
	var refused error
	for _, w := range why {
		if w == nil {
			return nil // somebody would answer, if it could
		}
		if isTrust(w) {
			refused = w
		}
	}
	if refused != nil {
		return fmt.Errorf("%w: %w", ErrNoTrust, refused)
	}
	return errors.Join(why...)
}

// isTrust says whether a handshake ended since one side did not accept the other.
func isTrust(err error) bool {
	var verify *tls.CertificateVerificationError
	var op *net.OpError
	return errors.As(err, &verify) || errors.As(err, &op) && op.Op == "remote error" // an alert, as crypto/tls has it
}

// shakeHands connects to a member, and waits for its first word, as who is let in gets.
func (c *Client) shakeHands(ctx context.Context, endpoint string) error {
	ctx, cancel := context.WithTimeout(ctx, reachTimeout)
	defer cancel()
	conn, u, err := c.reach(ctx, endpoint)
	if err != nil {
		return err
	}
	defer conn.Close()
	if u.Scheme != "https" || c.tls == nil {
		return nil
	}
	own := c.tls.Clone()
	own.ServerName, own.NextProtos = u.Hostname(), []string{"h2"}
	t := tls.Client(conn, own)
	if err := t.HandshakeContext(ctx); err != nil {
		return err
	}
	// Whom a server does not accept it tells after its own handshake (RFC 8446, 4.4.2.4).
	if until, ok := ctx.Deadline(); ok {
		t.SetReadDeadline(until)
	}
	_, err = t.Read(make([]byte, 1))
	return err
}

// reach connects to where a member listens.
func (c *Client) reach(ctx context.Context, endpoint string) (net.Conn, *url.URL, error) {
	u, err := url.Parse(endpoint)
	if err != nil {
		return nil, nil, fmt.Errorf("endpoint %q: %w", endpoint, err)
	}
	dial := c.dial
	if dial == nil {
		dial = (&net.Dialer{}).DialContext
	}
	conn, err := dial(ctx, "tcp", u.Host)
	return conn, u, err
}

// healthTimeout is how long a member may take to answer. A commit waits for a
// disk and for the other members; on a busy computer that takes seconds.
const healthTimeout = 5 * time.Second

// reachTimeout is how long a member may take to take a connection.
const reachTimeout = 2 * time.Second

// Health asks the member at an endpoint whether it can commit. One at which
// nobody listens is found out at once: etcd's client would go on trying.
func (c *Client) Health(ctx context.Context, endpoint string) error {
	reach, reached := context.WithTimeout(ctx, reachTimeout)
	defer reached()
	conn, _, err := c.reach(reach, endpoint)
	if err != nil {
		return err
	}
	conn.Close()
	cl, err := c.open(ctx, endpoint)
	if err != nil {
		return err
	}
	defer cl.Close()
	ctx, cancel := context.WithTimeout(ctx, healthTimeout)
	defer cancel()
	st, err := cl.Status(ctx, endpoint)
	if err != nil {
		return err
	}
	if st.IsLearner {
		return nil
	}
	_, err = cl.Get(ctx, "health")
	return err
}

// Members lists the members with their health, asked in parallel. peers maps
// a member's peer URL to its client endpoint and name. Without a quorum it is
// ErrNoQuorum: who goes by the list to change something needs the one that counts.
func (c *Client) Members(ctx context.Context, peers map[string]Member) ([]Member, error) {
	return c.members(ctx, peers)
}

// Recalled lists the members as any one of them has them on its disk, with
// their health: what can be known while nobody leads, which lasts a moment when
// the leader went, and for good when the quorum is lost. It may be out of date.
func (c *Client) Recalled(ctx context.Context, peers map[string]Member) ([]Member, error) {
	return c.members(ctx, peers, clientv3.WithSerializable())
}

func (c *Client) members(ctx context.Context, peers map[string]Member, how ...clientv3.OpOption) ([]Member, error) {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return nil, err
	}
	defer cl.Close()
	lctx, cancel := context.WithTimeout(ctx, 4*time.Second)
	defer cancel()
	r, err := cl.MemberList(lctx, how...)
	if err != nil {
		return nil, c.Unanswered(ctx, err)
	}
	out := make([]Member, len(r.Members))
	var leader uint64
	var wg sync.WaitGroup
	for i, m := range r.Members {
		out[i] = Member{ID: m.ID, Name: m.Name, Learner: m.IsLearner}
		if len(m.PeerURLs) > 0 {
			out[i].Peer = m.PeerURLs[0]
		}
		if p, ok := peers[out[i].Peer]; ok && out[i].Name == "" {
			out[i].Name = p.Name
		}
		if len(m.ClientURLs) == 0 {
			out[i].Trouble = "it has not started yet"
			continue
		}
		wg.Go(func() {
			if err := c.Health(ctx, m.ClientURLs[0]); err != nil {
				out[i].Trouble = err.Error()
			} else {
				out[i].Healthy = true
			}
		})
	}
	wg.Add(1)
	go func() {
		defer wg.Done()
		leader = c.leader(ctx, cl)
	}()
	wg.Wait()
	for i := range out {
		out[i].Leads = leader != 0 && out[i].ID == leader
	}
	return out, nil
}

// Condition is how a member is inside.
type Condition struct {
	ID          uint64
	Alarms      []string // as etcd names them: NOSPACE, CORRUPT
	Size, Quota int64    // bytes of its file, and that it may have; 0 if it does not say
	Behind      uint64   // entries that the leader has committed and it has not taken
}

// Conditions asks every voting member how it is inside. One that does not answer is left out,
// with the reason in the second result by its ID.
func (c *Client) Conditions(ctx context.Context) ([]Condition, map[uint64]error, error) {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return nil, nil, err
	}
	defer cl.Close()
	asked := ctx
	ctx, cancel := context.WithTimeout(ctx, healthTimeout)
	defer cancel()
	ms, err := cl.MemberList(ctx)
	if err != nil {
		return nil, nil, c.Unanswered(asked, err)
	}
	alarms, err := cl.AlarmList(ctx)
	if err != nil {
		return nil, nil, err
	}
	raised := map[uint64][]string{}
	for _, a := range alarms.Alarms {
		raised[a.MemberID] = append(raised[a.MemberID], a.Alarm.String())
	}
	var out []Condition
	var committed []uint64
	silent := map[uint64]error{}
	most := uint64(0)
	for _, m := range ms.Members {
		if m.IsLearner || len(m.ClientURLs) == 0 {
			continue
		}
		st, err := cl.Status(ctx, m.ClientURLs[0])
		if err != nil {
			silent[m.ID] = err
			continue
		}
		out = append(out, Condition{ID: m.ID, Alarms: raised[m.ID], Size: st.DbSize, Quota: st.DbSizeQuota})
		committed = append(committed, st.RaftAppliedIndex)
		most = max(most, st.RaftIndex)
	}
	for i := range out {
		out[i].Behind = most - min(most, committed[i])
	}
	return out, silent, nil
}

// leader asks whoever answers who leads; 0 if nobody says.
func (c *Client) leader(ctx context.Context, cl *clientv3.Client) uint64 {
	ctx, cancel := context.WithTimeout(ctx, reachTimeout)
	defer cancel()
	for _, e := range c.endpoints {
		if st, err := cl.Status(ctx, e); err == nil {
			return st.Leader
		}
	}
	return 0
}

// AddLearner makes a member known that does not vote yet. One that is known
// already is left as it is. Right after another change etcd refuses until all
// members have been connected for five seconds; that is waited for.
func (c *Client) AddLearner(ctx context.Context, peer string) error {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return err
	}
	defer cl.Close()
	return steady(ctx, func() error {
		_, err := cl.MemberAddAsLearner(ctx, []string{peer})
		if errors.Is(err, rpctypes.ErrPeerURLExist) || errors.Is(err, rpctypes.ErrMemberExist) {
			return nil
		}
		return err
	})
}

// steady tries a change of the membership again while etcd says that it is too
// early for one, or when the member that was asked went away underway: as the one
// does that is being taken out. Whether it was done shows when it is asked again.
func steady(ctx context.Context, change func() error) error {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		err := change()
		if !errors.Is(err, rpctypes.ErrUnhealthy) && !errors.Is(err, rpctypes.ErrTooManyLearners) && !gone(err) {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-tick.C:
		}
	}
}

// gone says whether the member that was asked stopped before it answered.
func gone(err error) bool {
	var said rpctypes.EtcdError
	if errors.As(err, &said) {
		return errors.Is(err, rpctypes.ErrStopped)
	}
	return status.Code(err) == codes.Unavailable
}

// Promote gives a learner its vote, as soon as it has caught up.
func (c *Client) Promote(ctx context.Context, peer string) error {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return err
	}
	defer cl.Close()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		r, err := cl.MemberList(ctx)
		if err != nil {
			return err
		}
		found := false
		for _, m := range r.Members {
			if len(m.PeerURLs) > 0 && m.PeerURLs[0] == peer {
				if found = true; !m.IsLearner {
					return nil
				}
				_, err = cl.MemberPromote(ctx, m.ID)
			}
		}
		if !found {
			return fmt.Errorf("there is no member at %s", peer)
		}
		if err != nil && !errors.Is(err, rpctypes.ErrMemberLearnerNotReady) && ctx.Err() != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the learner has not caught up: %w", ctx.Err())
		case <-tick.C:
		}
	}
}

// Remove takes a member out. One that is not there is out already.
func (c *Client) Remove(ctx context.Context, id uint64) error {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return err
	}
	defer cl.Close()
	return steady(ctx, func() error {
		// The one that was asked may be the one that goes: its answer is then lost, and
		// the connection may stand for as long as nobody gives it up.
		tctx, cancel := context.WithTimeout(ctx, removeTimeout)
		defer cancel()
		_, err := cl.MemberRemove(tctx, id)
		switch {
		case errors.Is(err, rpctypes.ErrMemberNotFound):
			return nil
		case err != nil && tctx.Err() != nil && ctx.Err() == nil:
			return status.Errorf(codes.Unavailable, "no answer within %s", removeTimeout)
		}
		return err
	})
}

// removeTimeout is how long one try to take a member out may go without an answer; etcd
// itself gives a change up after five seconds and an election.
const removeTimeout = 10 * time.Second

// Move tells the others at which address a member is now.
func (c *Client) Move(ctx context.Context, id uint64, peer string) error {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return err
	}
	defer cl.Close()
	return steady(ctx, func() error {
		_, err := cl.MemberUpdate(ctx, id, []string{peer})
		return err
	})
}

// Snapshot hands the datastore's state to take, with how many bytes it has: the last
// 32 are the sum of the others.
func (c *Client) Snapshot(ctx context.Context, take func(size int64, r io.Reader) error) error {
	var last error
	for _, e := range c.endpoints {
		if last = c.Health(ctx, e); last != nil {
			continue
		}
		cl, err := c.open(ctx, e)
		if err != nil {
			return err
		}
		defer cl.Close()
		// The client's own Snapshot does not say how much is to come.
		s, err := etcdserverpb.NewMaintenanceClient(cl.ActiveConnection()).Snapshot(ctx, &etcdserverpb.SnapshotRequest{})
		if err != nil {
			return err
		}
		first, err := s.Recv()
		if err != nil {
			return err
		}
		return take(int64(len(first.Blob))+int64(first.RemainingBytes)+sha256.Size, &pieces{s, first.Blob})
	}
	return fmt.Errorf("no member could give a snapshot: %w", last)
}

// pieces reads what a member sends piece by piece.
type pieces struct {
	from etcdserverpb.Maintenance_SnapshotClient
	left []byte
}

func (p *pieces) Read(b []byte) (int, error) {
	for len(p.left) == 0 {
		r, err := p.from.Recv()
		if err != nil {
			return 0, err
		}
		p.left = r.Blob
	}
	n := copy(b, p.left)
	p.left = p.left[n:]
	return n, nil
}

// Heads reads the first bytes of every value under a prefix whose key has a
// part: enough to see how it is encrypted, and no more.
func (c *Client) Heads(ctx context.Context, prefix, part string, n int) ([]string, error) {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return nil, err
	}
	defer cl.Close()
	keys, err := cl.Get(ctx, prefix, clientv3.WithPrefix(), clientv3.WithKeysOnly())
	if err != nil {
		return nil, err
	}
	var out []string
	for _, k := range keys.Kvs {
		if !strings.Contains(string(k.Key), part) {
			continue
		}
		v, err := cl.Get(ctx, string(k.Key))
		if err != nil {
			return nil, err
		}
		for _, kv := range v.Kvs {
			out = append(out, string(kv.Value[:min(n, len(kv.Value))]))
		}
	}
	return out, nil
}

// Elected is what the holder of an election has written down, whose candidates stand under a
// key; empty when nobody holds it.
func (c *Client) Elected(ctx context.Context, election string) (string, error) {
	cl, err := c.open(ctx, c.endpoints...)
	if err != nil {
		return "", err
	}
	defer cl.Close()
	// Whoever stood first holds it.
	r, err := cl.Get(ctx, election+"/", clientv3.WithFirstCreate()...)
	if err != nil || len(r.Kvs) == 0 {
		return "", err
	}
	return string(r.Kvs[0].Value), nil
}
