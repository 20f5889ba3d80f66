package keep

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"

	"verbund/internal/backup"
	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
	"verbund/internal/store"
)

// snapshot is a file as etcd hands it out, with its sum behind it.
func snapshot(t *testing.T, text string) *Plain {
	t.Helper()
	sum := sha256.Sum256([]byte(text))
	f, err := os.CreateTemp(t.TempDir(), "")
	if err == nil {
		_, err = f.Write(append([]byte(text), sum[:]...))
	}
	if err != nil {
		t.Fatal(err)
	}
	return &Plain{File: f, Size: int64(len(text) + len(sum)), Contents: &datastore.Contents{Keys: map[string]int64{}, Revision: 7}}
}

// life is a life of a cluster in a folder, opened with the keys of a person.
func life(t *testing.T, folder, keys string) *session.Session {
	t.Helper()
	st, err := store.Open(folder, "tidewatch", &store.Keys{Dir: keys})
	if err != nil {
		t.Fatal(err)
	}
	s := &session.Session{Cat: versions.Shipped(), Store: st, Parallel: 2, Decl: &declare.Declaration{Name: "tidewatch"}}
	if err := vouch.Ensure(s, sessiontest.Cluster(t, 0), time.Now()); err != nil {
		t.Fatal(err)
	}
	return s
}

