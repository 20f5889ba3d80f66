package host

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"strings"
	"testing"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"github.com/spf13/pflag"
	"golang.org/x/crypto/ssh"
	kubeletv1 "k8s.io/kubelet/config/v1beta1"

	"verbund/internal/agent"
	"verbund/internal/machine/protocol"
)

func TestReadFiles(t *testing.T) {
	h, a := boot(t)
	if err := errors.Join(h.WriteFile("/etc/one", []byte("1"), 0o640), h.WriteFile("/etc/big", make([]byte, protocol.MaxRead+10), 0o644)); err != nil {
		t.Fatal(err)
	}
	r, err := ask[protocol.FilesReply](a, protocol.FilesRead, protocol.PathsRequest{Paths: []string{"/etc/one", "/etc/none", "/etc", "/etc/big", "/../../../../etc/one"}})
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]int{}
	for _, f := range r.Files {
		got[f.Path] = len(f.Content)
	}
	// A path cannot leave the machine's disk.
	if len(got) != 3 || got["/etc/one"] != 1 || got["/etc/big"] != protocol.MaxRead || got["/../../../../etc/one"] != 1 || r.Files[0].Mode != 0o640 {
		t.Errorf("read %v", got)
	}
}

func TestProbe(t *testing.T) {
	h, a := boot(t)
	busy := netip.AddrPortFrom(h.Spec.Address, 7123).String()
	l, err := h.Listen(busy)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := h.WriteFile("/etc/hosts", []byte(h.Spec.Address.String()+" known.test\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	free, closed := netip.AddrPortFrom(h.Spec.Address, 7124).String(), netip.AddrPortFrom(h.Spec.Address, 7125).String()
	r, err := ask[protocol.ProbeReply](a, protocol.MachineProbe, protocol.ProbeRequest{
		Resolve: []string{"known.test", "unknown.test"}, Dial: []string{busy, closed}, Free: []string{busy, free},
		Registry: closed, Artefacts: []string{"kubelet@sha256:" + strings.Repeat("0", 64)},
	})
	if err != nil {
		t.Fatal(err)
	}
	for name, x := range map[string]struct {
		got  map[string]string
		want string
	}{"resolve": {r.Resolve, "unknown.test"}, "dial": {r.Dial, closed}, "free": {r.Free, busy}, "artefacts": {r.Artefacts, "kubelet@sha256:" + strings.Repeat("0", 64)}} {
		if len(x.got) != 1 || x.got[x.want] == "" {
			t.Errorf("%s: %v, wanted trouble with %s alone", name, x.got, x.want)
		}
	}
}

// Wiping leaves nothing but the machine's identity and its console's log.
func TestWipe(t *testing.T) {
	h, a := boot(t)
	slot(t, h, "a", "v1", map[string]string{"one": "serve"})
	if _, err := ask[protocol.SwitchReply](a, protocol.SlotsSwitch, protocol.SwitchRequest{Slot: "a", Start: []string{"one.service"}}); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(h.WriteFile("/etc/kubernetes/trust/x.key", []byte("k"), 0o600), h.WriteFile("/var/lib/etcd/db", []byte("d"), 0o600)); err != nil {
		t.Fatal(err)
	}
	restarted := make(chan struct{})
	a = logIn(t, h, func() { close(restarted) })
	if ok, err := ask[bool](a, protocol.MachineWipe, nil); !ok || err != nil {
		t.Fatal(err)
	}
	<-restarted
	for _, p := range []string{"/etc/kubernetes/trust/x.key", "/var/lib/etcd/db", "/opt/verbund/slots/a/bin/one", "/var/log/units/one.service.log"} {
		if _, err := os.Stat(h.Path(p)); !errors.Is(err, os.ErrNotExist) {
			t.Errorf("%s is still there: %v", p, err)
		}
	}
	if con, err := h.ReadFile("/var/log/console"); err != nil || !strings.Contains(string(con), "everything is wiped on request") {
		t.Errorf("the console: %v %s", err, con)
	}
	for _, u := range h.manager.list() {
		if u.State == "active" {
			t.Errorf("a unit still runs: %+v", u)
		}
	}
}

// A machine listens at its own address, and at one that it carries.
func TestOwnAddresses(t *testing.T) {
	h, _ := boot(t)
	other := netip.AddrPortFrom(h.Spec.Address.Next(), 7200)
	if _, err := h.Listen(other.String()); err == nil || !strings.Contains(err.Error(), "cannot assign requested address") {
		t.Errorf("another's address: %v", err)
	}
	if _, err := h.Listen("nonsense"); err == nil {
		t.Error("nonsense was listened at")
	}
	letGo := h.Carry(other.Addr())
	l, err := h.Listen(other.String())
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	letGo()
	if _, err := h.Listen(other.String()); err == nil {
		t.Error("an address that was let go is still there")
	}
}

// A full disk shows in what the machine says of itself.
func TestFullDiskShows(t *testing.T) {
	h, a := boot(t)
	f, err := ask[protocol.FactsReply](a, protocol.Facts, nil)
	if err != nil || f.DiskUsed >= f.Disk || f.Rights != "all" || len(f.Cards) != 1 || f.Cards[0].Address != h.Spec.Address {
		t.Errorf("facts: %+v, %v", f, err)
	}
	h.Suffer(Faults{Full: true})
	if f, err = ask[protocol.FactsReply](a, protocol.Facts, nil); err != nil || f.DiskUsed != f.Disk {
		t.Errorf("facts of a full machine: %+v, %v", f, err)
	}
	h.Suffer(Faults{Rights: "look"})
	for what, call := range map[string]func() error{
		"put": func() error {
			_, err := ask[protocol.PutReply](a, protocol.FilesPut, protocol.PutRequest{})
			return err
		},
		"pull": func() error {
			_, err := ask[protocol.PullReply](a, protocol.ArtefactsPull, protocol.PullRequest{Slot: "a"})
			return err
		},
		"start": func() error { _, err := ask[bool](a, protocol.UnitsStart, protocol.UnitsRequest{}); return err },
		"stop":  func() error { _, err := ask[bool](a, protocol.UnitsStop, protocol.UnitsRequest{}); return err },
		"wipe":  func() error { _, err := ask[bool](a, protocol.MachineWipe, nil); return err },
	} {
		if err := call(); err == nil || !strings.Contains(err.Error(), "permission denied: this login may only look") {
			t.Errorf("%s with lesser rights: %v", what, err)
		}
	}
}

// A stand-in takes what its version of the component knows, and nothing else.
func TestKnownSettings(t *testing.T) {
	h, _ := boot(t)
	for _, x := range []struct {
		version string
		arg     string
		ok      bool
	}{{"v1.35.3", "--audit-log-maxage=3", true}, {"v1.35.3", "--tls-curve-preferences=1", false}, {"v1.36.2", "--tls-curve-preferences=1", true}, {"v1.37.2", "--max-pods=3", false}} {
		e := &Env{Host: h, Name: "kube-apiserver", Version: x.version}
		fs := pflag.NewFlagSet("x", pflag.ContinueOnError)
		own := fs.String("advertise-address", "", "")
		e.KnownFlags(fs)
		if err := fs.Parse([]string{"--advertise-address=a", x.arg}); (err == nil) != x.ok || *own != "a" {
			t.Errorf("%s of %s: %v", x.arg, x.version, err)
		}
	}
	for _, x := range []struct{ version, text, want string }{
		{"v1.35.3", "kind: KubeletConfiguration\nmaxPods: 9\n", ""},
		{"v1.35.3", "kind: KubeletConfiguration\nmemoryReservationPolicy: None\n", "kubelet of v1.35 does not know the key memoryReservationPolicy"},
		{"v1.36.3", "kind: KubeletConfiguration\nmemoryReservationPolicy: None\n", ""},
		{"v1.36.3", "authentication: {webhook: {enabled: true}}\n", ""},
		{"v1.36.3", "authentication: {webhok: {enabled: true}}\n", "unknown field"},
		{"v1.36.3", "evictionHard: {memory.available: 5%}\n", ""},
		{"v1.36.3", "a: [\n", "/etc/kubelet.yaml"},
	} {
		if err := h.WriteFile("/etc/kubelet.yaml", []byte(x.text), 0o644); err != nil {
			t.Fatal(err)
		}
		var cfg kubeletv1.KubeletConfiguration
		err := (&Env{Host: h, Name: "kubelet", Version: x.version}).StrictConfig("/etc/kubelet.yaml", &cfg)
		if (err == nil) != (x.want == "") || err != nil && !strings.Contains(err.Error(), x.want) {
			t.Errorf("%q for %s: %v, wanted %q", x.text, x.version, err, x.want)
		}
	}
}

// People log in by the files on the disk, with the rights that these give.
func TestPeople(t *testing.T) {
	h, _ := boot(t)
	maren, jorid, stranger := signer(t), signer(t), signer(t)
	line := func(s ssh.Signer) []byte { return ssh.MarshalAuthorizedKey(s.PublicKey()) }
	for p, text := range map[string][]byte{
		"/etc/sysusers.d/verbund-people.conf": []byte("u maren - \"act\" /home/maren /bin/sh\nu jorid - \"look\" /home/jorid /bin/sh\n"),
		"/etc/sudoers.d/verbund-people":       []byte("maren ALL=(ALL) NOPASSWD: ALL\n"),
		"/etc/ssh/authorized_keys.d/maren":    append(line(stranger), line(maren)...),
		"/etc/ssh/authorized_keys.d/jorid":    line(jorid),
		"/etc/ssh/authorized_keys.d/ghost":    line(stranger), // a key without an account
		"/etc/secret":                         []byte("hidden"),
	} {
		mode := os.FileMode(0o644)
		if p == "/etc/secret" {
			mode = 0o600
		}
		if err := h.WriteFile(p, text, mode); err != nil {
			t.Fatal(err)
		}
	}
	for _, x := range []struct {
		name string
		key  ssh.Signer
		want string
	}{{"maren", maren, "act"}, {"jorid", jorid, "look"}, {"jorid", maren, ""}, {"ghost", stranger, ""}, {"nobody", maren, ""}, {"../ssh", maren, ""}} {
		if got := h.person(x.name, x.key.PublicKey()); got != x.want {
			t.Errorf("%s: rights %q, wanted %q", x.name, got, x.want)
		}
	}
	run := func(name string, key ssh.Signer, subsystem bool, command string) (string, error) {
		c, err := net.Dial("tcp", netip.AddrPortFrom(h.Spec.Address, uint16(h.SSHPort)).String())
		if err != nil {
			t.Fatal(err)
		}
		sc, chans, reqs, err := ssh.NewClientConn(c, "m", &ssh.ClientConfig{User: name, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
		if err != nil {
			return "", err
		}
		cl := ssh.NewClient(sc, chans, reqs)
		defer cl.Close()
		s, err := cl.NewSession()
		if err != nil {
			return "", err
		}
		if subsystem {
			return "", s.RequestSubsystem(protocol.Subsystem)
		}
		out, err := s.CombinedOutput(command)
		return string(out), err
	}
	if out, err := run("maren", maren, false, "cat /etc/secret"); err != nil || out != "hidden" {
		t.Errorf("maren may act: %v %s", err, out)
	}
	if out, err := run("jorid", jorid, false, "cat /etc/secret"); err == nil || !strings.Contains(out, "permission denied") {
		t.Errorf("jorid may look: %v %s", err, out)
	}
	if _, err := run("maren", maren, true, ""); err == nil {
		t.Error("a person opened the tool's own subsystem")
	}
	if _, err := run("ghost", stranger, false, "ls /"); err == nil {
		t.Error("somebody without an account logged in")
	}
}

// cutOff is a machine that loses its power within a wipe.
type cutOff struct{ system }

func (cutOff) Wipe(context.Context) error { return errors.New("cut off") }

// A machine whose wipe was cut off has no slot in use: whoever raises it anew brings all of it.
func TestWipeCutOff(t *testing.T) {
	h, a := boot(t)
	slot(t, h, "a", "v1", map[string]string{"one": "serve"})
	if _, err := ask[protocol.SwitchReply](a, protocol.SlotsSwitch, protocol.SwitchRequest{Slot: "a", Start: []string{"one.service"}}); err != nil {
		t.Fatal(err)
	}
	here, there := net.Pipe()
	served := make(chan struct{})
	go func() { defer close(served); agent.Serve(there, cutOff{system{h, func() {}}}) }()
	c := jrpc2.NewClient(channel.Line(here, here), nil)
	t.Cleanup(func() { c.Close(); <-served })
	if _, err := ask[bool](&login{c}, protocol.MachineWipe, nil); err == nil || !strings.Contains(err.Error(), "cut off") {
		t.Fatalf("the wipe ended with %v", err)
	}
	if _, err := os.Lstat(h.Path("/opt/verbund/active")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a slot is in use: %v", err)
	}
}
