// Package agenttest is what every machine's agent has to do, as a test: simulated machines
// and real ones are held to the same.
package agenttest

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"time"

	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

// World is one machine that the test may do anything with.
type World struct {
	// Dial logs in, and waits for a machine that restarts.
	Dial func(t *testing.T) *machine.Machine
	// Program is the content of a program of some version: one that behaves as "serve" tells
	// the service manager when it serves, and writes what it was told to its log; one that
	// behaves as "fail" says "no such flag" and ends with exit code 7; one that behaves as
	// "late" does that until the file /var/lib/later is there, which it makes, and then serves.
	Program func(behaves, version string) []byte
	// Foreign is a unit that runs on the machine and is nobody's here; empty when there is none.
	Foreign string
	// Registry is where the machine finds artefacts, as host:port, and Digest that of the
	// manifest of one named in it; Wrong is one that it does not have.
	Registry      string
	Name, Version string
	Digest, Wrong string
}

// limit bounds one question.
const limit = 2 * time.Minute

// Conform holds a machine to the protocol.
func Conform(t *testing.T, w World) {
	m := w.Dial(t)
	for _, x := range []struct {
		name string
		do   func(*testing.T, World, *machine.Machine)
	}{{"facts", facts}, {"files", files}, {"pull", pull}, {"units", units}, {"falls back", fallsBack}, {"reads again", readsAgain}, {"well", well}, {"probe", probe}, {"sockets", sockets}, {"seed", seed}} {
		t.Run(x.name, func(t *testing.T) { x.do(t, w, m) })
	}
	// The last one: nothing is left of what the others did.
	t.Run("wipe", func(t *testing.T) { wipe(t, w, m) })
}

func within(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	t.Cleanup(cancel)
	return ctx
}

func facts(t *testing.T, w World, m *machine.Machine) {
	f, err := m.Facts(within(t))
	if err != nil {
		t.Fatal(err)
	}
	if f.Name == "" || f.BootID == "" || f.Image == "" || f.Hardware == "" || f.CPUs < 1 || f.Memory <= 0 || f.Disk <= 0 || f.DiskUsed < 0 || f.DiskUsed > f.Disk || f.Rights != "all" || f.Busy != "" {
		t.Errorf("facts: %+v", f)
	}
	if len(f.Cards) != 1 || !f.Cards[0].Address.IsValid() || time.Since(f.Clock).Abs() > time.Minute {
		t.Errorf("cards %v, clock %s", f.Cards, f.Clock)
	}
	if f.Active != "" {
		t.Errorf("slot %q is active before any was", f.Active)
	}
}

func files(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	put := func(p, content string, mode fs.FileMode) []string {
		t.Helper()
		c, err := m.Put(ctx, []protocol.File{{Path: p, Content: []byte(content), Mode: mode}}, nil)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	const one = "/etc/verbund/deep/one"
	if c := put(one, "1", 0o640); len(c) != 1 {
		t.Errorf("a new file: %v", c)
	}
	if c := put(one, "1", 0o640); len(c) != 0 {
		t.Errorf("the same again: %v", c)
	}
	if c := put(one, "1", 0o600); len(c) != 1 {
		t.Errorf("another mode: %v", c)
	}
	d, err := m.Digests(ctx, []string{one, "/etc/verbund/none"})
	if err != nil || len(d) != 1 || !strings.HasSuffix(d[one], " 600") {
		t.Errorf("digests: %v, %v", d, err)
	}
	got, err := m.Read(ctx, one, "/etc/verbund/none", "/../../.."+one)
	if err != nil || string(got[one]) != "1" || string(got["/../../.."+one]) != "1" || len(got) != 2 {
		t.Errorf("read: %q, %v", got, err)
	}
	long := strings.Repeat("0123456789abcdef", protocol.MaxRead/16) + "the end"
	put("/etc/verbund/long", long, 0o600)
	var all []byte
	for piece := []byte("."); err == nil && len(piece) > 0; all = append(all, piece...) {
		piece, err = m.ReadFrom(ctx, "/etc/verbund/long", int64(len(all)))
	}
	if err != nil || string(all) != long {
		t.Errorf("a long file, piece by piece: %d bytes of %d, %v", len(all), len(long), err)
	}
	if _, err := m.ReadFrom(ctx, "/etc/verbund/none", 0); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a piece of a file that is not there: %v", err)
	}
	l, err := m.List(ctx, "/etc/verbund/deep", "/etc/verbund/nowhere")
	if err != nil || len(l) != 1 || l[0].Path != one || l[0].Mode != 0o600 {
		t.Errorf("list: %+v, %v", l, err)
	}
	if c, err := m.Put(ctx, nil, []string{one, "/etc/verbund/none"}); err != nil || len(c) != 1 {
		t.Errorf("removing: %v, %v", c, err)
	}
	if got, err := m.Read(ctx, one); err != nil || len(got) != 0 {
		t.Errorf("after removing: %v, %v", got, err)
	}
}

