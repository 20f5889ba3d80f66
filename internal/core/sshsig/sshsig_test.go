package sshsig

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

const purpose = "tides"

var text = []byte("ebb at six, flood at noon\n")

// keys are one of each kind that people have, by name.
func keys(t *testing.T) map[string]any {
	t.Helper()
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	r, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	return map[string]any{"ed25519": ed, "rsa": r}
}

// What was signed verifies, for its purpose and its text alone.
func TestSign(t *testing.T) {
	for name, k := range keys(t) {
		s, err := ssh.NewSignerFromKey(k)
		if err != nil {
			t.Fatal(err)
		}
		sig, err := Sign(rand.Reader, s, purpose, text)
		if err != nil {
			t.Fatal(err)
		}
		by, err := Verify(sig, purpose, text)
		if err != nil || !bytes.Equal(by.Marshal(), s.PublicKey().Marshal()) {
			t.Errorf("%s: by %v, %v", name, by, err)
		}
		p, _ := pem.Decode(sig)
		other := func(change func(b *blob)) []byte {
			var b blob
			if err := ssh.Unmarshal(p.Bytes[len(magic):], &b); err != nil {
				t.Fatal(err)
			}
			change(&b)
			return pem.EncodeToMemory(&pem.Block{Type: armour, Bytes: append([]byte(magic), ssh.Marshal(b)...)})
		}
		stranger, err := ssh.NewSignerFromKey(keys(t)["ed25519"])
		if err != nil {
			t.Fatal(err)
		}
		for want, x := range map[string]struct {
			sig     []byte
			purpose string
			text    []byte
		}{
			"is not of this text":      {sig, purpose, append([]byte("x"), text...)},
			`was signed for "tides"`:   {sig, "boards", text},
			"is no SSH signature":      {text, purpose, text},
			"no SSH signature":         {pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.Bytes}), purpose, text},
			"no SSH signature: ":       {pem.EncodeToMemory(&pem.Block{Type: armour, Bytes: []byte(magic)}), purpose, text},
			"is no SSH signature: ssh": {pem.EncodeToMemory(&pem.Block{Type: armour, Bytes: p.Bytes[:40]}), purpose, text},
			"has version 2":            {other(func(b *blob) { b.Version = 2 }), purpose, text},
			`its hash "md5" is none`:   {other(func(b *blob) { b.Hash = "md5" }), purpose, text},
			"its key: ":                {other(func(b *blob) { b.PublicKey = "x" }), purpose, text},
			"its signature: ":          {other(func(b *blob) { b.Signature = "x" }), purpose, text},
			"it is signed with SHA-1":  {other(func(b *blob) { b.Signature = string(ssh.Marshal(ssh.Signature{Format: ssh.KeyAlgoRSA})) }), purpose, text},
			"text: ":                   {other(func(b *blob) { b.PublicKey = string(stranger.PublicKey().Marshal()) }), purpose, text},
		} {
			if by, err := Verify(x.sig, x.purpose, x.text); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%s: wanted %q: by %v, %v", name, want, by, err)
			}
		}
	}
}

// OpenSSH's own tool verifies what is signed here, and the other way round.
func TestByOpenSSH(t *testing.T) {
	tool, err := exec.LookPath("ssh-keygen")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("ssh-keygen is not here, and on CI it has to be")
		}
		t.Skip("ssh-keygen is not here: apt-get install openssh-client")
	}
	for name, k := range keys(t) {
		dir := t.TempDir()
		at := func(f string) string { return filepath.Join(dir, f) }
		s, err := ssh.NewSignerFromKey(k)
		if err != nil {
			t.Fatal(err)
		}
		own, err := ssh.MarshalPrivateKey(k, "")
		if err != nil {
			t.Fatal(err)
		}
		sig, err := Sign(rand.Reader, s, purpose, text)
		if err != nil {
			t.Fatal(err)
		}
		for f, b := range map[string][]byte{"key": pem.EncodeToMemory(own), "text": text, "sig": sig, "signers": append([]byte("mara "), ssh.MarshalAuthorizedKey(s.PublicKey())...)} {
			if err := os.WriteFile(at(f), b, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		verify := exec.Command(tool, "-Y", "verify", "-f", at("signers"), "-I", "mara", "-n", purpose, "-s", at("sig"))
		verify.Stdin = bytes.NewReader(text)
		if out, err := verify.CombinedOutput(); err != nil {
			t.Errorf("%s: ssh-keygen: %v\n%s", name, err, out)
		}
		if out, err := exec.Command(tool, "-Y", "sign", "-f", at("key"), "-n", purpose, at("text")).CombinedOutput(); err != nil {
			t.Fatalf("%s: ssh-keygen: %v\n%s", name, err, out)
		}
		theirs, err := os.ReadFile(at("text.sig"))
		if err != nil {
			t.Fatal(err)
		}
		if by, err := Verify(theirs, purpose, text); err != nil || !bytes.Equal(by.Marshal(), s.PublicKey().Marshal()) {
			t.Errorf("%s: what ssh-keygen has signed: by %v, %v", name, by, err)
		}
	}
}
