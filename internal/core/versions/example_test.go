package versions_test

import (
	"fmt"

	"verbund/internal/core/versions"
)

// From a version to another one that is two minors later, by what the catalogue knows.
func Example() {
	road, err := versions.Shipped().Road("v1.35.4", "v1.37.2")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, l := range road.Legs {
		fmt.Printf("%s: %s to %s\n", l.Who, l.From, l.To)
	}
	fmt.Println(road.Hops, "hops of the control plane, and drains of each worker:", road.Drains)
	// Output:
	// control: v1.35.4 to v1.36.3
	// control: v1.36.3 to v1.37.2
	// workers: v1.35.4 to v1.37.2
	// 2 hops of the control plane, and drains of each worker: 1
}
