// Package protocol is how the tool talks to a site: JSON over HTTP on a Unix
// socket that only its owner may open, with the site's credential as a bearer
// token. docs/protocols.md describes it.
package protocol

import (
	"verbund/internal/site"
)

// The files of a site's folder that the tool reads, too.
const (
	InventoryFile = "inventory.json" // what the site keeps of its machines
	ProcessFile   = "process"        // the id of its process, while it runs
)

// What a site has and is asked for: the words of the tool.
type (
	Inventory = site.Inventory
	Bare      = site.Bare
	Cut       = site.Cut
	Image     = site.Image
	Mirrored  = site.Mirrored
	Composed  = site.Composed
	Zone      = site.Zone
	Machine   = site.Machine
	Order     = site.Order
)

// The states of a machine's power.
const (
	PowerOff     = site.PowerOff
	PowerBooting = site.PowerBooting
	PowerOn      = site.PowerOn
	PowerCrashed = site.PowerCrashed
	PowerSilent  = site.PowerSilent
)

// Power is what to do with a machine's power: on, off (units are stopped
// first), cut (at once), or restart.
type Power struct {
	Do string `json:"do"`
}

// Refusal is the answer when something cannot be done.
type Refusal struct {
	What string `json:"what"`
	Todo string `json:"todo"`
	Code string `json:"code,omitempty"` // of refusals that a program can do something about
}

// The codes of refusals that a program can do something about.
const (
	AddressTaken = site.AddressTaken
	InUse        = site.InUse
)
