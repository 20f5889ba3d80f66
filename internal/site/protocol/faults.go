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
	Zone     string `json:"zone,omitempty"`     // of lost-zone
}

// The faults that a site knows.
const (
	FullDisk     = "full-disk"
	MendedDisk   = "mended-disk"
	WrongClock   = "wrong-clock"
	MendedClock  = "mended-clock"
	LesserRights = "lesser-rights"
	FullRights   = "full-rights"
	NewHostKey   = "new-host-key"
	NewLease     = "new-lease"
	LostMachine  = "lost-machine" // it is gone, with its disk and address
	DamagedBlob  = "damaged-blob"
	MendedBlob   = "mended-blob"
	LostZone     = "lost-zone"
)

// The faults by what they happen to.
var (
	MachineFaults  = []string{FullDisk, MendedDisk, WrongClock, MendedClock, LesserRights, FullRights, NewHostKey, NewLease, LostMachine}
	ArtefactFaults = []string{DamagedBlob, MendedBlob}
	ZoneFaults     = []string{LostZone}
)

// ChooseFault says which ones there are.
func ChooseFault() string {
	all := slices.Concat(MachineFaults, ArtefactFaults, ZoneFaults)
	return "choose " + strings.Join(all[:len(all)-1], ", ") + " or " + all[len(all)-1]
}