func pull(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	q := protocol.PullRequest{Registry: w.Registry, Name: w.Name, Version: w.Version, Digest: w.Digest, Slot: "b"}
	if fetched, err := m.Pull(ctx, q); err != nil || !fetched {
		t.Fatalf("%t, %v", fetched, err)
	}
	f, err := m.Facts(ctx)
	if err != nil || f.Slots["b"][w.Name] != w.Version || f.Digests["b"][w.Name] != w.Digest {
		t.Errorf("%v %v, %v", f.Slots, f.Digests, err)
	}
	if fetched, err := m.Pull(ctx, q); err != nil || fetched {
		t.Errorf("again: %t, %v", fetched, err)
	}
	for what, change := range map[string]func(*protocol.PullRequest){
		"a digest that there is not": func(q *protocol.PullRequest) { q.Digest = w.Wrong },
		"another version":            func(q *protocol.PullRequest) { q.Version = "v0.0.1" },
		"a slot that there is not":   func(q *protocol.PullRequest) { q.Slot = "../../etc" },
		"a name that leads away":     func(q *protocol.PullRequest) { q.Name = "../x" },
	} {
		bad := q
		change(&bad)
		if _, err := m.Pull(ctx, bad); err == nil {
			t.Errorf("%s was pulled", what)
		}
	}
	if f, err = m.Facts(ctx); err != nil || f.Slots["b"][w.Name] != w.Version {
		t.Errorf("after what was refused: %v, %v", f.Slots, err)
	}
	if err := m.PrepareSlot(ctx, "b"); err != nil {
		t.Fatal(err)
	}
	if f, err = m.Facts(ctx); err != nil || len(f.Slots["b"]) != 0 {
		t.Errorf("an emptied slot: %v, %v", f.Slots, err)
	}
}

// fill puts a unit with its program into a slot.
func fill(t *testing.T, w World, m *machine.Machine, slot, unit, typ, behaves, version, arg string) {
	t.Helper()
	text := fmt.Sprintf("[Unit]\nDescription=for a test\n\n[Service]\nType=%s\nExecStart=/opt/verbund/active/bin/%s %s\nRestart=always\nRestartSec=1\nTimeoutStartSec=30\n\n[Install]\nWantedBy=multi-user.target\n", typ, unit, arg)
	dir := protocol.SlotDir + slot
	_, err := m.Put(within(t), []protocol.File{
		{Path: dir + "/units/" + unit + ".service", Mode: 0o644, Content: []byte(text)},
		{Path: dir + "/bin/" + unit, Mode: 0o755, Content: w.Program(behaves, version)},
		{Path: dir + "/bin/" + unit + ".version", Mode: 0o644, Content: []byte(version)},
	}, nil)
	if err != nil {
		t.Fatal(err)
	}
}

func state(t *testing.T, m *machine.Machine, unit string) protocol.UnitState {
	t.Helper()
	us, err := m.Units(within(t))
	if err != nil {
		t.Fatal(err)
	}
	for _, u := range us {
		if u.Name == unit+".service" {
			return u
		}
	}
	return protocol.UnitState{}
}

