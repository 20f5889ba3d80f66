package plan

import (
	"errors"
	"net/netip"
	"strings"
	"testing"

	"verbund/internal/core/topology"
)

// facts are what a cluster was raised with.
func facts(change func(*topology.Facts)) *topology.Facts {
	f := topology.Facts{Endpoint: "api.tidewatch.test", Pods: "10.172.0.0/15", Services: "10.112.0.0/16", Domain: "tidewatch.test", PerNode: 128, Answers: "balancer", Members: "beside", Control: "no nodes"}
	if change != nil {
		change(&f)
	}
	return &f
}

// clusterOf is a cluster as it would be raised with facts; aside are names that it has beside
// that of its endpoint.
func clusterOf(f *topology.Facts, aside ...string) *topology.Cluster {
	c := &topology.Cluster{Name: "tidewatch", Pods: netip.MustParsePrefix(f.Pods), Services: netip.MustParsePrefix(f.Services), Domain: f.Domain, PerNode: f.PerNode, Apart: f.Members == "apart", Nodes: f.Control == "nodes", CopyOf: f.CopyOf, Names: aside}
	c.Endpoint.Name = f.Endpoint
	by, carried, both := strings.Cut(f.Answers, "+")
	if c.Endpoint.By = topology.Answers(by); both && carried == string(topology.ByCarrier) {
		c.Endpoint.Carried = netip.MustParseAddr("127.81.7.250")
	}
	return c
}

// What cannot change while a cluster lives is refused, by the key that says it; what was not
// recorded is not compared, and nothing else is refused.
func TestUnchanged(t *testing.T) {
	for what, x := range map[string]struct {
		was, is func(*topology.Facts)
		want    string
	}{
		"nothing":                 {nil, nil, ""},
		"the range of pods":       {nil, func(f *topology.Facts) { f.Pods = "10.174.0.0/15" }, "ranges.pods cannot be changed from 10.172.0.0/15 to 10.174.0.0/15"},
		"that of services":        {nil, func(f *topology.Facts) { f.Services = "10.113.0.0/16" }, "ranges.services cannot be changed"},
		"the domain":              {nil, func(f *topology.Facts) { f.Domain = "ebb.test" }, "dns.domain cannot be changed"},
		"addresses of a node":     {nil, func(f *topology.Facts) { f.PerNode = 64 }, "ranges.perNode cannot be changed from 128 to 64"},
		"where members are":       {nil, func(f *topology.Facts) { f.Members = "apart" }, "control.datastore.place cannot be changed from beside to apart"},
		"whether control is":      {nil, func(f *topology.Facts) { f.Control = "nodes" }, "control.nodes cannot be changed"},
		"a copy":                  {nil, func(f *topology.Facts) { f.CopyOf = "lampwright" }, "whether cluster tidewatch is a copy"},
		"a copy no more":          {func(f *topology.Facts) { f.CopyOf = "lampwright" }, nil, "whether cluster tidewatch is a copy"},
		"what was not recorded":   {func(f *topology.Facts) { f.PerNode, f.Answers, f.Members, f.Control = 0, "", "", "" }, nil, ""},
		"the name":                {nil, func(f *topology.Facts) { f.Endpoint = "ebb.test" }, "endpoint.name cannot be changed from api.tidewatch.test to ebb.test"},
		"a name for the address":  {func(f *topology.Facts) { f.Endpoint = "127.81.7.3" }, nil, "add 127.81.7.3 to control.names"},
		"an address for the name": {nil, func(f *topology.Facts) { f.Endpoint = "127.81.7.3" }, "endpoint.name cannot be changed"},
	} {
		err := Unchanged(clusterOf(facts(x.is)), facts(x.was))
		var r *Refusal
		if refused := errors.As(err, &r); refused != (x.want != "") || refused && !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v, wanted %q", what, err, x.want)
		}
	}
	// Whoever still uses the address finds its name among the others.
	if err := Unchanged(clusterOf(facts(nil), "127.81.7.3"), facts(func(f *topology.Facts) { f.Endpoint = "127.81.7.3" })); err != nil {
		t.Errorf("with the address among the names: %v", err)
	}
}

// What answers at a name may become anything that somebody is there for, step by step where the
// machines have to be pointed elsewhere between; at an address less may.
func TestEndpointMoves(t *testing.T) {
	all := []string{"machine", "balancer", "existing", "virtual", "balancer+virtual"}
	// Refused for a name; an address refuses these, and all but what is allowed to it.
	refused := map[string]bool{"machine virtual": true, "balancer virtual": true, "existing virtual": true, "virtual machine": true, "virtual balancer": true, "virtual existing": true}
	allowed := map[string]bool{"balancer balancer+virtual": true, "balancer+virtual virtual": true, "balancer+virtual balancer": true}
	for _, name := range []string{"api.tidewatch.test", "127.81.7.3"} {
		for _, was := range all {
			for _, is := range all {
				err := Unchanged(clusterOf(facts(func(f *topology.Facts) { f.Endpoint, f.Answers = name, is })), facts(func(f *topology.Facts) { f.Endpoint, f.Answers = name, was }))
				want := refused[was+" "+is]
				if name == "127.81.7.3" && was != is {
					want = !allowed[was+" "+is]
				}
				if (err != nil) != want {
					t.Errorf("%s: from %s to %s: %v, wanted refused: %v", name, was, is, err, want)
				}
			}
		}
	}
}
