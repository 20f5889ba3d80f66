package store

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"verbund/internal/core/memory"
	"verbund/internal/datastore/datastoretest"
)

// moving is a memory in a folder with all that it can have, and an etcd to which it may go.
func moving(t *testing.T) (s *Store, srv Server, want string) {
	t.Helper()
	s, _ = full(t)
	change(t, s, many)
	if _, err := s.BackupKey(); err != nil {
		t.Fatal(err)
	}
	j, err := s.Journal()
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"one", "two", "three"} {
		if err := j.Append(Entry{Kind: Note, Run: "1", Text: text, Who: "tomas"}); err != nil {
			t.Fatal(err)
		}
	}
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
	if want, err = everything(s); err != nil {
		t.Fatal(err)
	}
	return s, Server{Endpoints: []string{datastoretest.Alone(t)}, Prefix: "/boards", Who: "mara"}, want
}

func told() error { return nil }

// copyOf is a clone of a memory's folder, as version control has it.
func copyOf(t *testing.T, s *Store) *Store {
	t.Helper()
	b, err := os.ReadFile(s.Where())
	if err != nil {
		t.Fatal(err)
	}
	c := At(t.TempDir(), "tidewatch", s.keeper)
	if err := errors.Join(os.MkdirAll(c.Path, 0o700), os.WriteFile(c.Where(), b, 0o600)); err != nil {
		t.Fatal(err)
	}
	return c
}

// same says what of a memory is not as it was before it was moved.
func same(t *testing.T, s *Store, want string) {
	t.Helper()
	got, err := everything(s)
	if err != nil || got != want {
		t.Errorf("at %s it reads %.200s, %v", s.Where(), got, err)
	}
	es, bad, err := s.Entries()
	if err != nil || bad > 0 || len(es) != 3 || es[0].Text != "one" || es[2].Text != "three" || es[1].Who != "tomas" {
		t.Errorf("at %s the journal is %+v, %d, %v", s.Where(), es, bad, err)
	}
	if o, err := s.OpensBackups(); err != nil || o.Own == nil {
		t.Errorf("at %s the backups do not open: %v, %v", s.Where(), o, err)
	}
	for _, err := range s.Check() {
		t.Error(err)
	}
}

// A memory goes to an etcd and comes back, as often as one likes, with all that it has. What was
// left behind anywhere is not taken for it.
func TestMove(t *testing.T) {
	s, srv, want := moving(t)
	old := copyOf(t, s)
	there := InEtcd(srv, filepath.Dir(filepath.Dir(s.Path)), "tidewatch", s.keeper)
	defer there.Close()
	for range 2 {
		if err := s.Move(there, told); err != nil {
			t.Fatal(err)
		}
		same(t, there, want)
		if s.Exists() {
			t.Error("it is left where it was")
		}
		var another *Another
		if err := old.Move(there, told); !errors.As(err, &another) || !strings.Contains(err.Error(), "newer than the one here") {
			t.Errorf("an old one in its place: %v", err)
		}
		same(t, there, want)
		if err := there.Move(s, told); err != nil {
			t.Fatal(err)
		}
		same(t, s, want)
		if _, err := there.Read(); err == nil || !strings.Contains(err.Error(), "mara moved it to "+s.Where()) {
			t.Errorf("where it was: %v", err)
		}
		if err := old.Move(there, told); !errors.As(err, &another) || !strings.Contains(err.Error(), "is older than that") {
			t.Errorf("an old one where it was: %v", err)
		}
		if left := keys(t, there, ""); len(left) != 1 {
			t.Errorf("left there: %q", left)
		}
	}
	// One of another cluster of this name stays.
	stranger := fresh(t)
	var another *Another
	if err := s.Move(there, told); err != nil {
		t.Fatal(err)
	}
	if err := stranger.Move(there, told); !errors.As(err, &another) || !strings.Contains(err.Error(), "it is of tidewatch-") {
		t.Errorf("another one: %v", err)
	}
	same(t, there, want)
	if err := At(t.TempDir(), "tidewatch", s.keeper).Move(there, told); err == nil || !strings.Contains(err.Error(), "there is no store") {
		t.Errorf("nothing: %v", err)
	}
	// While somebody works with it, it stays where it is.
	release, err := there.Lock("upgrade")
	if err != nil {
		t.Fatal(err)
	}
	other := again(there)
	defer other.Close()
	var held *Locked
	if err := fresh(t).Move(other, told); !errors.As(err, &held) {
		t.Errorf("while another one holds it: %v", err)
	}
	release()
}

