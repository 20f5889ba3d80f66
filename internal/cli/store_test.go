package cli_test

import (
	"archive/tar"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"filippo.io/age"
	"golang.org/x/crypto/ssh"
)

// What protects the store can be changed; without it nothing opens, and nothing
// is changed; the working folder holds no plain key; and the cluster can be kept
// from another folder.
func TestStore(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	w.fails(1, []string{"has no store yet"}, "store", "show")
	w.ok("render")
	w.fails(0, []string{"protection  key file", "opens       yes", w.keys}, "store", "show")
	// The same key is written in another way each time: its public half counts.
	public := func(w *world, args ...string) string {
		t.Helper()
		k, err := ssh.ParsePrivateKey([]byte(w.ok(append([]string{"access", "--login-key"}, args...)...)))
		if err != nil {
			t.Fatal(err)
		}
		return string(ssh.MarshalAuthorizedKey(k.PublicKey()))
	}
	login := public(w)

	// What git would commit holds no key.
	if git, err := exec.LookPath("git"); err == nil {
		for _, args := range [][]string{{"init", "-q"}, {"add", "-A"}} {
			cmd := exec.Command(git, args...)
			cmd.Dir = w.dir
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Fatalf("git %v: %v\n%s", args, err, out)
			}
		}
		cmd := exec.Command(git, "grep", "--cached", "-l", "PRIVATE KEY")
		cmd.Dir = w.dir
		if out, _ := cmd.Output(); len(out) > 0 {
			t.Errorf("these would be committed with keys: %s", out)
		}
		if err := os.RemoveAll(w.path(".git")); err != nil {
			t.Fatal(err)
		}
	}

	pass, wrong := filepath.Join(w.keys, "pass"), filepath.Join(w.keys, "wrong")
	for f, text := range map[string]string{pass: "ebb and flow and ebb\n", wrong: "flood and flood and flood\n", filepath.Join(w.keys, "short"): "ebb\n"} {
		if err := os.WriteFile(f, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	w.fails(2, []string{"say one of"}, "store", "protect")
	w.fails(2, []string{"12 characters"}, "store", "protect", "--passphrase-file", filepath.Join(w.keys, "short"))
	w.ok("store", "protect", "--passphrase-file", pass)
	w.fails(1, []string{"there is nobody to ask", "nothing was changed"}, "access", "--login-key")
	w.fails(1, []string{"not what it was closed with", "nothing was changed"}, "render", "--unlock", wrong)
	if got := public(w, "--unlock", pass); got != login {
		t.Error("another key came out")
	}

	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	b, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	recipient, err := ssh.NewPublicKey(key.Public())
	if err != nil {
		t.Fatal(err)
	}
	id := filepath.Join(w.keys, "id")
	for f, text := range map[string][]byte{id: pem.EncodeToMemory(b), id + ".pub": ssh.MarshalAuthorizedKey(recipient)} {
		if err := os.WriteFile(f, text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	w.ok("store", "protect", "--ssh-key", id+".pub", "--unlock", pass)
	w.fails(1, []string{"no such file"}, "access", "--login-key", "--unlock", pass+"x")
	if got := public(w, "--unlock", id); got != login {
		t.Error("another key came out")
	}

	// To another computer and back to a key file.
	archive := filepath.Join(w.keys, "tidewatch.pack")
	w.ok("trust", "pack", archive, "--passphrase-file", pass, "--unlock", id)
	w.fails(2, []string{"is there already"}, "trust", "pack", archive, "--passphrase-file", pass, "--unlock", id)
	if b, err := os.ReadFile(archive); err != nil || bytes.Contains(b, []byte("PRIVATE")) || bytes.Contains(b, []byte("tidewatch-control")) {
		t.Errorf("the archive can be read: %v", err)
	}
	other := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
	other.fails(1, []string{"not what it was closed with", "nothing was changed"}, "trust", "unpack", archive, "--unlock", wrong)
	other.fails(1, []string{"there is nobody to ask"}, "trust", "unpack", archive)
	other.fails(0, []string{"unpacked cluster tidewatch", "estuary.site.yaml"}, "trust", "unpack", archive, "--unlock", pass)
	if got := public(other); got != login {
		t.Error("another key came out on the other computer")
	}
	other.fails(2, []string{"is here already"}, "trust", "unpack", archive, "--unlock", pass)
	w.ok("trust", "pack", archive+"2", "--to", strings.TrimSpace(string(ssh.MarshalAuthorizedKey(recipient))), "--unlock", id)
	third := &world{TB: t, dir: t.TempDir(), keys: t.TempDir()}
	third.ok("trust", "unpack", archive+"2", "--unlock", id)
}

// An archive may come from anybody: whatever it is called and holds, nothing is written
// outside the folder, or over what is there.
func TestUnpackStaysInside(t *testing.T) {
	t.Parallel()
	w := &world{TB: t, dir: filepath.Join(t.TempDir(), "a", "b"), keys: t.TempDir()}
	if err := os.MkdirAll(w.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	unlock, archive := filepath.Join(w.keys, "key"), filepath.Join(w.keys, "archive")
	if err := os.WriteFile(unlock, []byte(id.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	root := filepath.Dir(filepath.Dir(w.dir))
	before := tree(t, root)
	good := []tar.Header{{Name: "cluster"}, {Name: "store.db"}, {Name: "store.key"}}
	for _, x := range []struct {
		cluster string
		more    tar.Header
		want    string
	}{
		{"../../x", tar.Header{}, `of a cluster "../../x", which is no name of a cluster`},
		{"..", tar.Header{}, "no name of a cluster"},
		{"a/b", tar.Header{}, "no name of a cluster"},
		{"Tide\nwatch", tar.Header{}, "no name of a cluster"},
		{strings.Repeat("a", 31), tar.Header{}, "no name of a cluster"},
		{"x", tar.Header{Name: "../x.yaml"}, `a file "../x.yaml" that does not belong there`},
		{"x", tar.Header{Name: "/tmp/x.yaml"}, "that does not belong there"},
		{"x", tar.Header{Name: "x.sh"}, "that does not belong there"},
		{"x", tar.Header{Name: "x.yaml", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"}, "which is no file"},
	} {
		var b bytes.Buffer
		enc, err := age.Encrypt(&b, id.Recipient())
		if err != nil {
			t.Fatal(err)
		}
		tw := tar.NewWriter(enc)
		for _, h := range append(slices.Clone(good), x.more) {
			if h.Name == "" {
				continue
			}
			text := "x"
			if h.Name == "cluster" {
				text = x.cluster
			}
			if h.Typeflag == 0 {
				h.Size = int64(len(text))
			}
			if err := tw.WriteHeader(&h); err != nil {
				t.Fatal(err)
			}
			tw.Write([]byte(text)[:h.Size])
		}
		if err := errors.Join(tw.Close(), enc.Close(), os.WriteFile(archive, b.Bytes(), 0o600)); err != nil {
			t.Fatal(err)
		}
		w.fails(1, []string{x.want, "nothing was changed"}, "trust", "unpack", archive, "--unlock", unlock)
		if after := tree(t, root); !maps.Equal(before, after) {
			t.Errorf("%q: written was %v", x.cluster, after)
		}
	}
}

// Every algorithm raises a cluster.
func TestEveryAlgorithm(t *testing.T) {
	t.Parallel()
	for algorithm, shown := range map[string]string{"ed25519": "Ed25519", "rsa-2048": "RSA 2048", "ecdsa-p384": "ECDSA P-384"} {
		w := newWorld(t, "small", "v1.37.2")
		w.declare(`name: tidewatch\n`, "name: tidewatch\ntrust: {algorithm: "+algorithm+"}\n")
		w.ok("converge", "--yes")
		w.fails(0, []string{"ECDSA P-256", shown, "0 things wrong"}, "trust", "list", "--all")
		w.well("v1.37.2")
	}
}
