package agent

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"verbund/internal/machine/protocol"
)

// folder is a machine of which there is only a disk.
type folder struct {
	System
	root string
}

func (f folder) Path(p string) string { return filepath.Join(f.root, p) }
func (f folder) Facts(context.Context) (*protocol.FactsReply, error) {
	return &protocol.FactsReply{}, nil
}
func (f folder) Rights() string { return "" }

// What one login changes is let finish before another one begins; whoever looks
// is told, and may look all the while.
func TestChangesOfTwoLogins(t *testing.T) {
	sys := folder{root: t.TempDir()}
	one, two := newAgent(sys), newAgent(sys)
	end, err := one.changes.begin(t.Context(), protocol.SlotsSwitch)
	if err != nil {
		t.Fatal(err)
	}
	also, err := one.changes.begin(t.Context(), protocol.FilesPut)
	if err != nil {
		t.Fatalf("the same login is kept from itself: %v", err)
	}
	if f, err := two.facts(t.Context()); err != nil || f.Busy != "files.put, slots.switch" {
		t.Errorf("the other login sees %q, %v", f.Busy, err)
	}
	if f, err := one.facts(t.Context()); err != nil || f.Busy != "" {
		t.Errorf("to itself it is %q, %v", f.Busy, err)
	}
	short, cancel := context.WithTimeout(t.Context(), 30*time.Millisecond)
	defer cancel()
	if _, err := two.changes.begin(short, protocol.UnitsStop); !errors.Is(err, context.DeadlineExceeded) || !strings.Contains(err.Error(), "still at files.put, slots.switch") {
		t.Errorf("two at once: %v", err)
	}
	got := make(chan error, 1)
	go func() {
		end, err := two.changes.begin(t.Context(), protocol.UnitsStop)
		if err == nil {
			end()
		}
		got <- err
	}()
	end()
	select {
	case err := <-got:
		t.Fatalf("let in while a file is written: %v", err)
	case <-time.After(30 * time.Millisecond):
	}
	also()
	select {
	case err := <-got:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("never let in")
	}
	if f, err := two.facts(t.Context()); err != nil || f.Busy != "" {
		t.Errorf("at the end it is %q, %v", f.Busy, err)
	}
}
