package nodeconf_test

import (
	"fmt"
	"strings"

	"verbund/internal/core/coretest"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
)

// From a machine to its files: here the units of a worker.
func Example() {
	c, err := coretest.Cluster("v1.37.2", 1, 1, topology.Memory{})
	if err != nil {
		fmt.Println(err)
		return
	}
	m, _ := c.Machine("tidewatch-gauges-1")
	for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
		if strings.HasSuffix(f.Path, ".service") {
			fmt.Println(f.Path)
		}
	}
	// Output:
	// /opt/verbund/active/units/containerd.service
	// /opt/verbund/active/units/kube-proxy.service
	// /opt/verbund/active/units/kubelet.service
}
