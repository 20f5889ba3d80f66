package session

import (
	"io"

	"filippo.io/age"

	"verbund/internal/core/memory"
	"verbund/internal/store"
)

// Memory is what is remembered of one cluster, wherever it lies. What is changed is there as a
// whole or not at all, and is there after a crash; its errors are *store.Damage for what is
// not as it was written, and *store.Closed where nobody can open it.
type Memory interface {
	// Where says where it lies, for a person; Folder is that of what is on this computer: backups,
	// and who practises.
	Where() string
	Folder() string
	// Who is whoever works with it, as others see it; empty where nobody else does.
	Who() string
	// Exists says whether it is there, or may be: what cannot be looked at is not gone.
	Exists() bool
	// Make makes it, and Remove takes it away with all that is in it but the backups.
	Make() error
	Remove() error
	// Lock is held by whoever changes the cluster; *store.Locked says who does.
	Lock(command string) (release func(), err error)
	Holds() (*store.Holder, error)
	// Practise is the lock of those who disturb the cluster on purpose.
	Practise(command string) (release func(), err error)
	// Read is all that is remembered, at one moment; of one that does not exist, nothing.
	Read() (*memory.State, error)
	// Update changes it, UpdateWith together with keys and certificates.
	Update(f func(*memory.State) error) error
	UpdateWith(c store.TrustChange, f func(*memory.State) error) error
	// Check walks all of it, and says what is not as it was written, or does not fit.
	Check() []error
	// Move takes all of it to another place, where everybody looks once told; Finish takes away what
	// an interrupted one has left in the place from which it came.
	Move(to *store.Store, told func() error) error
	Finish(from *store.Store) error
	Close() error
	Vault
	Past
	Backups
}

// Vault keeps keys and certificates.
type Vault interface {
	Trust() (*store.Trust, error)
	// SaveTrust adds some and takes others away, all or none.
	SaveTrust(t *store.Trust, gone ...string) error
	Protection() (*store.Protection, error)
	// Protect closes them anew, for somebody else, whose keeper is given.
	Protect(p store.Protection, by store.Keeper) error
	// Admit lets somebody open them with a key of their own, and Dismiss takes that back.
	Admit(w store.Person) error
	Dismiss(name string) error
}

// Past keeps the journal.
type Past interface {
	Journal() (store.Journal, error)
	Entries() (entries []store.Entry, unreadable int, err error)
	// JournalFiles are its lines, by the names of the files in which they lie as a rule.
	JournalFiles() (map[string][]byte, error)
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
	// Pack is all of the memory as a file, wherever it lies, with what opens its secrets.
	Pack() (*store.Packed, error)
}

// Remember changes what is remembered of the cluster.
func (s *Session) Remember(f func(*memory.State)) error {
	return s.Store.Update(func(st *memory.State) error {
		f(st)
		return nil
	})
}
