package daemon

import (
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/sim/host"
	"verbund/internal/sim/zone"
	"verbund/internal/site/protocol"
)

const (
	// lossy is how much of what is sent a lossy network loses, in percent.
	lossy = 30
	// far is how much longer everything takes on a slow network, each way.
	far = 80 * time.Millisecond
)

// cut makes the network between zones worse, or well again. What was cut between the same
// zones before holds no more. Whatever is cut is whole again when the site starts anew.
func (s *site) cut(f protocol.Fault) error {
	between, err := s.between(f.Zone)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	cuts := slices.DeleteFunc(slices.Clone(s.cuts), func(c protocol.Cut) bool {
		return slices.Contains(between, [2]string{c.From, c.To}) || slices.Contains(between, [2]string{c.To, c.From})
	})
	for _, b := range between {
		there, back := protocol.Cut{From: b[0], To: b[1], Percent: 100}, protocol.Cut{From: b[1], To: b[0], Percent: 100}
		switch f.Kind {
		case protocol.CutNetwork:
			cuts = append(cuts, there, back)
		case protocol.OneWayNetwork:
			cuts = append(cuts, there)
		case protocol.LossyNetwork:
			there.Percent, back.Percent = lossy, lossy
			cuts = append(cuts, there, back)
		case protocol.SlowNetwork:
			there.Percent, back.Percent = 0, 0
			there.Delay, back.Delay = far, far
			cuts = append(cuts, there, back)
		}
	}
	if err := s.severed(cuts); err != nil {
		return err
	}
	s.cuts = cuts
	return nil
}

// between reads which zones a fault of the network is between: two, or one and every other.
func (s *site) between(zones string) ([][2]string, error) {
	has := func(z string) bool {
		return slices.ContainsFunc(s.file.Zones, func(x declare.Zone) bool { return x.Name == z })
	}
	one, other, two := strings.Cut(zones, ",")
	for _, z := range []string{one, other} {
		if (z != "" || two) && !has(z) || zones == "" {
			return nil, refuse(http.StatusNotFound, "name two zones of the site, as north,south, or one, for it and all others", "there is no zone %q", z)
		}
	}
	switch {
	case one == other:
		return nil, refuse(http.StatusBadRequest, "name two zones, or one, for it and all others", "nothing is between %s and itself", one)
	case two:
		return [][2]string{{one, other}}, nil
	}
	var out [][2]string
	for _, z := range s.file.Zones {
		if z.Name != one {
			out = append(out, [2]string{one, z.Name})
		}
	}
	if len(out) == 0 {
		return nil, refuse(http.StatusBadRequest, "list another zone in the site file", "the site has no zone but %s", one)
	}
	return out, nil
}

// severed makes the network as cuts have it, with the machines that there are now; the caller
// holds the lock.
func (s *site) severed(cuts []protocol.Cut) error {
	err := s.kind.sever(cuts, func(zone string) []netip.Addr {
		var out []netip.Addr
		for _, m := range s.machines {
			if m.Zone == zone {
				out = append(out, m.Address)
			}
		}
		return out
	})
	if err != nil {
		return fmt.Errorf("the network between zones: %w", err)
	}
	if !s.kind.holdsBack() {
		return nil
	}
	for _, m := range s.machines {
		links := s.links(m, cuts)
		if slices.Equal(links, m.Spec.Faults.Links) {
			continue
		}
		m.Spec.Faults.Links = links
		if err := s.tell(m, s.zones[m.Zone]); err != nil {
			return fmt.Errorf("the network of %s: %w", m.Name, err)
		}
	}
	return nil
}

// links are how it is from a machine to those of other zones, where it is not well; the caller
// holds the lock.
func (s *site) links(m *machine, cuts []protocol.Cut) []host.Link {
	var out []host.Link
	for _, name := range slices.Sorted(maps.Keys(s.machines)) {
		other := s.machines[name]
		l := host.Link{Peer: other.Address}
		for _, c := range cuts {
			switch {
			case c.From == m.Zone && c.To == other.Zone:
				l.Out, l.Delay = c.Percent, max(l.Delay, c.Delay)
			case c.From == other.Zone && c.To == m.Zone:
				l.In, l.Delay = c.Percent, max(l.Delay, c.Delay)
			}
		}
		if l != (host.Link{Peer: other.Address}) {
			out = append(out, l)
		}
	}
	return out
}

// tell lets a machine know what is wrong with it, if its zone runs.
func (s *site) tell(m *machine, z *zoneProc) error {
	if z == nil {
		return nil
	}
	_, err := z.client.Call(s.ctx, zone.MethodSuffer, zone.SufferRequest{Name: m.Name, Faults: m.Spec.Faults})
	return err
}

// rewired is severed once more, if anything is cut, when a machine has come or has another
// address; the caller holds the lock.
func (s *site) rewired() error {
	if len(s.cuts) == 0 {
		return nil
	}
	return s.severed(s.cuts)
}
