package plan

import "time"

// About is all that is known of a kind of step but how it is carried out, which is the
// engine's. A test fails when anything of it is missing for any kind.
type About struct {
	Kind Kind
	Does string // in one sentence
	// Usual is how long it takes as a rule, in life, and Worry from when on one should
	// worry, which is also when it is given up. Steps of a simulated site are faster.
	Usual, Worry time.Duration
	Effect       Effect
	Service      Service
	Awaits       Awaits
	Part         PartOfStep
	Hint         string // what one should know while it is waited for; of most, nothing
}

// Effect is what a step does to a machine, roughly: pictures show it as a colour.
type Effect int

// The effects.
const (
	Brings  Effect = iota + 1 // something new: machines, artefacts, files
	Starts                    // or restarts
	Away                      // out of service
	Waits                     // until something is well
	Removes                   // what cannot be undone
)

// Service says whether a machine serves after a step.
type Service int

// Whether it serves.
const (
	Keeps Service = iota + 1 // as before
	Out                      // not any more
	Back                     // again
)

// Awaits says without which machines a step cannot end.
type Awaits int

// Without which.
const (
	Itself   Awaits = iota + 1 // the step's own
	Everyone                   // any machine
	Nobody                     // it gives a machine power, or is done to one that may be dead
)

// PartOfStep says to which part of a cluster a step belongs when a run is limited.
type PartOfStep int

// The parts.
const (
	OfMachine PartOfStep = iota + 1 // that of its machine; without one, the control plane
	OfAddOns
	OfGroup
	OfNone
)

