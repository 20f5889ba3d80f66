package host

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"golang.org/x/crypto/ssh"

	"verbund/internal/agent"
	"verbund/internal/machine/protocol"
	"verbund/internal/sim/serve"
)

// boot starts a machine with two programs: one that serves, one that fails.
func boot(t *testing.T) (*Host, *login) {
	t.Helper()
	_, k, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	b, err := ssh.MarshalPrivateKey(k, "")
	if err != nil {
		t.Fatal(err)
	}
	sg, err := ssh.NewSignerFromKey(k)
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	// An address of its own, by the process and a port that was free just now.
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	addr := netip.AddrFrom4([4]byte{127, 250, byte(port >> 8), byte(port)})
	programs := map[string]Program{
		"serve": func(ctx context.Context, e *Env) error {
			// It is left open on purpose: the end of a program closes its sockets.
			_, err := e.Listen(netip.AddrPortFrom(e.Host.Spec.Address, 7000).String())
			if err != nil {
				return err
			}
			e.Ready()
			<-ctx.Done()
			return nil
		},
		"fail": func(context.Context, *Env) error { return &ExitError{7, errors.New("no such flag")} },
	}
	h, err := Boot(context.Background(), Spec{Name: "m", Address: addr, Root: t.TempDir(), Login: string(ssh.MarshalAuthorizedKey(sg.PublicKey())), HostKey: pem.EncodeToMemory(b), Disk: 1 << 20, Pace: 1000}, programs, func() {})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Off(true) })
	return h, logIn(t, h, func() {})
}

// login speaks to the agent of a machine.
type login struct{ *jrpc2.Client }

func logIn(t *testing.T, h *Host, onReboot func()) *login {
	t.Helper()
	here, there := net.Pipe()
	served := make(chan struct{})
	go func() {
		defer close(served)
		agent.Serve(there, system{h, onReboot})
	}()
	c := jrpc2.NewClient(channel.Line(here, here), nil)
	t.Cleanup(func() {
		c.Close()
		<-served
	})
	return &login{c}
}

// ask makes one call of the agent protocol.
func ask[R any](a *login, method string, q any) (R, error) {
	var r R
	return r, a.CallResult(context.Background(), method, q, &r)
}

// slot fills a slot with units that run programs by name.
func slot(t *testing.T, h *Host, name, version string, units map[string]string) {
	t.Helper()
	for u, program := range units {
		text := fmt.Sprintf("[Unit]\nDescription=x\n[Service]\nType=notify\nExecStart=/opt/verbund/active/bin/%s \\\n  --flag\nRestart=always\nRestartSec=1\n[Install]\nWantedBy=multi-user.target\n", u)
		desc := fmt.Sprintf(`{"standIn":%q,"version":%q}`, program, version)
		if err := errors.Join(h.WriteFile(protocol.SlotDir+name+"/units/"+u+".service", []byte(text), 0o644), h.WriteFile(protocol.SlotDir+name+"/bin/"+u, []byte(desc), 0o755), h.WriteFile(protocol.SlotDir+name+"/bin/"+u+".digest", []byte("sha256:0"), 0o644)); err != nil {
			t.Fatal(err)
		}
	}
}

func state(t *testing.T, h *Host, unit string) UnitState {
	t.Helper()
	for _, u := range h.manager.list() {
		if u.Name == unit {
			return u
		}
	}
	t.Fatalf("no unit %s", unit)
	return UnitState{}
}

