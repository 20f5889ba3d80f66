package memory

import (
	"net/netip"
	"time"

	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
)

// State is all that is remembered. Of one that New or Of has made no map is nil.
type State struct {
	// Facts are what cannot change while the cluster lives; nil before it was founded.
	Facts *topology.Facts
	// Founders are the machines whose members found the datastore together.
	Founders []string
	// Clearing says that machines may still hold what an interrupted clear was to take away.
	Clearing bool
	// Machines are by name.
	Machines map[string]Machine
	// Members and Peers are, by machine, the members that the datastore had when its own was
	// born, and where those were.
	Members map[string][]string
	Peers   map[string]map[string]netip.Addr
	// Resting are machines that were taken out of the balancer.
	Resting map[string]bool
	// Counts are of pools whose count is a range; Numbers those of a group's machines, by place,
	// of groups in which any has given way to another.
	Counts  map[string]int
	Numbers map[string][]int
	// Asked are certificates that somebody wants renewed before they are due.
	Asked map[string]bool
	// Exchanges are, by machine, the hardware address of the one that is to give way to a new
	// one: from before the old one goes until the new one is well.
	Exchanges map[string]string
	// Kubeconfigs are the files into which access was merged, and when.
	Kubeconfigs map[string]time.Time
	// Givens are certificates that were given away, by serial number.
	Givens map[string]Given
	// Replacements are of authorities and keys, by their ID, that are underway.
	Replacements map[string]trust.Replacement
	// Waves have begun and are not over, by group; Spared are the machines that failed in the
	// roll-out that is underway; Before is what groups ran before the last one.
	Waves  map[string]rollout.Open
	Spared map[string]Spared
	Before map[string]string
	// Held is why a person's word is waited for; nil when none is.
	Held *Held
	// Restoring is the restoration that is underway; nil when none is.
	Restoring *Restoring
	// Backups are notes on backups, by the names of their files.
	Backups map[string]BackupNote
}

// New remembers nothing.
func New() *State {
	s := &State{}
	for _, p := range parts {
		p.make(s)
	}
	return s
}

// Machine is what is remembered of a machine.
type Machine struct {
	Address     netip.Addr `json:"address"`
	Hardware    string     `json:"hardware,omitempty"`
	Fingerprint string     `json:"fingerprint,omitempty"` // of the host key, from its console
}

// Given is a certificate that was given to a person or a program, which cannot be taken back.
type Given struct {
	Name   string    `json:"name"`
	Groups []string  `json:"groups"`
	From   time.Time `json:"from"`
	Until  time.Time `json:"until"`
	Serial string    `json:"serial"`
	// Authority is the serial number of the authority that signed it: when that one is
	// distrusted, the certificate does not work any more.
	Authority string `json:"authority"`
	Kind      string `json:"kind"` // person, break-glass, program
	Reason    string `json:"reason,omitempty"`
}

// Held is a roll-out that a person's word is waited for.
type Held struct {
	Since time.Time `json:"since"`
	// By is who holds it: the declaration, or a person.
	By string `json:"by"`
	// Group is the group before which it holds; empty, everything.
	Group string `json:"group,omitempty"`
	Why   string `json:"why"`
}

// Who holds a roll-out.
const (
	ByDeclaration = "declaration"
	ByPerson      = "person"
)

// Spared is a machine that failed in a roll-out which went on without it.
type Spared struct {
	Since time.Time `json:"since"`
	Group string    `json:"group"`
	Why   string    `json:"why"`
}

// Restoring is a restoration of the datastore that has begun and is not over: until it is, the
// cluster counts as one that is still to be founded, from a backup.
type Restoring struct {
	// ID tells the datastore that is founded so from every other one.
	ID     string    `json:"id"`
	Backup string    `json:"backup"` // name of its file
	Since  time.Time `json:"since"`
	// Kubernetes is the version that the backup is of, in whose minor it is restored.
	Kubernetes string `json:"kubernetes,omitempty"`
	// Founded says that the datastore is founded; what is left is what converge does.
	Founded bool `json:"founded,omitempty"`
}

// BackupNote is what is remembered of a backup, beside what stands in it.
type BackupNote struct {
	// Verified is when all of it was last read and found as it was written; Raised, when a
	// member of the datastore was last raised from it.
	Verified time.Time `json:"verified,omitzero"`
	Raised   time.Time `json:"raised,omitzero"`
	Copies   []Copy    `json:"copies,omitempty"`
}

// Copy is a copy of a backup that was sent off.
type Copy struct {
	To     string    `json:"to"`               // a folder, or oci://HOST/REPOSITORY
	Digest string    `json:"digest,omitempty"` // of the artefact, in a registry
	At     time.Time `json:"at"`
	// Checked is when it was last read there and found as it was sent; zero: never.
	Checked time.Time `json:"checked,omitzero"`
}
