package rehearse_test

import (
	"fmt"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/plan"
	"verbund/internal/core/rehearse"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// From a declaration that wants a worker more, and what there is, to how long that takes and what
// the cluster can carry meanwhile.
func Example() {
	is := func(workers int) (*topology.Cluster, error) {
		return coretest.Cluster("v1.37.2", 1, workers, topology.Memory{})
	}
	was, err := is(1)
	if err != nil {
		fmt.Println(err)
		return
	}
	// What there is: the cluster as it was raised, by its own plan.
	seen := plan.Observed{Machines: map[string]plan.MachineSeen{}}
	p, err := plan.Make(was, seen, versions.Shipped())
	if err != nil {
		fmt.Println(err)
		return
	}
	seen = rehearse.Copy(seen)
	for _, s := range p.Steps {
		rehearse.Carried(&seen, was, p, s)
	}
	seen.API, seen.Endpoint, seen.Roles = true, true, true
	r, err := rehearse.Run(rehearse.Input{
		Seen: seen, Cat: versions.Shipped(), Parallel: 16, PodStart: time.Second,
		Declared: func(plan.Aim) (*topology.Cluster, error) { return is(2) },
		Usual:    func(plan.Step) time.Duration { return 10 * time.Second },
		Nodes:    []rehearse.Node{{Name: "tidewatch-gauges-1", Group: "gauges", CPU: 2000, Memory: 4 << 30}},
		Capacity: func(topology.Machine) (cpu, memory int64, stays rehearse.Share) {
			return 2000, 4 << 30, rehearse.Share{}
		},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Printf("%d steps in %s, capacity at least %.0f %%\n", r.Steps, r.Total, 100*r.Lowest.Share)
	// Output: 10 steps in 1m30s, capacity at least 100 %
}
