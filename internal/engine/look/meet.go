package look

import (
	"context"
	"net/netip"
	"sync"

	"verbund/internal/core/declare"
	"verbund/internal/engine/session"
	"verbund/internal/machine"
)

// Met is what answered where a machine of a list should be.
type Met struct {
	declare.Listed
	Shows string // the fingerprint of its host key
	Err   error  // why there is none
}

// Meet asks whoever answers at the addresses of a list for the host key. Nobody is logged in.
func Meet(ctx context.Context, s *declare.Site) []Met {
	out := make([]Met, len(s.Machines))
	var wg sync.WaitGroup
	for i, l := range s.Machines {
		wg.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
			defer cancel()
			out[i] = Met{Listed: l}
			out[i].Shows, out[i].Err = machine.HostKey(ctx, netip.AddrPortFrom(l.Address, uint16(l.Port)))
		})
	}
	wg.Wait()
	return out
}
