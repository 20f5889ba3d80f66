package sim_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/agent/agenttest"
	"verbund/internal/agent/systemd"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/machine"
	"verbund/internal/sim/host"
	"verbund/internal/sim/linux"
	"verbund/internal/sim/registry"
	"verbund/internal/site/protocol"
)

// TestMain lets the test's own program be what a machine that is a real system runs first,
// and what is brought there as its agent.
func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == linux.Arg {
		fmt.Fprintln(os.Stderr, linux.Main(os.Stdin))
		os.Exit(1)
	}
	if handled, err := systemd.Main(os.Args[1:], os.Stdin, os.Stdout); handled {
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// stocked is a registry of the shipped stand-ins at an address.
func stocked(t *testing.T, at string) string {
	t.Helper()
	r, err := registry.New(versions.Shipped(), "")
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go r.Serve(l)
	return l.Addr().String()
}

func keys(t *testing.T) (hostKey []byte, print string, login ssh.Signer) {
	t.Helper()
	_, hk, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	_, lk, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	b, err := ssh.MarshalPrivateKey(hk, "")
	if err != nil {
		t.Fatal(err)
	}
	hs, err := ssh.NewSignerFromKey(hk)
	if err != nil {
		t.Fatal(err)
	}
	if login, err = ssh.NewSignerFromKey(lk); err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(b), ssh.FingerprintSHA256(hs.PublicKey()), login
}

// powered is a machine that is started anew when it wants to be.
type powered struct {
	mu    sync.Mutex // held while it is started anew: it can be logged in to before that is over
	ended bool
	off   func(pulled bool)
	boot  func(onReboot func()) (off func(bool), err error)
	err   error
}

func (p *powered) on() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.start()
}

// start boots it; the caller holds the lock.
func (p *powered) start() {
	off, err := p.boot(func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if !p.ended {
			p.off(false)
			p.start()
		}
	})
	p.off, p.err = off, errors.Join(p.err, err)
}

// end takes its power away for good.
func (p *powered) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = true
	if p.off != nil {
		p.off(true)
	}
}

// world logs in again and again, until the machine lets one in.
func world(t *testing.T, p *powered, target machine.Target, at string) agenttest.World {
	t.Helper()
	p.on()
	if p.err != nil {
		t.Fatal(p.err)
	}
	t.Cleanup(p.end)
	last := ""
	w := agenttest.World{Registry: at, Name: "kubelet", Version: "v1.37.2", Digest: versions.Shipped().Digest("kubelet:v1.37.2"), Wrong: "sha256:" + strings.Repeat("0", 64)}
	w.Dial = func(t *testing.T) *machine.Machine {
		t.Helper()
		until := time.Now().Add(time.Minute)
		for {
			m, err := machine.Dial(t.Context(), target)
			if err == nil {
				// The machine from before may still answer for a moment.
				if f, ferr := m.Facts(t.Context()); ferr == nil && f.BootID != last {
					last = f.BootID
					t.Cleanup(func() { m.Close() })
					return m
				}
				m.Close()
			}
			if time.Now().After(until) {
				t.Fatalf("nobody is let in: %v", err)
			}
			select {
			case <-time.After(50 * time.Millisecond):
			case <-t.Context().Done():
				t.Fatal(t.Context().Err())
			}
		}
	}
	return w
}

