package act

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/enginetest"
	"verbund/internal/engine/look"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
	"verbund/internal/store"
)

// at is a run on a cluster in the test's hands, as it was seen.
func at(t *testing.T, w *enginetest.World) *Run {
	t.Helper()
	v := &look.View{Cluster: w.Cluster}
	r, err := Begin(w.Session, v, "test", 0, func(store.Entry) {})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// runs sets every unit of a machine to run.
func runs(m topology.Machine, fm *sessiontest.Machine) {
	for _, u := range nodeconf.Units(m) {
		fm.States[u] = "active"
	}
}

// worker is a world with one worker that has its files and runs them.
func worker(t *testing.T) (*enginetest.World, *Run, topology.Machine, *sessiontest.Machine) {
	t.Helper()
	w := enginetest.New(t, 1)
	r := at(t, w)
	m, fm := w.Of(versions.Worker)
	if err := r.writeFiles(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	runs(m, fm)
	fm.Done()
	return w, r, m, fm
}

// Files are written once; what reads a changed one is restarted, and nothing else is.
func TestWriteFiles(t *testing.T) {
	_, r, m, fm := worker(t)
	if err := r.writeFiles(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if done := fm.Done(); len(done) > 0 {
		t.Errorf("what is so already was done again: %q", done)
	}
	const file = protocol.SlotDir + "a/etc/kubelet.yaml"
	f, ok := fm.Files[file]
	if !ok {
		t.Fatalf("there is no %s", file)
	}
	f.Content = []byte("edited by hand\n")
	fm.Files[file] = f
	if err := r.writeFiles(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if done := fm.Done(); !slices.Equal(done, []string{"put", "restart kubelet.service", "put"}) {
		t.Errorf("done is %q", done)
	}
	if string(fm.Files[file].Content) == "edited by hand\n" {
		t.Error("the file is as it was")
	}
	if _, left := fm.Files[nodeconf.Pending]; left {
		t.Error("what was left to do is still written down")
	}
	// What somebody asked to be made anew is done when it is written: either alone, too.
	for _, kind := range []string{"/kubelet-client", "/kubelet-serving"} {
		sessiontest.Remember(t, r.Session, func(st *memory.State) { st.Ask(m.Name+kind, "another/proxy") })
		if err := r.writeFiles(t.Context(), m); err != nil {
			t.Fatal(err)
		}
		if asked := sessiontest.Known(t, r.Session).Asked; asked[m.Name+kind] || !asked["another/proxy"] {
			t.Errorf("asked for is still %v", asked)
		}
	}
}

// A run that is cut off between writing and restarting leaves word of what is left, and the
// next one does it though no file differs any more.
func TestWriteCutOff(t *testing.T) {
	_, r, m, fm := worker(t)
	f := fm.Files[protocol.SlotDir+"a/etc/kubelet.yaml"]
	f.Content = []byte("edited by hand\n")
	fm.Files[f.Path] = f
	cut := errors.New("cut off")
	fm.Fail = func(what string) error {
		if what == "restart kubelet.service" {
			return cut
		}
		return nil
	}
	if err := r.writeFiles(t.Context(), m); !errors.Is(err, cut) {
		t.Fatalf("it ended with %v", err)
	}
	if p := string(fm.Files[nodeconf.Pending].Content); p != "kubelet.service\n" {
		t.Errorf("left to do is %q", p)
	}
	fm.Fail = nil
	fm.Done()
	if err := r.writeFiles(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if done := fm.Done(); !slices.Contains(done, "restart kubelet.service") {
		t.Errorf("done is %q", done)
	}
}

// Into a machine of which no slot holds what the files are for, nothing is written.
func TestWriteIntoNoSlot(t *testing.T) {
	w := enginetest.New(t, 1)
	m, fm := w.Of(versions.Worker)
	fm.Says.Slots["a"]["kubelet"] = "v1.20.0"
	var se *StepError
	err := at(t, w).writeFiles(t.Context(), m)
	if !errors.As(err, &se) || !strings.Contains(err.Error(), "neither slot") || se.Todo == "" {
		t.Errorf("it ended with %v", err)
	}
	if done := fm.Done(); len(done)+len(fm.Files) > 0 {
		t.Errorf("done is %q", done)
	}
}

// What is pulled into the idle slot is moved to before anything runs there.
func TestWriteIntoIdleSlot(t *testing.T) {
	w := enginetest.New(t, 1)
	m, fm := w.Of(versions.Worker)
	fm.Says.Slots["a"], fm.Says.Slots["b"] = nil, fm.Says.Slots["a"]
	if err := at(t, w).writeFiles(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if done := fm.Done(); !slices.Equal(done, []string{"put", "switch to b"}) || fm.Says.Active != "b" {
		t.Errorf("done is %q, slot %s in use", done, fm.Says.Active)
	}
}

// A unit that is not declared any more is stopped before its file is taken away.
func TestWriteStopsWhatGoes(t *testing.T) {
	_, r, m, fm := worker(t)
	const unit = "once-declared.service"
	path := protocol.SlotDir + "a/units/" + unit
	fm.Files[nodeconf.Record] = withFile(fm.Files[nodeconf.Record], nodeconf.Active+"units/"+unit)
	fm.Files[path] = protocol.File{Path: path, Mode: 0o644}
	fm.States[unit] = "active"
	if err := r.writeFiles(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	done := fm.Done()
	if len(done) < 2 || done[0] != "stop "+unit || done[1] != "put" {
		t.Errorf("done is %q", done)
	}
	// A file that is called like a unit, and is none, stops nothing.
	other := "/etc/old/kubelet.service"
	fm.Files[nodeconf.Record] = withFile(fm.Files[nodeconf.Record], other)
	fm.Files[other] = protocol.File{Path: other}
	if err := r.writeFiles(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if done := fm.Done(); !slices.Equal(done, []string{"put"}) {
		t.Errorf("done is %q", done)
	}
	if _, there := fm.Files[path]; there || fm.States[unit] != "inactive" {
		t.Errorf("the unit is %s, its file there: %v", fm.States[unit], there)
	}
}

// Files that restart a member are not written while another one is ill.
func TestWriteAsksTheOthers(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	m, fm := w.Of(versions.Control)
	fm.States["etcd.service"] = "active"
	w.Members.Has[1].Healthy, w.Members.Has[1].Trouble = false, "it does not answer"
	ctx, cancel := context.WithTimeout(t.Context(), guardPatience/5)
	defer cancel()
	err := r.writeFiles(ctx, m)
	if err == nil || !strings.Contains(err.Error(), "guard") || !strings.Contains(err.Error(), w.Members.Has[1].Name) {
		t.Errorf("it ended with %v", err)
	}
	if done := fm.Done(); len(done)+len(fm.Files) > 0 {
		t.Errorf("done is %q", done)
	}
	// What does not restart it is written all the same.
	w.Furnish(m)
	f := fm.Files[protocol.SlotDir+"a/etc/kubelet.yaml"]
	f.Content = []byte("edited by hand\n")
	fm.Files[f.Path] = f
	for u := range fm.States {
		fm.States[u] = "inactive" // nobody waits for an API server that is not there
	}
	fm.States["etcd.service"] = "active"
	if err := r.writeFiles(t.Context(), m); err != nil {
		t.Errorf("files that restart no member: %v", err)
	}
	clear(fm.Files)
	// One that does not run yet takes nothing from the quorum.
	fm.States["etcd.service"] = "inactive"
	if err := r.writeFiles(t.Context(), m); err != nil {
		t.Errorf("a member that does not run: %v", err)
	}
}

// An API server ends before the member beside it is restarted, and comes up after it.
func TestOrders(t *testing.T) {
	c := sessiontest.Cluster(t, 1)
	control, w := c.Of(versions.Control)[0], c.Of(versions.Worker)[0]
	byToken := w
	byToken.ByToken = true
	all := func(m topology.Machine) map[string]bool {
		out := map[string]bool{}
		for _, u := range nodeconf.Units(m) {
			out[u] = true
		}
		return out
	}
	for _, x := range []struct {
		what string
		w    writing
		want string
	}{
		{"nothing", writing{m: w, active: all(w)}, ""},
		{"a restart", writing{m: w, active: all(w), restart: []string{"kubelet.service"}}, "units.restart kubelet.service"},
		{"of what does not run", writing{m: w, restart: []string{"kubelet.service"}}, ""},
		{"a reload", writing{m: w, active: all(w), reload: []string{"containerd.service"}}, "units.reload containerd.service"},
		{"both", writing{m: w, active: all(w), restart: []string{"containerd.service"}, reload: []string{"containerd.service"}}, "units.restart containerd.service"},
		{"of what fails and tries again", writing{m: w, trying: map[string]bool{"kubelet.service": true}, restart: []string{"kubelet.service"}}, "units.restart kubelet.service"},
		{"of what has to enrol first", writing{m: byToken, active: all(w)}, "units.stop kubelet.service"},
		{"of what has enrolled", writing{m: byToken, active: all(w), own: look.OwnPairs{Client: true}}, ""},
		{"member alone", writing{m: control, active: all(control), restart: []string{"etcd.service"}, again: []string{"etcd.service"}}, "units.restart etcd.service"},
		{"member and API server", writing{m: control, active: all(control), restart: []string{"kube-apiserver.service", "etcd.service"}, again: []string{"etcd.service", "kube-apiserver.service"}},
			"units.stop kube-apiserver.service, units.restart etcd.service, units.restart kube-apiserver.service"},
	} {
		var got []string
		for _, o := range x.w.orders() {
			got = append(got, o.method+" "+o.unit)
		}
		if s := strings.Join(got, ", "); s != x.want {
			t.Errorf("%s: %s", x.what, s)
		}
	}
}

// A machine that does not come up in its new slot is said to have gone back, with what
// failed there; what it went back to has all its files still.
func TestSwapFallsBack(t *testing.T) {
	_, r, m, fm := worker(t)
	m.Set.Containerd += "-next"
	old := "/etc/kubernetes/old"
	fm.Files[nodeconf.Record] = withFile(fm.Files[nodeconf.Record], old)
	fm.Files[old] = protocol.File{Path: old}
	fm.Falls = "kubelet.service ended with 1"
	err := r.swap(t.Context(), m)
	var se *StepError
	if !errors.As(err, &se) || se.Exit != 1 || se.Unit == "" || !strings.Contains(err.Error(), "went back to slot a") || !strings.Contains(se.Todo, "nothing else was touched") {
		t.Errorf("it ended with %v", err)
	}
	if _, there := fm.Files[old]; !there {
		t.Error("a file that the slot before may need is gone")
	}
	fm.Falls = ""
	if err := r.swap(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if _, there := fm.Files[old]; there || fm.Says.Active != "b" {
		t.Errorf("slot %s is in use, and the file that nothing needs is there: %v", fm.Says.Active, there)
	}
}

// withFile is a record that has one more file.
func withFile(record protocol.File, path string) protocol.File {
	record.Content = []byte(strings.Replace(string(record.Content), "files:\n", "files:\n    - "+path+"\n", 1))
	return record
}

// A step whose connection broke is done again over a new one, once.
func TestConnectionBreaks(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	m, fm := w.Of(versions.Worker)
	broken := 0
	fm.Fail = func(string) error {
		if broken++; broken == 1 {
			return machine.ErrLost
		}
		return nil
	}
	if err := r.startUnit(t.Context(), m.Name, "kubelet.service"); err != nil || broken != 2 {
		t.Errorf("it ended with %v after %d tries", err, broken)
	}
	fm.Fail = func(string) error { broken++; return machine.ErrLost }
	if err := r.startUnit(t.Context(), m.Name, "kubelet.service"); !errors.Is(err, machine.ErrLost) || broken != 4 {
		t.Errorf("it ended with %v after %d tries", err, broken)
	}
}

// What a run that was cut off had stopped ran, and is started again; so is what is between two of
// its own starts at the moment.
func TestWriteGoesOn(t *testing.T) {
	for _, x := range []struct {
		state string
		now   bool
		want  string
	}{
		{"active", false, "restart kubelet.service"}, {"inactive", false, "restart kubelet.service"}, {"failed", false, "restart kubelet.service"},
		{"activating", false, "restart kubelet.service"}, {"activating", true, "restart kubelet.service"}, {"inactive", true, "restart kubelet.service"},
	} {
		_, r, m, fm := worker(t)
		r.View.Seen.Now = x.now
		fm.Files[nodeconf.Pending] = protocol.File{Path: nodeconf.Pending, Mode: 0o644, Content: []byte("kubelet.service\n")}
		fm.States["kubelet.service"] = x.state
		if err := r.writeFiles(t.Context(), m); err != nil {
			t.Errorf("%s: %v", x.state, err)
		}
		var units []string
		for _, d := range fm.Done() {
			if strings.Contains(d, ".service") {
				units = append(units, d)
			}
		}
		if got := strings.Join(units, ", "); got != x.want {
			t.Errorf("%s, at once %v: %s", x.state, x.now, got)
		}
		if _, left := fm.Files[nodeconf.Pending]; left {
			t.Errorf("%s: it is still to be done", x.state)
		}
	}
}

// A unit that is between two of its own starts when it is looked at runs afterwards; one that
// goes on failing is no failure of what was written, and nothing is put back for it.
func TestWriteBetweenStarts(t *testing.T) {
	for _, fails := range []bool{false, true} {
		_, r, m, fm := worker(t)
		f := fm.Files[protocol.SlotDir+"a/etc/kubelet.yaml"]
		f.Content = []byte("edited by hand\n")
		fm.Files[f.Path] = f
		fm.States["kubelet.service"] = "activating"
		fm.Fail = func(what string) error {
			if fails && what == "restart kubelet.service" {
				return &machine.UnitError{Text: "kubelet.service: exit code 1", State: protocol.UnitState{Name: "kubelet.service", ExitCode: 1}}
			}
			return nil
		}
		if err := r.writeFiles(t.Context(), m); err != nil {
			t.Fatalf("it fails: %v, and %v", fails, err)
		}
		if !fails && fm.States["kubelet.service"] != "active" {
			t.Errorf("it is %s", fm.States["kubelet.service"])
		}
		if string(fm.Files[f.Path].Content) == "edited by hand\n" {
			t.Error("the file was not written")
		}
	}
}

// What was written in place and does not come up is taken back, with what reads it: contents,
// modes, files that were not there and such as were taken away.
func TestWriteTakenBack(t *testing.T) {
	_, r, m, fm := worker(t)
	old := "/etc/kubernetes/old"
	fm.Files[nodeconf.Record] = withFile(fm.Files[nodeconf.Record], old)
	fm.Files[old] = protocol.File{Path: old, Mode: 0o640, Content: []byte("old\n")}
	kubelet, runtime := protocol.SlotDir+"a/etc/kubelet.yaml", protocol.SlotDir+"a/etc/containerd.toml"
	before := protocol.File{Path: kubelet, Mode: 0o600, Content: []byte("as before\n")}
	fm.Files[kubelet] = before
	delete(fm.Files, runtime)
	failed := 0
	fm.Fail = func(what string) error {
		if what == "restart kubelet.service" {
			if failed++; failed == 1 {
				return &machine.UnitError{Text: "kubelet.service: exit code 1", State: protocol.UnitState{Name: "kubelet.service", ExitCode: 1}}
			}
		}
		return nil
	}
	err := r.writeFiles(t.Context(), m)
	var se *StepError
	if !errors.As(err, &se) || se.Unit != "kubelet.service" || se.Exit != 1 || !strings.Contains(err.Error(), "the files before were put back") || se.Todo == "" {
		t.Errorf("it ended with %v", err)
	}
	if f := fm.Files[kubelet]; string(f.Content) != "as before\n" || f.Mode != 0o600 {
		t.Errorf("it has %o %q", f.Mode, f.Content)
	}
	if f := fm.Files[old]; string(f.Content) != "old\n" || f.Mode != 0o640 {
		t.Errorf("what was taken away is %o %q", f.Mode, f.Content)
	}
	if _, there := fm.Files[runtime]; there {
		t.Error("what was not there before is there")
	}
	if _, left := fm.Files[nodeconf.Pending]; left || failed != 2 || fm.States["kubelet.service"] != "active" {
		t.Errorf("restarted %d times, left to do: %v, %s", failed, left, fm.States["kubelet.service"])
	}
	// Where everything is to hold at once, what was before is of no use.
	r.View.Seen.Now = true
	failed = 0
	if err := r.writeFiles(t.Context(), m); err == nil || strings.Contains(err.Error(), "put back") {
		t.Errorf("at once: %v", err)
	}
	// Nor does a person who stops the run want it.
	r.View.Seen.Now, failed = false, 0
	fm.Files[kubelet] = before
	ctx, cancel := context.WithCancel(t.Context())
	fm.Fail = func(what string) error {
		if what == "restart kubelet.service" {
			cancel()
			return ctx.Err()
		}
		return nil
	}
	if err := r.writeFiles(ctx, m); err == nil || string(fm.Files[kubelet].Content) == "as before\n" {
		t.Errorf("interrupted: %v, %q", err, fm.Files[kubelet].Content)
	}
}

// A machine of which a unit was stopped is well when that runs, and not before.
func TestReadyHasAllRun(t *testing.T) {
	w := enginetest.New(t, 1)
	r := at(t, w)
	m, fm := w.Of(versions.Control)
	runs(m, fm)
	fm.States["kube-scheduler.service"], fm.States["kube-controller-manager.service"] = "inactive", "failed"
	fm.Done()
	if err := r.running(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if done := fm.Done(); !slices.Equal(done, []string{"start kube-controller-manager.service", "start kube-scheduler.service"}) {
		t.Errorf("done is %q", done)
	}
	// One that systemd is about to start is waited for.
	fm.States["kube-scheduler.service"] = "activating"
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if err := r.running(ctx, m); err == nil || !strings.Contains(err.Error(), "kube-scheduler.service is activating") {
		t.Errorf("it ended with %v", err)
	}
	if done := fm.Done(); len(done) > 0 {
		t.Errorf("done is %q", done)
	}
	fm.States["kube-scheduler.service"] = "inactive"
	fm.Fail = func(string) error { return errors.New("it does not start") }
	ctx, cancel = context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	if err := r.ready(ctx, m); err == nil || !strings.Contains(err.Error(), "it does not start") {
		t.Errorf("ready with a unit that is stopped: %v", err)
	}
}
