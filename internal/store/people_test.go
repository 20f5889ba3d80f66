package store

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"golang.org/x/crypto/ssh"
)

// aKey is a key of somebody's own, in a file, and its public half.
func aKey(t *testing.T, kind string) (file, public string) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "id")
	if kind == "age" {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(id.String()+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		return file, id.Recipient().String()
	}
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	b, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	sp, err := ssh.NewPublicKey(pub)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, pem.EncodeToMemory(b), 0o600); err != nil {
		t.Fatal(err)
	}
	return file, string(ssh.MarshalAuthorizedKey(sp))
}

// as is a store as somebody opens it, on a computer of theirs.
func as(s *Store, k *Keys) *Store {
	o := again(s)
	o.keeper = k
	return o
}

// Several people open one store, each with a key of their own, and its backups. Who is dismissed
// opens nothing that is closed from then on, also who has kept what there was.
func TestPeople(t *testing.T) {
	everywhere(t, func(t *testing.T, s *Store) {
		keep(t, s)
		first, err := s.BackupKey()
		if err != nil {
			t.Fatal(err)
		}
		files := map[string]string{}
		for name, kind := range map[string]string{"tomas": "ssh", "ines@boards": "age"} {
			file, public := aKey(t, kind)
			if err := s.Admit(Person{Name: name, Recipient: public}); err != nil {
				t.Fatal(err)
			}
			files[name] = file
		}
		opens := func(name string) error {
			o := as(s, &Keys{Dir: t.TempDir(), Unlock: files[name]})
			defer o.Close()
			tr, err := o.Trust()
			if err != nil {
				return err
			}
			if string(tr.Keys["cluster-authority"]) != canary {
				t.Errorf("%s reads %v", name, tr)
			}
			b, err := o.OpensBackups()
			if err == nil && b.Own == nil {
				err = errors.New("the backups do not open")
			}
			return err
		}
		for name := range files {
			if err := opens(name); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		if err := opens("nobody"); err == nil || !strings.Contains(err.Error(), "store people names them") {
			t.Errorf("somebody else: %v", err)
		}
		file, public := aKey(t, "age")
		for what, w := range map[string]struct {
			p    Person
			want string
		}{
			"a name twice": {Person{"tomas", public}, "is admitted already"}, "no name": {Person{"to mas", public}, "is no name"},
			"no key": {Person{"pia", "AGE-SECRET-KEY-1X"}, "opens nothing"}, "a key of another kind": {Person{"pia", "ecdsa-sha2-nistp256 AAAA"}, "opens nothing"},
		} {
			if err := s.Admit(w.p); err == nil || !strings.Contains(err.Error(), w.want) {
				t.Errorf("%s: %v", what, err)
			}
		}
		by := &Keys{}
		if err := s.Protect(by.ByPassphrase("tidewatch-1", "ebb and flow and ebb"), by); err == nil || !strings.Contains(err.Error(), "nothing else can open it") {
			t.Errorf("a passphrase beside their keys: %v", err)
		}
		// Who has been admitted admits others, and is dismissed by them.
		tomas := as(s, &Keys{Unlock: files["tomas"]})
		defer tomas.Close()
		files["pia"] = file
		if err := tomas.Admit(Person{"pia", public}); err != nil {
			t.Fatal(err)
		}
		kept, err := tomas.Protection()
		if err != nil {
			t.Fatal(err)
		}
		old, err := tomas.unlock(kept)
		if err != nil {
			t.Fatal(err)
		}
		pia := as(s, &Keys{Unlock: file})
		defer pia.Close()
		if err := pia.Dismiss("tomas"); err != nil {
			t.Fatal(err)
		}
		if err := pia.Dismiss("tomas"); err == nil || !strings.Contains(err.Error(), "nobody is admitted") {
			t.Errorf("once more: %v", err)
		}
		if err := opens("tomas"); err == nil {
			t.Error("who was dismissed opens it")
		}
		now, err := s.Protection()
		if err != nil || len(now.People) != 2 {
			t.Fatalf("%+v, %v", now, err)
		}
		if key, err := pia.unlock(now); err != nil || string(key) == string(old) {
			t.Errorf("it is closed with the key that tomas has kept: %v", err)
		}
		for _, name := range []string{"pia", "ines@boards"} {
			if err := opens(name); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		// Backups open with another identity, and those from before still with theirs.
		next, err := pia.BackupKey()
		if err != nil || next.String() == first.String() {
			t.Errorf("new backups open for who was dismissed: %v", err)
		}
		o, err := again(s).OpensBackups()
		if err != nil || o.Own.String() != next.String() || len(o.Beside) != 2 || o.Beside[1].(*age.X25519Identity).String() != first.String() {
			t.Errorf("%v, %v", o, err)
		}
		// Closed for somebody else as a whole, it stays open for those who were admitted.
		ssh, public := aKey(t, "ssh")
		by = &Keys{Unlock: ssh}
		p, err := by.BySSHKey("tidewatch-1", public)
		if err == nil {
			err = pia.Protect(p, by)
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := opens("ines@boards"); err != nil {
			t.Error(err)
		}
	})
}

// Beside a passphrase no key opens anything.
func TestNobodyBesideAPassphrase(t *testing.T) {
	s := fresh(t)
	by := &Keys{}
	if err := s.Protect(by.ByPassphrase("tidewatch-1", "ebb and flow and ebb"), by); err != nil {
		t.Fatal(err)
	}
	_, public := aKey(t, "age")
	if err := s.Admit(Person{"pia", public}); err == nil || !strings.Contains(err.Error(), "store protect --key-file") {
		t.Errorf("error is %v", err)
	}
}