func TestSimulatedConforms(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	addr := netip.AddrFrom4([4]byte{127, 251, byte(port >> 8), byte(port)})
	key, print, login := keys(t)
	programs := map[string]host.Program{
		"serve": func(ctx context.Context, e *host.Env) error {
			e.Logf("told %v", e.Args)
			e.Ready()
			<-ctx.Done()
			return nil
		},
		"fail": func(context.Context, *host.Env) error {
			return &host.ExitError{Code: 7, Err: errors.New("no such flag")}
		},
		"late": func(ctx context.Context, e *host.Env) error {
			if _, err := os.Stat(e.Host.Path("/var/lib/later")); err != nil {
				return errors.Join(&host.ExitError{Code: 7, Err: errors.New("no such flag")}, e.Host.WriteFile("/var/lib/later", nil, 0o644))
			}
			e.Ready()
			<-ctx.Done()
			return nil
		},
	}
	s := host.Spec{Name: "m", Hardware: "02:00:00:00:00:01", Address: addr, Image: "skerry", CPUs: 2, Memory: 1 << 30, Disk: 1 << 30, Root: t.TempDir(), Login: string(ssh.MarshalAuthorizedKey(login.PublicKey())), HostKey: key, Pace: 1000}
	var sshPort int
	p := &powered{boot: func(onReboot func()) (func(bool), error) {
		h, err := host.Boot(context.Background(), s, programs, onReboot)
		if err != nil {
			return nil, err
		}
		sshPort = h.SSHPort
		return h.Off, nil
	}}
	at := stocked(t, "127.0.0.1:0")
	target := machine.Target{Name: "m", Address: addr, Fingerprint: print, Login: login}
	p.on()
	if p.err != nil {
		t.Fatal(p.err)
	}
	p.off(true)
	target.Port = sshPort
	w := world(t, p, target, at)
	desc := func(name, version string) []byte {
		return fmt.Appendf(nil, `{"standIn":%q,"version":%q}`, name, version)
	}
	w.Program = func(behaves, version string) []byte {
		return desc(behaves, version)
	}
	agenttest.Conform(t, w)
}

// A machine that is a real Linux system does the same. It needs root, and a machine image,
// which is composed only when it is asked for.
func TestLinuxConforms(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make machines that are real systems")
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		t.Skip(err)
	}
	if d := os.Getenv("VERBUND_CACHE"); d != "" {
		cache = d
	} else {
		cache = filepath.Join(cache, "verbund")
	}
	images := linux.Images{Folder: filepath.Join(cache, "images")}
	spec := protocol.Image{System: linux.System, Architecture: runtime.GOARCH}
	digest, err := images.Digest(spec)
	if err != nil {
		t.Skip(err)
	}
	if _, err := os.Stat(images.Root(digest)); err != nil && os.Getenv("VERBUND_REAL") == "" {
		t.Skip("the machine image is not composed on this computer; with VERBUND_REAL=1 it is, which takes one to two minutes")
	}
	if _, err := images.Compose(t.Context(), spec); err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	block := netip.MustParsePrefix("10.81.93.0/24")
	n := linux.NetworkOf(folder, block)
	if err := n.Open(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if _, err := linux.Clear(folder); err != nil {
			t.Error(err)
		}
		if err := n.Close(); err != nil {
			t.Error(err)
		}
		if left, err := linux.Left(folder); err != nil || len(left) > 0 {
			t.Errorf("left on this computer: %v, %v", left, err)
		}
	})
	at := topology.SiteAddress(block, 2)
	registry := stocked(t, netip.AddrPortFrom(at, topology.RegistryPort).String())
	key, print, login := keys(t)
	addr := topology.SiteAddress(block, 10)
	s := host.Spec{Name: "m", Hardware: "02:00:00:00:00:01", Address: addr, Image: linux.System, CPUs: 1, Memory: 1 << 30, Disk: 4 << 30, Root: filepath.Join(folder, "disks", "m"), Login: string(ssh.MarshalAuthorizedKey(login.PublicKey())), HostKey: key,
		Block: block, Base: images.Root(digest), Registry: at, RegistryName: "registry.estuary.test"}
	p := &powered{boot: func(onReboot func()) (func(bool), error) {
		m, err := linux.Boot(context.Background(), s, onReboot)
		if err != nil {
			return nil, err
		}
		return m.Off, nil
	}}
	w := world(t, p, machine.Target{Name: "m", Address: addr, Port: 22, Fingerprint: print, Login: login, Bring: true}, registry)
	w.Foreign = "dbus.service"
	w.Program = func(behaves, _ string) []byte {
		const fails, serves = "echo no such flag >&2\nexit 7\n", "echo told \"$@\"\nsystemd-notify --ready\nexec sleep infinity\n"
		switch behaves {
		case "fail":
			return []byte("#!/bin/sh\n" + fails)
		case "late":
			return []byte("#!/bin/sh\nif ! test -e /var/lib/later; then touch /var/lib/later\n" + fails + "fi\n" + serves)
		}
		return []byte("#!/bin/sh\n" + serves)
	}
	agenttest.Conform(t, w)
}
