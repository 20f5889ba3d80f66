package session

import (
	"io"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/store"
)

// LookTimeout bounds how long one question may take while looking.
const LookTimeout = 8 * time.Second

// Session is one cluster as a command works on it.
type Session struct {
	Decl     *declare.Declaration
	SiteFile *declare.Site
	Cat      *versions.Catalogue
	Store    Memory
	Site     Site
	By       Reach
	Parallel int // how many steps and questions at a time
	// Accepted are the errors that an exception of the declaration accepts.
	Accepted declare.Findings
	// Counts and Asking are counts of pools, and certificates to be made anew, that
	// somebody asks for and that are not remembered yet: they are, once the person
	// has agreed.
	Counts map[string]int
	Asking []string
	// Restores is a restoration that somebody asks for, and that is not remembered yet.
	Restores *plan.Restores
	// Papers are the files in which the cluster is declared, by name; nil where there are none.
	Papers func() (map[string][]byte, error)
	// Unheld says that nobody's word is waited for, though the roll-out is held.
	Unheld bool
	// MayLose are pods that a drain may lose, beside those of the declaration.
	MayLose []declare.Loss
	// Alone says that this session holds the cluster's lock: whatever else
	// changes a machine is the rest of a run that was cut off, and it is waited
	// for before the machine is looked at.
	Alone bool

	mu       sync.Mutex
	machines map[string]Machine
	leases   map[string]netip.Addr // of machines whose address has changed
	zones    map[string]string     // where machines are
	trust    *store.Trust
	keys     []ssh.Signer // of whoever logs in to the machines of a list
	keeper   io.Closer    // the way to the agent that holds them
}

// Topology works the declaration out with what earlier runs fixed.
func (s *Session) Topology() (*topology.Cluster, error) { return s.TopologyAs(plan.Aim{}) }

// TopologyAs works out what is aimed at.
func (s *Session) TopologyAs(aim plan.Aim) (*topology.Cluster, error) {
	s.mu.Lock()
	zones := s.zones
	s.mu.Unlock()
	st, err := s.Store.Read()
	if err != nil {
		return nil, err
	}
	return s.build(aim, st, nil, nil, zones)
}

// TopologyAt is the same from what was read, with addresses that the site has leased since, and without
// those that others have there; zones say where its machines are. What is nil is as it was
// told before.
func (s *Session) TopologyAt(aim plan.Aim, st *memory.State, leases map[string]netip.Addr, taken []netip.Addr, zones map[string]string) (*topology.Cluster, error) {
	s.mu.Lock()
	if leases != nil {
		s.leases = leases
	}
	if zones != nil {
		s.zones = zones
	}
	leases, zones = s.leases, s.zones
	s.mu.Unlock()
	return s.build(aim, st, leases, taken, zones)
}

func (s *Session) build(aim plan.Aim, st *memory.State, leases map[string]netip.Addr, taken []netip.Addr, zones map[string]string) (*topology.Cluster, error) {
	mem := topology.Memory{Addresses: map[string]netip.Addr{}, Members: st.Members, Peers: st.Peers, Founders: st.Founders, Counts: maps.Clone(st.Counts), Numbers: st.Numbers,
		Restoring: s.Restores != nil || st.Restoring != nil && !st.Restoring.Founded, Taken: taken, Zones: zones}
	for n, m := range st.Machines {
		mem.Addresses[n] = m.Address
	}
	maps.Copy(mem.Addresses, leases)
	if st.Facts != nil && zones != nil {
		// One that is got anew must never found again, whatever starts it and when.
		mem.Founders = slices.DeleteFunc(slices.Clone(mem.Founders), func(name string) bool { return zones[name] == "" })
	}
	maps.Copy(mem.Counts, s.Counts)
	return topology.Build(aim.Declared(s.Decl), s.SiteFile, s.Cat, aim.Memory(mem))
}

// Close hangs up everywhere.
func (s *Session) Close() {
	s.mu.Lock()
	ms, keeper := s.machines, s.keeper
	s.machines, s.keys, s.keeper = nil, nil, nil
	s.mu.Unlock()
	if s.Store != nil {
		s.Store.Close()
	}
	if keeper != nil {
		keeper.Close()
	}
	for _, m := range ms {
		m.Close()
	}
}
