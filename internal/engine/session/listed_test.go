package session

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"verbund/internal/core/declare"
	"verbund/internal/machine"
)

// One logs in to a machine of a list as its user, by the host key that a person has compared,
// and to no other.
func TestListed(t *testing.T) {
	a, b := netip.MustParseAddr("10.81.7.21"), netip.MustParseAddr("10.81.7.22")
	s := &Session{SiteFile: &declare.Site{Kind: declare.ListedSite, Machines: []declare.Listed{{Address: a, User: "keeper", HostKey: "SHA256:compared"}, {Address: b, User: "root"}}}}
	to := machine.Target{Name: "m", Address: a, Fingerprint: "SHA256:remembered"}
	if err := s.listed(&to); err != nil || to.User != "keeper" || to.Fingerprint != "SHA256:compared" || to.Logins == nil {
		t.Errorf("%+v, %v", to, err)
	}
	for addr, want := range map[netip.Addr]string{b: "whose host key is not known", netip.MustParseAddr("10.81.7.23"): "not on the list"} {
		to := machine.Target{Name: "m", Address: addr, Fingerprint: "SHA256:remembered"}
		if err := s.listed(&to); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", addr, err)
		}
	}
	s.SiteFile.Kind = declare.LinuxSite
	if err := s.listed(&to); err != nil {
		t.Errorf("on another kind of site: %v", err)
	}
}

// The key is that of the file which the site names, or those that the person's agent holds;
// where there is none, it is said why.
func TestLogins(t *testing.T) {
	dir := t.TempDir()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	write := func(name string, block *pem.Block, err error) string {
		t.Helper()
		p := filepath.Join(dir, name)
		if err = errors.Join(err, os.WriteFile(p, pem.EncodeToMemory(block), 0o600)); err != nil {
			t.Fatal(err)
		}
		return p
	}
	plain, err := ssh.MarshalPrivateKey(key, "")
	own := write("own", plain, err)
	sealed, err := ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte("made up"))
	locked := write("locked", sealed, err)
	other := write("other", &pem.Block{Type: "NOTHING"}, nil)
	ask := func(file, socket string) ([]ssh.Signer, error) {
		t.Setenv("SSH_AUTH_SOCK", socket)
		s := &Session{SiteFile: &declare.Site{Kind: declare.ListedSite, Key: file}}
		defer s.Close()
		return s.logins()
	}
	if ks, err := ask(own, ""); err != nil || len(ks) != 1 {
		t.Errorf("a key of its own: %v, %v", ks, err)
	}
	for _, x := range []struct{ file, socket, want string }{
		{locked, "", "locked with a passphrase; hand it to your SSH agent"},
		{other, "", other},
		{filepath.Join(dir, "gone"), "", "no such file"},
		{"", "", "no SSH agent runs"},
		{"", filepath.Join(dir, "gone"), "the SSH agent: "},
	} {
		if _, err := ask(x.file, x.socket); !errors.Is(err, ErrNoKey) || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s, %s: %v", x.file, x.socket, err)
		} else if gone := strings.HasSuffix(x.file+x.socket, "gone"); errors.Is(err, fs.ErrNotExist) != gone {
			t.Errorf("%s, %s: what it was is lost: %v", x.file, x.socket, err)
		}
	}
	socket := filepath.Join(dir, "agent")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	held := agent.NewKeyring()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go agent.ServeAgent(held, c)
		}
	}()
	if _, err := ask("", socket); !errors.Is(err, ErrNoKey) || !strings.Contains(err.Error(), "it has none") {
		t.Errorf("an agent without keys: %v", err)
	}
	if err := held.Add(agent.AddedKey{PrivateKey: key}); err != nil {
		t.Fatal(err)
	}
	if ks, err := ask("", socket); err != nil || len(ks) != 1 {
		t.Errorf("an agent with one: %v, %v", ks, err)
	}
}