// A connection that is left to the kernel outlives its program, others do not.
func TestLeave(t *testing.T) {
	h, _ := boot(t)
	e := &Env{Host: h}
	addr := netip.AddrPortFrom(h.Spec.Address, 7001).String()
	l, err := e.Listen(addr)
	if err != nil {
		t.Fatal(err)
	}
	meet := func() (out, in net.Conn) {
		t.Helper()
		out, err := net.Dial("tcp", addr)
		if err == nil {
			in, err = l.Accept()
		}
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { out.Close() })
		return out, in
	}
	left, in := meet()
	e.Leave(in)
	own, _ := meet()
	e.ended()
	if _, err := in.Write([]byte("x")); err != nil {
		t.Errorf("what was left ended with the program: %v", err)
	}
	b := make([]byte, 1)
	if _, err := left.Read(b); err != nil {
		t.Errorf("what was left says nothing: %v", err)
	}
	own.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := own.Read(b); !errors.Is(err, io.EOF) {
		t.Errorf("the program's own connection: %v", err)
	}
	h.Off(true)
	left.SetReadDeadline(time.Now().Add(5 * time.Second))
	if _, err := left.Read(b); err == nil || errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("without power: %v", err)
	}
}

// A new slot that does not come up is left again, and the old one runs on.
func TestSwitchFallsBack(t *testing.T) {
	h, a := boot(t)
	slot(t, h, "a", "v1", map[string]string{"one": "serve"})
	r, err := ask[protocol.SwitchReply](a, protocol.SlotsSwitch, protocol.SwitchRequest{Slot: "a", Start: []string{"one.service"}})
	if err != nil || r.FellBack != "" || r.Active != "a" {
		t.Fatalf("first switch: %+v, %v", r, err)
	}
	slot(t, h, "b", "v2", map[string]string{"one": "fail"})
	r, err = ask[protocol.SwitchReply](a, protocol.SlotsSwitch, protocol.SwitchRequest{Slot: "b", Start: []string{"one.service"}})
	if err != nil || r.Active != "a" || r.Unit != "one.service" || r.ExitCode != 7 || !strings.Contains(r.FellBack, "no such flag") || len(r.Log) == 0 {
		t.Fatalf("second switch: %+v, %v", r, err)
	}
	if s := state(t, h, "one.service"); s.State != "active" || s.Version != "v1" {
		t.Errorf("after falling back: %+v", s)
	}
	slot(t, h, "b", "v3", map[string]string{"one": "serve"})
	if r, err = ask[protocol.SwitchReply](a, protocol.SlotsSwitch, protocol.SwitchRequest{Slot: "b", Start: []string{"one.service"}}); err != nil || r.Active != "b" {
		t.Fatalf("third switch: %+v, %v", r, err)
	}
	if s := state(t, h, "one.service"); s.State != "active" || s.Version != "v3" {
		t.Errorf("after switching: %+v", s)
	}
	if f, err := ask[protocol.FactsReply](a, protocol.Facts, nil); err != nil || f.Active != "b" || f.Slots["a"]["one"] != "v1" || f.Slots["b"]["one"] != "v3" {
		t.Errorf("facts: %+v, %v", f, err)
	}
	if _, err := ask[bool](a, protocol.SlotsPrepare, protocol.SlotRequest{Slot: "b"}); err == nil {
		t.Error("the slot in use was emptied")
	}
}

func TestUnitsFailAsRealOnes(t *testing.T) {
	h, a := boot(t)
	slot(t, h, "a", "v1", map[string]string{"bad": "fail", "unknown": "nothing"})
	if _, err := ask[protocol.SwitchReply](a, protocol.SlotsSwitch, protocol.SwitchRequest{Slot: "a"}); err != nil {
		t.Fatal(err)
	}
	if _, err := ask[bool](a, protocol.UnitsStart, protocol.UnitsRequest{Units: []string{"bad.service"}}); err == nil || !strings.Contains(err.Error(), "exit code 7") {
		t.Errorf("bad: %v", err)
	}
	if _, err := ask[bool](a, protocol.UnitsStart, protocol.UnitsRequest{Units: []string{"unknown.service"}}); err == nil || !strings.Contains(err.Error(), `no stand-in "nothing"`) {
		t.Errorf("unknown: %v", err)
	}
	if _, err := ask[bool](a, protocol.UnitsStart, protocol.UnitsRequest{Units: []string{"missing.service"}}); err == nil {
		t.Error("a unit without a file started")
	}
	deadline := time.Now().Add(5 * time.Second)
	for state(t, h, "bad.service").State != "failed" {
		if time.Now().After(deadline) {
			t.Fatal("restarts never end")
		}
		_, changed := h.manager.service("bad.service").state()
		select {
		case <-changed:
		case <-time.After(time.Second):
		}
	}
}

