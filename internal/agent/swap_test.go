package agent

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"verbund/internal/machine/protocol"
)

// running is a machine of which there is a disk, and what runs on it.
type running struct {
	folder
	states         map[string]string
	stop, linked   error // with which these fail, once
	stopped, known []string
}

func (r *running) Units(context.Context) ([]protocol.UnitState, error) {
	var out []protocol.UnitState
	for n, s := range r.states {
		out = append(out, protocol.UnitState{Name: n, State: s})
	}
	return out, nil
}

func (r *running) Start(_ context.Context, unit string) error {
	r.states[unit] = "active"
	return nil
}

func (r *running) Stop(_ context.Context, unit string) error {
	r.stopped = append(r.stopped, unit)
	if err := r.stop; err != nil && unit == "first" {
		r.stop = nil
		return err
	}
	r.states[unit] = "inactive"
	return nil
}

func (r *running) Linked(context.Context) error {
	err := r.linked
	r.linked = nil
	return err
}

func (r *running) Note(string, ...any) {}

// A machine whose switch of slots cannot be carried out runs what it ran, in the slot that it
// used: when a unit does not stop, and when the disk is full.
func TestSwapCannot(t *testing.T) {
	for what, fails := range map[string]func(*running){
		"a unit that does not stop": func(r *running) { r.stop = errors.New("it does not stop") },
		"a full disk":               func(r *running) { r.linked = syscall.ENOSPC },
	} {
		sys := &running{folder: folder{root: t.TempDir()}, states: map[string]string{"first": "active", "second": "active", "third": "inactive"}}
		if err := os.MkdirAll(filepath.Join(sys.root, protocol.SlotDir), 0o755); err != nil {
			t.Fatal(err)
		}
		a := newAgent(sys)
		if err := a.point(t.Context(), "a"); err != nil {
			t.Fatal(err)
		}
		fails(sys)
		_, err := a.swap(t.Context(), &protocol.SwitchRequest{Slot: "b", Start: []string{"first", "second", "third"}})
		if err == nil || what == "a full disk" && !strings.Contains(err.Error(), "no space left") {
			t.Errorf("%s: %v", what, err)
		}
		if a.activeSlot() != "a" || sys.states["first"] != "active" || sys.states["second"] != "active" || sys.states["third"] != "inactive" {
			t.Errorf("%s: slot %s, units %v", what, a.activeSlot(), sys.states)
		}
		if !slices.Contains(sys.stopped, "second") {
			t.Errorf("%s: nothing was stopped", what)
		}
	}
}
