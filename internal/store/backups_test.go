package store

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"

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
	if id, err := s.OpensBackups(); id != nil || err != nil {
		t.Errorf("before there is a key: %v, %v", id, err)
	}
}
