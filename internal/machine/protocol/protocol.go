// Package protocol is the agent protocol: JSON-RPC 2.0, one message a line,
// over the SSH subsystem agent@verbund.test. docs/protocols.md describes it.
package protocol

import (
	"io/fs"
	"net/netip"
	"time"
)

// Subsystem is the SSH subsystem that speaks the protocol.
const Subsystem = "agent@verbund.test"

// AgentArg is the argument with which a machine's SSH server starts the agent as a program.
const AgentArg = "machine-agent"

// The methods.
const (
	Facts           = "facts"            // → FactsReply
	FilesPut        = "files.put"        // PutRequest → PutReply
	FilesDigests    = "files.digests"    // PathsRequest → DigestsReply
	FilesRead       = "files.read"       // PathsRequest → FilesReply
	FilesList       = "files.list"       // PathsRequest, of folders → FilesReply without content
	KeysShow        = "keys.show"        // PathsRequest, of patterns → ShownReply
	ArtefactsPull   = "artefacts.pull"   // PullRequest → PullReply
	UnitsList       = "units.list"       // → []UnitState
	UnitsStart      = "units.start"      // UnitsRequest, in order, each awaited
	UnitsStop       = "units.stop"       // UnitsRequest, in order
	UnitsRestart    = "units.restart"    // UnitsRequest
	UnitsReload     = "units.reload"     // UnitsRequest
	Logs            = "logs"             // LogsRequest → LogsReply
	SlotsPrepare    = "slots.prepare"    // SlotRequest: empties an idle slot
	SlotsSwitch     = "slots.switch"     // SwitchRequest → SwitchReply
	SocketsAsk      = "sockets.ask"      // AskRequest → AskReply
	DatastoreSeed   = "datastore.seed"   // SeedRequest: data of a stopped member, from a snapshot
	DatastoreRescue = "datastore.rescue" // RescueRequest → RescueReply: a snapshot of a stopped member
	MachineProbe    = "machine.probe"    // ProbeRequest → ProbeReply
	MachineWipe     = "machine.wipe"     // stops everything, empties the disk, answers, then restarts
	CodeUnitFailed  = -32010             // a unit did not come up; data is []UnitState
	CodeDiskFull    = -32011             // the disk takes no more
	CodeDigest      = -32012             // a blob has another digest than asked for
	SlotDir         = "/opt/verbund/slots/"
	ActiveSlot      = "/opt/verbund/active" // a link to the slot in use
)

// FactsReply is what a machine says of itself.
type FactsReply struct {
	Name     string    `json:"name"`
	Hardware string    `json:"hardware"`
	BootID   string    `json:"bootId"`
	Image    string    `json:"image"`
	CPUs     int       `json:"cpus"`
	Memory   int64     `json:"memory"` // bytes
	Disk     int64     `json:"disk"`   // bytes
	DiskUsed int64     `json:"diskUsed"`
	Clock    time.Time `json:"clock"`
	// Rights says what the login may do: all, or look.
	Rights string `json:"rights"`
	// Cards are the network cards with their addresses.
	Cards []Card `json:"cards"`
	// Active is the slot in use, empty before the first switch.
	Active string `json:"active"`
	// Slots lists, by slot and component, the version that lies there.
	Slots map[string]map[string]string `json:"slots"`
	// Digests lists, by slot and component, the digest of the manifest under
	// which it was fetched.
	Digests map[string]map[string]string `json:"digests"`
	// Busy names the methods with which another login is changing the machine
	// right now.
	Busy string `json:"busy,omitempty"`
}

// Card is a network card.
type Card struct {
	Name    string     `json:"name"`
	Address netip.Addr `json:"address"`
}

// FilesReply has the files that exist, each up to MaxRead bytes.
type FilesReply struct {
	Files []File `json:"files"`
	From  int64  `json:"from,omitempty"` // where they were read from on, as it was asked for
}

// Shown is what a file that may hold a private key shows of itself without
// giving the key away.
type Shown struct {
	Path         string      `json:"path"`
	Mode         fs.FileMode `json:"mode"`
	Certificates []byte      `json:"certificates,omitempty"` // PEM
	Public       []byte      `json:"public,omitempty"`       // PEM (PKIX) of the key's public half
	// SignedBy is, of a file with a bearer token (RFC 7519), the name of the key
	// that signed it.
	SignedBy string `json:"signedBy,omitempty"`
}

// ShownReply has the files that match any of the patterns (path.Match).
type ShownReply struct {
	Files []Shown `json:"files"`
}

// MaxRead is how much of a file is read, in bytes.
const MaxRead = 256 << 10

// ProbeRequest asks a machine what it can reach, and what is free on it.
type ProbeRequest struct {
	Resolve []string `json:"resolve,omitempty"` // names
	Dial    []string `json:"dial,omitempty"`    // HOST:PORT
	Free    []string `json:"free,omitempty"`    // ADDRESS:PORT that something will listen on
	// Registry is asked for the manifests of artefacts, given as NAME@DIGEST.
	Registry  string   `json:"registry,omitempty"`
	Artefacts []string `json:"artefacts,omitempty"`
	// Programs are those of the system that something will call, by name.
	Programs []string `json:"programs,omitempty"`
	// Empty are folders in which nothing should be; one that is not there is empty.
	Empty []string `json:"empty,omitempty"`
}