// A move that is cut off goes on: before everybody was told, what was here counts, and what arrived
// is written anew; afterwards, what is there.
func TestMoveIsCutOff(t *testing.T) {
	s, srv, want := moving(t)
	there := InEtcd(srv, filepath.Dir(filepath.Dir(s.Path)), "tidewatch", s.keeper)
	defer there.Close()
	no := errors.New("no")
	if err := s.Move(there, func() error { return no }); !errors.Is(err, no) {
		t.Errorf("error is %v", err)
	}
	if there.Exists() || !s.Exists() {
		t.Error("it went although nobody could be told")
	}
	// Cut off before: half of it is there.
	if err := s.copyTo(there, 1); err != nil {
		t.Fatal(err)
	}
	change(t, s, func(st *memory.State) { st.Counts["gauges"] = 7 })
	want, err := everything(s)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Move(there, told); err != nil {
		t.Fatal(err)
	}
	same(t, there, want)
	// Cut off after everybody was told: both are there.
	if err := there.copyTo(s, 2); err != nil {
		t.Fatal(err)
	}
	if err := s.Finish(there); err != nil {
		t.Fatal(err)
	}
	same(t, s, want)
	if m, err := s.marks(); err != nil || m.arriving || m.moves != 2 {
		t.Errorf("%+v, %v", m, err)
	}
	if _, err := there.Read(); err == nil || !strings.Contains(err.Error(), "moved it to") {
		t.Errorf("what was left: %v", err)
	}
	// On the way back a note of where it went is left before anybody is told: who still looks there is
	// not taken in, and the same move again ends it.
	if err := s.Move(there, told); err != nil {
		t.Fatal(err)
	}
	if err := there.Move(s, func() error { return no }); !errors.Is(err, no) {
		t.Errorf("error is %v", err)
	}
	var went *Went
	if _, err := again(there).Read(); !errors.As(err, &went) {
		t.Errorf("whoever was not told reads it: %v", err)
	}
	if err := there.Move(fresh(t), told); !errors.As(err, &went) {
		t.Errorf("to somewhere else: %v", err)
	}
	if err := there.Move(s, told); err != nil {
		t.Fatal(err)
	}
	same(t, s, want)
	if m, err := s.marks(); err != nil || m.arriving || m.moves != 4 {
		t.Errorf("%+v, %v", m, err)
	}
	// What is no older one is nobody's leftover.
	stranger := fresh(t)
	if err := errors.Join(s.Finish(stranger), s.Finish(s)); err != nil {
		t.Fatal(err)
	}
	if !stranger.Exists() || !s.Exists() {
		t.Error("what is no leftover was taken away")
	}
}

