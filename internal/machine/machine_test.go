package machine_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
	"verbund/internal/sim/host"
)

var booted atomic.Int32

// boot is a simulated machine, and how to reach it.
func boot(t *testing.T) (*host.Host, machine.Target) {
	t.Helper()
	key := func() (ssh.Signer, []byte) {
		_, k, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		block, err := ssh.MarshalPrivateKey(k, "")
		if err != nil {
			t.Fatal(err)
		}
		s, err := ssh.NewSignerFromKey(k)
		if err != nil {
			t.Fatal(err)
		}
		return s, pem.EncodeToMemory(block)
	}
	login, _ := key()
	hostKey, hostPEM := key()
	addr := netip.AddrFrom4([4]byte{127, 248, byte(os.Getpid()), byte(booted.Add(1))})
	h, err := host.Boot(context.Background(), host.Spec{Name: "gauges-1", Address: addr, Root: t.TempDir(), Login: string(ssh.MarshalAuthorizedKey(login.PublicKey())), HostKey: hostPEM,
		CPUs: 2, Memory: 4 << 30, Disk: 20 << 30, Pace: 1000, Registry: addr}, nil, func() {})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Off(true) })
	return h, machine.Target{Name: "gauges-1", Address: addr, Port: h.SSHPort, Fingerprint: ssh.FingerprintSHA256(hostKey.PublicKey()), Login: login}
}

func dial(t *testing.T, to machine.Target) *machine.Machine {
	t.Helper()
	m, err := machine.Dial(t.Context(), to)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	return m
}

// What is written lies there; what lies there already is not written again; what is to go is
// gone.
func TestFiles(t *testing.T) {
	_, to := boot(t)
	m := dial(t, to)
	ctx := t.Context()
	files := []protocol.File{{Path: "/etc/verbund/one", Mode: 0o644, Content: []byte("1\n")}, {Path: "/etc/verbund/two", Mode: 0o600, Content: []byte("2\n")}}
	changed, err := m.Put(ctx, files, nil)
	slices.Sort(changed)
	if err != nil || !slices.Equal(changed, []string{"/etc/verbund/one", "/etc/verbund/two"}) {
		t.Fatalf("changed are %q, %v", changed, err)
	}
	if changed, err = m.Put(ctx, files, nil); err != nil || len(changed) > 0 {
		t.Errorf("again: %q, %v", changed, err)
	}
	files[1].Mode = 0o640
	if changed, err = m.Put(ctx, files, nil); err != nil || !slices.Equal(changed, []string{"/etc/verbund/two"}) {
		t.Errorf("with another mode: %q, %v", changed, err)
	}
	if b, err := m.Read(ctx, "/etc/verbund/one", "/etc/verbund/none"); err != nil || len(b) != 1 || string(b["/etc/verbund/one"]) != "1\n" {
		t.Errorf("read is %q, %v", b, err)
	}
	if d, err := m.Digests(ctx, []string{"/etc/verbund/two"}); err != nil || !strings.HasSuffix(d["/etc/verbund/two"], " 640") {
		t.Errorf("digests are %q, %v", d, err)
	}
	if _, err := m.Put(ctx, nil, []string{"/etc/verbund/one"}); err != nil {
		t.Fatal(err)
	}
	if l, err := m.List(ctx, "/etc/verbund"); err != nil || len(l) != 1 || l[0].Path != "/etc/verbund/two" || l[0].Content != nil {
		t.Errorf("there is %+v, %v", l, err)
	}
}

// Whoever shows another host key is told nothing, and what was shown is said.
func TestOtherHostKey(t *testing.T) {
	_, to := boot(t)
	known := to.Fingerprint
	to.Fingerprint = "SHA256:made-up"
	_, err := machine.Dial(t.Context(), to)
	var other *machine.HostKeyError
	if !errors.As(err, &other) || other.Got != known || other.Want != to.Fingerprint || !strings.Contains(err.Error(), "nothing was sent to it") {
		t.Errorf("it ended with %v", err)
	}
}

// Whoever answers shows a host key, and nobody is logged in for that; what answers and has
// none is not taken for a machine.
func TestHostKey(t *testing.T) {
	_, to := boot(t)
	to.Login = nil
	at := netip.AddrPortFrom(to.Address, uint16(to.Port))
	if print, err := machine.HostKey(t.Context(), at); err != nil || print != to.Fingerprint {
		t.Errorf("it shows %q, %v", print, err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			io.WriteString(c, "220 mail.seamark.test\r\n")
			c.Close()
		}
	}()
	if print, err := machine.HostKey(t.Context(), netip.MustParseAddrPort(l.Addr().String())); err == nil || print != "" || !strings.Contains(err.Error(), "shows no Ed25519 host key") {
		t.Errorf("it shows %q, %v", print, err)
	}
}

// A machine that loses its power breaks the connection, which is another thing than a
// refusal; and one that is not there cannot be reached.
func TestLost(t *testing.T) {
	h, to := boot(t)
	m := dial(t, to)
	if _, err := m.Facts(t.Context()); err != nil {
		t.Fatal(err)
	}
	h.Off(true)
	if _, err := m.Facts(t.Context()); !errors.Is(err, machine.ErrLost) {
		t.Errorf("without power: %v", err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	if _, err := machine.Dial(ctx, to); err == nil || errors.Is(err, machine.ErrLost) || !strings.Contains(err.Error(), "reaching gauges-1") {
		t.Errorf("a new connection: %v", err)
	}
}

// A machine that takes connections and says nothing is told from one that refuses.
func TestStandsStill(t *testing.T) {
	_, to := boot(t)
	l, err := net.Listen("tcp", net.JoinHostPort(to.Address.String(), "0"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	to.Port = l.Addr().(*net.TCPAddr).Port
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	if _, err := machine.Dial(ctx, to); !errors.Is(err, context.DeadlineExceeded) || !strings.Contains(err.Error(), "it takes the connection and has said no more in 1s") {
		t.Errorf("a machine that says nothing: %v", err)
	}
}

// A full disk and lesser rights are said as what they are, and nothing is written.
func TestRefused(t *testing.T) {
	h, to := boot(t)
	m := dial(t, to)
	one := []protocol.File{{Path: "/etc/verbund/one", Mode: 0o644, Content: []byte("1\n")}}
	h.Suffer(host.Faults{Full: true})
	if _, err := m.Put(t.Context(), one, nil); !errors.Is(err, machine.ErrDiskFull) || !strings.Contains(err.Error(), "gauges-1") {
		t.Errorf("a full disk: %v", err)
	}
	h.Suffer(host.Faults{Rights: "look"})
	if _, err := m.Put(t.Context(), one, nil); err == nil || errors.Is(err, machine.ErrDiskFull) || errors.Is(err, machine.ErrLost) {
		t.Errorf("lesser rights: %v", err)
	}
	h.Suffer(host.Faults{})
	if l, err := m.List(t.Context(), "/etc/verbund"); err != nil || len(l) > 0 {
		t.Errorf("written is %+v, %v", l, err)
	}
	if err := m.Do(t.Context(), protocol.UnitsStart, "no-such.service"); err == nil {
		t.Error("a unit that there is not was started")
	}
}
