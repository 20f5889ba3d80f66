package look

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/engine/session"
	"verbund/internal/machine/protocol"
)

// Unfit is a machine that somebody else has set up and that cannot be what is declared.
type Unfit struct {
	Machine string
	Lacks   []string
}

func (e *Unfit) Error() string {
	return fmt.Sprintf("machine %s is not fit for what is declared: %s; nothing was written to it but its agent", e.Machine, strings.Join(e.Lacks, "; "))
}

// Fits says what a machine of a list lacks of its size, of rights, of the time, and of the
// programs that its components call; asked is when it said its facts.
func Fits(s *declare.Site, m topology.Machine, f *protocol.FactsReply, p *protocol.ProbeReply, asked time.Time) error {
	e := &Unfit{Machine: m.Name}
	if off := f.Clock.Sub(asked); off.Abs() > plan.ClockOff {
		e.Lacks = append(e.Lacks, fmt.Sprintf("its clock is %s off, and certificates depend on clocks: have it synchronised", off.Round(100*time.Millisecond)))
	}
	if f.Rights != "all" {
		e.Lacks = append(e.Lacks, "the login may only "+f.Rights+": give it sudo without a password")
	}
	if want := s.Sizes[m.Size]; !sized(want, f) {
		e.Lacks = append(e.Lacks, fmt.Sprintf("it has %d processors, %s memory, %s disk, and size %s means %d, %s, %s: list it with the size that it has", f.CPUs, declare.Bytes(f.Memory), declare.Bytes(f.Disk), m.Size, want.CPUs, want.Memory, want.Disk))
	}
	if len(p.Programs) > 0 {
		e.Lacks = append(e.Lacks, fmt.Sprintf("its system has no %s: install what has them (on Debian: apt install runc containernetworking-plugins nftables kmod, and haproxy on a balancer)", strings.Join(slices.Sorted(maps.Keys(p.Programs)), ", ")))
	}
	for _, f := range slices.Sorted(maps.Keys(p.Empty)) {
		e.Lacks = append(e.Lacks, fmt.Sprintf("%s holds what Verbund has not brought (%s), and would be written over and wiped: list another machine, or take it away from there yourself if nobody needs it", f, p.Empty[f]))
	}
	if len(e.Lacks) > 0 {
		return e
	}
	return nil
}

// TakenBy names the cluster that has a machine of a list, by what lies there; nobody has one of
// which nothing is known.
func TakenBy(ctx context.Context, c session.Machine) (string, error) {
	b, err := c.Read(ctx, nodeconf.Record, nodeconf.Taken)
	if err != nil {
		return "", err
	}
	if o := nodeconf.ReadRecord(b[nodeconf.Record]); o != nil {
		return o.Cluster, nil
	}
	return strings.TrimSpace(string(b[nodeconf.Taken])), nil
}

// sized says whether a machine has what its size means.
func sized(want declare.Size, f *protocol.FactsReply) bool {
	return f.CPUs >= want.CPUs && enough(f.Memory, want.Memory) && enough(f.Disk, want.Disk)
}
