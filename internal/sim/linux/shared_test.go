package linux

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// What a site raises of this computer's settings is as it was when the last site is gone, also
// when one was killed in between; what is high enough is not touched.
func TestRaise(t *testing.T) {
	dir := t.TempDir()
	low, high := filepath.Join(dir, "low"), filepath.Join(dir, "high")
	set := func(f, v string) {
		t.Helper()
		if err := os.WriteFile(f, []byte(v), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	is := func(f string) string {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(b))
	}
	wasShared, wasRaised := shared, raised
	defer func() { shared, raised = wasShared, wasRaised }()
	shared = shared[:0:0]
	for _, f := range []string{low, high, filepath.Join(dir, "none")} {
		shared = append(shared, struct {
			file string
			need int
		}{f, 8192})
	}
	raised = filepath.Join(dir, "run", "raised")
	set(low, "128\n")
	set(high, "10000\n")
	n := NetworkOf(t.TempDir(), netip.MustParsePrefix("10.81.94.0/24"))
	if _, said, err := n.Raise(); err != nil || len(said) != 1 || is(low) != "8192" || is(high) != "10000" {
		t.Fatalf("%q, %v; %s and %s", said, err, is(low), is(high))
	}
	// The site is killed; the next one finds it raised, and knows what it was.
	back, said, err := n.Raise()
	if err != nil || len(said) != 0 {
		t.Fatalf("%q, %v", said, err)
	}
	if err := back(); err != nil || is(low) != "128" || is(high) != "10000" {
		t.Errorf("%v; %s and %s", err, is(low), is(high))
	}
	if _, err := os.Stat(raised); err == nil {
		t.Error("what was put back is still remembered")
	}
	// A file that somebody changed writes nothing that no site raises.
	if err := os.MkdirAll(filepath.Dir(raised), 0o755); err != nil {
		t.Fatal(err)
	}
	other := filepath.Join(dir, "other")
	set(other, "mine")
	set(raised, other+" 5\n"+low+" x\n")
	if back, _, err = n.Raise(); err != nil {
		t.Fatal(err)
	}
	if err := back(); err != nil || is(other) != "mine" || is(low) != "128" {
		t.Errorf("%v; %s and %s", err, is(other), is(low))
	}
}
