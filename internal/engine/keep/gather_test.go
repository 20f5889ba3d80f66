package keep

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/machine/protocol"
)

// keepers are a cluster whose control-plane machine takes backups by itself, that machine, and the
// way to it.
func keepers(t *testing.T) (*topology.Cluster, *sessiontest.Machine, On) {
	t.Helper()
	c, err := coretest.Declare(coretest.Text("v1.37.2", 1, 1)+"backup: {every: 1h}\n", topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	m := sessiontest.NewMachine("tidewatch-control-1")
	return c, m, func(_ context.Context, name string, do func(session.Machine) error) error {
		if name != "tidewatch-control-1" {
			t.Errorf("%s is asked", name)
		}
		return do(m)
	}
}

// lay has a backup lie on a machine instead of here.
func lay(t *testing.T, s *session.Session, m *sessiontest.Machine, f *Found, change func([]byte) []byte) {
	t.Helper()
	b, err := os.ReadFile(path(s, f.Name))
	if err == nil {
		err = os.Remove(path(s, f.Name))
	}
	if err != nil {
		t.Fatal(err)
	}
	m.Files[nodeconf.KeeperFolder+"/"+f.Name] = protocol.File{Content: change(b)}
}

func asItIs(b []byte) []byte { return b }

// What machines have taken by themselves is fetched and read to its end; what is damaged, of another
// cluster, or cannot be opened keeps nothing else from coming, and none of it lies here afterwards.
func TestGather(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	c, m, on := keepers(t)
	one, two, three := take(t, s, "one"), take(t, s, "two"), take(t, s, "three")
	here := take(t, s, "four")
	b, err := os.ReadFile(path(s, here.Name))
	if err != nil {
		t.Fatal(err)
	}
	m.Files[nodeconf.KeeperFolder+"/"+here.Name] = protocol.File{Content: b}
	m.Files[nodeconf.KeeperRest] = protocol.File{Content: []byte("x")}
	lay(t, s, m, one, asItIs)
	lay(t, s, m, two, func(b []byte) []byte { return b[:len(b)/2] })
	foreign := *sessiontest.Cluster(t, 0)
	foreign.Name = "lampwright"
	other, err := Keep(s, &foreign, Reason{Name: "five", Why: "asked for", Version: "v1.37.2"}, snapshot(t, "tides of another"))
	if err != nil {
		t.Fatal(err)
	}
	lay(t, s, m, other, asItIs)
	lay(t, s, m, three, func([]byte) []byte { return nil })
	got, err := Gather(t.Context(), s, c, on)
	if got == nil || len(got.Got) != 1 || got.Got[0].Name != one.Name || got.Left != 1 || got.Got[0].Note.Verified.IsZero() {
		t.Fatalf("%+v, %v", got, err)
	}
	if err == nil || !strings.Contains(err.Error(), two.Name) || !strings.Contains(err.Error(), three.Name) || !errors.Is(err, ErrOther) {
		t.Errorf("what could not be had: %v", err)
	}
	left, err := filepath.Glob(filepath.Join(filepath.Dir(path(s, one.Name)), "*.backup.age*"))
	if err != nil || len(left) != 2 {
		t.Errorf("here lie %q, %v", left, err)
	}
	if text, err := reads(s, one.Name); err != nil || text != "tides of one" {
		t.Errorf("it reads %q, %v", text, err)
	}
	// Who is told to stop fetches no further.
	if err := os.Remove(path(s, one.Name)); err != nil {
		t.Fatal(err)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	if got, err := Gather(ended, s, c, on); !errors.Is(err, context.Canceled) || len(got.Got) > 0 {
		t.Errorf("%+v, %v", got, err)
	}
	// A machine that does not answer is said not to be known.
	if got, err := Gather(t.Context(), s, c, func(context.Context, string, func(session.Machine) error) error { return errors.New("no power") }); err == nil || !strings.Contains(err.Error(), "what lies on tidewatch-control-1 is not known") || len(got.Got) > 0 {
		t.Errorf("%+v, %v", got, err)
	}
}

// What would not stay beside what is here is not fetched: those count that were taken by rule, and
// can be used.
func TestWanting(t *testing.T) {
	s := life(t, t.TempDir(), t.TempDir())
	at := func(hour int) time.Time { return time.Date(2026, 11, 30, hour, 0, 0, 0, time.UTC) }
	there := func(hours ...int) (out []lies) {
		for _, h := range hours {
			out = append(out, lies{"a", nodeconf.KeeperFolder + "/" + at(h).Format("20060102-150405") + "-v1.37.2.backup.age", at(h)})
		}
		return out
	}
	hours := func(ls []lies) (out []int) {
		for _, l := range ls {
			out = append(out, l.taken.Hour())
		}
		return out
	}
	got, err := wanting(s, there(9, 7, 8))
	if h := hours(got); err != nil || len(h) != 3 || h[0] != 7 || h[2] != 9 {
		t.Errorf("without a rule: %v, %v", h, err)
	}
	s.Decl.Backup.Keep = &declare.KeepFew{Last: 2}
	if got, err := wanting(s, there(9, 7, 8)); err != nil || len(got) != 2 || hours(got)[0] != 8 {
		t.Errorf("the last two: %v, %v", hours(got), err)
	}
	// One that a person took here does not count, one that was taken by rule does.
	take(t, s, "by-hand")
	if got, err := wanting(s, there(9, 7, 8)); err != nil || len(got) != 2 {
		t.Errorf("beside one by hand: %v, %v", hours(got), err)
	}
	if _, err := Keep(s, sessiontest.Cluster(t, 0), Reason{Why: AsDeclared, Version: "v1.37.2"}, snapshot(t, "by rule")); err != nil {
		t.Fatal(err)
	}
	if got, err := wanting(s, there(9, 7, 8)); err != nil || len(got) != 1 || hours(got)[0] != 9 {
		t.Errorf("beside one by rule: %v, %v", hours(got), err)
	}
}