func TestParseUnit(t *testing.T) {
	for _, x := range []struct{ text, want string }{
		{"[Service]\nExecStart=/x\n", ""},
		{"[Service]\nExecStart=/x\nExecStrat=/y\n", "directive ExecStrat in section [Service] is not known"},
		{"[Servce]\nExecStart=/x\n", "in section [Servce] is not known"},
		{"[Service]\nType=forking\nExecStart=/x\n", "type forking is not known"},
		{"[Service]\nType=simple\n", "there is no ExecStart"},
		{"[Service]\nExecStart=/x\nRestartSec=soon\n", "is not a number of seconds"},
	} {
		_, err := parseUnit("u.service", []byte(x.text))
		if (err == nil) != (x.want == "") || err != nil && !strings.Contains(err.Error(), x.want) {
			t.Errorf("%q: %v, wanted %q", x.text, err, x.want)
		}
	}
}

// A full disk takes nothing, and what was there stays whole.
func TestFullDisk(t *testing.T) {
	h, a := boot(t)
	if _, err := ask[protocol.PutReply](a, protocol.FilesPut, protocol.PutRequest{Files: []protocol.File{{Path: "/etc/x", Mode: 0o600, Content: []byte("old")}}}); err != nil {
		t.Fatal(err)
	}
	h.Suffer(Faults{Full: true})
	_, err := ask[protocol.PutReply](a, protocol.FilesPut, protocol.PutRequest{Files: []protocol.File{{Path: "/etc/x", Mode: 0o600, Content: []byte("new")}}})
	if err == nil || !strings.Contains(err.Error(), syscall.ENOSPC.Error()) {
		t.Errorf("error is %v", err)
	}
	if b, _ := h.ReadFile("/etc/x"); string(b) != "old" {
		t.Errorf("the file is %q", b)
	}
	h.Suffer(Faults{})
	if err := h.WriteFile("/big", make([]byte, 2<<20), 0o600); !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("more than the disk holds: %v", err)
	}
	r, err := ask[protocol.PutReply](a, protocol.FilesPut, protocol.PutRequest{Files: []protocol.File{{Path: "/etc/x", Mode: 0o600, Content: []byte("old")}, {Path: "../../outside", Mode: 0o600, Content: []byte("y")}}})
	if err != nil || len(r.Changed) != 1 {
		t.Errorf("%+v, %v", r, err)
	}
	if _, err := os.Stat(filepath.Join(h.Spec.Root, "outside")); err != nil {
		t.Errorf("a path climbed out of the disk: %v", err)
	}
}

// The plug is pulled: what listened does not answer, and dialling ends.
func TestPowerLoss(t *testing.T) {
	h, a := boot(t)
	slot(t, h, "a", "v1", map[string]string{"one": "serve"})
	if _, err := ask[protocol.SwitchReply](a, protocol.SlotsSwitch, protocol.SwitchRequest{Slot: "a", Start: []string{"one.service"}}); err != nil {
		t.Fatal(err)
	}
	at := netip.AddrPortFrom(h.Spec.Address, 7000).String()
	c, err := net.Dial("tcp", at)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	h.Off(true)
	if c2, err := net.Dial("tcp", at); err == nil {
		c2.Close()
		t.Error("a machine without power answers")
	}
	if _, err := h.Dial(context.Background(), "tcp", "127.0.0.1:1"); err == nil {
		t.Error("a machine without power dials")
	}
}