// ProbeReply says of each thing asked what is wrong with it; what is well is
// left out.
type ProbeReply struct {
	Resolve   map[string]string `json:"resolve"`
	Dial      map[string]string `json:"dial"`
	Free      map[string]string `json:"free"`
	Artefacts map[string]string `json:"artefacts"`
	Programs  map[string]string `json:"programs,omitempty"`
	Empty     map[string]string `json:"empty,omitempty"`
}

// File is one file to be written whole.
type File struct {
	Path    string      `json:"path"`
	Mode    fs.FileMode `json:"mode"`
	Content []byte      `json:"content"`
}

// PutRequest writes files; one that is already there with the same content and
// mode is left alone.
type PutRequest struct {
	Files []File `json:"files"`
	// Remove are files that should not be there.
	Remove []string `json:"remove,omitempty"`
}

// PutReply names the files that changed.
type PutReply struct {
	Changed []string `json:"changed"`
}

// PathsRequest names files.
type PathsRequest struct {
	Paths []string `json:"paths"`
	// From is where reading begins in each, in bytes.
	From int64 `json:"from,omitempty"`
}

// DigestsReply has sha256 in hex and mode in octal, "HEX MODE", of the files
// that exist.
type DigestsReply struct {
	Digests map[string]string `json:"digests"`
}

// PullRequest fetches an artefact into a slot as bin/NAME.
type PullRequest struct {
	Registry string `json:"registry"`
	Name     string `json:"name"`
	Version  string `json:"version"`
	Digest   string `json:"digest"` // of the manifest
	Slot     string `json:"slot"`
}

// PullReply says whether anything was fetched.
type PullReply struct {
	Fetched bool `json:"fetched"`
}

// UnitState is one service as the service manager sees it.
type UnitState struct {
	Name     string    `json:"name"`
	State    string    `json:"state"` // inactive, activating, active, deactivating, failed: systemd's words
	Program  string    `json:"program,omitempty"`
	Version  string    `json:"version,omitempty"`
	ExitCode int       `json:"exitCode"`
	Restarts int       `json:"restarts"`
	Since    time.Time `json:"since"`
	Last     string    `json:"last,omitempty"` // last error of a run that ended badly
	// Older says that it runs and was started before its unit file was last written: what
	// runs is not what the file says.
	Older bool `json:"older,omitempty"`
	// Real says of a unit on a simulated machine that it is a process and no stand-in.
	Real bool `json:"real,omitempty"`
}

// UnitsRequest names units.
type UnitsRequest struct {
	Units []string `json:"units"`
}

// LogsRequest asks for the last lines of a unit, or of the console.
type LogsRequest struct {
	Unit  string `json:"unit"`
	Lines int    `json:"lines"`
}

// LogsReply are log lines, oldest first.
type LogsReply struct {
	Lines []string `json:"lines"`
}

// SlotRequest names a slot: a or b.
type SlotRequest struct {
	Slot string `json:"slot"`
}

// SwitchRequest makes a slot the active one. With Start, units that run are
// stopped first, those named are started in order after, and if one does not
// come up the machine goes back to the slot before and starts that.
type SwitchRequest struct {
	Slot  string   `json:"slot"`
	Start []string `json:"start,omitempty"`
	// Health is, by unit, the URL at which its program says that it is well. For a unit that
	// does not tell the service manager when it serves, only that shows that it came up.
	Health map[string]string `json:"health,omitempty"`
}

// SwitchReply says what came of it.
type SwitchReply struct {
	Active string `json:"active"`
	// FellBack is why the machine went back, if it did; Units are as they were
	// when it was decided.
	FellBack string      `json:"fellBack,omitempty"`
	Unit     string      `json:"unit,omitempty"`
	ExitCode int         `json:"exitCode,omitempty"`
	Log      []string    `json:"log,omitempty"`
	Units    []UnitState `json:"units,omitempty"`
}

// SeedRequest makes the data of a datastore's member from a snapshot, whose parts were put on
// the machine before and are taken away after. All members are given the same, and are a new
// cluster then.
type SeedRequest struct {
	Unit    string            `json:"unit"`    // that must not run meanwhile
	Folder  string            `json:"folder"`  // of the data
	Parts   []string          `json:"parts"`   // paths, in order
	Name    string            `json:"name"`    // of the member
	Members map[string]string `json:"members"` // peer URLs of all, by name
	Token   string            `json:"token"`   // that tells this cluster from others
	// Bump is added to the snapshot's revision, and everything before is marked as compacted,
	// so that whoever watched notices; 0 to leave it.
	Bump uint64 `json:"bump"`
}

// RescueRequest takes a snapshot of a stopped member that has lost the others. What it had
// written down and not been told to be decided counts as decided.
type RescueRequest struct {
	Unit   string `json:"unit"`   // that must not run meanwhile
	Folder string `json:"folder"` // of the data, which stays as it is
	Name   string `json:"name"`   // of the member
	To     string `json:"to"`     // folder of the machine in which the snapshot's parts are put
}

// RescueReply has the paths of the parts, in order.
type RescueReply struct {
	Parts []string `json:"parts"`
}

// AskRequest says one line to whoever listens on a local socket of the machine, in /run.
type AskRequest struct {
	Socket string `json:"socket"`
	Line   string `json:"line"`
}

// AskReply is what was answered until the other side hung up, up to MaxRead bytes.
type AskReply struct {
	Text string `json:"text"`
}
