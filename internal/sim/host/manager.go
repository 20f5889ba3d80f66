package host

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-systemd/v22/unit"

	"verbund/internal/machine/protocol"
	"verbund/internal/whole"
)

// UnitState is one service as the manager sees it.
type UnitState = protocol.UnitState

// Descriptor is what lies in the place of a binary.
type Descriptor struct {
	StandIn string `json:"standIn"`
	Version string `json:"version"`
}

// definition is a unit file, read.
type definition struct {
	typ, restart   string
	exec           []string
	restartSec     time.Duration
	startTimeout   time.Duration
	after          []string
	reload, wanted bool
	text           string
}

// directives that the manager knows, by section; anything else is an error, so
// that a misspelt one does not go unnoticed.
var directives = map[string][]string{
	"Unit":    {"Description", "Documentation", "Wants", "Requires", "After", "Before"},
	"Service": {"Type", "ExecStart", "ExecReload", "Restart", "RestartSec", "TimeoutStartSec", "TimeoutStopSec", "LimitNOFILE", "KillMode", "Delegate", "Environment", "OOMScoreAdjust", "TasksMax"},
	"Install": {"WantedBy"},
}

// parseUnit reads a unit file strictly.
func parseUnit(name string, text []byte) (*definition, error) {
	opts, err := unit.DeserializeOptions(strings.NewReader(string(text)))
	if err != nil {
		return nil, fmt.Errorf("unit %s: %w", name, err)
	}
	d := &definition{text: string(text), typ: "simple", restart: "no", restartSec: 100 * time.Millisecond, startTimeout: 90 * time.Second}
	for _, o := range opts {
		if !slices.Contains(directives[o.Section], o.Name) {
			return nil, fmt.Errorf("unit %s: directive %s in section [%s] is not known", name, o.Name, o.Section)
		}
		v := strings.TrimSpace(strings.ReplaceAll(o.Value, "\\\n", " "))
		switch o.Name {
		case "Type":
			if d.typ = v; v != "simple" && v != "exec" && v != "notify" {
				return nil, fmt.Errorf("unit %s: type %s is not known", name, v)
			}
		case "ExecStart":
			d.exec = strings.Fields(v)
		case "ExecReload":
			d.reload = true
		case "Restart":
			d.restart = v
		case "After":
			d.after = append(d.after, strings.Fields(v)...)
		case "WantedBy":
			d.wanted = true
		case "RestartSec", "TimeoutStartSec":
			n, err := strconv.Atoi(v)
			if err != nil {
				return nil, fmt.Errorf("unit %s: %s=%s is not a number of seconds", name, o.Name, v)
			}
			if o.Name == "RestartSec" {
				d.restartSec = time.Duration(n) * time.Second
			} else {
				d.startTimeout = time.Duration(n) * time.Second
			}
		}
	}
	if len(d.exec) == 0 {
		return nil, fmt.Errorf("unit %s: there is no ExecStart", name)
	}
	return d, nil
}

// manager runs the machine's units.
type manager struct {
	h  *Host
	mu sync.Mutex
	us map[string]*service
}

// service is one unit with its current run.
type service struct {
	mu      sync.Mutex
	name    string
	st      UnitState
	cancel  context.CancelFunc // of the supervising goroutine; nil when stopped
	done    chan struct{}      // closed when it has ended
	changed chan struct{}      // closed at every change of state
	reload  chan struct{}
	text    string // of the unit file as it was when what runs was started
}

func newManager(h *Host) *manager { return &manager{h: h, us: map[string]*service{}} }

const unitDir = "/etc/systemd/system"

func (m *manager) service(name string) *service {
	m.mu.Lock()
	defer m.mu.Unlock()
	s := m.us[name]
	if s == nil {
		s = &service{name: name, changed: make(chan struct{}), reload: make(chan struct{}, 1)}
		s.st = UnitState{Name: name, State: "inactive"}
		m.us[name] = s
	}
	return s
}

func (s *service) set(f func(*UnitState)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	f(&s.st)
	close(s.changed)
	s.changed = make(chan struct{})
}

func (s *service) state() (UnitState, <-chan struct{}) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.st, s.changed
}

// load reads a unit file; a linked unit is followed into its slot.
func (m *manager) load(name string) (*definition, error) {
	b, err := m.h.ReadFile(unitDir + "/" + name)
	if err != nil {
		return nil, fmt.Errorf("unit %s: %w", name, err)
	}
	return parseUnit(name, b)
}

// names lists the units that the machine has, and those that still run though
// their files are gone.
func (m *manager) names() []string {
	var out []string
	for _, f := range whole.Named(m.h.Path(unitDir), ".service") {
		n := filepath.Base(f)
		_, err := os.Stat(f)
		if st, _ := m.service(n).state(); err == nil || st.State != "inactive" {
			out = append(out, n)
		}
	}
	return out
}

