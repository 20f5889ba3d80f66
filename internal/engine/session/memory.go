package session

import (
	"io"
	"net/netip"
	"time"

	"filippo.io/age"

	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/store"
)

// Memory is what is remembered of one cluster, wherever it lies. What is saved is there as a
// whole or not at all, and is there after a crash; its errors are *store.Damage for what is
// not as it was written, and *store.Closed where nobody can open it.
type Memory interface {
	Exists() bool
	// Make makes it, and Remove takes it away with all that is in it but the backups.
	Make() error
	Remove() error
	// Lock is held by whoever changes the cluster; *store.Locked says who does.
	Lock(command string) (release func(), err error)
	Holds() (*store.Holder, error)
	Vault
	Places
	Wishes
	Rollouts
	Past
	Backups
}

// Vault keeps keys and certificates, and who was given some.
type Vault interface {
	Trust() (*store.Trust, error)
	// SaveTrust adds some and takes others away, all or none.
	SaveTrust(t *store.Trust, gone ...string) error
	Replacements() (map[string]trust.Replacement, error)
	SaveReplacement(id string, r *trust.Replacement, t *store.Trust, gone ...string) error
	Givens() (map[string]store.Given, error)
	SaveGiven(g store.Given) error
	Kubeconfigs() (map[string]time.Time, error)
	SaveKubeconfig(path string, at time.Time) error
	Protection() (*store.Protection, error)
}

// Places keeps what is known of machines, and how the datastore was born.
type Places interface {
	Machines() (map[string]store.Machine, error)
	Machine(name string) (m store.Machine, known bool, err error)
	SaveMachine(name string, m store.Machine) error
	ForgetMachine(name string) error
	Members() (map[string][]string, error)
	SaveMember(name string, members []string) error
	Peers() (map[string]map[string]netip.Addr, error)
	SavePeers(peers map[string]netip.Addr, machines ...string) error
	Founders() ([]string, error)
	SaveFounding(names []string) error
	ForgetFounding() error
	Facts() (*topology.Facts, error)
	SaveFacts(f topology.Facts) error
}

// Wishes keeps what somebody has agreed to, and what is underway.
type Wishes interface {
	Counts() (map[string]int, error)
	SaveCount(pool string, n int) error
	Asked() (map[string]bool, error)
	SaveAsked(ids []string, asked bool) error
	Exchanges() (map[string]string, error)
	SaveExchange(name, hardware string) error
	Resting() (map[string]bool, error)
	SaveResting(name string, out bool) error
	Clearing() (bool, error)
	Cleared() error
}

// Rollouts keeps how far a roll-out has come that what is observed does not tell.
type Rollouts interface {
	Numbers() (map[string][]int, error)
	SaveNumbers(numbers map[string][]int) error
	OpenWaves() (map[string]rollout.Open, error)
	SaveOpen(group string, o rollout.Open) error
	Spared() (map[string]store.Spared, error)
	SaveSpared(machine string, x *store.Spared) error
	Held() (*store.Held, error)
	SaveHeld(h *store.Held) error
	RolledOut(groups ...string) error
	RanBefore() (map[string]string, error)
}

// Past keeps the journal.
type Past interface {
	Journal() (store.Journal, error)
	Entries() (entries []store.Entry, unreadable int, err error)
	CutOff() (bool, error)
}

// Backups keeps the datastore's backups, and what opens them.
type Backups interface {
	Backups(endings ...string) []string
	BackupKey() (*age.X25519Identity, error)
	OpensBackups() (*store.Openers, error)
	OpenBackup(name string) (io.ReadCloser, error)
	SaveBackup(as string, write func(io.Writer) error, check func(io.Reader) error) (name string, err error)
	BackupsAt() (folder, opener string)
	DropBackup(name string) error
	// Pack is all of the memory, with what opens its secrets; nil where it is kept elsewhere.
	Pack() (*store.Packed, error)
	// BackupNotes are by the names of files; nil forgets one.
	BackupNotes() (map[string]store.BackupNote, error)
	SaveBackupNote(name string, n *store.BackupNote) error
	// A restoration is remembered with the members that are made in it; Restored says that they
	// are, and nil ends it.
	Restoring() (*store.Restoring, error)
	SaveRestoring(r *store.Restoring, members []string, keys *store.Trust) error
	Restored(f store.Facts) error
}
