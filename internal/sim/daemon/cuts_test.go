package daemon

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"verbund/internal/sim/host"
	"verbund/internal/site/protocol"
)

// What is cut between zones is told to each machine as its own network: to whom nothing goes,
// and from whom nothing comes.
func TestLinks(t *testing.T) {
	s := &site{machines: map[string]*machine{}}
	add := func(name, zone, at string) *machine {
		m := &machine{}
		m.Name, m.Zone, m.Address = name, zone, netip.MustParseAddr(at)
		s.machines[name] = m
		return m
	}
	a, b, c := add("a", "north", "127.91.8.1"), add("b", "south", "127.91.8.2"), add("c", "island", "127.91.8.3")
	cuts := []protocol.Cut{{From: "north", To: "south", Percent: 100}, {From: "south", To: "island", Percent: 30, Delay: time.Millisecond}}
	for _, x := range []struct {
		of   *machine
		want []host.Link
	}{
		{a, []host.Link{{Peer: b.Address, Out: 100}}},
		{b, []host.Link{{Peer: a.Address, In: 100}, {Peer: c.Address, Out: 30, Delay: time.Millisecond}}},
		{c, []host.Link{{Peer: b.Address, In: 30, Delay: time.Millisecond}}},
	} {
		if got := s.links(x.of, cuts); !slices.Equal(got, x.want) {
			t.Errorf("%s: %+v, wanted %+v", x.of.Name, got, x.want)
		}
	}
	if got := s.links(a, nil); len(got) > 0 {
		t.Errorf("nothing is cut, and a has %+v", got)
	}
}

// A site says which faults it can make happen: one of machines that are not its own can take
// nobody's power.
func TestPossible(t *testing.T) {
	own := &site{kind: played{}}
	if got := own.possible(); !slices.Contains(got, protocol.CutPower) || !slices.Contains(got, protocol.CutNetwork) || !slices.Contains(got, protocol.LostDisk) {
		t.Errorf("a simulated site can make %v happen", got)
	}
	of := &site{kind: listed{}}
	if got := of.possible(); !slices.Equal(got, []string{protocol.DamagedBlob, protocol.MendedBlob}) {
		t.Errorf("a site of a list can make %v happen", got)
	}
	linux := &site{kind: real{}}
	if got := linux.possible(); !slices.Contains(got, protocol.CutPower) || slices.Contains(got, protocol.FullDisk) {
		t.Errorf("a site of real machines can make %v happen", got)
	}
}
