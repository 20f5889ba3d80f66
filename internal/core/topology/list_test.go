package topology_test

import (
	"errors"
	"net/netip"
	"strings"
	"testing"
	"testing/fstest"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

const listText = `schema: verbund-site/1
name: estuary
kind: listed
addresses: 10.81.7.0/24
registry: 10.81.7.2
stock: components
zones: [{name: north}]
sizes: {medium: {cpus: 2, memory: 4GiB, disk: 20GiB}, small: {cpus: 2, memory: 2GiB, disk: 20GiB}}
machines:
  - {address: 10.81.7.31, zone: north, size: small}
  - {address: 10.81.7.32, zone: north, size: small}
  - {address: 10.81.7.33, zone: north, size: small}
  - {address: 10.81.7.21, zone: north, size: medium}
`

// Machines of a list are chosen by size and zone, in its order: who has one keeps it, who is
// declared for one gets it, and nobody gets what another has, or is still leaving.
func TestListed(t *testing.T) {
	at := func(last byte) netip.Addr { return netip.AddrFrom4([4]byte{10, 81, 7, last}) }
	for _, x := range []struct {
		name, more string
		mem        topology.Memory
		want       string
	}{
		{name: "in order", want: "21 31 32"},
		{name: "kept", mem: topology.Memory{Addresses: map[string]netip.Addr{"tidewatch-gauges-2": at(31)}}, want: "21 32 31"},
		{name: "declared", more: "system: {addresses: {tidewatch-gauges-1: 10.81.7.33}}\n", want: "21 33 31"},
		{name: "others", mem: topology.Memory{Taken: []netip.Addr{at(31)}}, want: "21 32 33"},
		{name: "leaving", mem: topology.Memory{Addresses: map[string]netip.Addr{"tidewatch-gauges-3": at(31)}}, want: "21 32 33"},
		{name: "too small now", mem: topology.Memory{Addresses: map[string]netip.Addr{"tidewatch-control-1": at(33)}}, want: "21 31 32"},
		{name: "none left", mem: topology.Memory{Taken: []netip.Addr{at(31), at(32)}}, want: "no machine left that is of size small in zone north, for tidewatch-gauges-2"},
		{name: "another size", more: "system: {addresses: {tidewatch-gauges-1: 10.81.7.21}}\n", want: "10.81.7.21 is declared for tidewatch-gauges-1, of size small in zone north"},
	} {
		t.Run(x.name, func(t *testing.T) {
			files := fstest.MapFS{"t.verbund.yaml": {Data: []byte(head + "endpoint: {name: api.tidewatch.test}\ncontrol: {count: 1, size: medium}\npools: [{name: gauges, count: 2, size: small}]\n" + x.more)}, "estuary.site.yaml": {Data: []byte(listText)}}
			r, err := declare.Read(declare.Input{Files: files, File: "t.verbund.yaml", Shipped: versions.Shipped()})
			if err != nil || r.Findings.Errors() > 0 {
				t.Fatal(err, r.Findings)
			}
			c, err := topology.Build(r.Decl, r.Site, versions.Shipped(), x.mem)
			if err != nil {
				if !strings.Contains(err.Error(), x.want) || x.name == "none left" && !errors.Is(err, topology.ErrListShort) {
					t.Errorf("error is %v", err)
				}
				return
			}
			var got []string
			for _, m := range c.Machines {
				got = append(got, strings.TrimPrefix(m.Address.String(), "10.81.7."))
			}
			if strings.Join(got, " ") != x.want {
				t.Errorf("they have %v, wanted %s", got, x.want)
			}
			if !c.Listed || !c.Real || !strings.Contains(c.Hosts(), "10.81.7.2 registry.estuary.test") {
				t.Errorf("%t %t\n%s", c.Listed, c.Real, c.Hosts())
			}
		})
	}
}
