package cli_test

import (
	"strings"
	"testing"
)

// A replacement of a control-plane machine is cut off as its member is to leave, and another
// control-plane machine loses its power: the next run brings that one back first, for no member
// may leave meanwhile.
func TestReplacedBesideAnotherOff(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.37.2")
	w.fewer(1, 1)
	w.ok("converge", "--yes")
	cmd, out, log := w.start("replace", "tidewatch-control-2", "--yes", "--confirm", "tidewatch", "-o", "json")
	began := false
	entries(out, func(kind, step, _ string) bool {
		if kind == "step-began" && strings.HasPrefix(step, "leave/") {
			began = true
			w.ok("site", "power", "tidewatch-control-3", "cut")
			cmd.Process.Kill()
			return false
		}
		return true
	})
	cmd.Wait()
	if !began {
		t.Fatalf("no member was to leave:\n%s", log)
	}
	w.ok("converge", "--yes", "--confirm", "tidewatch")
	w.soonWell("v1.37.2")
	if ms := w.machines(); len(ms) != 6 {
		t.Errorf("%d machines: %v", len(ms), ms)
	}
}