func units(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	fill(t, w, m, "a", "one", "notify", "serve", "v1", "--told=first")
	fill(t, w, m, "a", "bad", "notify", "fail", "v1", "")
	r, err := m.Switch(ctx, protocol.SwitchRequest{Slot: "a", Start: []string{"one.service"}})
	if err != nil || r.Active != "a" || r.FellBack != "" {
		t.Fatalf("%+v, %v", r, err)
	}
	if u := state(t, m, "one"); u.State != "active" || u.Version != "v1" || u.Restarts != 0 || time.Since(u.Since).Abs() > time.Minute {
		t.Errorf("one: %+v", u)
	}
	if err := m.PrepareSlot(ctx, "a"); err == nil {
		t.Error("the slot in use was emptied")
	}
	var ue *machine.UnitError
	if err := m.Do(ctx, protocol.UnitsStart, "bad.service"); !errors.As(err, &ue) || ue.State.ExitCode != 7 || !strings.Contains(err.Error(), "no such flag") {
		t.Errorf("a unit that fails: %v, %+v", err, ue)
	}
	if l, err := m.Logs(ctx, "bad.service", 20); err != nil || !strings.Contains(strings.Join(l, "\n"), "no such flag") {
		t.Errorf("its log: %v, %v", l, err)
	} else if _, err := time.Parse(time.RFC3339, strings.Fields(l[0])[0]); err != nil {
		t.Errorf("a line without its time: %s", l[0])
	}
	for _, n := range []string{"none.service", "../x.service"} {
		if err := m.Do(ctx, protocol.UnitsStart, n); err == nil {
			t.Errorf("%s was started", n)
		}
	}
	if err := m.Do(ctx, protocol.UnitsStop, "bad.service", "one.service", "none.service"); err != nil {
		t.Errorf("stopping, also what is not there: %v", err)
	}
	if u := state(t, m, "one"); u.State != "inactive" {
		t.Errorf("one, stopped: %+v", u)
	}
	if err := m.Do(ctx, protocol.UnitsStart, "one.service"); err != nil {
		t.Error(err)
	}
	if err := m.Do(ctx, protocol.UnitsStart, "one.service"); err != nil {
		t.Errorf("what runs, started once more: %v", err)
	}
	// One that ends before it is up, since what it needs is away for a moment, is started again
	// by the system, and that is waited for.
	fill(t, w, m, "a", "late", "notify", "late", "v1", "")
	r, err = m.Switch(ctx, protocol.SwitchRequest{Slot: "a", Start: []string{"one.service"}})
	if err != nil || r.FellBack != "" {
		t.Fatalf("%+v, %v", r, err)
	}
	if err := m.Do(ctx, protocol.UnitsStart, "late.service"); err != nil {
		t.Errorf("a unit that is up at its second start: %v", err)
	}
	if u := state(t, m, "late"); u.State != "active" || u.Restarts == 0 {
		t.Errorf("late: %+v", u)
	}
	if err := m.Do(ctx, protocol.UnitsStop, "late.service"); err != nil {
		t.Error(err)
	}
	if w.Foreign == "" {
		return
	}
	for _, method := range []string{protocol.UnitsStop, protocol.UnitsStart, protocol.UnitsRestart, protocol.UnitsReload} {
		if err := m.Do(ctx, method, w.Foreign); err == nil {
			t.Errorf("%s was done to %s, which is somebody else's", method, w.Foreign)
		}
	}
	if u := state(t, m, strings.TrimSuffix(w.Foreign, ".service")); u.Name != "" {
		t.Errorf("somebody else's unit is among ours: %+v", u)
	}
}

func fallsBack(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	fill(t, w, m, "b", "one", "notify", "fail", "v2", "")
	r, err := m.Switch(ctx, protocol.SwitchRequest{Slot: "b", Start: []string{"one.service"}})
	if err != nil || r.Active != "a" || r.Unit != "one.service" || r.ExitCode != 7 || !strings.Contains(r.FellBack, "no such flag") || len(r.Log) == 0 {
		t.Fatalf("%+v, %v", r, err)
	}
	if u := state(t, m, "one"); u.State != "active" || u.Version != "v1" {
		t.Errorf("after falling back: %+v", u)
	}
	if u := state(t, m, "bad"); u.Name == "" {
		t.Error("a unit of the slot before is not known any more")
	}
	fill(t, w, m, "b", "one", "notify", "serve", "v3", "--told=third")
	if r, err = m.Switch(ctx, protocol.SwitchRequest{Slot: "b", Start: []string{"one.service"}}); err != nil || r.Active != "b" || r.FellBack != "" {
		t.Fatalf("%+v, %v", r, err)
	}
	if u := state(t, m, "one"); u.State != "active" || u.Version != "v3" {
		t.Errorf("after switching: %+v", u)
	}
	if u := state(t, m, "bad"); u.Name != "" {
		t.Errorf("a unit that the slot does not have: %+v", u)
	}
}

// readsAgain: a unit that was written anew is started as it is written, not as it was known.
func readsAgain(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	if u := state(t, m, "one"); u.Older {
		t.Errorf("it runs as it is written: %+v", u)
	}
	fill(t, w, m, "b", "one", "notify", "serve", "v3", "--told=anew")
	if u := state(t, m, "one"); !u.Older || u.State != "active" {
		t.Errorf("it runs as it was written before: %+v", u)
	}
	if err := m.Do(ctx, protocol.UnitsRestart, "one.service"); err != nil {
		t.Fatal(err)
	}
	if l, err := m.Logs(ctx, "one.service", 6); err != nil || !strings.Contains(strings.Join(l, "\n"), "--told=anew") {
		t.Errorf("it runs with what it was told before: %v, %v", l, err)
	}
	if u := state(t, m, "one"); u.Older {
		t.Errorf("restarted: %+v", u)
	}
}