func take(t *testing.T, s *session.Session, name string) *Found {
	t.Helper()
	f, err := Keep(s, sessiontest.Cluster(t, 0), Reason{Name: name, Why: "asked for", Version: "v1.37.2"}, snapshot(t, "tides of "+name))
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// reads says what the snapshot of a backup holds, as it opens here.
func reads(s *session.Session, name string) (string, error) {
	b, end, err := Open(s, name)
	if err != nil {
		return "", err
	}
	defer end.Close()
	var out bytes.Buffer
	err = b.Verify(&out)
	return strings.TrimRight(out.String()[:max(0, out.Len()-sha256.Size)], "\x00"), err
}

// A copy that was sent away opens with the key of the store alone: what opens it is inside.
func TestCopyOpensByTheKey(t *testing.T) {
	keys, away := t.TempDir(), t.TempDir()
	s := life(t, t.TempDir(), keys)
	f := take(t, s, "one")
	c, err := Copy(t.Context(), s, f, away)
	if err != nil || c.Checked.IsZero() {
		t.Fatal(c, err)
	}
	key, err := filepath.Glob(keys + "/tidewatch-*.key")
	if err != nil || len(key) != 1 {
		t.Fatal(key, err)
	}
	text, err := os.ReadFile(key[0])
	if err != nil {
		t.Fatal(err)
	}
	ids, err := age.ParseIdentities(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	sent, err := os.ReadFile(filepath.Join(away, f.Name))
	if err != nil {
		t.Fatal(err)
	}
	if b, err := backup.Open(bytes.NewReader(sent), backup.Inside(ids...)); err != nil || b.Manifest.Name != "one" || b.Verify(io.Discard) != nil {
		t.Errorf("by the key alone: %v", err)
	}
	other, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	var none *age.NoIdentityMatchError
	if _, err := backup.Open(bytes.NewReader(sent), backup.Inside(other), backup.Inside()); !errors.As(err, &none) {
		t.Errorf("by another key: %v", err)
	}
	// In a folder that knows nothing of it, with the same keys, it is fetched back and used.
	again := life(t, t.TempDir(), keys)
	if got, err := Fetch(t.Context(), again, filepath.Join(away, f.Name)); err != nil || got.Trouble != nil {
		t.Fatalf("%+v, %v", got, err)
	}
	if text, err := reads(again, f.Name); err != nil || text != "tides of one" {
		t.Errorf("%q, %v", text, err)
	}
	// Without the keys it is there, and why it does not open is said.
	stranger := life(t, t.TempDir(), t.TempDir())
	got, err := Fetch(t.Context(), stranger, filepath.Join(away, f.Name))
	if err != nil || got.Trouble == nil || !strings.Contains(got.Trouble.Error(), "none of the keys that are here opens it") || strings.Contains(got.Trouble.Error(), "no identity matched") {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := Find(stranger, Newest); err == nil || !strings.Contains(err.Error(), "none of the 1 backup") && !strings.Contains(err.Error(), "can be used") || strings.Contains(err.Error(), "has no backup here;") {
		t.Errorf("the newest: %v", err)
	}
}

// Backups of an earlier life of a cluster open as long as its key is there, whatever became of
// its store.
func TestBackupsOfAnEarlierLife(t *testing.T) {
	folder, keys := t.TempDir(), t.TempDir()
	first := take(t, life(t, folder, keys), "first")
	end := func() {
		st, err := store.Open(folder, "tidewatch", &store.Keys{Dir: keys})
		if err != nil {
			t.Fatal(err)
		}
		if err := st.Remove(); err != nil {
			t.Fatal(err)
		}
	}
	end()
	s := life(t, folder, keys)
	second := take(t, s, "second")
	end()
	s = life(t, folder, keys)
	third := take(t, s, "third")
	for _, f := range []*Found{first, second, third} {
		if text, err := reads(s, f.Name); err != nil || text != "tides of "+f.Manifest.Name {
			t.Errorf("%s: %q, %v", f.Name, text, err)
		}
	}
	all, err := All(s)
	if err != nil || len(all) != 3 || all[0].Trouble != nil || all[2].Trouble != nil {
		t.Errorf("%+v, %v", all, err)
	}
}

// What opens the backups goes along when a store is packed for another computer.
func TestPackedWithWhatOpens(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	f := take(t, s, "one")
	p, err := s.Store.(*store.Store).Pack()
	if err != nil {
		t.Fatal(err)
	}
	there := store.At(t.TempDir(), "tidewatch", &store.Keys{Dir: t.TempDir()})
	if err := there.Unpack(p); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(path(s, f.Name))
	if err != nil {
		t.Fatal(err)
	}
	o, err := there.OpensBackups()
	if err != nil || o.Own == nil {
		t.Fatalf("%v, %v", o, err)
	}
	if _, err := backup.Open(bytes.NewReader(b), o.Beside...); err != nil {
		t.Error(err)
	}
}

// What a keeper was left with is another one when what matters of it is: where the control plane is,
// and who opens it; not when a worker is elsewhere.
func TestRestOf(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	c := sessiontest.Cluster(t, 2)
	of := func(c *topology.Cluster) string {
		t.Helper()
		text, err := RestOf(s, c)
		if err != nil {
			t.Fatal(err)
		}
		return text
	}
	moved := func(name string) *topology.Cluster {
		m, ok := c.Machine(name)
		if !ok {
			t.Fatalf("there is no %s", name)
		}
		m.Address = netip.MustParseAddr("127.99.99.99")
		return c.Instead(m)
	}
	if was, err := openers(s); err != nil || len(was) > 0 {
		t.Errorf("before there is a key: %q, %v", was, err)
	}
	key, err := s.Store.BackupKey()
	if err != nil {
		t.Fatal(err)
	}
	if is, err := openers(s); err != nil || len(is) != 1 || is[0] != key.Recipient().String() {
		t.Errorf("who opens it is %q, %v", is, err)
	}
	first := of(c)
	if of(moved("tidewatch-gauges-1")) != first {
		t.Error("a worker that has moved makes it another one")
	}
	if of(moved("tidewatch-control-2")) == first || of(moved("tidewatch-balancer-1")) == first {
		t.Error("it is the same where the control plane is elsewhere")
	}
	files, err := beside(s)
	if err != nil || len(files[MemoryFile]) == 0 || len(files[MemoryKey]) == 0 || len(files[MemoryOpener]) == 0 {
		t.Errorf("beside the snapshot lie %d files, %v", len(files), err)
	}
}

// What is left with the machines that take backups opens in the same way.
func TestRestCarriesWhatOpens(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	files, err := Rest(s, sessiontest.Cluster(t, 0))
	if err != nil {
		t.Fatal(err)
	}
	o, err := s.Store.OpensBackups()
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		switch f.Path {
		case nodeconf.KeeperLabel:
			if !strings.Contains(string(f.Content), `"opener":"`) {
				t.Errorf("the label has no opener: %s", f.Content)
			}
		case nodeconf.KeeperRest:
			if _, err := age.Decrypt(bytes.NewReader(f.Content), backup.Inside(o.Keys...)); err != nil {
				t.Error(err)
			}
		}
	}
}

// A copy that was cut off after it had its name is no obstacle, and is noted; another file of that
// name is, and stays. What a copy on its way has left is taken away.
func TestCopyAgain(t *testing.T) {
	s, away := life(t, t.TempDir(), t.TempDir()), t.TempDir()
	f := take(t, s, "one")
	b, err := os.ReadFile(path(s, f.Name))
	if err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(away, f.Name)
	left, theirs := filepath.Join(away, "20260101-000000-v1.36.3.backup.age.part"), filepath.Join(away, "film.part")
	if err := errors.Join(os.WriteFile(to, b, 0o600), os.WriteFile(left, b, 0o600), os.WriteFile(theirs, b, 0o600)); err != nil {
		t.Fatal(err)
	}
	if _, err := Copy(t.Context(), s, f, away); err != nil {
		t.Fatal(err)
	}
	if again, err := Find(s, "one"); err != nil || len(again.Note.Copies) != 1 {
		t.Errorf("noted is %+v, %v", again, err)
	}
	if err := os.WriteFile(to, []byte("somebody else's"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Copy(t.Context(), s, f, away); err == nil || !strings.Contains(err.Error(), "is there already, and is another one") {
		t.Errorf("over another file: %v", err)
	}
	if got, _ := os.ReadFile(to); string(got) != "somebody else's" {
		t.Error("somebody else's file was written over")
	}
	if err := os.Remove(to); err != nil {
		t.Fatal(err)
	}
	if _, err := Copy(t.Context(), s, f, away); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(left); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("what was left lies there still: %v", err)
	}
	if _, err := os.Stat(theirs); err != nil {
		t.Errorf("a file of somebody else's: %v", err)
	}
	// One that was altered where it lies is not there as it is here.
	if err := os.WriteFile(to, append(b[:len(b)-1:len(b)-1], b[len(b)-1]^1), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Check(t.Context(), s, f, &memory.Copy{To: away}); err == nil || !strings.Contains(err.Error(), "has the digest") {
		t.Errorf("an altered copy: %v", err)
	}
}

// A backup that cannot be read back is none: it gets no name, and nothing of it stays.
func TestReadBack(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	snap := snapshot(t, "tides")
	if _, err := snap.WriteAt([]byte("T"), 0); err != nil { // its sum is another one now
		t.Fatal(err)
	}
	if f, err := Keep(s, sessiontest.Cluster(t, 0), Reason{Version: "v1.37.2"}, snap); err == nil || !strings.Contains(err.Error(), "reading the backup back") {
		t.Errorf("%+v, %v", f, err)
	}
	if left := Names(s); len(left) > 0 {
		t.Errorf("left are %q", left)
	}
}

// A backup is found by a name that is meant for one alone; another cluster's is never used.
func TestFind(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	one, two := take(t, s, "one"), take(t, s, "two")
	if f, err := Find(s, "two"); err != nil || f.Name != two.Name {
		t.Errorf("%+v, %v", f, err)
	}
	if f, err := Find(s, Short(one.Name)); err != nil || f.Name != one.Name {
		t.Errorf("%+v, %v", f, err)
	}
	var none *NotFound
	for name, want := range map[string]string{"20": "2 backups begin with 20", "": "has no backup", "three": "has no backup"} {
		if f, err := Find(s, name); !errors.As(err, &none) || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %+v, %v", name, f, err)
		}
	}
	// What cannot be used here comes last, however new it is.
	other := sessiontest.Cluster(t, 0)
	other.Name = "lampwright"
	three, err := Keep(s, other, Reason{Name: "three", Why: "asked for", Version: "v1.37.2"}, snapshot(t, "tides of another"))
	if err != nil {
		t.Fatal(err)
	}
	if all, err := All(s); err != nil || len(all) != 3 || all[0].Name != two.Name || all[2].Name != three.Name {
		t.Errorf("the list is %+v, %v", all, err)
	}
	if f, err := Find(s, Newest); err != nil || f.Name != two.Name {
		t.Errorf("the newest is %+v, %v", f, err)
	}
	for _, file := range Names(s) {
		if filepath.Base(file) == three.Name {
			if err := os.Remove(file); err != nil {
				t.Fatal(err)
			}
		}
	}
	s.Decl.Name = "lampwright"
	f, err := Find(s, "two")
	if err != nil || !errors.Is(f.Trouble, ErrOther) || Usable(s, two.Name) {
		t.Errorf("another cluster's: %+v, %v", f, err)
	}
	if _, err := Find(s, Newest); err == nil {
		t.Error("another cluster's is the newest")
	}
}

// Without what opens a cluster's own backups none is closed, and why is said.
func TestClosedForNobody(t *testing.T) {
	trouble := errors.New("the store is closed")
	if to, err := ClosedFor(&store.Openers{Trouble: trouble}); !errors.Is(err, trouble) || to != nil {
		t.Errorf("it is closed for %v, %v", to, err)
	}
	if to, err := ClosedFor(&store.Openers{}); !errors.Is(err, ErrClosed) || to != nil {
		t.Errorf("it is closed for %v, %v", to, err)
	}
}

// The last backup stays, and so does one that is being restored.
func TestDrop(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	one, two := take(t, s, "one"), take(t, s, "two")
	if err := Drop(s, []string{one.Name, two.Name}, false); !errors.Is(err, ErrLast) {
		t.Errorf("all of them: %v", err)
	}
	is := &memory.Restoring{ID: "r1", Backup: one.Name, Since: time.Now()}
	sessiontest.Remember(t, s, func(st *memory.State) { st.Restoring = is })
	if err := Drop(s, []string{one.Name}, false); err == nil || !strings.Contains(err.Error(), "is being restored") {
		t.Errorf("one under restoration: %v", err)
	}
	is.Founded = true
	sessiontest.Remember(t, s, func(st *memory.State) { st.Restoring = is })
	if err := Drop(s, []string{one.Name}, false); err != nil || len(Names(s)) != 1 {
		t.Errorf("%v, left are %q", err, Names(s))
	}
	if err := Drop(s, []string{two.Name}, false); !errors.Is(err, ErrLast) {
		t.Errorf("the last one: %v", err)
	}
	if err := Drop(s, []string{two.Name}, true); err != nil || len(Names(s)) != 0 {
		t.Errorf("%v, left are %q", err, Names(s))
	}
}

// A snapshot that is not of the revision that the manifest names is not well.
func TestExamine(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	f := take(t, s, "one")
	if _, err := Verify(context.Background(), s, f, false); err == nil {
		t.Error("what is no snapshot of etcd was found well")
	}
}
