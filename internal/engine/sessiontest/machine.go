package sessiontest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
)

// Machine is a machine in the hands of a test: it keeps files, units and slots as one
// does, says what it was asked to do, and fails where the test wants it to.
type Machine struct {
	reloads int
	mu      sync.Mutex
	Says    protocol.FactsReply
	Files   map[string]protocol.File
	// States of units, as systemd says them.
	States map[string]string
	// Journals are the log lines of units.
	Journals map[string][]string
	// Shows are the files that may hold private keys.
	Shows map[string]protocol.Shown
	// Fail comes before whatever changes the machine, with what is about to be done, such
	// as "put" or "restart kubelet.service"; with an error of it nothing is done.
	Fail func(what string) error
	// Falls, if it is set, is why it does not come up in another slot.
	Falls string
	// Lost is how often its connection still breaks when it is asked for its facts.
	Lost int
	done []string
}

// NewMachine is one that holds nothing, with slot a in use.
func NewMachine(name string) *Machine {
	return &Machine{Says: protocol.FactsReply{Name: name, Active: "a", Rights: "all", Slots: map[string]map[string]string{}, Digests: map[string]map[string]string{}},
		Files: map[string]protocol.File{}, States: map[string]string{}, Journals: map[string][]string{}, Shows: map[string]protocol.Shown{}}
}

// Done is what was done to it since it was last asked, in order.
func (m *Machine) Done() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	d := m.done
	m.done = nil
	return d
}

// begin notes what is about to be done.
func (m *Machine) begin(what string) error {
	if m.Fail != nil {
		if err := m.Fail(what); err != nil {
			return err
		}
	}
	m.done = append(m.done, what)
	return nil
}

// Facts are as the test has set them.
func (m *Machine) Facts(context.Context) (*protocol.FactsReply, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.Lost > 0 {
		m.Lost--
		return nil, machine.ErrLost
	}
	f := m.Says
	f.Slots = maps.Clone(f.Slots)
	return &f, nil
}

// Put writes what is otherwise, and takes away what is to go.
func (m *Machine) Put(_ context.Context, files []protocol.File, remove []string) ([]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var changed []string
	for _, f := range files {
		if old, ok := m.Files[f.Path]; !ok || digestOf(old) != digestOf(f) {
			changed = append(changed, f.Path)
		}
	}
	var gone []string
	for _, p := range remove {
		if _, ok := m.Files[p]; ok {
			gone = append(gone, p)
		}
	}
	if len(changed)+len(gone) == 0 {
		return nil, nil
	}
	if err := m.begin("put"); err != nil {
		return nil, err
	}
	for _, f := range files {
		m.Files[f.Path] = f
	}
	for _, p := range gone {
		delete(m.Files, p)
	}
	return append(changed, gone...), nil
}

func digestOf(f protocol.File) string {
	sum := sha256.Sum256(f.Content)
	return fmt.Sprintf("%s %o", hex.EncodeToString(sum[:]), f.Mode.Perm())
}

// Digests of the files that exist.
func (m *Machine) Digests(_ context.Context, paths []string) (map[string]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := map[string]string{}
	for _, p := range paths {
		if f, ok := m.Files[p]; ok {
			out[p] = digestOf(f)
		}
	}
	return out, nil
}

// Read is what stands in the files that exist.
func (m *Machine) Read(_ context.Context, paths ...string) (map[string][]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := map[string][]byte{}
	for _, p := range paths {
		if f, ok := m.Files[p]; ok {
			out[p] = f.Content
		}
	}
	return out, nil
}

// ReadFrom has some of a file.
func (m *Machine) ReadFrom(_ context.Context, path string, from int64) ([]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	f, ok := m.Files[path]
	if !ok {
		return nil, fs.ErrNotExist
	}
	b := f.Content[min(from, int64(len(f.Content))):]
	return b[:min(len(b), protocol.MaxRead)], nil
}

// List has the files in folders, and below them.
func (m *Machine) List(_ context.Context, folders ...string) ([]protocol.File, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []protocol.File
	for _, p := range slices.Sorted(maps.Keys(m.Files)) {
		if slices.ContainsFunc(folders, func(f string) bool { return strings.HasPrefix(p, strings.TrimSuffix(f, "/")+"/") }) {
			out = append(out, protocol.File{Path: p, Mode: m.Files[p].Mode})
		}
	}
	return out, nil
}

