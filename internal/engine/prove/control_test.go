package prove

import (
	"errors"
	"strings"
	"testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/topology"
)

// A control-plane machine loses its power only where others carry on without it.
func TestVictim(t *testing.T) {
	cluster := func(control int) *topology.Cluster {
		c, err := coretest.Cluster("v1.37.2", control, 2, topology.Memory{})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	if m, err := victim(cluster(3), 3, nil); err != nil || !strings.Contains(m.Name, "-control-3") {
		t.Errorf("%s, %v", m.Name, err)
	}
	for want, x := range map[string]struct {
		control, healthy int
		ails             []string
	}{
		"not well (gauges-1 is dark)":   {3, 3, []string{"gauges-1 is dark"}},
		"has no other one":              {1, 3, nil},
		"2 healthy members, and withou": {3, 2, nil},
	} {
		if m, err := victim(cluster(x.control), x.healthy, x.ails); !errors.Is(err, ErrNoVictim) || !strings.Contains(err.Error(), want) || m.Name != "" {
			t.Errorf("%+v: %s, %v; wanted %q", x, m.Name, err, want)
		}
	}
}
