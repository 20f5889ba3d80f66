package protocol

import (
	"slices"
	"strings"
)

// Fault is something that goes wrong on purpose.
type Fault struct {
	Machine  string `json:"machine,omitempty"`
	Kind     string `json:"kind"`               // one of those below
	Artefact string `json:"artefact,omitempty"` // NAME:VERSION, of blobs
	Zone     string `json:"zone,omitempty"`     // of faults of zones; of the network's, one or two: ZONE,ZONE
}

// The faults that a site knows.
const (
	FullDisk      = "full-disk"
	MendedDisk    = "mended-disk"
	WrongClock    = "wrong-clock"
	MendedClock   = "mended-clock"
	LesserRights  = "lesser-rights"
	FullRights    = "full-rights"
	NewHostKey    = "new-host-key"
	NewLease      = "new-lease"
	LostLead      = "lost-lead"    // its components that lead cannot renew their leases any more
	LostMachine   = "lost-machine" // it is gone, with its disk and address
	DamagedBlob   = "damaged-blob"
	MendedBlob    = "mended-blob"
	LostZone      = "lost-zone"
	SlowMachine   = "slow-machine"
	MendedMachine = "mended-machine"
	SlowDisk      = "slow-disk"
	LostDisk      = "lost-disk" // it has an empty one instead

	// Between two zones, or between one and all others.
	CutNetwork    = "cut-network"     // nothing comes through
	OneWayNetwork = "one-way-network" // nothing comes through from the first to the second
	LossyNetwork  = "lossy-network"   // a part is lost
	SlowNetwork   = "slow-network"    // everything takes longer
	MendedNetwork = "mended-network"  // everything comes through again
)

// What is said of a site that has its machines' power, among the faults that it can make happen:
// these are asked for as power is.
const (
	CutPower  = "cut-power"
	GivePower = "power"
)

// The faults by what they happen to.
var (
	MachineFaults  = []string{FullDisk, MendedDisk, WrongClock, MendedClock, LesserRights, FullRights, NewHostKey, NewLease, LostLead, LostMachine, SlowMachine, MendedMachine, SlowDisk, LostDisk}
	ArtefactFaults = []string{DamagedBlob, MendedBlob}
	ZoneFaults     = []string{LostZone, CutNetwork, OneWayNetwork, LossyNetwork, SlowNetwork, MendedNetwork}
	NetworkFaults  = []string{CutNetwork, OneWayNetwork, LossyNetwork, SlowNetwork, MendedNetwork}
)

// Faults are all of them.
func Faults() []string { return slices.Concat(MachineFaults, ArtefactFaults, ZoneFaults) }

// ChooseFault says which ones there are.
func ChooseFault() string {
	all := Faults()
	return "choose " + strings.Join(all[:len(all)-1], ", ") + " or " + all[len(all)-1]
}
