package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"go.etcd.io/etcd/api/v3/etcdserverpb"
	clientv3 "go.etcd.io/etcd/client/v3"

	"verbund/internal/core/memory"
	"verbund/internal/datastore"
	"verbund/internal/datastore/datastoretest"
)

// direct is a connection to the etcd in which a store lies, for looking and for disturbing.
func direct(t *testing.T, s *Store) (*clientv3.Client, *inEtcd) {
	t.Helper()
	e := s.base.(*inEtcd)
	c, err := e.etcd(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return c, e
}

// many changes more than goes into one transaction of etcd.
func many(st *memory.State) {
	for i := range 3 * mostOps {
		st.Machines[fmt.Sprintf("gauges-%d", i)] = memory.Machine{Fingerprint: strings.Repeat("f", 40), Hardware: fmt.Sprint(i)}
	}
}

// keys are those that etcd has below a memory's own.
func keys(t *testing.T, s *Store, below string) []string {
	t.Helper()
	c, e := direct(t, s)
	r, err := c.Get(t.Context(), e.root+below, clientv3.WithPrefix())
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, kv := range r.Kvs {
		out = append(out, strings.TrimPrefix(string(kv.Key), e.root))
	}
	return out
}

// A change that is too large for one transaction is there as a whole or not at all, also for those
// who look while its entries are put in their places, and when whoever made it was cut off then.
func TestLargeChange(t *testing.T) {
	s := shared(t)
	other := again(s)
	change(t, s, func(st *memory.State) { st.Counts["gauges"] = 1 })
	change(t, s, many)
	if st := state(t, other); len(st.Machines) != 3*mostOps || st.Counts["gauges"] != 1 {
		t.Errorf("%d machines", len(st.Machines))
	}
	if left := keys(t, s, "waiting/"); len(left) > 0 {
		t.Errorf("what waited is left: %q", left)
	}
	for _, err := range other.Check() {
		t.Error(err)
	}
	// It is cut off right after it was decided.
	e := s.base.(*inEtcd)
	m, err := e.moment(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := m.do(func(tx *tx) error {
		_, err := s.change(tx, func(st *memory.State) error {
			clear(st.Machines)
			st.Counts["gauges"] = 2
			return nil
		})
		return err
	}); err != nil {
		t.Fatal(err)
	}
	h := head{Changes: append([]string{"cut"}, m.head.Changes...), Waiting: true}
	if err := m.stage("cut"); err != nil {
		t.Fatal(err)
	}
	put, err := m.putHead(h)
	if err != nil {
		t.Fatal(err)
	}
	if err := m.decide([]clientv3.Op{put}, nil); err != nil {
		t.Fatal(err)
	}
	third := again(s)
	for _, of := range []*Store{other, third} {
		if st := state(t, of); len(st.Machines) != 0 || st.Counts["gauges"] != 2 {
			t.Errorf("after the cut: %d machines, %v", len(st.Machines), st.Counts)
		}
	}
	for _, err := range third.Check() {
		t.Error(err)
	}
	// Somebody who was not as fast left parts of a change that never came to be.
	c, _ := direct(t, s)
	if _, err := c.Put(t.Context(), e.root+"waiting/zz/000000", "{}"); err != nil {
		t.Fatal(err)
	}
	change(t, third, func(st *memory.State) { st.Counts["gauges"]++ })
	if st := state(t, other); len(st.Machines) != 0 || st.Counts["gauges"] != 3 {
		t.Errorf("after the next change: %d machines, %v", len(st.Machines), st.Counts)
	}
	if left := append(keys(t, s, "waiting/"), keys(t, s, "state/machines/")...); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
}

// Who was not answered finds out whether his change was made, and makes it once.
func TestNotAnswered(t *testing.T) {
	s := shared(t)
	m, err := s.base.(*inEtcd).moment(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if err := m.do(func(tx *tx) error {
		_, err := s.change(tx, func(st *memory.State) error { st.Counts["gauges"]++; return nil })
		return err
	}); err != nil {
		t.Fatal(err)
	}
	ops, _ := m.ops(m.changes)
	put, err := m.putHead(head{Changes: []string{"mine"}})
	if err != nil {
		t.Fatal(err)
	}
	ops = append(ops, put)
	made := func(h *head) bool { return h != nil && slices.Contains(h.Changes, "mine") }
	for range 2 { // the second is what a try after one that came through finds
		if err := m.decide(ops, made); err != nil {
			t.Fatal(err)
		}
	}
	change(t, s, func(st *memory.State) { st.Counts["forecast"]++ })
	if err := m.decide(ops, made); err != nil { // and what a later one finds, after somebody else's change
		t.Error(err)
	}
	if err := m.decide(ops, func(*head) bool { return false }); !errors.Is(err, errFaster) {
		t.Errorf("what another one was faster with: %v", err)
	}
	if st := state(t, again(s)); st.Counts["gauges"] != 1 || st.Counts["forecast"] != 1 {
		t.Errorf("counted %v", st.Counts)
	}
}

// etcd sees no secret.
func TestEtcdSeesNoSecret(t *testing.T) {
	s := shared(t)
	keep(t, s)
	if _, err := s.BackupKey(); err != nil {
		t.Fatal(err)
	}
	c, e := direct(t, s)
	r, err := c.Get(t.Context(), "", clientv3.WithPrefix())
	if err != nil || len(r.Kvs) < 5 {
		t.Fatalf("%d keys, %v", len(r.Kvs), err)
	}
	for _, kv := range r.Kvs {
		if bytes.Contains(kv.Value, []byte(canary)) || bytes.Contains(kv.Value, []byte("AGE-SECRET")) {
			t.Errorf("%s holds a secret", kv.Key)
		}
		if !strings.HasPrefix(string(kv.Key), e.root) {
			t.Errorf("key %s is not below the memory's own", kv.Key)
		}
	}
	// What opens the backups opens for whoever has the key, on another computer as well.
	there := InEtcd(e.Server, t.TempDir(), "tidewatch", s.keeper)
	defer there.Close()
	own, err := s.BackupKey()
	if err != nil {
		t.Fatal(err)
	}
	if o, err := there.OpensBackups(); err != nil || o.Own == nil || o.Own.String() != own.String() {
		t.Errorf("%v, %v", o, err)
	}
	if got, err := there.Trust(); err != nil || string(got.Keys["cluster-authority"]) != canary {
		t.Errorf("%v, %v", got, err)
	}
}

// Whatever becomes of an entry in etcd, it is what was written, or damage.
func TestDamageInEtcd(t *testing.T) {
	s := shared(t)
	cert, key := pair(t)
	if err := s.SaveTrust(&Trust{Keys: map[string]Secret{"one/proxy": key}, Certs: map[string][]byte{"one/proxy": cert}}); err != nil {
		t.Fatal(err)
	}
	change(t, s, func(st *memory.State) { st.Counts["gauges"], st.Clearing = 4, true })
	want, err := everything(s)
	if err != nil {
		t.Fatal(err)
	}
	c, e := direct(t, s)
	r, err := c.Get(t.Context(), e.root, clientv3.WithPrefix())
	if err != nil {
		t.Fatal(err)
	}
	for _, kv := range r.Kvs {
		key := string(kv.Key)
		if key == e.root+"head" { // is no entry: it says what the last change was
			continue
		}
		for what, op := range map[string]clientv3.Op{"gone": clientv3.OpDelete(key), "changed": clientv3.OpPut(key, string(kv.Value[:len(kv.Value)-1])+"~"), "empty": clientv3.OpPut(key, "")} {
			if _, err := c.Do(t.Context(), op); err != nil {
				t.Fatal(err)
			}
			got, err := everything(again(s))
			var d *Damage
			if !errors.As(err, &d) && (err != nil || got != want) {
				t.Errorf("%s %s: %v", strings.TrimPrefix(key, e.root), what, err)
			}
			if len(again(s).Check()) == 0 {
				t.Errorf("%s %s: a check finds nothing", strings.TrimPrefix(key, e.root), what)
			}
		}
		if _, err := c.Put(t.Context(), key, string(kv.Value)); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := c.Put(t.Context(), e.root+"state/tides/x", "x"); err != nil {
		t.Fatal(err)
	}
	if _, err := again(s).Read(); err == nil || !strings.Contains(err.Error(), "does not know") {
		t.Errorf("a table from elsewhere: %v", err)
	}
	if _, err := c.Delete(t.Context(), e.root+"state/tides/x"); err != nil {
		t.Fatal(err)
	}
	if bad := again(s).Check(); len(bad) > 0 {
		t.Errorf("when all is back: %v", bad)
	}
}

// Who has lost the lock changes nothing any more, and appends nothing; who holds it says who they
// are.
func TestLockIsLost(t *testing.T) {
	s := shared(t)
	srv := s.base.(*inEtcd).Server
	srv.Who = "tomas"
	other := InEtcd(srv, t.TempDir(), "tidewatch", s.keeper)
	defer other.Close()
	release, err := s.Lock("upgrade")
	if err != nil {
		t.Fatal(err)
	}
	j, err := s.Journal()
	if err != nil {
		t.Fatal(err)
	}
	if err := j.Append(Entry{Kind: RunBegan, Run: "1"}); err != nil {
		t.Fatal(err)
	}
	var held *Locked
	if _, err := other.Lock("converge"); !errors.As(err, &held) || held.Holder.Who != "mara" || held.Holder.Host == "" || !strings.Contains(err.Error(), "verbund upgrade, process") {
		t.Errorf("the second lock: %v", err)
	}
	if h, err := other.Holds(); err != nil || h == nil || h.Command != "upgrade" {
		t.Errorf("%+v, %v", h, err)
	}
	// Its lease ends, as it does when nothing was heard for too long.
	c, e := direct(t, s)
	r, err := c.Get(t.Context(), e.root+"locks/lock")
	if err != nil || len(r.Kvs) != 1 || r.Kvs[0].Lease == 0 {
		t.Fatalf("%+v, %v", r, err)
	}
	if _, err := c.Revoke(t.Context(), clientv3.LeaseID(r.Kvs[0].Lease)); err != nil {
		t.Fatal(err)
	}
	if h, err := other.Holds(); err != nil || h != nil {
		t.Errorf("it is held after its lease: %+v, %v", h, err)
	}
	for _, now := range []string{"nobody holds it", "held by verbund converge, process"} {
		var lost *Lost
		if err := s.Update(func(st *memory.State) error { st.Counts["gauges"] = 9; return nil }); !errors.As(err, &lost) || !strings.Contains(err.Error(), now) {
			t.Errorf("a change without the lock: %v", err)
		}
		if err := j.Append(Entry{Kind: StepBegan, Run: "1"}); !errors.As(err, &lost) {
			t.Errorf("an entry without the lock: %v", err)
		}
		if now != "nobody holds it" {
			break
		}
		end, err := other.Lock("converge")
		if err != nil {
			t.Fatal(err)
		}
		defer end()
	}
	release() // takes nothing from whoever holds it now
	if h, err := other.Holds(); err != nil || h == nil || h.Who != "tomas" {
		t.Errorf("%+v, %v", h, err)
	}
	es, bad, err := other.Entries()
	if err != nil || bad > 0 || len(es) != 1 || es[0].Who != "mara" || len(state(t, other).Counts) > 0 {
		t.Errorf("%+v, %d, %v", es, bad, err)
	}
	// Without the lock, what needs none is written again.
	if err := s.Update(func(st *memory.State) error { st.Counts["gauges"] = 9; return nil }); err != nil {
		t.Error(err)
	}
}

// The journal is one, in the order in which etcd took it, and does not grow for ever.
func TestJournalInEtcd(t *testing.T) {
	s := shared(t)
	other := again(s)
	defer other.Close()
	var wg sync.WaitGroup
	for i, of := range []*Store{s, other} {
		wg.Go(func() {
			j, err := of.Journal()
			if err != nil {
				t.Error(err)
				return
			}
			for n := range 20 {
				if err := j.Append(Entry{Kind: Note, Run: fmt.Sprint(i), Text: fmt.Sprint(n)}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	for _, of := range []*Store{s, other} {
		es, bad, err := of.Entries()
		next := map[string]int{}
		for _, e := range es {
			if e.Text != fmt.Sprint(next[e.Run]) {
				t.Errorf("entry %s of run %s comes out of its turn", e.Text, e.Run)
			}
			next[e.Run]++
		}
		if err != nil || bad > 0 || len(es) != 40 {
			t.Fatalf("%d entries, %d unreadable, %v", len(es), bad, err)
		}
	}
	c, e := direct(t, s)
	if _, err := c.Put(t.Context(), e.root+"journal/2-x/000001", "{"); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if es, bad, err := s.Entries(); err != nil || len(es) != 40 || bad != 1 {
			t.Errorf("with one from elsewhere: %d entries, %d unreadable, %v", len(es), bad, err)
		}
	}
	if files, err := s.JournalFiles(); err != nil || bytes.Count(files[Journals[1]], []byte("\n")) != 40 {
		t.Errorf("as a file: %d bytes, %v", len(files[Journals[1]]), err)
	}
	e.most = 30
	if _, err := s.Journal(); err != nil {
		t.Fatal(err)
	}
	if left := keys(t, s, "journal/"); len(left) != 15 {
		t.Errorf("%d entries are left: %q", len(left), left)
	}
	if es, _, err := again(s).Entries(); err != nil || len(es) != 14 || es[13].Text != "19" {
		t.Errorf("%+v, %v", es, err)
	}
}

// A revision that etcd forgets while somebody reads is not missed.
func TestCompactedMeanwhile(t *testing.T) {
	s := shared(t)
	change(t, s, func(st *memory.State) { st.Counts["gauges"] = 4 })
	c, e := direct(t, s)
	tries := 0
	err := e.view(func(tx *tx) error {
		if tries++; tries == 1 {
			m := tx.bucket(tableMeta).(shelved).m
			r, err := c.Put(t.Context(), "/elsewhere", "x")
			if err != nil {
				return err
			}
			if _, err := c.Compact(t.Context(), r.Header.Revision); err != nil {
				return err
			}
			if m.tables[tableSecrets] != nil {
				t.Error("keys are read before they are asked for")
			}
		}
		return tx.table(tableSecrets).each(func(string, []byte) error { return nil })
	})
	if err != nil || tries != 2 {
		t.Errorf("%v after %d tries", err, tries)
	}
}

// What an etcd answers that does not let in, or takes nothing, is said as what it is, and soon.
func TestEtcdRefuses(t *testing.T) {
	a, stranger := datastoretest.NewAuthority(t), datastoretest.NewAuthority(t)
	cfg := datastoretest.Config(t)
	a.Serve(cfg)
	cfg.QuotaBackendBytes = 512 << 10
	at := datastoretest.Endpoint(datastoretest.Start(t, cfg).Config())
	srv := Server{Endpoints: []string{at}, Prefix: "/boards", TLS: a.Client("root"), Who: "root"}
	s := sharedAt(t, srv)
	c, e := direct(t, s)
	ctx := t.Context()
	must := func(_ any, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	// who looks may read, and who is elsewhere nothing; the names are those of their certificates.
	for name, grant := range map[string]struct {
		below string
		may   clientv3.PermissionType
	}{"reader": {e.root, clientv3.PermissionType(clientv3.PermRead)}, "elsewhere": {"/tides/", clientv3.PermissionType(clientv3.PermReadWrite)}} {
		must(c.RoleAdd(ctx, name))
		must(c.RoleGrantPermission(ctx, name, grant.below, clientv3.GetPrefixRangeEnd(grant.below), grant.may))
		must(c.UserAddWithOptions(ctx, name, "", &clientv3.UserAddOptions{NoPassword: true}))
		must(c.UserGrantRole(ctx, name, name))
	}
	must(c.UserAddWithOptions(ctx, "root", "ebb", &clientv3.UserAddOptions{}))
	must(c.UserGrantRole(ctx, "root", "root"))
	must(c.AuthEnable(ctx))
	as := func(change func(*Server)) *Store {
		own := srv
		change(&own)
		s := InEtcd(own, t.TempDir(), "tidewatch", s.keeper)
		s.base.(*inEtcd).patience = 3 * time.Second
		t.Cleanup(func() { s.Close() })
		return s
	}
	said := func(err error, want string) {
		t.Helper()
		var u *Unreached
		if !errors.As(err, &u) || !strings.Contains(err.Error(), want) || u.Unsure {
			t.Errorf("wanted %q, got %v", want, err)
		}
	}
	reader := as(func(s *Server) { s.TLS, s.Who = a.Client("reader"), "reader" })
	if _, err := reader.Read(); err != nil {
		t.Errorf("who may read: %v", err)
	}
	said(reader.Update(func(st *memory.State) error { st.Clearing = true; return nil }), "reader may not do that below /boards")
	if _, err := reader.Lock("converge"); err == nil {
		t.Error("who may only read takes the lock")
	}
	away := as(func(s *Server) { s.TLS, s.Who = a.Client("elsewhere"), "elsewhere" })
	_, err := away.Read()
	said(err, "elsewhere may not do that")
	if !away.Exists() {
		t.Error("what may not be looked at is said to be gone")
	}
	_, err = as(func(s *Server) { s.User, s.Password = "root", "flood" }).Read()
	said(err, "does not let root in")
	_, err = as(func(s *Server) { s.TLS = stranger.Client("root") }).Read()
	said(err, "certificate")
	if !errors.Is(err, datastore.ErrNoTrust) {
		t.Errorf("a stranger's certificate: %v", err)
	}
	nobody := as(func(s *Server) { s.Endpoints = []string{"https://127.0.0.1:1"} })
	_, err = nobody.Read()
	said(err, "has not answered within 3s: dial tcp 127.0.0.1:1: connect: connection refused; see that it runs")
	var u *Unreached
	if bad := nobody.Check(); len(bad) == 0 || !errors.As(bad[0], &u) {
		t.Errorf("a check that could not be made: %v", bad)
	}
	if err := nobody.base.(*inEtcd).write("writing", nil, []clientv3.Op{clientv3.OpPut("x", "y")}, nil); !errors.As(err, &u) || !u.Unsure || !strings.Contains(err.Error(), "not known") {
		t.Errorf("what nobody answered: %v", err)
	}
	// A memory that is full takes nothing, and says so.
	root := as(func(s *Server) { s.User, s.Password = "root", "ebb" })
	rc, _ := direct(t, root)
	for i := 0; ; i++ {
		if _, err := rc.Put(ctx, fmt.Sprintf("/tides/%d", i), strings.Repeat("x", 64<<10)); err != nil {
			break
		}
	}
	said(root.Update(func(st *memory.State) error { st.Clearing = true; return nil }), "is full")
	if st := state(t, root); st.Clearing {
		t.Error("it was written all the same")
	}
	if r, err := rc.AlarmList(ctx); err != nil || len(r.Alarms) != 1 || r.Alarms[0].Alarm != etcdserverpb.AlarmType_NOSPACE {
		t.Errorf("%v, %v", r, err)
	}
}

// Of three members one ends while several people change things: none of it is lost, or done twice.
func TestMemberEnds(t *testing.T) {
	cfgs := datastoretest.Three(t)
	members := datastoretest.StartAll(t, cfgs...)
	srv := Server{Prefix: "/boards", Who: "mara"}
	for _, m := range members {
		srv.Endpoints = append(srv.Endpoints, datastoretest.Endpoint(m.Config()))
	}
	s := sharedAt(t, srv)
	s.base.(*inEtcd).patience = time.Minute
	began := make(chan bool, 4)
	ended := make(chan struct{})
	var wg sync.WaitGroup
	for i := range 4 {
		wg.Go(func() {
			own := again(s)
			own.base.(*inEtcd).patience = time.Minute
			defer own.Close()
			j, err := own.Journal()
			if err != nil {
				t.Error(err)
				return
			}
			for n := range 30 {
				if n == 10 {
					began <- true
					<-ended
				}
				err := own.Update(func(st *memory.State) error {
					st.Counts["all"]++
					st.Counts[fmt.Sprint(i)]++
					return nil
				})
				if err := errors.Join(err, j.Append(Entry{Kind: Note, Run: fmt.Sprint(i), Text: fmt.Sprint(n)})); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	for range 4 {
		<-began
	}
	leader := members[0].Server.Leader()
	for _, m := range members {
		if m.Server.MemberID() == leader {
			go func() {
				close(ended)
				m.Close()
			}()
		}
	}
	wg.Wait()
	last := again(s)
	defer last.Close()
	es, bad, err := last.Entries()
	if st := state(t, last); st.Counts["all"] != 120 || st.Counts["3"] != 30 || len(es) != 120 || bad > 0 || err != nil {
		t.Errorf("counted %v; %d entries, %d unreadable, %v", st.Counts, len(es), bad, err)
	}
	for _, err := range last.Check() {
		t.Error(err)
	}
}

// Everybody who reads meanwhile sees a state that was: what is changed together is seen together.
func TestReadersSeeWhatWas(t *testing.T) {
	s := shared(t)
	ctx, end := context.WithCancel(t.Context())
	defer end()
	var wg sync.WaitGroup
	for range 8 {
		wg.Go(func() {
			own := again(s)
			defer own.Close()
			last := 0
			for ctx.Err() == nil {
				st, err := own.Read()
				if err != nil {
					t.Error(err)
					return
				}
				n := st.Counts["all"]
				if len(st.Machines) != n*40 || n < last && n > 0 {
					t.Errorf("%d machines at count %d, after %d", len(st.Machines), n, last)
				}
				last = n
			}
		})
	}
	for range 8 {
		change(t, s, func(st *memory.State) {
			st.Counts["all"]++
			for range 40 {
				st.Machines[fmt.Sprintf("gauges-%d", len(st.Machines))] = memory.Machine{Hardware: "x"}
			}
		})
	}
	change(t, s, func(st *memory.State) { st.Counts["all"] = 0; clear(st.Machines) }) // more than one transaction takes
	end()
	wg.Wait()
}
