package look

import (
	"strings"
	"testing"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/machine/protocol"
)

// A machine that somebody else has set up is taken only when it has what is declared.
func TestFits(t *testing.T) {
	s := &declare.Site{Sizes: map[string]declare.Size{"small": {CPUs: 2, Memory: 4 << 30, Disk: 20 << 30}}}
	m := topology.Machine{Name: "tidewatch-gauges-1", Size: "small"}
	now := time.Date(2027, 3, 1, 12, 0, 0, 0, time.UTC)
	good := protocol.FactsReply{Rights: "all", Clock: now.Add(time.Second), CPUs: 2, Memory: 4<<30 - 4<<30/20, Disk: 20 << 30}
	if err := Fits(s, m, &good, &protocol.ProbeReply{}, now); err != nil {
		t.Errorf("one that fits: %v", err)
	}
	for want, spoil := range map[string]func(*protocol.FactsReply, *protocol.ProbeReply){
		"the login may only look": func(f *protocol.FactsReply, _ *protocol.ProbeReply) { f.Rights = "look" },
		"its clock is 9m0s off":   func(f *protocol.FactsReply, _ *protocol.ProbeReply) { f.Clock = now.Add(9 * time.Minute) },
		"it has 1 processors":     func(f *protocol.FactsReply, _ *protocol.ProbeReply) { f.CPUs = 1 },
		"it has 2 processors, 2G": func(f *protocol.FactsReply, _ *protocol.ProbeReply) { f.Memory = 2 << 30 },
		"15GiB disk":              func(f *protocol.FactsReply, _ *protocol.ProbeReply) { f.Disk = 15 << 30 },
		"its system has no nft, runc: install": func(_ *protocol.FactsReply, p *protocol.ProbeReply) {
			p.Programs = map[string]string{"runc": "it is not there", "nft": "it is not there"}
		},
		"/var/lib/etcd holds what Verbund has not brought (member is in it": func(_ *protocol.FactsReply, p *protocol.ProbeReply) {
			p.Empty = map[string]string{"/var/lib/etcd": "member is in it, and 0 more"}
		},
	} {
		f, p := good, protocol.ProbeReply{}
		spoil(&f, &p)
		if err := Fits(s, m, &f, &p, now); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", want, err)
		}
	}
}
