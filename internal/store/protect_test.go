package store

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"verbund/internal/whole"

	"golang.org/x/crypto/ssh"
)

const canary = "canary-of-the-tide-gauge-7731"

func keep(t *testing.T, s *Store) {
	t.Helper()
	if err := s.SaveTrust(&Trust{Keys: map[string]Secret{"cluster-authority": Secret(canary)}, Certs: map[string][]byte{"cluster-authority": []byte("public")}}); err != nil {
		t.Fatal(err)
	}
}

// secret reads the canary with a store that was just opened.
func secret(folder string, k Keeper) (string, error) {
	tr, err := At(folder, "tidewatch", k).Trust()
	if err != nil {
		return "", err
	}
	return string(tr.Keys["cluster-authority"]), nil
}

// hidden fails if the canary is in any file of the store.
func hidden(t *testing.T, folder string) {
	t.Helper()
	filepath.WalkDir(folder, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			if b, _ := os.ReadFile(p); bytes.Contains(b, []byte(canary)) {
				t.Errorf("%s holds the secret in plain", p)
			}
		}
		return nil
	})
}

// A store is protected with a key file at first, without a question; then with
// a passphrase or an SSH key. Whoever has not what opens it learns nothing and
// changes nothing.
func TestProtection(t *testing.T) {
	folder, keys := t.TempDir(), &Keys{Dir: t.TempDir()}
	s, err := Open(folder, "tidewatch", keys)
	if err != nil {
		t.Fatal(err)
	}
	keep(t, s)
	hidden(t, folder)
	if got, err := secret(folder, &Keys{Dir: keys.Dir}); err != nil || got != canary {
		t.Errorf("with the key file: %q, %v", got, err)
	}
	before, _ := os.ReadFile(s.Where())
	refused := func(k *Keys, want string) {
		t.Helper()
		var c *Closed
		if _, err := secret(folder, k); !errors.As(err, &c) || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "nothing was changed") {
			t.Errorf("wanted %q, got %v", want, err)
		}
		if err := At(folder, "tidewatch", k).SaveTrust(&Trust{Keys: map[string]Secret{"cluster-authority": Secret("other")}}); !errors.As(err, &c) {
			t.Errorf("something was saved: %v", err)
		}
		if after, _ := os.ReadFile(s.Where()); !bytes.Equal(before, after) {
			t.Error("the store was changed")
		}
	}
	refused(&Keys{Dir: t.TempDir()}, "is not there")
	other := &Keys{Dir: t.TempDir()}
	np, err := other.New("x", "lampwright")
	if err != nil {
		t.Fatal(err)
	}
	refused(&Keys{Unlock: other.KeyFile(np)}, "not what it was closed with")

	by := &Keys{Dir: keys.Dir}
	if err := s.Protect(by.ByPassphrase("tidewatch", "ebb and flow and ebb"), by); err != nil {
		t.Fatal(err)
	}
	before, _ = os.ReadFile(s.Where())
	if left, _ := filepath.Glob(keys.Dir + "/*.key"); len(left) != 0 {
		t.Errorf("the old key file is left: %v", left)
	}
	asked := 0
	ask := func(answer string) func(string) (string, error) {
		return func(string) (string, error) { asked++; return answer, nil }
	}
	if got, err := secret(folder, &Keys{Ask: ask("ebb and flow and ebb")}); err != nil || got != canary || asked != 1 {
		t.Errorf("with the passphrase: %q, %v, asked %d times", got, err, asked)
	}
	refused(&Keys{Ask: ask("flood")}, "not what it was closed with")
	refused(&Keys{}, "there is nobody to ask")
	hidden(t, folder)

	_, ed, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "id")
	for name, k := range map[string]any{"Ed25519": ed, "RSA": rs} {
		for _, passphrase := range []string{"", "spring tide"} {
			b, err := ssh.MarshalPrivateKey(k, "")
			if passphrase != "" {
				b, err = ssh.MarshalPrivateKeyWithPassphrase(k, "", []byte(passphrase))
			}
			if err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, pem.EncodeToMemory(b), 0o600); err != nil {
				t.Fatal(err)
			}
			sg, err := ssh.NewSignerFromKey(k)
			if err != nil {
				t.Fatal(err)
			}
			by := &Keys{Dir: keys.Dir, Unlock: file, Ask: ask(passphrase)}
			p, err := by.BySSHKey("tidewatch", string(ssh.MarshalAuthorizedKey(sg.PublicKey())))
			if err != nil {
				t.Fatal(err)
			}
			if err := s.Protect(p, by); err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if got, err := secret(folder, &Keys{Unlock: file, Ask: ask(passphrase)}); err != nil || got != canary {
				t.Errorf("with an SSH key (%s, %q): %q, %v", name, passphrase, got, err)
			}
		}
	}
	if _, err := keys.BySSHKey("x", "ecdsa-sha2-nistp256 AAAA"); err == nil {
		t.Error("an ECDSA key is taken")
	}
	hidden(t, folder)
}

