package memory

import (
	"errors"
	"net/netip"
	"slices"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
)

// Found remembers who is about to found the datastore, all at once. One that was founded is
// not founded again.
func (s *State) Found(names []string) error {
	if s.Facts != nil {
		return errors.New("the datastore was founded already")
	}
	clear(s.Members)
	for _, n := range names {
		s.Members[n] = names
	}
	s.Founders = names
	return nil
}

// Founded remembers that the cluster was founded, or what of it has changed since.
func (s *State) Founded(f topology.Facts) {
	s.Facts, s.Clearing = &f, false
}

// BornAmong remembers where the members are with whom those of machines are about to be born.
func (s *State) BornAmong(peers map[string]netip.Addr, machines ...string) {
	for _, m := range machines {
		s.Peers[m] = peers
	}
}

// Joins remembers how the member of a machine is born that joins. It is no founder any more:
// it must never found again.
func (s *State) Joins(machine string, members []string) {
	s.noFounder(machine)
	s.Members[machine] = members
}

// Leaves forgets how the member of a machine was born, which has left.
func (s *State) Leaves(machine string) {
	s.noFounder(machine)
	delete(s.Members, machine)
	delete(s.Peers, machine)
}

func (s *State) noFounder(machine string) {
	s.Founders = slices.DeleteFunc(slices.Clone(s.Founders), func(f string) bool { return f == machine })
}

// Forget forgets a machine, but for its keys and certificates, which lie elsewhere.
func (s *State) Forget(machine string) {
	for id := range s.Asked {
		if trust.IsOf(machine, id) {
			delete(s.Asked, id)
		}
	}
	delete(s.Machines, machine)
	delete(s.Resting, machine)
	delete(s.Members, machine)
	delete(s.Peers, machine)
}

// Clears forgets that the cluster was founded, and everything that belongs to that life:
// addresses and host keys stay. That its machines are being cleared is remembered until they
// are, or until it is founded again.
func (s *State) Clears() {
	s.Facts, s.Founders, s.Restoring, s.Held, s.Clearing = nil, nil, nil, nil, true
	clear(s.Members)
	clear(s.Peers)
	clear(s.Resting)
	clear(s.Waves)
	clear(s.Spared)
	clear(s.Before)
}

// Restores remembers that a restoration has begun, or goes on, by which all members are made
// anew, together. None of them founds: each has its data before it starts. What was underway in
// the life before is over.
func (s *State) Restores(r Restoring, members []string) {
	s.Restoring, s.Founders, s.Held = &r, nil, nil
	clear(s.Members)
	clear(s.Waves)
	clear(s.Spared)
	clear(s.Resting)
	for _, m := range members {
		s.Members[m] = members
	}
}

// Restored remembers that the datastore was founded from the backup.
func (s *State) Restored(f topology.Facts) error {
	if s.Restoring == nil {
		return errors.New("no restoration is underway")
	}
	r := *s.Restoring
	r.Founded = true
	s.Restoring = &r
	s.Founded(f)
	return nil
}

// Exchange remembers that a machine is to give way to a new one: which it is by its hardware
// address; empty, that there is none that could.
func (s *State) Exchange(machine, hardware string) {
	if delete(s.Exchanges, machine); hardware != "" {
		s.Exchanges[machine] = hardware
	}
}

// Rest remembers whether a machine is out of the balancer.
func (s *State) Rest(machine string, out bool) {
	if delete(s.Resting, machine); out {
		s.Resting[machine] = true
	}
}

// Ask remembers that somebody wants certificates renewed before they are due, and Renewed that
// they were.
func (s *State) Ask(ids ...string) {
	for _, id := range ids {
		s.Asked[id] = true
	}
}

// Renewed is described at Ask.
func (s *State) Renewed(ids ...string) {
	for _, id := range ids {
		delete(s.Asked, id)
	}
}

// Give remembers a certificate that is given away.
func (s *State) Give(g Given) { s.Givens[g.Serial] = g }

// Underway says whether anything is remembered that a command ends after which nothing is left
// to do, and Over ends it: the roll-out, machines that were to give way to new ones, and a
// restoration.
func (s *State) Underway() bool {
	return len(s.Waves)+len(s.Spared)+len(s.Exchanges) > 0 || s.Restoring != nil && s.Restoring.Founded
}

// Over is described at Underway.
func (s *State) Over() {
	s.RolledOut()
	clear(s.Exchanges)
	if s.Restoring != nil && s.Restoring.Founded {
		s.Restoring = nil
	}
}
