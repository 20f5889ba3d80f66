package nodeconf_test

import (
	"fmt"
	"strings"
	"testing"

	"verbund/internal/core/coretest"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
)

// Who shows what to whom is read from the rendered configuration.
func TestConnections(t *testing.T) {
	show := func(c *topology.Cluster) string {
		var b strings.Builder
		for _, k := range nodeconf.Connections(c) {
			fmt.Fprintf(&b, "%s > %s: %s/%s %s/%s on %d\n", k.From, k.To, k.Shows, k.ShowsVerified, k.Serves, k.ServesVerified, len(k.On))
		}
		return b.String()
	}
	got := show(cluster(t, "v1.37.2"))
	want := `controller manager > API server: controller-manager/cluster-authority api-server/cluster-authority on 3
scheduler > API server: scheduler/cluster-authority api-server/cluster-authority on 3
request approver > API server: request-approver/cluster-authority api-server/cluster-authority on 3
kubelet > API server: kubelet-client/cluster-authority api-server/cluster-authority on 5
proxy > API server: proxy/cluster-authority api-server/cluster-authority on 5
balancer > API server: / api-server/cluster-authority on 1
Verbund > API server: administrator/cluster-authority api-server/cluster-authority on 0
people > API server: their own/cluster-authority api-server/cluster-authority on 0
API server > kubelet: api-server-kubelet/cluster-authority kubelet-serving/cluster-authority on 3
API server > extension API servers: front-proxy/front-proxy-authority / on 3
API server > datastore: api-server-datastore/datastore-authority datastore-member/datastore-authority on 3
Verbund > datastore: datastore/datastore-authority datastore-member/datastore-authority on 0
datastore member > other members: datastore-peer/datastore-authority datastore-peer/datastore-authority on 3
`
	if got != want {
		t.Errorf("connections are\n%s, wanted\n%s", got, want)
	}
	c, err := coretest.Declare(`schema: verbund/1
name: tidewatch
kubernetes: v1.37.2
site: estuary
endpoint: {name: api.tidewatch.test, virtual: {address: 127.80.0.250}}
control: {count: 3, datastore: {place: apart, count: 1}}
trust: {kubelets: {renew: tool}}
backup: {every: 6h}
pools: [{name: gauges}]
`, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	got = show(c)
	for _, line := range []string{"endpoint carrier > API server: / api-server/cluster-authority on 3", "backup keeper > datastore: backup-keeper/datastore-authority datastore-member/datastore-authority on 3", "endpoint carrier > datastore: endpoint-carrier/datastore-authority datastore-member/datastore-authority on 3", "datastore member > other members: datastore-peer/datastore-authority datastore-peer/datastore-authority on 1"} {
		if !strings.Contains(got, line+"\n") {
			t.Errorf("%q is not in\n%s", line, got)
		}
	}
	if strings.Contains(got, "request approver") {
		t.Errorf("an approver without anything to approve:\n%s", got)
	}
}

// Without kubelets that ask for certificates no machine has an authority's key.
func TestNoSigningWithoutNeed(t *testing.T) {
	c, err := coretest.Declare("schema: verbund/1\nname: tidewatch\nkubernetes: v1.37.2\nsite: estuary\ntrust: {kubelets: {renew: tool}}\npools: [{name: gauges}]\n", topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range c.Machines {
		for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
			if f.Kind == nodeconf.Key && f.From == "cluster-authority" || strings.Contains(f.Content, "cluster-signing") || strings.Contains(f.Content, "rotateCertificates") {
				t.Errorf("%s: %s signs, or asks", m.Name, f.Path)
			}
		}
	}
}