// A secret opens only under its own name, and one that was changed not at all.
func TestSealing(t *testing.T) {
	k := make([]byte, 32)
	b, err := seal(k, "a", []byte(canary))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := open(k, "a", b); err != nil || string(got) != canary {
		t.Errorf("%q, %v", got, err)
	}
	if _, err := open(k, "b", b); err == nil {
		t.Error("it opens under another name")
	}
	b[len(b)-1] ^= 1
	if _, err := open(k, "a", b); err == nil {
		t.Error("it opens though it was changed")
	}
	if _, err := open(k, "a", b[:5]); err == nil {
		t.Error("it opens though it was cut off")
	}
}

// A packed store opens on another computer, and never replaces one.
func TestPack(t *testing.T) {
	everywhere(t, func(t *testing.T, s *Store) {
		keep(t, s)
		p, err := s.Pack()
		if err != nil {
			t.Fatal(err)
		}
		folder, keys := t.TempDir(), &Keys{Dir: t.TempDir()}
		if err := At(folder, "tidewatch", keys).Unpack(p); err != nil {
			t.Fatal(err)
		}
		if got, err := secret(folder, keys); err != nil || got != canary {
			t.Errorf("%q, %v", got, err)
		}
		hidden(t, folder)
		if err := At(folder, "tidewatch", keys).Unpack(p); err == nil {
			t.Error("it was unpacked over a store")
		}
		p.Key = make([]byte, 32)
		other := t.TempDir()
		if err := At(other, "tidewatch", keys).Unpack(p); err == nil {
			t.Error("it was unpacked with another key")
		}
		if At(other, "tidewatch", keys).Exists() {
			t.Error("half a store is left")
		}
	})
}

