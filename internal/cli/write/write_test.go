package write

import (
	"fmt"
	"net/netip"
	"testing"
)

// Two folders get different blocks, and one folder always the same.
func TestBlockFor(t *testing.T) {
	a, b := blockFor("/a/estuary.site.yaml", false, 12), blockFor("/b/estuary.site.yaml", false, 12)
	if a == b || a != blockFor("/a/estuary.site.yaml", false, 12) || !a.Addr().IsLoopback() || a.Bits() != 24 {
		t.Errorf("%s and %s", a, b)
	}
	// A wide one is its own, wherever narrow ones are.
	for i := range 500 {
		path := fmt.Sprintf("/%d/estuary.site.yaml", i)
		narrow, wide := blockFor(path, false, 12), blockFor(path, false, 400)
		if !wide.Addr().IsLoopback() || wide.Bits() != 16 || wide.Masked() != wide || wide.Contains(narrow.Addr()) || narrow.Addr().As4()[1] >= 128 || wide.Addr().As4()[1] < 128 {
			t.Fatalf("narrow %s, wide %s", narrow, wide)
		}
	}
	for i := range 500 {
		a := blockFor(fmt.Sprintf("/%d/estuary.site.yaml", i), true, 12)
		if !a.Addr().IsPrivate() || a.Masked() != a {
			t.Errorf("of real machines: %s", a)
		}
		for _, r := range []string{"10.172.0.0/15", "10.112.0.0/16"} {
			if a.Overlaps(netip.MustParsePrefix(r)) {
				t.Fatalf("%s lies in %s, which pods or services have by default", a, r)
			}
		}
	}
}