// well: a program that does not say when it serves has come up when it says that it is well.
func well(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	fill(t, w, m, "a", "one", "notify", "serve", "v4", "")
	fill(t, w, m, "a", "mute", "exec", "fail", "v4", "")
	r, err := m.Switch(ctx, protocol.SwitchRequest{Slot: "a", Start: []string{"one.service", "mute.service"}, Health: map[string]string{"mute.service": "http://127.0.0.1:1/healthz"}})
	if err != nil || r.Active != "b" || r.Unit != "mute.service" || !strings.Contains(r.FellBack, "exit code 7") {
		t.Errorf("one that ends: %+v, %v", r, err)
	}
	if u := state(t, m, "one"); u.State != "active" || u.Version != "v3" {
		t.Errorf("after falling back: %+v", u)
	}
}

func probe(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	f, err := m.Facts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	at := f.Cards[0].Address.String()
	r, err := m.Probe(ctx, protocol.ProbeRequest{Resolve: []string{"nobody.test"}, Dial: []string{w.Registry, at + ":7"}, Free: []string{at + ":7"},
		Registry: w.Registry, Artefacts: []string{w.Name + "@" + w.Digest, w.Name + "@" + w.Wrong}, Programs: []string{"no-such-program", "../bin/sh"}, Empty: []string{"/var/lib/none", "/opt/verbund/slots"}})
	if err != nil {
		t.Fatal(err)
	}
	if r.Resolve["nobody.test"] == "" || r.Dial[w.Registry] != "" || r.Dial[at+":7"] == "" || r.Free[at+":7"] != "" || r.Artefacts[w.Name+"@"+w.Digest] != "" || r.Artefacts[w.Name+"@"+w.Wrong] == "" || len(r.Programs) != 2 || len(r.Empty) != 1 || r.Empty["/opt/verbund/slots"] == "" {
		t.Errorf("%+v", r)
	}
}

func sockets(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	for _, q := range [][2]string{{"/etc/passwd", "x"}, {"/run/../etc/x", "x"}, {"/run/none.sock", "x"}, {"/run/none.sock", "x\ny"}} {
		if text, err := m.Ask(ctx, q[0], q[1]); err == nil {
			t.Errorf("%v was answered: %q", q, text)
		}
	}
}

func wipe(t *testing.T, w World, m *machine.Machine) {
	ctx := within(t)
	before, err := m.Facts(ctx)
	if err != nil {
		t.Fatal(err)
	}
	secrets := []string{"/etc/kubernetes/trust/x.key", "/var/lib/etcd/db", "/var/lib/kubelet/pki/x.pem"}
	for _, p := range secrets {
		if _, err := m.Put(ctx, []protocol.File{{Path: p, Mode: 0o600, Content: []byte("secret")}}, nil); err != nil {
			t.Fatal(err)
		}
	}
	// Who may become the administrator is written where the system looks for it.
	const rights, foreign = "/etc/sudoers.d/verbund-people", "/etc/sudoers.d/somebody"
	secrets = append(secrets, rights)
	if _, err := m.Put(ctx, []protocol.File{
		{Path: rights, Mode: 0o440, Content: []byte("maren ALL=(ALL) NOPASSWD: ALL\n")},
		{Path: "/etc/verbund/machine.yaml", Mode: 0o644, Content: []byte("cluster: tidewatch\nmachine: m\nfiles: [/etc/hosts, /etc/verbund/machine.yaml, " + rights + "]\n")},
	}, nil); err != nil {
		t.Fatal(err)
	}
	var own map[string][]byte
	if w.Foreign != "" {
		if own, err = m.Read(ctx, "/etc/hosts"); err != nil {
			t.Fatal(err)
		}
		for range 2 { // what is kept is the system's, not ours from before
			if _, err := m.Put(ctx, []protocol.File{{Path: foreign, Mode: 0o440, Content: []byte("# theirs\n")},
				{Path: "/etc/hosts", Mode: 0o644, Content: fmt.Appendf(nil, "%s# of %s\n", own["/etc/hosts"], time.Now())}}, nil); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := m.Wipe(ctx); err != nil {
		t.Fatal(err)
	}
	m = w.Dial(t)
	f, err := m.Facts(ctx)
	if err != nil || f.BootID == before.BootID || f.Active != "" || len(f.Slots["a"])+len(f.Slots["b"]) > 0 || f.Name != before.Name {
		t.Errorf("a wiped machine: %+v, %v", f, err)
	}
	if got, err := m.Read(ctx, secrets...); err != nil || len(got) != 0 {
		t.Errorf("left: %v, %v", got, err)
	}
	if w.Foreign != "" {
		if got, err := m.Read(ctx, foreign, "/etc/hosts"); err != nil || len(got) != 2 || string(got["/etc/hosts"]) != string(own["/etc/hosts"]) {
			t.Errorf("what is the system's own, or somebody else's: %v, %v", got, err)
		}
	}
	if us, err := m.Units(ctx); err != nil || len(us) != 0 {
		t.Errorf("units: %+v, %v", us, err)
	}
}
