package protocol

import "strings"

// Fault is something that goes wrong on purpose.
type Fault struct {
	Machine  string `json:"machine,omitempty"`
	Kind     string `json:"kind"`               // one of Faults
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
	LostMachine  = "lost-machine" // the machine is given back behind everybody's back
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

// all lists them.
func all() []string {
	return append(append(append([]string(nil), MachineFaults...), ArtefactFaults...), ZoneFaults...)
}

// ChooseFault says which ones there are.
func ChooseFault() string {
	fs := all()
	return "choose " + strings.Join(fs[:len(fs)-1], ", ") + " or " + fs[len(fs)-1]
}