// Pod traffic needs the plugin on both sides.
func TestFabric(t *testing.T) {
	one, _ := boot(t)
	two, _ := boot(t)
	ctx := context.Background()
	pod := netip.MustParseAddr("10.172.2.5")
	two.Net.AddPod(pod).Listen(80, func(c net.Conn) {
		go func() { c.Write([]byte("hello")); c.Close() }()
	})
	to := netip.AddrPortFrom(pod, 80)
	if _, err := one.Net.DialPod(ctx, to); err == nil {
		t.Fatal("a pod was reached without a plugin")
	}
	one.Net.SetRoutes(map[netip.Prefix]netip.Addr{netip.MustParsePrefix("10.172.2.0/24"): two.Spec.Address})
	if _, err := one.Net.DialPod(ctx, to); err == nil {
		t.Fatal("a pod was reached although its machine has no plugin")
	}
	detach, err := two.Net.Attach()
	if err != nil {
		t.Fatal(err)
	}
	defer detach()
	service := netip.MustParseAddrPort("10.112.0.9:443")
	one.Net.SetServices(map[netip.AddrPort][]netip.AddrPort{service: {to}})
	for _, at := range []netip.AddrPort{to, service} {
		c, err := one.Net.DialPod(ctx, at)
		if err != nil {
			t.Fatalf("%s: %v", at, err)
		}
		b := make([]byte, 5)
		if _, err := c.Read(b); err != nil || string(b) != "hello" {
			t.Errorf("%s: %q, %v", at, b, err)
		}
		c.Close()
	}
	// What has moved elsewhere is not taken away with where it was.
	elsewhere := netip.MustParseAddr("127.0.0.9")
	one.Net.Route(netip.MustParsePrefix("10.172.2.0/24"), elsewhere)
	one.Net.Unroute(netip.MustParsePrefix("10.172.2.0/24"), two.Spec.Address)
	if _, err := one.Net.DialPod(ctx, to); err == nil || strings.Contains(err.Error(), "no route") {
		t.Errorf("at another machine: %v", err)
	}
	one.Net.Unroute(netip.MustParsePrefix("10.172.2.0/24"), elsewhere)
	if _, err := one.Net.DialPod(ctx, to); err == nil || !strings.Contains(err.Error(), "no route") {
		t.Errorf("nowhere: %v", err)
	}
	one.Net.Route(netip.MustParsePrefix("10.172.2.0/24"), two.Spec.Address)
	// A stream whose first line does not end is hung up on before it was kept.
	c, err := net.Dial("tcp", netip.AddrPortFrom(two.Spec.Address, FabricPort).String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(serve.Hello / 2))
	sent := 0
	for sent < 64<<20 {
		n, err := c.Write(make([]byte, 64<<10))
		if sent += n; err != nil {
			break
		}
	}
	if sent >= 64<<20 {
		t.Errorf("%d bytes without an end of a line were taken", sent)
	}
	if _, err := one.Net.DialPod(ctx, netip.AddrPortFrom(pod, 81)); !errors.Is(err, ErrRefused) {
		t.Errorf("a port that nobody serves: %v", err)
	}
}

// A disk is looked through when it may be full, or when that was a while ago; what was written
// since counts meanwhile.
func TestUsage(t *testing.T) {
	var u usage
	holds, counted := int64(40), 0
	count := func() int64 { counted++; return holds }
	for _, x := range []struct {
		what   string
		writes int64
		before func()
		fits   bool
		counts int
	}{
		{"the first", 30, func() {}, true, 1},
		{"what fits beside it", 30, func() {}, true, 1},
		{"what does not", 10, func() { holds = 100 }, false, 2},
		{"where something was deleted", 10, func() { holds = 50 }, true, 3},
		{"after a while", 10, func() { u.counted = u.counted.Add(-2 * usedFor) }, true, 4},
		{"more than it has", 101, func() {}, false, 5},
	} {
		x.before()
		if fits := u.takes(x.writes, 100, count); fits != x.fits || counted != x.counts {
			t.Errorf("%s: fits %v, counted %d times", x.what, fits, counted)
		}
	}
}
