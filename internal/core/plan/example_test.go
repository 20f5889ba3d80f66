package plan_test

import (
	"fmt"

	"verbund/internal/core/coretest"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// From a cluster that is declared, and nothing that was seen, to the steps that raise it.
func Example() {
	c, err := coretest.Cluster("v1.37.2", 1, 1, topology.Memory{})
	if err != nil {
		fmt.Println(err)
		return
	}
	p, err := plan.Make(c, plan.Observed{}, versions.Shipped())
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, s := range p.Steps {
		if s.Machine == "tidewatch-gauges-1" {
			fmt.Println(s.ID, "after", s.Needs)
		}
	}
	// Output:
	// get/tidewatch-gauges-1 after []
	// pull/tidewatch-gauges-1 after [get/tidewatch-gauges-1]
	// write/tidewatch-gauges-1 after [get/tidewatch-gauges-1 pull/tidewatch-gauges-1]
	// node/tidewatch-gauges-1 after [balance/tidewatch-balancer-1 control/tidewatch-control-1 get/tidewatch-gauges-1 write/tidewatch-balancer-1 write/tidewatch-gauges-1]
	// label/tidewatch-gauges-1 after [node/tidewatch-gauges-1]
	// ready/tidewatch-gauges-1 after [label/tidewatch-gauges-1 network node/tidewatch-gauges-1 write/tidewatch-gauges-1]
}
