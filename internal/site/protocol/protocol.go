// Package protocol is how the tool talks to a site: JSON over HTTP on a Unix
// socket that only its owner may open, with the site's credential as a bearer
// token. docs/protocols.md describes it.
package protocol

import "net/netip"

// Inventory is everything a site knows.
type Inventory struct {
	Site     string       `json:"site"`
	Process  int          `json:"process"` // process id
	Block    netip.Prefix `json:"block"`
	Zones    []Zone       `json:"zones"`
	Machines []Machine    `json:"machines"`
}

// Zone is a failure domain with its room.
type Zone struct {
	Name    string `json:"name"`
	Room    int    `json:"room"` // machines that fit
	Used    int    `json:"used"`
	Process int    `json:"process"` // process id, 0 when nothing runs there
}

// The states of a machine's power.
const (
	PowerOff     = "off"
	PowerBooting = "booting"
	PowerOn      = "on"
	PowerCrashed = "crashed"
)

// Machine is one machine of the inventory.
type Machine struct {
	Name     string     `json:"name"`
	Cluster  string     `json:"cluster"`
	Zone     string     `json:"zone"`
	Size     string     `json:"size"`
	Hardware string     `json:"hardware"`
	Address  netip.Addr `json:"address"`
	Power    string     `json:"power"`
	SSHPort  int        `json:"sshPort,omitempty"`
	// Fingerprint is what the console showed of the host key.
	Fingerprint string `json:"fingerprint,omitempty"`
	Trouble     string `json:"trouble,omitempty"` // why it did not boot
}

// Order asks for a machine. Asking again for the same is answered with what
// there is.
type Order struct {
	Cluster string     `json:"cluster"`
	Zone    string     `json:"zone"`
	Size    string     `json:"size"`
	Image   string     `json:"image"`
	Address netip.Addr `json:"address"`
	Login   string     `json:"login"` // authorized_keys line
}

// Power is what to do with a machine's power: on, off (units are stopped
// first), cut (at once), or restart.
type Power struct {
	Do string `json:"do"`
}

// Fault is something that goes wrong on purpose.
type Fault struct {
	Machine string `json:"machine,omitempty"`
	// Kind is full-disk, mended-disk, new-host-key, damaged-blob or mended-blob.
	Kind     string `json:"kind"`
	Artefact string `json:"artefact,omitempty"` // NAME:VERSION, of blobs
	Zone     string `json:"zone,omitempty"`     // of lost-zone
}

// Refusal is the answer when something cannot be done.
type Refusal struct {
	What string `json:"what"`
	Todo string `json:"todo"`
}
