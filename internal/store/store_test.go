package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"verbund/internal/core/rollout"
)

func fresh(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.TempDir(), "tidewatch", &Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestMemory(t *testing.T) {
	s := fresh(t)
	m := Machine{Address: netip.MustParseAddr("127.81.7.10"), Hardware: "02:00", Fingerprint: "SHA256:x"}
	tr := &Trust{Keys: map[string]Secret{"a": Secret("key a"), "b/x": Secret("key b")}, Certs: map[string][]byte{"b/x": []byte("cert b")}}
	for _, err := range []error{s.SaveMachine("b", m), s.SaveMember("b", []string{"a", "b"}), s.SaveTrust(tr), s.SaveResting("b", true), s.SaveFacts(Facts{Endpoint: "api.test"}), s.SaveKubeconfig("/tmp/k", time.Unix(5, 0))} {
		if err != nil {
			t.Fatal(err)
		}
	}
	ms, err := s.Machines()
	if err != nil || ms["b"] != m {
		t.Errorf("machines %v, %v", ms, err)
	}
	if one, known, err := s.Machine("b"); err != nil || !known || one != m {
		t.Errorf("machine %v, %v, %v", one, known, err)
	}
	if _, known, err := s.Machine("a"); err != nil || known {
		t.Errorf("a machine that nobody saved: %v, %v", known, err)
	}
	f, err := s.Facts()
	if err != nil || f == nil || f.Endpoint != "api.test" {
		t.Errorf("facts %v, %v", f, err)
	}
	if err := s.ForgetMachine("b"); err != nil {
		t.Fatal(err)
	}
	ms, _ = s.Machines()
	mb, _ := s.Members()
	rs, _ := s.Resting()
	got, err := s.Trust()
	if err != nil || len(ms)+len(mb)+len(rs)+len(got.Certs) != 0 || len(got.Keys) != 1 {
		t.Errorf("after forgetting: %v %v %v %v %v", ms, mb, rs, got.Keys, err)
	}
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
	s := fresh(t)
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
}

// A run that began and never ended was cut off, until another one with steps has ended;
// one that only wrote something down explains nothing.
func TestCutOff(t *testing.T) {
	s := fresh(t)
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
		if cut, err := s.CutOff(); err != nil || cut != x.cut {
			t.Errorf("after entry %d: cut off %v, %v", i, cut, err)
		}
	}
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
	f, err := os.OpenFile(s.JournalFile(), os.O_APPEND|os.O_WRONLY, 0)
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
		if f, err = os.OpenFile(s.JournalFile(), os.O_APPEND|os.O_WRONLY, 0); err != nil {
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
	other := &Store{Path: s.Path, keeper: s.keeper}
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
	read := other.read[1].at
	note("third")
	same("first", "one   ", "two   ", "three ", "second", "third")
	if now := other.read[1].at; read == 0 || now <= read {
		t.Errorf("read to %d, then to %d", read, now)
	}
	for _, n := range []string{"four  ", "five  ", "six   "} {
		note(n + large)
	}
	note("fourth")
	same("second", "third", "four  ", "five  ", "six   ", "fourth")
}

// A store from before there were roll-outs is read as it is, has none, and gets its tables
// when it is next changed.
func TestFormatWithoutRollouts(t *testing.T) {
	s := fresh(t)
	if err := s.SaveCount("gauges", 4); err != nil {
		t.Fatal(err)
	}
	if err := s.update(func(tx *tx) error {
		for name, n := range since {
			if n > 3 {
				if err := tx.DeleteBucket([]byte(name)); err != nil {
					return err
				}
			}
		}
		return tx.Bucket(bucketMeta).Put([]byte("format"), formatText(3))
	}); err != nil {
		t.Fatal(err)
	}
	held, err := s.Held()
	waves, werr := s.OpenWaves()
	numbers, nerr := s.Numbers()
	if err := errors.Join(err, werr, nerr); err != nil || held != nil || len(waves)+len(numbers) > 0 {
		t.Errorf("held %v, waves %v, numbers %v, %v", held, waves, numbers, err)
	}
	want := map[string][]int{"gauges": {4, 2}}
	if err := s.SaveNumbers(want); err != nil {
		t.Fatal(err)
	}
	counts, err := s.Counts()
	if got, nerr := s.Numbers(); errors.Join(err, nerr) != nil || !reflect.DeepEqual(got, want) || counts["gauges"] != 4 {
		t.Errorf("numbers %v, counts %v, %v", got, counts, errors.Join(err, nerr))
	}
	for _, err := range s.Check() {
		t.Error(err)
	}
}

// A hold is over when a person says so: then the wave for which it was declared does not
// hold again. A roll-out that is over leaves nothing behind but a person's hold.
func TestHeldRollout(t *testing.T) {
	s := fresh(t)
	open := rollout.Open{Number: 2, Machines: []string{"gauges-1"}, Trial: true, Soaked: true}
	declared := &Held{Since: time.Unix(7, 0).UTC(), By: ByDeclaration, Group: "gauges", Why: "declared"}
	if err := errors.Join(s.SaveOpen("gauges", open), s.SaveOpen("forecast", open), s.SaveSpared("gauges-3", &Spared{Group: "gauges", Why: "disk"}), s.SaveHeld(declared)); err != nil {
		t.Fatal(err)
	}
	if h, err := s.Held(); err != nil || !reflect.DeepEqual(h, declared) {
		t.Errorf("held %+v, %v", h, err)
	}
	if err := s.SaveHeld(nil); err != nil {
		t.Fatal(err)
	}
	waves, err := s.OpenWaves()
	if h, herr := s.Held(); errors.Join(err, herr) != nil || h != nil || !waves["gauges"].Held || waves["forecast"].Held || waves["gauges"].Number != 2 {
		t.Errorf("after a person's word: held %v, waves %+v, %v", h, waves, errors.Join(err, herr))
	}
	if err := errors.Join(s.SaveHeld(&Held{By: ByPerson}), s.RolledOut()); err != nil {
		t.Fatal(err)
	}
	waves, err = s.OpenWaves()
	spared, serr := s.Spared()
	if h, herr := s.Held(); errors.Join(err, serr, herr) != nil || h == nil || len(waves)+len(spared) > 0 {
		t.Errorf("when it is over: held %v, waves %v, spared %v, %v", h, waves, spared, errors.Join(err, serr, herr))
	}
}

func TestNewerFormat(t *testing.T) {
	s := fresh(t)
	if err := s.update(func(t *tx) error { return t.Bucket(bucketMeta).Put([]byte("format"), []byte("7 later")) }); err != nil {
		t.Fatal(err)
	}
	for _, err := range []error{s.SaveMember("a", []string{"a"}), func() error { _, err := s.Machines(); return err }()} {
		if err == nil || !strings.Contains(err.Error(), "format 7") {
			t.Errorf("error is %v", err)
		}
	}
}

func TestDamage(t *testing.T) {
	s := fresh(t)
	if err := os.Truncate(s.file(), 5000); err != nil {
		t.Fatal(err)
	}
	var d *Damage
	if _, err := s.Machines(); !errors.As(err, &d) {
		t.Errorf("error is %v", err)
	}
}

// A cleared cluster keeps what proves it the same one, and nothing of its life.
func TestForgetFounding(t *testing.T) {
	s, err := Open(t.TempDir(), "tidewatch", &Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(s.SaveFacts(Facts{Endpoint: "api.tidewatch.test", Members: "apart", PerNode: 128}))
	must(s.SaveTrust(&Trust{Keys: map[string]Secret{"cluster-authority": Secret("k")}, Certs: map[string][]byte{"cluster-authority": []byte("c")}}))
	must(s.SaveMachine("one", Machine{Fingerprint: "SHA256:x"}))
	must(s.SaveMember("one", []string{"one"}))
	must(s.SaveResting("one", true))
	must(s.SaveCount("gauges", 4))
	if f, err := s.Facts(); err != nil || f.Members != "apart" || f.PerNode != 128 {
		t.Errorf("facts %+v, %v", f, err)
	}
	must(s.ForgetFounding())
	state := func() string {
		t.Helper()
		f, err1 := s.Facts()
		tr, err2 := s.Trust()
		ms, err3 := s.Machines()
		mem, err4 := s.Members()
		rest, err5 := s.Resting()
		counts, err6 := s.Counts()
		clearing, err7 := s.Clearing()
		must(errors.Join(err1, err2, err3, err4, err5, err6, err7))
		return fmt.Sprintf("%v %d %s %d %d %d %v", f != nil, len(tr.Keys), ms["one"].Fingerprint, len(mem), len(rest), counts["gauges"], clearing)
	}
	if got := state(); got != "false 1 SHA256:x 0 0 4 true" {
		t.Errorf("after forgetting: %s", got)
	}
	must(s.Cleared())
	if got := state(); got != "false 1 SHA256:x 0 0 4 false" {
		t.Errorf("after clearing: %s", got)
	}
	must(s.ForgetFounding())
	must(s.SaveFacts(Facts{}))
	if got := state(); got != "true 1 SHA256:x 0 0 4 false" {
		t.Errorf("after founding again: %s", got)
	}
}
