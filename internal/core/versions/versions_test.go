package versions

import (
	"strings"
	"testing"
)

func TestShippedCatalogue(t *testing.T) {
	c := Shipped()
	patches := map[int]int{}
	last := ""
	for _, s := range c.Sets {
		if last != "" && Compare(s.Kubernetes, last) <= 0 {
			t.Errorf("%s does not come after %s", s.Kubernetes, last)
		}
		last = s.Kubernetes
		patches[s.Minor()]++
		if s.Image == "" {
			t.Errorf("%s has no machine image", s.Kubernetes)
		}
		for _, role := range []Role{Control, Worker, Balancer} {
			for _, k := range append(s.Components(role), s.Images()...) {
				if k.Version == "" || !strings.HasPrefix(c.Digest(k.Ref()), "sha256:") {
					t.Errorf("%s: %s is not pinned", s.Kubernetes, k.Ref())
				}
			}
		}
	}
	for _, minor := range []int{35, 36, 37} {
		if patches[minor] != 2 {
			t.Errorf("minor %d has %d patch versions, wanted 2", minor, patches[minor])
		}
	}
}

func TestHop(t *testing.T) {
	c := Shipped()
	for _, x := range []struct{ from, to, want string }{
		{"v1.36.3", "v1.36.3", ""},
		{"v1.36.2", "v1.36.3", ""},
		{"v1.35.3", "v1.36.2", ""},
		{"v1.35.3", "v1.37.1", "declare v1.36.3 first"},
		{"v1.37.1", "v1.36.3", "is lower than v1.37.1"},
		{"v1.36.3", "v1.36.2", "is lower"},
		{"v1.36.3", "soon", "is lower"},
	} {
		err := c.Hop(x.from, x.to)
		switch {
		case x.want == "" && err != nil:
			t.Errorf("from %s to %s: %v", x.from, x.to, err)
		case x.want != "" && (err == nil || !strings.Contains(err.Error(), x.want)):
			t.Errorf("from %s to %s: %v, wanted %q", x.from, x.to, err, x.want)
		}
	}
}
