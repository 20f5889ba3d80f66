package host

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"verbund/internal/machine/protocol"
)

// What one login changes is let finish before another one begins; whoever looks
// is told, and may look all the while.
func TestChangesOfTwoLogins(t *testing.T) {
	h, one := boot(t)
	two := &agent{h: h}
	end, err := h.changes.begin(t.Context(), one, protocol.SlotsSwitch)
	if err != nil {
		t.Fatal(err)
	}
	also, err := h.changes.begin(t.Context(), one, protocol.FilesPut)
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
	if _, err := h.changes.begin(short, two, protocol.UnitsStop); !errors.Is(err, context.DeadlineExceeded) || !strings.Contains(err.Error(), "still at files.put, slots.switch") {
		t.Errorf("two at once: %v", err)
	}
	got := make(chan error, 1)
	go func() {
		end, err := h.changes.begin(t.Context(), two, protocol.UnitsStop)
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
