package store

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/datastore/datastoretest"
)

func fresh(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.TempDir(), "tidewatch", &Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// everywhere tries something in each place in which a memory can lie.
func everywhere(t *testing.T, try func(t *testing.T, s *Store)) {
	t.Run("in a folder", func(t *testing.T) { try(t, fresh(t)) })
	t.Run("in etcd", func(t *testing.T) { try(t, shared(t)) })
}

// shared is a store in an etcd of its own.
func shared(t *testing.T) *Store {
	t.Helper()
	return sharedAt(t, Server{Endpoints: []string{datastoretest.Alone(t)}, Prefix: "/boards/verbund", Who: "mara"})
}

func sharedAt(t *testing.T, srv Server) *Store {
	t.Helper()
	s := InEtcd(srv, t.TempDir(), "tidewatch", &Keys{Dir: t.TempDir()})
	t.Cleanup(func() { s.Close() })
	if err := s.Make(); err != nil {
		t.Fatal(err)
	}
	return s
}

// again is the same store as another process opens it.
func again(s *Store) *Store {
	folder := filepath.Dir(filepath.Dir(s.Path))
	if e, ok := s.base.(*inEtcd); ok {
		return InEtcd(e.Server, folder, "tidewatch", s.keeper)
	}
	return At(folder, "tidewatch", s.keeper)
}

// change changes what a store remembers, or ends the test.
func change(t *testing.T, s *Store, f func(*memory.State)) {
	t.Helper()
	if err := s.Update(func(st *memory.State) error { f(st); return nil }); err != nil {
		t.Fatal(err)
	}
}

// state is what a store remembers.
func state(t *testing.T, s *Store) *memory.State {
	t.Helper()
	st, err := s.Read()
	if err != nil {
		t.Fatal(err)
	}
	return st
}

// What is remembered is there for whoever opens it next, and changes all or nothing, with keys
// and certificates.
func TestUpdate(t *testing.T) {
	everywhere(t, func(t *testing.T, s *Store) {
		m := memory.Machine{Address: netip.MustParseAddr("127.81.7.10"), Hardware: "02:00", Fingerprint: "SHA256:x"}
		tr := &Trust{Keys: map[string]Secret{"a": Secret("key a"), "b/x": Secret("key b")}, Certs: map[string][]byte{"b/x": []byte("cert b")}}
		if err := s.UpdateWith(TrustChange{Add: tr}, func(st *memory.State) error {
			st.Machines["b"], st.Kubeconfigs["/tmp/k"], st.Counts["gauges"] = m, time.Unix(5, 0).UTC(), 4
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		other := again(s)
		st, err := other.Read()
		if err != nil || st.Machines["b"] != m || !st.Kubeconfigs["/tmp/k"].Equal(time.Unix(5, 0)) || st.Counts["gauges"] != 4 {
			t.Errorf("%+v, %v", st, err)
		}
		// Nothing of a change that fails is there, nor of its keys.
		no := errors.New("no")
		if err := s.UpdateWith(TrustChange{Add: &Trust{Keys: map[string]Secret{"c": Secret("x")}}, Gone: Gone("a")}, func(st *memory.State) error {
			delete(st.Machines, "b")
			return no
		}); !errors.Is(err, no) {
			t.Errorf("error is %v", err)
		}
		if got, err := s.Trust(); err != nil || len(got.Keys) != 2 || got.Keys["a"] == nil || state(t, s).Machines["b"] != m {
			t.Errorf("after a change that failed: %v, %v", got, err)
		}
		if err := s.UpdateWith(TrustChange{Gone: func(id string) bool { return strings.HasPrefix(id, "b/") }}, func(st *memory.State) error {
			st.Forget("b")
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		if got, err := s.Trust(); err != nil || len(got.Certs) != 0 || len(got.Keys) != 1 || len(state(t, s).Machines) != 0 {
			t.Errorf("after forgetting: %v %v", got, err)
		}
		for _, err := range s.Check() {
			t.Error(err)
		}
	})
}

// Who has read before sees what others have changed since, and nothing of what was done with
// what he was told.
func TestReadAgain(t *testing.T) {
	everywhere(t, func(t *testing.T, s *Store) {
		other := again(s)
		var held *memory.State
		if err := s.Update(func(st *memory.State) error {
			st.Numbers["gauges"] = []int{1, 2}
			held = st
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		held.Numbers["gauges"][0], held.Counts["gauges"] = 9, 9
		for range 2 {
			for _, of := range []*Store{s, other} {
				st := state(t, of)
				if !slices.Equal(st.Numbers["gauges"], []int{1, 2}) || len(st.Counts) > 0 {
					t.Errorf("it reads %+v", st)
				}
				st.Numbers["gauges"][0] = 7
			}
		}
		change(t, other, func(st *memory.State) { st.Numbers["gauges"][1] = 3 })
		if n := state(t, s).Numbers["gauges"]; !slices.Equal(n, []int{1, 3}) {
			t.Errorf("after another one's change: %v", n)
		}
		// A change that failed, and keys alone, change nothing of it.
		if err := s.Update(func(st *memory.State) error {
			st.Numbers["gauges"][0] = 5
			return errors.New("no")
		}); err == nil {
			t.Error("it did not fail")
		}
		if err := other.SaveTrust(&Trust{Certs: map[string][]byte{"a": []byte("x")}}); err != nil {
			t.Fatal(err)
		}
		change(t, s, func(st *memory.State) { delete(st.Numbers, "gauges"); st.Counts["forecast"] = 1 })
		if st := state(t, other); len(st.Numbers) > 0 || st.Counts["forecast"] != 1 {
			t.Errorf("after that: %+v", st)
		}
		// In another file of the same name lies something else, whatever counts its changes.
		if err := other.Remove(); err != nil {
			t.Fatal(err)
		}
		if st := state(t, s); len(st.Counts) > 0 {
			t.Errorf("of no file: %+v", st)
		}
		if err := other.Make(); err != nil {
			t.Fatal(err)
		}
		if st := state(t, s); len(st.Counts) > 0 {
			t.Errorf("of a new file: %+v", st)
		}
	})
}

// Of many changes at once none is lost.
func TestUpdatesAtOnce(t *testing.T) {
	everywhere(t, func(t *testing.T, s *Store) {
		var wg sync.WaitGroup
		for i := range 8 {
			wg.Go(func() {
				own := again(s)
				for range 10 {
					if err := own.Update(func(st *memory.State) error {
						st.Counts["all"]++
						st.Counts[fmt.Sprint(i)]++
						return nil
					}); err != nil {
						t.Error(err)
					}
				}
			})
		}
		wg.Wait()
		if st := state(t, s); st.Counts["all"] != 80 || st.Counts["7"] != 10 {
			t.Errorf("counted %v", st.Counts)
		}
	})
}

// A change that changes nothing writes nothing.
func TestNothingChanged(t *testing.T) {
	s := fresh(t)
	change(t, s, func(st *memory.State) { st.Counts["gauges"] = 4 })
	before, err := os.ReadFile(s.Where())
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range []func(*memory.State){func(*memory.State) {}, func(st *memory.State) { st.Counts["gauges"] = 4 }, (*memory.State).Over} {
		change(t, s, f)
		if after, err := os.ReadFile(s.Where()); err != nil || !bytes.Equal(before, after) {
			t.Errorf("it was written to, %v", err)
		}
	}
	change(t, s, func(st *memory.State) { st.Counts["gauges"] = 5 })
	if n := state(t, s).Counts["gauges"]; n != 5 {
		t.Errorf("the count is %d", n)
	}
}

// A memory that is not there is not made by changing it.
func TestUpdateNothing(t *testing.T) {
	everywhere(t, func(t *testing.T, s *Store) {
		if err := s.Remove(); err != nil {
			t.Fatal(err)
		}
		for what, err := range map[string]error{"changed": s.Update(func(*memory.State) error { return nil }),
			"keys": s.SaveTrust(&Trust{Keys: map[string]Secret{"a": Secret("x")}})} {
			if !errors.Is(err, os.ErrNotExist) || s.Exists() {
				t.Errorf("%s: %v", what, err)
			}
		}
		if st, err := s.Read(); err != nil || len(st.Machines) != 0 {
			t.Errorf("%+v, %v", st, err)
		}
	})
}

// A secret does not come out by accident.
func TestSecretsHide(t *testing.T) {
	k := Secret("very secret")
	for _, text := range []string{fmt.Sprint(k), fmt.Sprintf("%v %s %#v %+v", k, k, k, struct{ K Secret }{k})} {
		if strings.Contains(text, "very") {
			t.Errorf("it prints as %q", text)
		}
	}
	if b, err := json.Marshal(map[string]any{"k": k}); err == nil {
		t.Errorf("it marshals as %s", b)
	}
}

func TestLock(t *testing.T) {
	everywhere(t, func(t *testing.T, s *Store) {
		release, err := s.Lock("converge")
		if err != nil {
			t.Fatal(err)
		}
		_, err = s.Lock("teardown")
		var l *Locked
		if !errors.As(err, &l) || l.Holder.Command != "converge" || l.Holder.Process != os.Getpid() {
			t.Errorf("the second lock: %v", err)
		}
		release()
		if release, err = s.Lock("teardown"); err != nil {
			t.Fatal(err)
		}
		release()
	})
}

// A run that began and never ended was cut off, until another one with steps has ended;
// one that only wrote something down explains nothing.
func TestCutOff(t *testing.T) {
	everywhere(t, func(t *testing.T, s *Store) {
		j, err := s.Journal()
		if err != nil {
			t.Fatal(err)
		}
		defer j.Close()
		for i, x := range []struct {
			kind, run string
			cut       bool
		}{{RunBegan, "1", true}, {StepDone, "1", true}, {RunBegan, "access", true}, {Note, "access", true}, {RunEnded, "access", true},
			{RunBegan, "2", true}, {StepBegan, "2", true}, {RunEnded, "2", false}, {RunBegan, "3", true}, {RunEnded, "3", false}} {
			if err := j.Append(Entry{Kind: x.kind, Run: x.run}); err != nil {
				t.Fatal(err)
			}
			es, _, err := s.Entries()
			if cut := CutOff(es); err != nil || cut != x.cut {
				t.Errorf("after entry %d: cut off %v, %v", i, cut, err)
			}
		}
	})
}

// The journal survives a line that was cut off, and lines written at once.
func TestJournal(t *testing.T) {
	s := fresh(t)
	j, err := s.Journal()
	if err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	for i := range 50 {
		wg.Go(func() {
			if err := j.Append(Entry{Kind: StepDone, Step: fmt.Sprint(i), Text: strings.Repeat("x", 500)}); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(s.base.(*inFolder).journalFile(), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteString(`{"kind":"step-do`)
	f.Close()
	es, bad, err := s.Entries()
	if err != nil || len(es) != 50 || bad != 1 {
		t.Errorf("%d entries, %d unreadable, %v", len(es), bad, err)
	}
	// What comes after it is not lost with it, nor after a line that nobody would write.
	for i, junk := range []string{"", strings.Repeat("y", 5<<20) + "\n", "\n"} {
		if f, err = os.OpenFile(s.base.(*inFolder).journalFile(), os.O_APPEND|os.O_WRONLY, 0); err != nil {
			t.Fatal(err)
		}
		f.WriteString(junk)
		f.Close()
		if j, err = s.Journal(); err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(j.Append(Entry{Kind: Note, Text: "after"}), j.Close()); err != nil {
			t.Fatal(err)
		}
		es, bad, err := s.Entries()
		if err != nil || len(es) != 51+i || bad != 1+i || es[50+i].Text != "after" {
			t.Errorf("after %.3q: %d entries, %d unreadable, %v", junk, len(es), bad, err)
		}
	}
}

// A journal that has become large is set aside when a run begins, and read all the same, also by
// whoever has read it before; the one before that goes. Lines are read once.
func TestJournalSetAside(t *testing.T) {
	s := fresh(t)
	note := func(text string) {
		t.Helper()
		j, err := s.Journal()
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(j.Append(Entry{Kind: Note, Text: text}), j.Close()); err != nil {
			t.Fatal(err)
		}
	}
	other := &Store{Path: s.Path, base: &inFolder{dir: s.Path}, keeper: s.keeper}
	same := func(want ...string) {
		t.Helper()
		for who, of := range map[string]*Store{"who writes": s, "who looks": other} {
			es, bad, err := of.Entries()
			var got []string
			for _, e := range es {
				got = append(got, e.Text[:min(len(e.Text), 6)])
			}
			if err != nil || bad > 0 || !slices.Equal(got, want) {
				t.Errorf("%s reads %q, %d unreadable, %v; wanted %q", who, got, bad, err, want)
			}
		}
	}
	large := strings.Repeat("x", mostJournal/3)
	note("first")
	same("first")
	for _, n := range []string{"one   ", "two   ", "three "} {
		note(n + large)
	}
	same("first", "one   ", "two   ", "three ")
	note("second")
	same("first", "one   ", "two   ", "three ", "second")
	read := other.base.(*inFolder).read[1].at
	note("third")
	same("first", "one   ", "two   ", "three ", "second", "third")
	if now := other.base.(*inFolder).read[1].at; read == 0 || now <= read {
		t.Errorf("read to %d, then to %d", read, now)
	}
	for _, n := range []string{"four  ", "five  ", "six   "} {
		note(n + large)
	}
	note("fourth")
	same("second", "third", "four  ", "five  ", "six   ", "fourth")
}

// What an older or a newer program wrote is not read, and not touched.
func TestOtherFormat(t *testing.T) {
	for n, x := range map[int]struct{ text, want string }{
		Format - 1: {string(formatText(Format - 1)), "use the older version"}, Format + 1: {fmt.Sprint(Format+1, " written otherwise"), "use the newer version"},
	} {
		s := fresh(t)
		if err := s.base.update(func(t *tx) error { return t.bucket(tableMeta).Put([]byte(keyFormat), []byte(x.text)) }); err != nil {
			t.Fatal(err)
		}
		_, err := s.Read()
		for _, err := range []error{s.Update(func(*memory.State) error { return nil }), err, s.Make()} {
			var d *Damage
			if err == nil || errors.As(err, &d) || !strings.Contains(err.Error(), fmt.Sprintf("has format %d, and this program knows %d; %s", n, Format, x.want)) {
				t.Errorf("error is %v", err)
			}
		}
	}
}

func TestDamage(t *testing.T) {
	s := fresh(t)
	if err := os.Truncate(s.Where(), 5000); err != nil {
		t.Fatal(err)
	}
	var d *Damage
	if _, err := s.Read(); !errors.As(err, &d) {
		t.Errorf("error is %v", err)
	}
}
