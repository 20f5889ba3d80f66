package store

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What opens the backups is made once, closed, and found again.
func TestBackupsOpenAgain(t *testing.T) {
	s, err := Open(t.TempDir(), "tidewatch", &Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	id, err := s.BackupKey()
	if err != nil {
		t.Fatal(err)
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
