package look

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/engine/enginetest"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

// lookAt looks into the first worker of a world.
func lookAt(t *testing.T, w *enginetest.World, due map[string]string) (plan.MachineSeen, error) {
	t.Helper()
	m, _ := w.Of(versions.Worker)
	seen := plan.MachineSeen{Units: map[string]string{}, Restarted: map[string]plan.Restarted{}, Versions: map[string]string{}}
	inv, err := w.Site.Inventory(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, im := range inv.Machines {
		if im.Name == m.Name {
			err = lookInside(t.Context(), w.Session, &View{Cluster: w.Cluster, Seen: plan.Observed{Founded: true}}, im, due, &seen)
		}
	}
	return seen, err
}

// What lies on a machine is held against what is rendered for it: each difference is told
// with its reason, and names what has to restart.
func TestInside(t *testing.T) {
	const kubelet = nodeconf.Active + "etc/kubelet.yaml"
	const onDisk = protocol.SlotDir + "a/etc/kubelet.yaml"
	pair := trust.Dir + "/kubelet-client.crt"
	for _, x := range []struct {
		what     string
		be       func(w *enginetest.World, m *sessiontest.Machine)
		due      map[string]string
		differs  []string
		line     string // one of the lines has it
		restarts []string
	}{
		{what: "all as it is declared"},
		{what: "a file is missing", be: func(_ *enginetest.World, m *sessiontest.Machine) { delete(m.Files, onDisk) }, differs: []string{kubelet}, line: kubelet + ": is missing", restarts: []string{"kubelet.service"}},
		{what: "a file was edited", be: func(_ *enginetest.World, m *sessiontest.Machine) {
			f := m.Files[onDisk]
			f.Content = append(slices.Clone(f.Content), "maxPods: 3\n"...)
			m.Files[onDisk] = f
		}, differs: []string{kubelet}, line: "maxPods: 3", restarts: []string{"kubelet.service"}},
		{what: "another pair lies there", be: func(_ *enginetest.World, m *sessiontest.Machine) {
			m.Files[pair] = protocol.File{Path: pair, Mode: 0o644, Content: []byte("x")}
		}, differs: []string{pair}, line: pair + ": is another one"},
		{what: "a certificate is due", due: map[string]string{"tidewatch-gauges-1/kubelet-client": "it ends soon"}, differs: []string{pair}, line: pair + ": it ends soon"},
		{what: "a key that nothing needs", be: func(_ *enginetest.World, m *sessiontest.Machine) {
			m.Files[trust.Dir+"/stray.key"] = protocol.File{Path: trust.Dir + "/stray.key"}
		}, differs: []string{trust.Dir + "/stray.key"}, line: "nothing there needs it"},
		{what: "a run was cut off", be: func(_ *enginetest.World, m *sessiontest.Machine) {
			m.Files[nodeconf.Pending] = protocol.File{Path: nodeconf.Pending, Content: []byte("kube-proxy.service\n")}
		}, differs: []string{nodeconf.Pending}, line: "cut off before it restarted kube-proxy.service", restarts: []string{"kube-proxy.service"}},
		{what: "a unit that does not run restarts nothing", be: func(_ *enginetest.World, m *sessiontest.Machine) {
			delete(m.Files, onDisk)
			m.States["kubelet.service"] = "inactive"
		}, differs: []string{kubelet}, line: "is missing"},
	} {
		w := enginetest.New(t, 1)
		m, fm := w.Of(versions.Worker)
		w.Furnish(m)
		if x.be != nil {
			x.be(w, fm)
		}
		seen, err := lookAt(t, w, x.due)
		if err != nil {
			t.Errorf("%s: %v", x.what, err)
		}
		if !slices.Equal(seen.Differs, x.differs) || !slices.Equal(seen.Restarts, x.restarts) || !strings.Contains(strings.Join(seen.Lines, "\n"), x.line) || len(x.differs) == 0 && len(seen.Lines) > 0 {
			t.Errorf("%s: differs %q, restarts %q\n%s", x.what, seen.Differs, seen.Restarts, strings.Join(seen.Lines, "\n"))
		}
		if done := fm.Done(); len(done) > 0 {
			t.Errorf("%s: looking did %q", x.what, done)
		}
	}
}

// A machine on which a run that was cut off is still at something is not judged; one whose
// connection broke is asked again, once.
func TestInsideBusyOrLost(t *testing.T) {
	w := enginetest.New(t, 1)
	m, fm := w.Of(versions.Worker)
	w.Furnish(m)
	fm.Says.Busy = "slots.switch"
	if _, err := lookAt(t, w, nil); err != nil {
		t.Errorf("without the lock somebody else may be at it: %v", err)
	}
	w.Alone = true
	if _, err := lookAt(t, w, nil); !errors.Is(err, errBusy) || !strings.Contains(err.Error(), "slots.switch") {
		t.Errorf("with the lock: %v", err)
	}
	fm.Says.Busy = ""
	dials := 0
	reach := w.By.Machine
	w.By.Machine = func(ctx context.Context, to machine.Target) (session.Machine, error) {
		dials++
		return reach(ctx, to)
	}
	w.HangUp(m.Name)
	fm.Lost = 1
	if _, err := lookAt(t, w, nil); err != nil || dials != 2 {
		t.Errorf("a connection that broke: %v after %d", err, dials)
	}
	fm.Lost = 2
	if _, err := lookAt(t, w, nil); !errors.Is(err, machine.ErrLost) {
		t.Errorf("one that broke twice: %v", err)
	}
}

// A clock that is off is told of, and times of the machine are put right by it.
func TestInsideClock(t *testing.T) {
	w := enginetest.New(t, 1)
	m, fm := w.Of(versions.Worker)
	w.Furnish(m)
	fm.Says.Clock = time.Now().Add(-time.Hour)
	seen, err := lookAt(t, w, nil)
	if err != nil || (seen.ClockOff+time.Hour).Abs() > 10*time.Second {
		t.Errorf("it is off by %s, %v", seen.ClockOff, err)
	}
}