// boot starts every enabled unit, each when those that it names in After have
// started or failed to.
func (m *manager) boot() {
	es, _ := os.ReadDir(m.h.Path(unitDir + "/multi-user.target.wants"))
	defs, tried := map[string]*definition{}, map[string]chan struct{}{}
	for _, e := range es {
		d, err := m.load(e.Name())
		if err != nil {
			m.h.Console("%v", err)
			continue
		}
		defs[e.Name()], tried[e.Name()] = d, make(chan struct{})
	}
	for name, d := range defs {
		m.h.wg.Go(func() {
			defer close(tried[name])
			for _, after := range d.after {
				if c := tried[after]; c != nil && after != name {
					select {
					case <-c:
					case <-m.h.ctx.Done():
						return
					}
				}
			}
			s := m.service(name)
			m.launch(s, d)
			for {
				st, changed := s.state()
				if st.State != "activating" || st.Restarts > 0 {
					return
				}
				select {
				case <-changed:
				case <-m.h.ctx.Done():
					return
				}
			}
		})
	}
}

// launch begins supervising a unit, and says whether it was not already.
func (m *manager) launch(s *service, d *definition) bool {
	s.mu.Lock()
	if s.cancel != nil {
		s.mu.Unlock()
		return false
	}
	ctx, cancel := context.WithCancel(m.h.ctx)
	s.cancel, s.done = cancel, make(chan struct{})
	done := s.done
	s.mu.Unlock()
	s.set(func(st *UnitState) { *st = UnitState{Name: s.name, State: "activating", Since: time.Now()} })
	go func() {
		defer close(done)
		m.supervise(ctx, s, d)
		s.mu.Lock()
		s.cancel = nil
		s.mu.Unlock()
	}()
	return true
}

// startLimit is how many times in a row a unit may end before it was ready.
const startLimit = 5

func (m *manager) supervise(ctx context.Context, s *service, d *definition) {
	early := 0
	for {
		ready := false
		err := m.run(ctx, s, d, func() { ready = true })
		if ctx.Err() != nil {
			s.set(func(st *UnitState) { st.State, st.Since = "inactive", time.Now() })
			return
		}
		code := 0
		if err != nil {
			code = 1
			var ee *ExitError
			if errors.As(err, &ee) {
				code = ee.Code
			}
		}
		if early++; ready {
			early = 0
		}
		again := d.restart == "always" || d.restart == "on-failure" && code != 0
		m.h.Console("%s: ended with exit code %d", s.name, code)
		s.set(func(st *UnitState) {
			st.State, st.ExitCode, st.Since = "activating", code, time.Now()
			if err != nil {
				st.Last = err.Error()
			}
			if !again || early >= startLimit {
				st.State = "failed"
			} else {
				st.Restarts++
			}
		})
		if !again || early >= startLimit {
			return
		}
		if pause(ctx, max(m.h.Scale(d.restartSec), 50*time.Millisecond)) != nil {
			s.set(func(st *UnitState) { st.State, st.Since = "inactive", time.Now() })
			return
		}
	}
}

// run runs the program once.
func (m *manager) run(ctx context.Context, s *service, d *definition, onReady func()) error {
	log, err := openLog(m.h.Path("/var/log/units/" + s.name + ".log"))
	if err != nil {
		return err
	}
	defer log.Close()
	s.mu.Lock()
	s.text = d.text
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.text = ""
	}()
	e := &Env{Host: m.h, Args: d.exec[1:], Log: log, Reload: s.reload}
	desc, err := m.h.describe(d.exec[0])
	if err == nil {
		e.Name, e.Version = desc.StandIn, desc.Version
		s.set(func(st *UnitState) {
			st.Program, st.Version, st.Real = desc.StandIn, desc.Version, m.h.isProgram(d.exec[0])
		})
	}
	prog := m.h.programs[e.Name]
	if err == nil && m.h.isProgram(d.exec[0]) {
		prog = m.h.process(d.exec[0], d.typ == "notify")
	}
	if err == nil && prog == nil {
		err = &ExitError{203, fmt.Errorf("exec %s: there is no stand-in %q", d.exec[0], e.Name)}
	}
	if err != nil {
		e.Logf("%v", err)
		return err
	}
	e.Logf("starting %s %s", e.Name, e.Version)
	active := func() {
		onReady()
		s.set(func(st *UnitState) { st.State, st.Since = "active", time.Now() })
	}
	e.Ready = func() {}
	if d.typ == "notify" {
		e.Ready = sync.OnceFunc(active)
	} else {
		active()
	}
	// A panic ends the program that had it, as it ends a process, and nothing else
	// of the machine.
	pctx, crash := context.WithCancelCause(ctx)
	defer crash(nil)
	e.crash = crash
	err = func() (err error) {
		defer e.Catch()
		return prog(pctx, e)
	}()
	e.ended()
	var died *ExitError
	if errors.As(context.Cause(pctx), &died) && ctx.Err() == nil {
		err = died
	}
	switch {
	case ctx.Err() != nil:
		e.Logf("stopped")
	case err != nil:
		e.Logf("error: %v", err)
	default:
		e.Logf("ended")
	}
	return err
}