// A store may come from anybody: its ID names a key file, and leads nowhere else.
func TestIDLeadsNowhere(t *testing.T) {
	folder, dir := t.TempDir(), t.TempDir()
	s, err := Open(folder, "tidewatch", &Keys{Dir: filepath.Join(dir, "keys")})
	if err != nil {
		t.Fatal(err)
	}
	victim := filepath.Join(dir, "victim.key")
	if err := os.WriteFile(victim, []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	p, err := s.Protection()
	if err != nil {
		t.Fatal(err)
	}
	p.ID = "../victim"
	meta, err := json.Marshal(p)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.base.update(func(t *tx) error { return t.table(tableMeta).put(keyProtection, meta) }); err != nil {
		t.Fatal(err)
	}
	if p, err := s.Protection(); err == nil || !strings.Contains(err.Error(), `its ID is "../victim"`) {
		t.Errorf("%+v, %v", p, err)
	}
	if err := s.Remove(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(victim); err != nil {
		t.Errorf("the file is gone: %v", err)
	}
}

// A store that is closed anew again and again, while others read it and add to it, loses
// nothing, and is never said to be damaged.
func TestClosedAnewMeanwhile(t *testing.T) {
	folder, dir := t.TempDir(), t.TempDir()
	first, err := Open(folder, "tidewatch", &Keys{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	if err := first.SaveTrust(&Trust{Keys: map[string]Secret{"key": Secret(canary)}}); err != nil {
		t.Fatal(err)
	}
	var wg sync.WaitGroup
	var stop atomic.Bool
	saved := make([]int, 2)
	for w := range saved {
		wg.Go(func() {
			s := At(folder, "tidewatch", &Keys{Dir: dir}) // another process
			for i := 0; !stop.Load(); i++ {
				tr, err := s.Trust()
				if err != nil || string(tr.Keys["key"]) != canary {
					t.Errorf("reading: %v", err)
					return
				}
				if err := s.SaveTrust(&Trust{Keys: map[string]Secret{fmt.Sprintf("%d/%d", w, i): Secret(canary)}}); err != nil {
					t.Errorf("adding: %v", err)
					return
				}
				saved[w]++
			}
		})
	}
	keys := &Keys{Dir: dir}
	for i := range 12 {
		p, err := keys.New(fmt.Sprintf("%08x", i), "tidewatch")
		if err != nil {
			t.Fatal(err)
		}
		if err := first.Protect(p, keys); err != nil {
			t.Fatal(err)
		}
	}
	stop.Store(true)
	wg.Wait()
	tr, err := At(folder, "tidewatch", &Keys{Dir: dir}).Trust()
	if err != nil || len(tr.Keys) != 1+saved[0]+saved[1] || saved[0]+saved[1] == 0 {
		t.Fatalf("%d keys of %v: %v", len(tr.Keys), saved, err)
	}
	for id, k := range tr.Keys {
		if string(k) != canary {
			t.Errorf("%s is another one", id)
		}
	}
}

// Of many that make a store at once and put their first secrets into it, each finds its
// own again: none is closed twice.
func TestMadeByManyAtOnce(t *testing.T) {
	for range 6 {
		folder, dir := t.TempDir(), t.TempDir()
		var wg sync.WaitGroup
		for i := range 5 {
			wg.Go(func() {
				s, err := Open(folder, "tidewatch", &Keys{Dir: dir})
				if err == nil {
					err = s.SaveTrust(&Trust{Keys: map[string]Secret{fmt.Sprint(i): Secret(canary)}})
				}
				if err != nil {
					t.Error(err)
				}
			})
		}
		wg.Wait()
		tr, err := At(folder, "tidewatch", &Keys{Dir: dir}).Trust()
		if err != nil || len(tr.Keys) != 5 {
			t.Fatalf("%+v, %v", tr, err)
		}
		for id, k := range tr.Keys {
			if string(k) != canary {
				t.Errorf("%s is another one", id)
			}
		}
		if left := whole.Named(filepath.Join(folder, Dir, "tidewatch"), ".new"); len(left) > 0 {
			t.Errorf("left behind: %v", left)
		}
		if keys := whole.Named(dir, ".key"); len(keys) != 1 {
			t.Errorf("key files: %v", keys)
		}
	}
}

// Where a store cannot be looked at, which key file is its own is not known, and nothing of it is
// removed: neither the store without the key, nor the other way round.
func TestRemoveUnseen(t *testing.T) {
	folder, dir := t.TempDir(), t.TempDir()
	s, err := Open(folder, "tidewatch", &Keys{Dir: dir})
	if err != nil {
		t.Fatal(err)
	}
	aside := s.Where() + ".aside"
	if err := errors.Join(os.Rename(s.Where(), aside), os.Mkdir(s.Where(), 0o700)); err != nil {
		t.Fatal(err)
	}
	if err := s.Remove(); err == nil {
		t.Error("it is removed")
	}
	if err := errors.Join(os.Remove(s.Where()), os.Rename(aside, s.Where())); err != nil {
		t.Fatal(err)
	}
	keys, _ := filepath.Glob(filepath.Join(dir, "*.key"))
	if len(keys) != 1 {
		t.Errorf("keys are %v", keys)
	}
	if err := s.Remove(); err != nil {
		t.Error(err)
	}
	if keys, _ := filepath.Glob(filepath.Join(dir, "*.key")); len(keys) != 0 || s.Exists() {
		t.Errorf("left are %v, and the store: %v", keys, s.Exists())
	}
}
