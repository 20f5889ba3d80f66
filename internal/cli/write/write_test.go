package write

import (
	"testing"
)

// Two folders get different blocks, and one folder always the same.
func TestBlockFor(t *testing.T) {
	a, b := blockFor("/a/estuary.site.yaml", false), blockFor("/b/estuary.site.yaml", false)
	if a == b || a != blockFor("/a/estuary.site.yaml", false) || !a.Addr().IsLoopback() || a.Bits() != 24 {
		t.Errorf("%s and %s", a, b)
	}
	if a := blockFor("/a/estuary.site.yaml", true); !a.Addr().IsPrivate() || a.Masked() != a {
		t.Errorf("of real machines: %s", a)
	}
}
