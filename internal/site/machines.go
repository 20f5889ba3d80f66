package site

import (
	"net/netip"
	"time"
)

// Inventory is everything a site knows.
type Inventory struct {
	Site     string       `json:"site"`
	Process  int          `json:"process"` // process id
	Block    netip.Prefix `json:"block"`
	Zones    []Zone       `json:"zones"`
	Machines []Machine    `json:"machines"`
	Bare     []Bare       `json:"bare,omitempty"`   // machines that wait to be adopted
	Images   []Composed   `json:"images,omitempty"` // machine images that were composed
	Mirror   []Mirrored   `json:"mirror,omitempty"` // what came through the mirror since the site was started
	Cuts     []Cut        `json:"cuts,omitempty"`   // where the network between zones is cut
}

// Cut is a fault of the network between zones.
type Cut struct {
	From    string `json:"from"`    // zone that sends
	To      string `json:"to"`      // zone that is to receive
	Percent int    `json:"percent"` // of what it sends, that is lost
	// Delay is how much longer it takes, in nanoseconds.
	Delay time.Duration `json:"delay,omitempty"`
}

// Bare is a machine that belongs to no cluster.
type Bare struct {
	Hardware string `json:"hardware"`
	Zone     string `json:"zone"`
	Size     string `json:"size"`
}

// Image is what a machine boots from.
type Image struct {
	System       string   `json:"system"`
	Architecture string   `json:"architecture"`
	Extras       []string `json:"extras,omitempty"`
}

// Mirrored counts what machines got through the mirror from one upstream
// registry: a miss is fetched once, everything after it is a hit.
type Mirrored struct {
	Upstream string `json:"upstream"`
	Hits     int    `json:"hits"`
	Misses   int    `json:"misses"`
	Fetched  int64  `json:"fetched"` // bytes that came over the line
	Saved    int64  `json:"saved"`   // bytes that did not have to
}

// Composed is an image that the site has made: once, and used again by the
// digest of its content.
type Composed struct {
	Digest   string `json:"digest"`
	Image    Image  `json:"image"`
	Machines int    `json:"machines"` // that were ever ordered with it
	// Composing says that it is still being put together.
	Composing bool `json:"composing,omitempty"`
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
	// PowerSilent is a machine that nobody here can switch, and that does not answer.
	PowerSilent = "silent"
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
	Image       string `json:"image,omitempty"`   // digest
	Adopted     bool   `json:"adopted,omitempty"` // it was there before it was ordered
}

// Order asks for a machine. Asking again for the same is answered with what
// there is.
type Order struct {
	Cluster string `json:"cluster"`
	Zone    string `json:"zone"`
	Size    string `json:"size"`
	Image   Image  `json:"image"`
	// Hardware asks for one certain bare machine.
	Hardware string     `json:"hardware,omitempty"`
	Address  netip.Addr `json:"address"`
	Login    string     `json:"login"` // authorized_keys line
}
