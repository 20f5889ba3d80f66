package host

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net/netip"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

func signer(t *testing.T) ssh.Signer {
	t.Helper()
	_, k, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// The tool's own client against the machine: first trust from the console, the
// agent's calls and their errors, and everything that must be refused.
func TestLogin(t *testing.T) {
	h, _ := boot(t)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	con, err := h.ReadFile("/var/log/console")
	if err != nil {
		t.Fatal(err)
	}
	print := regexp.MustCompile(`SHA256:\S+`).FindString(string(con))
	key, err := ssh.ParsePrivateKey(h.Spec.HostKey) // the fixture uses one key for both
	if err != nil {
		t.Fatal(err)
	}
	target := machine.Target{Name: "m", Address: h.Spec.Address, Port: h.SSHPort, Fingerprint: print, Login: key}

	wrong := target
	wrong.Fingerprint = "SHA256:somethingelse"
	var hk *machine.HostKeyError
	if _, err := machine.Dial(ctx, wrong); !errors.As(err, &hk) || hk.Got != print || !strings.Contains(err.Error(), "nothing was sent to it") {
		t.Errorf("another host key: %v", err)
	}
	stranger := target
	stranger.Login = signer(t)
	if _, err := machine.Dial(ctx, stranger); err == nil || !strings.Contains(err.Error(), "logging in to m") {
		t.Errorf("another login key: %v", err)
	}

	// Whoever knows nothing but what rests on SHA-1 is refused before he logs in.
	for _, old := range []ssh.Config{
		{MACs: []string{ssh.HMACSHA1}, Ciphers: []string{ssh.CipherAES128CTR}},
		{KeyExchanges: []string{ssh.InsecureKeyExchangeDH14SHA1}},
	} {
		c, err := ssh.Dial("tcp", netip.AddrPortFrom(h.Spec.Address, uint16(h.SSHPort)).String(), &ssh.ClientConfig{Config: old, User: "root", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
		if err == nil {
			c.Close()
		}
		if err == nil || !strings.Contains(err.Error(), "no common algorithm") {
			t.Errorf("with %v%v: %v", old.MACs, old.KeyExchanges, err)
		}
	}

	m, err := machine.Dial(ctx, target)
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	f, err := m.Facts(ctx)
	if err != nil || f.Name != "m" || f.BootID != h.BootID || f.Active != "" {
		t.Errorf("facts %+v, %v", f, err)
	}
	file := protocol.File{Path: "/etc/x", Mode: 0o600, Content: []byte("one")}
	for i, want := range []int{1, 0} {
		changed, err := m.Put(ctx, []protocol.File{file}, nil)
		if err != nil || len(changed) != want {
			t.Errorf("put %d: %v, %v", i, changed, err)
		}
	}
	ds, err := m.Digests(ctx, []string{"/etc/x", "/etc/none"})
	if err != nil || len(ds) != 1 || ds["/etc/x"] != "7692c3ad3540bb803c020b3aee66cd8887123234ea0c6e7143c0add73ff431ed 600" {
		t.Errorf("digests %v, %v", ds, err)
	}
	h.Suffer(Faults{Full: true})
	file.Content = []byte("two")
	if _, err := m.Put(ctx, []protocol.File{file}, nil); !errors.Is(err, machine.ErrDiskFull) {
		t.Errorf("on a full disk: %v", err)
	}
	h.Suffer(Faults{})

	slot(t, h, "a", "v1", map[string]string{"bad": "fail", "good": "serve"})
	if _, err := m.Switch(ctx, protocol.SwitchRequest{Slot: "a"}); err != nil {
		t.Fatal(err)
	}
	var ue *machine.UnitError
	if err := m.Do(ctx, protocol.UnitsStart, "bad.service"); !errors.As(err, &ue) || ue.State.Name != "bad.service" || ue.State.ExitCode != 7 {
		t.Errorf("a unit that fails: %v, %+v", err, ue)
	}
	if err := m.Do(ctx, protocol.UnitsStart, "good.service"); err != nil {
		t.Error(err)
	}
	us, err := m.Units(ctx)
	if err != nil || len(us) != 2 {
		t.Errorf("units %v, %v", us, err)
	}
	if ls, err := m.Logs(ctx, "bad.service", 1); err != nil || len(ls) != 1 || !strings.Contains(ls[0], "no such flag") {
		t.Errorf("logs %q, %v", ls, err)
	}
	if _, err := m.Switch(ctx, protocol.SwitchRequest{Slot: "c"}); err == nil {
		t.Error("there is no slot c")
	}

	h.Off(true)
	if _, err := m.Facts(ctx); !errors.Is(err, machine.ErrLost) {
		t.Errorf("without power: %v", err)
	}
}

// Units start in their order at boot: what another names in After comes first.
func TestBootOrder(t *testing.T) {
	h, _ := boot(t)
	slot(t, h, "a", "v1", map[string]string{"late": "needs", "early": "gives"})
	unit := "[Unit]\nAfter=early.service\n[Service]\nType=notify\nExecStart=/opt/verbund/active/bin/late\n[Install]\nWantedBy=multi-user.target\n"
	if err := h.WriteFile(protocol.SlotDir+"a/units/late.service", []byte(unit), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.Symlink("slots/a", h.Path("/opt/verbund/active")), h.manager.link()); err != nil {
		t.Fatal(err)
	}
	ready := make(chan struct{})
	served := make(chan bool, 1)
	h.programs["gives"] = func(ctx context.Context, e *Env) error {
		if err := e.Host.Work(ctx, 100*time.Second); err != nil {
			return err
		}
		close(ready)
		e.Ready()
		<-ctx.Done()
		return nil
	}
	h.programs["needs"] = func(ctx context.Context, e *Env) error {
		select {
		case <-ready:
			served <- true
		default:
			served <- false
		}
		e.Ready()
		<-ctx.Done()
		return nil
	}
	h.manager.boot()
	select {
	case ok := <-served:
		if !ok {
			t.Error("the later unit started before the earlier one was ready")
		}
	case <-time.After(10 * time.Second):
		t.Fatal("the later unit never started")
	}
}

// An agent that does not know a method is told from one that fails.
func TestOldAgent(t *testing.T) {
	h, _ := boot(t)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	key, err := ssh.ParsePrivateKey(h.Spec.HostKey)
	if err != nil {
		t.Fatal(err)
	}
	m, err := machine.Dial(ctx, machine.Target{Name: "m", Address: h.Spec.Address, Port: h.SSHPort, Fingerprint: ssh.FingerprintSHA256(key.PublicKey()), Login: key})
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	if err := m.Do(ctx, "units.paint", "one.service"); !errors.Is(err, machine.ErrOldAgent) || !strings.Contains(err.Error(), "units.paint") {
		t.Errorf("a method of the future: %v", err)
	}
	if err := m.Do(ctx, protocol.UnitsStart, "none.service"); err == nil || errors.Is(err, machine.ErrOldAgent) {
		t.Errorf("a unit that is not there: %v", err)
	}
}