// What stands in the file beside the declaration, and as whom a computer asks, is read back, and
// refused where it leads nowhere.
func TestPlace(t *testing.T) {
	folder, dir := t.TempDir(), t.TempDir()
	a := datastoretest.NewAuthority(t)
	ca, err := os.ReadFile(a.File)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ParsePlace("etcd://10.61.7.2,memory.boards.test:2400,[fd00:7::1]/boards/verbund/")
	if err != nil || p.String() != "etcd://10.61.7.2:2379,memory.boards.test:2400,[fd00:7::1]:2379/boards/verbund" {
		t.Fatalf("%s, %v", p, err)
	}
	if p, err := ReadPlace(folder, "tidewatch"); p != nil || err != nil {
		t.Errorf("of no file: %v, %v", p, err)
	}
	p.Authority, p.ID = string(ca), "tidewatch-7"
	cert, key := a.Pair("mara")
	if err := errors.Join(p.Write(folder, "tidewatch"), p.Keep(dir, Access{Certificate: cert, Key: key})); err != nil {
		t.Fatal(err)
	}
	got, err := ReadPlace(folder, "tidewatch")
	if err != nil || got.String() != p.String() || got.ID != p.ID || got.Authority != p.Authority {
		t.Fatalf("%+v, %v", got, err)
	}
	access, err := got.Kept(dir)
	if err != nil || access.Certificate != cert {
		t.Fatalf("%+v, %v", access, err)
	}
	srv, err := got.Server(access)
	if err != nil || srv.Who != "mara" || srv.Endpoints[1] != "https://memory.boards.test:2400" || srv.TLS.RootCAs == nil || len(srv.TLS.Certificates) != 1 {
		t.Errorf("%+v, %v", srv, err)
	}
	if access, err := got.Kept(t.TempDir()); err != nil || access != (Access{}) {
		t.Errorf("of nobody: %+v, %v", access, err)
	}
	password := filepath.Join(dir, "password")
	if err := os.WriteFile(password, []byte("ebb and flow\r\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	here := &Place{Etcd: []string{"127.0.0.1:2379", "localhost:2380", "[::1]:1"}, Prefix: "/boards"}
	if srv, err := here.Server(Access{User: "mara", PasswordFile: password}); err != nil || srv.Password != "ebb and flow" || srv.Who != "mara" || srv.Endpoints[0] != "http://127.0.0.1:2379" {
		t.Errorf("%+v, %v", srv, err)
	}
	if srv, err := here.Server(Access{}); err != nil || srv.Who == "" {
		t.Errorf("%+v, %v", srv, err)
	}
	broken := *p
	broken.Authority = "x"
	bare := *p
	bare.Authority = ""
	for what, x := range map[string]struct {
		p    *Place
		a    Access
		want string
	}{
		"no authority":            {&bare, Access{}, "say --ca FILE"},
		"a spoilt authority":      {&broken, Access{}, "is no certificate"},
		"no key":                  {p, Access{Certificate: cert}, "needs its key"},
		"another one's key":       {p, Access{Certificate: cert, Key: a.File}, "with the key"},
		"no certificate's file":   {p, Access{Certificate: cert + "x", Key: key}, "the certificate for the memory"},
		"no key's file":           {p, Access{Certificate: cert, Key: key + "x"}, "the key for the memory"},
		"no password":             {p, Access{User: "mara"}, "say --password-file FILE"},
		"no password's file":      {p, Access{User: "mara", PasswordFile: password + "x"}, "the password of mara"},
		"a certificate and no CA": {here, Access{Certificate: cert, Key: key}, "say --ca FILE"},
	} {
		if _, err := x.p.Server(x.a); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", what, err)
		}
	}
	for _, text := range []string{"folder", "etcd://", "etcd:///x", "etcd://a", "etcd://a/", "etcd://a//b", "etcd://a/b c", "etcd://a,,b/x", "etcd://a;b/x", "https://a/b"} {
		if p, err := ParsePlace(text); err == nil {
			t.Errorf("%q is taken as %s", text, p)
		}
	}
	for _, text := range []string{"etcd: [a:1]\nprefix: /x\nid: ../x\n", "etcd: []\nprefix: /x\nid: x\n", "etcd: [a]\nprefix: /x\nid: x\n", "etcd: [a:1]\nprefix: x\nid: x\n", "etcd: [a:1]\nprefix: /x\nid: x\nkey: y\n", "[", ""} {
		if err := os.WriteFile(placeFile(folder, "tidewatch"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if p, err := ReadPlace(folder, "tidewatch"); err == nil || !strings.Contains(err.Error(), "bring it back from version control") {
			t.Errorf("%q is read as %v, %v", text, p, err)
		}
	}
	if err := errors.Join(p.Forget(folder, "tidewatch"), p.Forget(folder, "tidewatch")); err != nil {
		t.Error(err)
	}
}

// Where it says that a memory was brought, no other one is taken for it, and none is made in its
// place: else the cluster would be raised a second time.
func TestWhereItWasBrought(t *testing.T) {
	s, srv, want := moving(t)
	folder := filepath.Dir(filepath.Dir(s.Path))
	srv.ID = "tidewatch-7"
	open := func(change func(*Server)) *Store {
		own := srv
		change(&own)
		o := InEtcd(own, folder, "tidewatch", s.keeper)
		t.Cleanup(func() { o.Close() })
		return o
	}
	same7 := func(*Server) {}
	if err := s.Move(open(same7), told); err != nil {
		t.Fatal(err)
	}
	same(t, open(same7), want)
	for what, x := range map[string]struct {
		change func(*Server)
		want   string
	}{
		"another prefix": {func(s *Server) { s.Prefix = "/elsewhere" }, "no memory of a cluster is at"},
		"another ID":     {func(s *Server) { s.ID = "tidewatch-8" }, "tidewatch-7 instead of tidewatch-8"},
	} {
		o := open(x.change)
		_, err := o.Read()
		if err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v", what, err)
		}
		if err := o.Make(); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: one is made: %v", what, err)
		}
		if !o.Exists() {
			t.Errorf("%s: it is said not to be there", what)
		}
	}
	// When the cluster was torn down it is still the place of its memory.
	there := open(same7)
	if err := there.Remove(); err != nil {
		t.Fatal(err)
	}
	if again := open(same7); again.Exists() {
		t.Error("it exists after it was removed")
	} else if err := again.Make(); err != nil {
		t.Error(err)
	}
}

// Of two who begin at once one holds the lock, and the other is told who does.
func TestPairs(t *testing.T) {
	s := shared(t)
	srv := s.base.(*inEtcd).Server
	srv.Who = "tomas"
	other := InEtcd(srv, t.TempDir(), "tidewatch", s.keeper)
	defer other.Close()
	for i := range 50 {
		type end struct {
			who     string
			release func()
			err     error
		}
		ends := make(chan end, 2)
		for who, of := range map[string]*Store{"mara": s, "tomas": other} {
			go func() {
				release, err := of.Lock("converge")
				ends <- end{who, release, err}
			}()
		}
		a, b := <-ends, <-ends
		if a.err != nil {
			a, b = b, a
		}
		var held *Locked
		if a.err != nil || !errors.As(b.err, &held) || held.Holder.Who != a.who {
			t.Errorf("pair %d: %v and %v", i, a.err, b.err)
		}
		for _, e := range []end{a, b} {
			if e.release != nil {
				e.release()
			}
		}
	}
}