// describe reads the stand-in descriptor at a path.
func (h *Host) describe(p string) (Descriptor, error) {
	var d Descriptor
	if h.isProgram(p) {
		return h.describeProgram(p)
	}
	b, err := h.ReadFile(p)
	if err != nil {
		return d, &ExitError{203, fmt.Errorf("exec: %w", err)}
	}
	if json.Unmarshal(b, &d) != nil || d.StandIn == "" {
		return d, &ExitError{203, fmt.Errorf("exec %s: it is not a stand-in descriptor, and nothing else can run here", p)}
	}
	return d, nil
}

// start brings a unit up and waits until it is active, has failed, or ended
// once before it was ready.
func (m *manager) start(ctx context.Context, name string) error {
	d, err := m.load(name)
	if err != nil {
		return err
	}
	s := m.service(name)
	// A unit that is already on its way may have failed before, for reasons
	// that are gone; what counts is what happens from now on.
	before, _ := s.state()
	if m.launch(s, d) {
		before.Restarts = 0
	}
	ctx, stop := context.WithTimeout(ctx, d.startTimeout)
	defer stop()
	for {
		st, changed := s.state()
		switch {
		case st.State == "active":
			return nil
		case st.State == "failed" || st.Restarts > before.Restarts:
			return m.failure(st)
		}
		select {
		case <-changed:
		case <-ctx.Done():
			st, _ := s.state()
			return fmt.Errorf("unit %s is still %s: %w", name, st.State, ctx.Err())
		}
	}
}

func (m *manager) failure(st UnitState) error {
	return fmt.Errorf("unit %s: exit code %d: %s", st.Name, st.ExitCode, st.Last)
}

// stop ends a unit and waits for it.
func (m *manager) stop(name string) {
	s := m.service(name)
	s.mu.Lock()
	cancel, done := s.cancel, s.done
	s.mu.Unlock()
	if cancel != nil {
		s.set(func(st *UnitState) { st.State = "deactivating" })
		cancel()
		<-done
	}
	s.set(func(st *UnitState) { st.State, st.Restarts = "inactive", 0 })
}

func (m *manager) requestReload(name string) error {
	d, err := m.load(name)
	if err != nil {
		return err
	}
	s := m.service(name)
	if st, _ := s.state(); st.State != "active" || !d.reload {
		return fmt.Errorf("unit %s cannot reload: it is %s", name, st.State)
	}
	select {
	case s.reload <- struct{}{}:
	default: // one is waiting already and will read the newest file
	}
	return nil
}

func (m *manager) list() []UnitState {
	var out []UnitState
	for _, n := range m.names() {
		s := m.service(n)
		st, _ := s.state()
		b, err := m.h.ReadFile(unitDir + "/" + n)
		s.mu.Lock()
		st.Older = err == nil && s.text != "" && s.text != string(b)
		s.mu.Unlock()
		out = append(out, st)
	}
	return out
}

// shutdown stops all units, in no order, and waits.
func (m *manager) shutdown() {
	var wg sync.WaitGroup
	for _, n := range m.names() {
		wg.Go(func() { m.stop(n) })
	}
	wg.Wait()
}

// wait waits for all supervising goroutines, whose context has ended.
func (m *manager) wait() {
	m.mu.Lock()
	ss := make([]*service, 0, len(m.us))
	for _, s := range m.us {
		ss = append(ss, s)
	}
	m.mu.Unlock()
	for _, s := range ss {
		s.mu.Lock()
		done := s.done
		s.mu.Unlock()
		if done != nil {
			<-done
		}
	}
}

// link makes the units of the active slot known and enabled, and forgets those
// that it no longer has.
func (m *manager) link() error {
	wants := m.h.Path(unitDir + "/multi-user.target.wants")
	for _, f := range append(whole.Named(m.h.Path(unitDir), ".service"), whole.Named(wants, ".service")...) {
		if err := os.Remove(f); err != nil {
			return err
		}
	}
	for _, f := range whole.Named(m.h.Path("/opt/verbund/active/units"), ".service") {
		n := filepath.Base(f)
		if err := os.Symlink("../../../opt/verbund/active/units/"+n, m.h.Path(path.Join(unitDir, n))); err != nil {
			return err
		}
		if d, err := m.load(n); err != nil {
			return err
		} else if d.wanted {
			if err := os.Symlink("../"+n, filepath.Join(wants, n)); err != nil {
				return err
			}
		}
	}
	return nil
}
