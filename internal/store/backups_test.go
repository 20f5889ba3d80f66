package store

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
)

// What opens the backups is made once, closed, and found again.
func TestBackupsOpenAgain(t *testing.T) {
	s, err := Open(t.TempDir(), "tidewatch", &Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	dir := s.backupDir()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	// One from before lay there in plain: it is taken over, and closed.
	plain, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, identityFile), []byte(plain.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	id, err := s.BackupKey()
	if err != nil || id.String() != plain.String() {
		t.Fatalf("the identity from before was not taken over: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, identityFile)); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the identity still lies there in plain: %v", err)
	}
	again, err := s.BackupKey()
	if err != nil || again.String() != id.String() {
		t.Errorf("the identity came back as another: %v", err)
	}
}

// A backup has its name only when it was read back; nothing half of it stays.
func TestSaveBackup(t *testing.T) {
	s, err := Open(t.TempDir(), "tidewatch", &Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	text := func(w io.Writer) error { _, err := io.WriteString(w, "all of it"); return err }
	same := func(r io.Reader) error {
		if b, err := io.ReadAll(r); err != nil || string(b) != "all of it" {
			t.Errorf("read back is %q, %v", b, err)
		}
		return nil
	}
	bad := errors.New("bad")
	for what, f := range map[string]func() (string, error){
		"it cannot be written": func() (string, error) { return s.SaveBackup("x.backup", func(io.Writer) error { return bad }, same) },
		"it is not right":      func() (string, error) { return s.SaveBackup("x.backup", text, func(io.Reader) error { return bad }) },
	} {
		if _, err := f(); !errors.Is(err, bad) {
			t.Errorf("%s: %v", what, err)
		}
		if es, err := os.ReadDir(s.backupDir()); err != nil || len(es) > 0 {
			t.Errorf("%s: left are %v, %v", what, es, err)
		}
	}
	name, err := s.SaveBackup("x.backup", text, same)
	if got := s.Backups(".backup"); err != nil || len(got) != 1 || got[0] != name {
		t.Fatalf("there are %q, and it is called %q, %v", got, name, err)
	}
	r, err := s.OpenBackup(name)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	same(r)
	if o, err := s.OpensBackups(); err != nil || o.Own != nil || len(o.Beside) > 0 || strings.Contains(fmt.Sprintf("%v %+v %#v", o, o, *o), "SECRET") {
		t.Errorf("before there is a key: %v, %v", o, err)
	}
}

// In a restoration all members are known to each other, and none founds; it is over with one
// write.
func TestRestoring(t *testing.T) {
	s := fresh(t)
	if err := errors.Join(s.SaveFounding([]string{"a", "b"}), s.SaveFacts(Facts{Founded: time.Now()}), s.SaveMember("c", []string{"a", "b", "c"}), s.SaveResting("a", true)); err != nil {
		t.Fatal(err)
	}
	was, err := s.Restoring()
	if err != nil || was != nil {
		t.Fatalf("%+v, %v", was, err)
	}
	want := Restoring{ID: "r1", Backup: "x.backup.age", Since: time.Now().UTC().Truncate(time.Second)}
	if err := s.SaveRestoring(&want, []string{"a", "b", "c"}, nil); err != nil {
		t.Fatal(err)
	}
	r, err := s.Restoring()
	founders, ferr := s.Founders()
	members, merr := s.Members()
	resting, rerr := s.Resting()
	if err := errors.Join(err, ferr, merr, rerr); err != nil || r == nil || *r != want || len(founders) != 0 || len(members["c"]) != 3 || len(resting) > 0 {
		t.Errorf("%+v, founders %v, members %v, resting %v, %v", r, founders, members, resting, err)
	}
	// What is remembered of backups is another matter.
	note := BackupNote{Verified: want.Since, Copies: []Copy{{To: "oci://r/x", Digest: "sha256:1", At: want.Since}}}
	if err := s.SaveBackupNote("x.backup.age", &note); err != nil {
		t.Fatal(err)
	}
	if err := s.Restored(Facts{Founded: want.Since}); err != nil {
		t.Fatal(err)
	}
	f, err := s.Facts()
	notes, nerr := s.BackupNotes()
	if r, rerr := s.Restoring(); errors.Join(err, nerr, rerr) != nil || r == nil || !r.Founded || !f.Founded.Equal(want.Since) || len(notes) != 1 || len(notes["x.backup.age"].Copies) != 1 {
		t.Errorf("%+v, %+v, %v, %v", r, f, notes, errors.Join(err, nerr, rerr))
	}
	if err := s.SaveRestoring(nil, nil, nil); err != nil {
		t.Fatal(err)
	}
	if r, err := s.Restoring(); err != nil || r != nil {
		t.Errorf("over: %+v, %v", r, err)
	}
	if err := s.Restored(Facts{}); err == nil {
		t.Error("what is not underway ended")
	}
	for _, err := range s.Check() {
		t.Error(err)
	}
}

// A backup is never written over, also not by one of the same second.
func TestBackupStays(t *testing.T) {
	s := fresh(t)
	save := func(text string) error {
		_, err := s.SaveBackup("x.backup.age", func(w io.Writer) error { _, err := io.WriteString(w, text); return err }, func(io.Reader) error { return nil })
		return err
	}
	if err := save("one"); err != nil {
		t.Fatal(err)
	}
	if err := save("two"); err == nil {
		t.Error("it was written over")
	}
	b, err := os.ReadFile(filepath.Join(s.backupDir(), "x.backup.age"))
	if err != nil || string(b) != "one" {
		t.Errorf("%q, %v", b, err)
	}
}