// Kinds are all kinds of steps, in the order in which a cluster is raised, changed and
// taken down.
var Kinds = []About{
	{Get, "gets a machine from the site, or switches one on, and logs in", 40 * time.Second, 4 * time.Minute, Brings, Out, Nobody, OfMachine, ""},
	{Wipe, "empties what an earlier life left on a machine", 5 * time.Second, time.Minute, Removes, Out, Nobody, OfMachine, ""},
	{Pull, "fetches a version into the slot that is not in use", 30 * time.Second, 5 * time.Minute, Brings, Keeps, Itself, OfMachine, ""},
	{Write, "writes a machine's files, and restarts what reads them only then", 5 * time.Second, 3 * time.Minute, Brings, Keeps, Itself, OfMachine, ""},
	{Vouch, "gives a machine its own certificates, before the rest", 5 * time.Second, time.Minute, Brings, Keeps, Itself, OfMachine, ""},
	{Move, "tells the datastore where a machine is now", 5 * time.Second, time.Minute, Brings, Out, Itself, OfMachine, ""},
	{Drop, "takes a dead member out of the datastore", 5 * time.Second, time.Minute, Removes, Keeps, Nobody, OfMachine, ""},
	{Halt, "stops API servers, whose datastore gives way to a backup's", 10 * time.Second, time.Minute, Away, Out, Itself, OfMachine, ""},
	{Found, "founds the datastore, by all its members at once", 20 * time.Second, 2 * time.Minute, Starts, Keeps, Itself, OfMachine, ""},
	{Member, "starts a member of the datastore, or has it join and makes it a voter", 20 * time.Second, 2 * time.Minute, Starts, Keeps, Itself, OfMachine, membersHint},
	{Control, "starts API server, controller manager and scheduler", 20 * time.Second, 2 * time.Minute, Starts, Keeps, Itself, OfMachine, ""},
	{Roles, "makes the bindings that the cluster needs", 5 * time.Second, time.Minute, Brings, Keeps, Itself, OfMachine, ""},
	{Balance, "starts the balancer", 5 * time.Second, time.Minute, Starts, Keeps, Itself, OfMachine, ""},
	{Carry, "lets a machine carry the endpoint's virtual address", 20 * time.Second, 2 * time.Minute, Starts, Keeps, Itself, OfMachine, ""},
	{Answer, "waits until an existing balancer answers for the API", 40 * time.Second, 4 * time.Minute, Waits, Keeps, Itself, OfMachine, ""},
	{Network, "installs or moves the network plugin", 30 * time.Second, 3 * time.Minute, Starts, Keeps, Everyone, OfAddOns, ""},
	{DNS, "installs or moves the cluster's DNS", 30 * time.Second, 3 * time.Minute, Starts, Keeps, Itself, OfAddOns, ""},
	{Node, "starts container runtime, kubelet and proxy", 30 * time.Second, 3 * time.Minute, Starts, Keeps, Itself, OfMachine, ""},
	{Label, "sets labels and taints of a node", 5 * time.Second, time.Minute, Brings, Keeps, Itself, OfMachine, ""},
	{Ready, "waits until a node is Ready, on its version", 30 * time.Second, 3 * time.Minute, Waits, Back, Itself, OfMachine, "NotReady is normal until the network plugin runs there"},
	{Backup, "backs the datastore up to a file, with what opens it", 10 * time.Second, 2 * time.Minute, Brings, Keeps, Itself, OfMachine, ""},
	{Rest, "takes a machine out of the balancer", 5 * time.Second, time.Minute, Away, Out, Itself, OfMachine, ""},
	{Drain, "cordons a node and evicts its pods", time.Minute, 5 * time.Minute, Away, Out, Itself, OfMachine, ""},
	{Switch, "switches a machine to its other slot, and back if it does not come up", 20 * time.Second, 4 * time.Minute, Starts, Out, Itself, OfMachine, ""},
	{Uncordon, "lets pods onto a node again", 5 * time.Second, time.Minute, Starts, Back, Itself, OfMachine, ""},
	{Return, "puts a machine back into the balancer", 5 * time.Second, time.Minute, Starts, Back, Itself, OfMachine, ""},
	{Refresh, "gives a node's pods new tokens", 30 * time.Second, 3 * time.Minute, Brings, Keeps, Itself, OfMachine, ""},
	{Leave, "takes a living member out of the datastore", 5 * time.Second, time.Minute, Removes, Out, Nobody, OfMachine, membersHint},
	{Unnode, "takes a node out of the cluster", 5 * time.Second, time.Minute, Removes, Keeps, Nobody, OfMachine, ""},
	{Release, "gives a machine back to the site", 5 * time.Second, time.Minute, Removes, Keeps, Nobody, OfMachine, ""},
	{Wave, "begins a wave of a roll-out", 50 * time.Millisecond, time.Minute, Waits, Keeps, Nobody, OfGroup, ""},
	{Soak, "watches the machines of a trial, which have to stay well", time.Minute, 2 * time.Minute, Waits, Keeps, Nobody, OfGroup, "nothing is changed meanwhile; the first trouble ends the roll-out"},
	{Pause, "ends a run until a person lets the roll-out go on", 50 * time.Millisecond, time.Minute, Waits, Keeps, Nobody, OfGroup, ""},
	{Entrust, "leaves with a keeper of backups, sealed, what belongs beside a snapshot", 5 * time.Second, time.Minute, Brings, Keeps, Itself, OfMachine, ""},
	{Verify, "looks whether every node is Ready and every component healthy", 5 * time.Second, time.Minute, Waits, Keeps, Everyone, OfNone, ""},
}

const membersHint = "etcd changes its members only when all have been connected for five seconds"

var kinds = func() map[Kind]About {
	out := map[Kind]About{}
	for _, k := range Kinds {
		out[k.Kind] = k
	}
	return out
}()

// About is what is known of the kind; nothing of one that there is not, as a journal of
// another version may name.
func (k Kind) About() About { return kinds[k] }

// TakesOut says whether a step of this kind takes its machine out of service.
func (k Kind) TakesOut() bool { return kinds[k].Service == Out }

// BringsBack says whether a machine is in service again after a step of this kind.
func (k Kind) BringsBack() bool { return kinds[k].Service == Back }