// Show has what was set of the files that match.
func (m *Machine) Show(_ context.Context, patterns ...string) (map[string]protocol.Shown, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := map[string]protocol.Shown{}
	for p, s := range m.Shows {
		for _, pat := range patterns {
			if ok, err := path.Match(pat, p); err != nil {
				return nil, err
			} else if ok {
				out[p] = s
			}
		}
	}
	return out, nil
}

// Probe finds nothing wrong.
func (m *Machine) Probe(context.Context, protocol.ProbeRequest) (*protocol.ProbeReply, error) {
	return &protocol.ProbeReply{}, nil
}

// Wipe empties it; its answer is lost, since it restarts.
func (m *Machine) Wipe(context.Context) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.begin("wipe"); err != nil {
		return err
	}
	clear(m.Files)
	clear(m.States)
	m.Says.Active, m.Says.Slots = "", map[string]map[string]string{}
	return machine.ErrLost
}

// Pull puts an artefact into a slot.
func (m *Machine) Pull(_ context.Context, q protocol.PullRequest) (bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.Says.Slots[q.Slot][q.Name] == q.Version {
		return false, nil
	}
	if err := m.begin("pull " + q.Name + ":" + q.Version + " into " + q.Slot); err != nil {
		return false, err
	}
	if m.Says.Slots[q.Slot] == nil {
		m.Says.Slots[q.Slot] = map[string]string{}
	}
	m.Says.Slots[q.Slot][q.Name] = q.Version
	return true, nil
}

// Units are those that have a state.
func (m *Machine) Units(context.Context) ([]protocol.UnitState, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.units(), nil
}

func (m *Machine) units() []protocol.UnitState {
	var out []protocol.UnitState
	for _, u := range slices.Sorted(maps.Keys(m.States)) {
		out = append(out, protocol.UnitState{Name: u, State: m.States[u]})
	}
	return out
}

// Do starts, stops, restarts or reloads units in order.
func (m *Machine) Do(_ context.Context, method string, units ...string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	verb := strings.TrimPrefix(method, "units.")
	for _, u := range units {
		if verb == "stop" && m.States[u] != "active" && m.States[u] != "activating" {
			continue
		}
		if err := m.begin(verb + " " + u); err != nil {
			return err
		}
		switch verb {
		case "stop":
			m.States[u] = "inactive"
		case "reload":
			m.reloads++
		default:
			m.States[u] = "active"
		}
	}
	return nil
}

// Logs are the last lines of a unit, or all of them.
func (m *Machine) Logs(_ context.Context, unit string, lines int) ([]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	l := m.Journals[unit]
	if lines > 0 && len(l) > lines {
		l = l[len(l)-lines:]
	}
	return slices.Clone(l), nil
}

// Ask answers as a balancer does that has no servers: after every reload it is another process.
func (m *Machine) Ask(_ context.Context, _, line string) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if line == "show info" {
		return fmt.Sprintf("Pid: %d\n", 100+m.reloads), nil
	}
	return "# pxname,svname,status,\n", nil
}

// PrepareSlot empties a slot.
func (m *Machine) PrepareSlot(_ context.Context, slot string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.begin("prepare " + slot); err != nil {
		return err
	}
	delete(m.Says.Slots, slot)
	return nil
}

// Switch boots into a slot, or falls back.
func (m *Machine) Switch(_ context.Context, q protocol.SwitchRequest) (*protocol.SwitchReply, error) {
	slot, start := q.Slot, q.Start
	m.mu.Lock()
	defer m.mu.Unlock()
	if err := m.begin("switch to " + slot); err != nil {
		return nil, err
	}
	if m.Falls != "" {
		return &protocol.SwitchReply{Active: m.Says.Active, FellBack: m.Falls, Unit: start[0], ExitCode: 1, Units: m.units()}, nil
	}
	m.Says.Active = slot
	for _, u := range start {
		m.States[u] = "active"
	}
	return &protocol.SwitchReply{Active: slot, Units: m.units()}, nil
}

// Close does nothing.
func (m *Machine) Close() error { return nil }

// Seed says what it was to be made from.
func (m *Machine) Seed(_ context.Context, q protocol.SeedRequest) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if s := m.States[q.Unit]; s == "active" {
		return fmt.Errorf("unit %s is %s", q.Unit, s)
	}
	return m.begin("seed " + q.Name)
}

// Rescue has nothing to give.
func (m *Machine) Rescue(_ context.Context, q protocol.RescueRequest) ([]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return nil, m.begin("rescue " + q.Name)
}
