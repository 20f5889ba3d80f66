package daemon

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"verbund/internal/site/protocol"
)

// listed are machines that exist already. The site knows whose they are and has artefacts for
// them; their power, their disks and their systems are somebody else's.
type listed struct{ played }

// open claims nothing: whoever serves the registry's address has it.
func (k listed) open() (func() error, string, error) {
	return func() error { return nil }, "", nil
}

// compose has nothing to do: a machine of a list has its system.
func (k listed) compose(context.Context, protocol.Image) error { return nil }

func (k listed) cannot(fault string) string {
	if fault == protocol.DamagedBlob || fault == protocol.MendedBlob {
		return ""
	}
	return fmt.Sprintf("a site of kind listed cannot make %s happen: its machines are not its own; it can %s, %s", fault, protocol.DamagedBlob, protocol.MendedBlob)
}

func (k listed) switches() bool { return false }

func (k listed) take(m *protocol.Machine, o protocol.Order) error {
	l, ok := k.file.ListedAt(o.Address)
	switch file := k.file.Name + ".site.yaml"; {
	case !ok:
		return refuse(http.StatusNotFound, "list it in "+file+", then: verbund site stop; verbund site start", "the list that this site was started with has no machine %s", o.Address)
	case l.Zone != o.Zone || l.Size != o.Size:
		return refuse(http.StatusConflict, "declare it as it is", "machine %s is of size %s in zone %s", o.Address, l.Size, l.Zone)
	}
	m.Adopted, m.Fingerprint, m.Hardware, m.SSHPort = true, "", "", l.Port
	return nil
}

// answerPatience is how long a machine of a list may take to answer.
const answerPatience = 2 * time.Second

// ask finds out which machines answer: that is all that is known of their power.
func (k listed) ask(ms []protocol.Machine) {
	var wg sync.WaitGroup
	for i := range ms {
		m := &ms[i]
		wg.Go(func() {
			m.Trouble = ""
			if l, ok := k.file.ListedAt(m.Address); ok {
				m.SSHPort = l.Port
			}
			at := netip.AddrPortFrom(m.Address, uint16(m.SSHPort)).String()
			c, err := net.DialTimeout("tcp", at, answerPatience)
			if err != nil {
				m.Power, m.Trouble = protocol.PowerSilent, err.Error()
				return
			}
			c.Close()
			m.Power = protocol.PowerOn
		})
	}
	wg.Wait()
}
