package topology_test

import (
	"fmt"

	"verbund/internal/core/coretest"
	"verbund/internal/core/topology"
)

// From a declaration to its machines. Where there was no cluster before, nothing is remembered.
func Example() {
	c, err := coretest.Declare(`schema: verbund/1
name: tidewatch
kubernetes: v1.37.2
site: estuary
endpoint: {name: api.tidewatch.test, balancer: {size: small}}
control: {count: 3, size: medium, zones: [north, south, island]}
pools: [{name: gauges, count: 2, size: small}]
`, topology.Memory{})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, m := range c.Machines {
		fmt.Println(m.Name, m.Role, m.Zone, m.Address)
	}
	// Output:
	// tidewatch-control-1 control north 127.80.0.10
	// tidewatch-control-2 control south 127.80.0.11
	// tidewatch-control-3 control island 127.80.0.12
	// tidewatch-gauges-1 worker north 127.80.0.13
	// tidewatch-gauges-2 worker south 127.80.0.14
	// tidewatch-balancer-1 balancer north 127.80.0.15
}
