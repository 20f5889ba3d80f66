package versions

import (
	"strings"
	"testing"
)

func TestCeased(t *testing.T) {
	if n := strings.Count(lifecycleText, "\n"); n == 0 || len(lifecycle()) != n {
		t.Fatalf("%d lines of the table, and %d of them could be read", n, len(lifecycle()))
	}
	has := func(from, to int, gv, kind string) bool {
		for _, c := range Ceased(from, to) {
			if c.GroupVersion() == gv && c.Kind == kind {
				return true
			}
		}
		return false
	}
	for _, x := range []struct {
		from, to int
		want     bool
	}{{36, 37, true}, {35, 37, true}, {35, 36, false}, {37, 38, false}, {37, 37, false}} {
		if has(x.from, x.to, "storage.k8s.io/v1beta1", "VolumeAttributesClass") != x.want {
			t.Errorf("from %d to %d: whether storage.k8s.io/v1beta1 goes is not %v", x.from, x.to, x.want)
		}
	}
	for _, c := range lifecycle() {
		if c.Removed <= c.Deprecated || strings.Contains(c.Instead, "-") {
			t.Errorf("%+v", c)
		}
	}
}
