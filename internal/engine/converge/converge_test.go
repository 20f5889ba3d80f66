package converge

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/versions"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/site"
	"verbund/internal/store"
)

var errNo = errors.New("no")

// person answers questions as the test says, and notes what was asked and said.
type person struct {
	no    func(question string) bool // the person says no
	asked []string
	said  []string
	shown []look.Proved
}

func (p *person) Say(format string, args ...any) {
	p.said = append(p.said, fmt.Sprintf(format, args...))
}

func (p *person) Problem(text string) { p.said = append(p.said, text) }

func (p *person) Ask(question string) error {
	if p.asked = append(p.asked, question); p.no != nil && p.no(question) {
		return errNo
	}
	return nil
}

func (p *person) AskByName(cluster, what string) error { return p.Ask("by name: " + what) }

func (p *person) Named(string) bool { return false }

func (p *person) Agree(question string, notToMiss []string, _ *plan.Plan, _ *look.View) error {
	p.said = append(p.said, notToMiss...)
	return p.Ask(question)
}

func (p *person) Watch([]plan.Step) Watcher { return nobody{} }

func (p *person) Proof(_ string, claims []look.Proved) error { p.shown = claims; return nil }

type nobody struct{}

func (nobody) Start()               {}
func (nobody) Entry(store.Entry)    {}
func (nobody) Stop()                {}
func (nobody) Finish(string, error) {}

// computer notes whether the site's process was started and ended.
type computer struct {
	site          *sessiontest.Site
	started, left int
}

func (c *computer) Start() error {
	c.started++
	c.site.Fail(nil)
	return nil
}

func (c *computer) Leave(context.Context) error { c.left++; return nil }

func (c *computer) OpenedBy(p store.Protection) string { return p.Kind }

// stage is a declared cluster of which there is nothing yet.
type stage struct {
	*Work
	*person
	*computer
	folder string
}

func newStage(t *testing.T, within time.Duration) *stage {
	t.Helper()
	r, err := coretest.Read(coretest.Text("v1.37.2", 1, 1))
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	r.PinsFile = filepath.Join(folder, "tidewatch.pins.yaml")
	s := &sessiontest.Site{Has: site.Inventory{Site: "estuary", Zones: []site.Zone{{Name: "north", Room: 9}, {Name: "south", Room: 9}, {Name: "island", Room: 9}}}}
	p, c := &person{}, &computer{site: s}
	sess := &session.Session{Decl: r.Decl, SiteFile: r.Site, Cat: versions.Shipped(), Store: store.At(folder, r.Decl.Name, &store.Keys{Dir: t.TempDir()}), Site: s, Parallel: 2}
	ctx, cancel := context.WithTimeout(t.Context(), within)
	t.Cleanup(cancel)
	return &stage{&Work{Session: sess, Asker: p, Host: c, Declared: r, Soft: ctx, Hard: ctx}, p, c, folder}
}

