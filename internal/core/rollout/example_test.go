package rollout_test

import (
	"fmt"
	"time"

	"verbund/internal/core/rollout"
)

// From a policy and what is to change to waves: one on trial, then two at a time, and never two
// zones at once.
func Example() {
	g := rollout.Group{Name: "gauges", Policy: rollout.Policy{Way: rollout.InPlace, Trial: 1, Batch: 2, Soak: 10 * time.Second}}
	for i, zone := range []string{"north", "south", "north", "south"} {
		g.Machines = append(g.Machines, rollout.Machine{Name: fmt.Sprint("gauges-", i+1), Number: i + 1, Zone: zone, Exists: true, May: []string{"v1.37.2"}})
	}
	for _, w := range g.Waves() {
		fmt.Println(w.Machines, w.Zone, w.Trial, w.Soak)
	}
	// Output:
	// [gauges-1] north true 10s
	// [gauges-3] north false 0s
	// [gauges-2 gauges-4] south false 0s
}
