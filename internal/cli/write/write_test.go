package write

import (
	"fmt"
	"net/netip"
	"testing"
)

// Two folders get different blocks, and one folder always the same.
func TestBlockFor(t *testing.T) {
	a, b := blockFor("/a/estuary.site.yaml", false), blockFor("/b/estuary.site.yaml", false)
	if a == b || a != blockFor("/a/estuary.site.yaml", false) || !a.Addr().IsLoopback() || a.Bits() != 24 {
		t.Errorf("%s and %s", a, b)
	}
	for i := range 500 {
		a := blockFor(fmt.Sprintf("/%d/estuary.site.yaml", i), true)
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