// written are the files below the folder.
func (s *stage) written(t *testing.T) []string {
	t.Helper()
	var out []string
	err := filepath.WalkDir(s.folder, func(p string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			out = append(out, e.Name())
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// Who says no changes nothing: no memory, no machine, no process, and what the command was
// to write down is not written.
func TestDeclined(t *testing.T) {
	s := newStage(t, time.Minute)
	s.person.no = func(string) bool { return true }
	change := &Change{Text: "a change", Write: func() error { t.Error("it was written down"); return nil }}
	if err := s.Converge("converge", "", change); !errors.Is(err, errNo) {
		t.Errorf("it ended with %v", err)
	}
	if w := s.written(t); len(w) > 0 || len(s.computer.site.Machines()) > 0 || s.started > 0 {
		t.Errorf("written is %q, machines %q, started %d times", w, s.computer.site.Machines(), s.started)
	}
	if len(s.asked) != 1 || !strings.Contains(s.asked[0], "cluster tidewatch") {
		t.Errorf("asked was %q", s.asked)
	}
}

// What is in the way is found before anything is written: here a zone without room.
func TestSurveyedFirst(t *testing.T) {
	s := newStage(t, time.Minute)
	for i := range s.computer.site.Has.Zones {
		s.computer.site.Has.Zones[i].Room = 0
	}
	change := &Change{Text: "a change", Write: func() error { t.Error("it was written down"); return nil }}
	if err := s.Converge("converge", "", change); err == nil || !strings.Contains(err.Error(), "in the way; nothing was changed") {
		t.Errorf("it ended with %v", err)
	}
	if len(s.computer.site.Machines()) > 0 || slices.ContainsFunc(s.written(t), func(f string) bool { return strings.HasSuffix(f, ".pins.yaml") }) {
		t.Errorf("written is %q, machines %q", s.written(t), s.computer.site.Machines())
	}
	if !slices.ContainsFunc(s.said, func(l string) bool { return strings.Contains(l, "what now") }) {
		t.Errorf("said was %q", s.said)
	}
}

// With yes the change is written down first, then the pins, and then machines are ordered.
func TestWrittenBeforeBegun(t *testing.T) {
	s := newStage(t, 20*time.Second)
	var order []string
	s.computer.site.Getting = func(machine string, _ site.Order) error {
		order = append(order, "order")
		if !slices.Contains(s.written(t), "tidewatch.pins.yaml") {
			t.Error("machines are ordered before the pins are written")
		}
		return &site.Refused{What: "no more", Todo: "ask later"}
	}
	err := s.Converge("converge", "", &Change{Text: "a change", Write: func() error { order = append(order, "change"); return nil }})
	if err == nil || !strings.Contains(err.Error(), "no more") {
		t.Errorf("it ended with %v", err)
	}
	if len(order) < 2 || order[0] != "change" || !slices.Contains(s.said, "a change") {
		t.Errorf("in order %q, said %q", order, s.said)
	}
	es, _, err := s.Store.Entries()
	if err != nil || len(es) == 0 || es[len(es)-1].Outcome != "failed" {
		t.Errorf("the journal ends with %+v, %v", es, err)
	}
}

// An address that somebody else got first is no failure: the plan is made anew, a few times.
func TestAddressTaken(t *testing.T) {
	s := newStage(t, time.Minute)
	orders := 0
	s.computer.site.Getting = func(string, site.Order) error {
		orders++
		return &site.Refused{What: "somebody has that", Code: site.AddressTaken}
	}
	err := s.Converge("converge", "", nil)
	var refused *site.Refused
	if !errors.As(err, &refused) || refused.Code != site.AddressTaken {
		t.Errorf("it ended with %v", err)
	}
	anew := 0
	for _, l := range s.said {
		if strings.Contains(l, "the plan is made anew with another one") {
			anew++
		}
	}
	if anew != mostTaken || orders < mostTaken || len(s.asked) != 1 {
		t.Errorf("planned anew %d times, %d orders, asked %q", anew, orders, s.asked)
	}
}

// A site that does not run is started only when the person has agreed to that; what cannot
// be told without it is not guessed.
func TestWoken(t *testing.T) {
	s := newStage(t, time.Minute)
	if err := s.Store.Make(); err != nil {
		t.Fatal(err)
	}
	sessiontest.Remember(t, s.Session, func(st *memory.State) {
		st.Machines["tidewatch-gauges-1"] = memory.Machine{Fingerprint: "SHA256:made-up"}
	})
	s.computer.site.Fail(site.ErrNotRunning)
	s.person.no = func(q string) bool { return strings.Contains(q, "Start it?") }
	for what, do := range map[string]func() error{
		"converge": func() error { return s.Converge("converge", "", nil) },
		"clear":    func() error { return s.Clear([]string{"tidewatch-gauges-1"}) },
		"teardown": func() error { return s.Teardown() },
	} {
		s.asked = nil
		if err := do(); !errors.Is(err, errNo) || s.started > 0 {
			t.Errorf("%s ended with %v, and the site was started %d times", what, err, s.started)
		}
		if len(s.asked) != 1 {
			t.Errorf("%s asked %q", what, s.asked)
		}
	}
}

// A teardown wants the name, gives every machine of this cluster back, and no other's.
func TestTeardown(t *testing.T) {
	s := newStage(t, time.Minute)
	if err := s.Store.Make(); err != nil {
		t.Fatal(err)
	}
	s.computer.site.Has.Machines = []site.Machine{{Name: "tidewatch-gauges-1", Cluster: "tidewatch", Power: site.PowerOn}, {Name: "tidewatch-gauges-2", Cluster: "tidewatch", Power: site.PowerOff}, {Name: "lampwright-1", Cluster: "lampwright", Power: site.PowerOn}}
	for _, m := range []string{"tidewatch-gauges-1", "tidewatch-gauges-2"} {
		sessiontest.Remember(t, s.Session, func(st *memory.State) { st.Machines[m] = memory.Machine{Fingerprint: "SHA256:made-up"} })
	}
	s.person.no = func(q string) bool { return strings.HasPrefix(q, "by name: ") }
	if err := s.Teardown(); !errors.Is(err, errNo) || len(s.computer.site.Machines()) != 3 || !s.Store.Exists() {
		t.Errorf("without the name it ended with %v, and %q are left", err, s.computer.site.Machines())
	}
	s.person.no = nil
	if err := s.Teardown(); err != nil {
		t.Fatal(err)
	}
	if left := s.computer.site.Machines(); !slices.Equal(left, []string{"lampwright-1"}) || s.Store.Exists() || s.left != 1 {
		t.Errorf("left are %q, a memory: %v, the site was left %d times", left, s.Store.Exists(), s.left)
	}
}

// Where nothing is to be done, what only a person can see to is said all the same.
func TestNothingAndYet(t *testing.T) {
	s := newStage(t, time.Minute)
	if err := s.Store.Make(); err != nil {
		t.Fatal(err)
	}
	c, err := s.Topology()
	if err != nil {
		t.Fatal(err)
	}
	v := &look.View{Cluster: c}
	v.Seen.Machines = map[string]plan.MachineSeen{"tidewatch-control-1": {Exists: true, Reached: true, Disk: 100, DiskUsed: 97}, "tidewatch-gauges-1": {Exists: true, Reached: true, ClockOff: time.Hour}}
	if err := (&converging{Work: s.Work, command: "converge"}).nothing(v, nil); err != nil {
		t.Fatal(err)
	}
	want := []string{"cluster tidewatch is as declared: nothing to do", "see to: the disk of tidewatch-control-1 is 97% full", "see to: the clock of tidewatch-gauges-1 is 1h0m0s ahead"}
	if !slices.Equal(s.said, want) {
		t.Errorf("said was %q, wanted %q", s.said, want)
	}
}
