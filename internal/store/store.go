package store

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"

	"verbund/internal/core/memory"
	"verbund/internal/whole"
)

// Format is the version of the database's layout. None of those before was ever released.
const Format = 6

// Dir is the folder of the tool's memory, beside the declaration.
const Dir = ".verbund"

// Secret is bytes that do not print, log or marshal themselves.
type Secret []byte

// String hides the secret.
func (Secret) String() string { return "(secret)" }

// GoString hides the secret.
func (Secret) GoString() string { return "(secret)" }

// MarshalJSON refuses.
func (Secret) MarshalJSON() ([]byte, error) { return nil, errors.New("a secret is not written out") }

// Store is the memory of one cluster.
type Store struct {
	Path   string // folder of what is on this computer: backups, and who practises
	base   base
	keeper Keeper
	mu     sync.Mutex
	key    []byte // of the secrets, once it was opened
	keyOf  []byte // what it was opened from

	changing sync.Mutex
	last     atomic.Pointer[seen]
}

// The tables beside those of what is remembered.
const (
	tableMeta    = "meta" // of the store itself
	tableSecrets = "secrets"
	tableCerts   = "certificates"
	tableSums    = "sums" // see table
)

// tables are the names of all that are under a check.
var tables = append([]string{tableMeta, tableSecrets, tableCerts}, slices.Sorted(maps.Keys(memory.Tables()))...)

// ignored is what of the tool's folder does not belong in version control:
// locks, and the simulated site, on whose disks keys lie as they do on those of
// real machines. Everything else may be committed.
const ignored = "# locks, the simulated machines with their disks, and backups, which hold every Secret\n# of a cluster, encrypted; the rest may be committed. Take a line out to keep what it names.\nsites/\nlock\ndrill.lock\ndrill.json\nbackups/\n*.new\n"

// Open finds or makes the memory of a cluster under folder. Its secrets are
// encrypted as the keeper says.
func Open(folder, cluster string, k Keeper) (*Store, error) {
	s := At(folder, cluster, k)
	return s, s.Make()
}

// Make makes the memory if there is none.
func (s *Store) Make() error {
	if err := s.folder(); err != nil {
		return err
	}
	if !s.Exists() {
		return s.create()
	}
	_, err := s.Protection()
	return err
}

// create makes it, closed as the keeper says.
func (s *Store) create() (err error) {
	if s.keeper == nil {
		return errors.New("making the store: nobody says how it is to be closed")
	}
	id := make([]byte, 4)
	rand.Read(id)
	p, err := s.keeper.New(fmt.Sprintf("%x", id), filepath.Base(s.Path))
	if err != nil {
		return err
	}
	made := false
	defer func() {
		if !made {
			err = errors.Join(err, s.keeper.Forget(p))
		}
	}()
	key, err := s.newKey(&p)
	if err != nil {
		return err
	}
	if made, err = s.base.found(func(t *tx) error { return t.protect(p) }); made {
		s.opened(key, p)
	}
	return err
}

// folder makes the store's folder, and says there what is not for version control.
func (s *Store) folder() error {
	if err := os.MkdirAll(s.Path, 0o700); err != nil {
		return fmt.Errorf("making the store %s: %w", s.Path, err)
	}
	ignore := filepath.Join(filepath.Dir(s.Path), ".gitignore")
	// What somebody wrote there himself stays.
	if _, err := os.Lstat(ignore); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return whole.Write(ignore, []byte(ignored), 0o644)
}

// At is the memory of a cluster, which may not exist.
func At(folder, cluster string, k Keeper) *Store {
	dir := filepath.Join(folder, Dir, cluster)
	return &Store{Path: dir, base: &inFolder{dir: dir}, keeper: k}
}

// Folder is that of what is on this computer: backups, and who practises.
func (s *Store) Folder() string { return s.Path }

// Close hangs up.
func (s *Store) Close() error { return s.base.close() }

// Who is whoever works with it, as others see it; empty where nobody else does.
func (s *Store) Who() string { return s.base.who() }

// Exists says whether anything is remembered, or may be.
func (s *Store) Exists() bool { return s.base.exists() }

// Where says where it lies, for a person.
func (s *Store) Where() string { return s.base.where() }

// backupsIn is the folder of the backups.
const backupsIn = "backups"

// backupDir is where backups of the datastore are kept.
func (s *Store) backupDir() string { return filepath.Join(s.Path, backupsIn) }

// Trust is everything signed or to sign with, by ID.
type Trust struct {
	Keys  map[string]Secret
	Certs map[string][]byte
}

// Trust reads all keys and certificates.
func (s *Store) Trust() (*Trust, error) {
	for try := 0; ; try++ {
		t, p, err := s.openTrust()
		var closed *Closed
		if err == nil || p == nil || try == mostAnew || !errors.As(err, &closed) {
			return t, err
		}
		// What opened it may have gone with another way of closing it.
		if now, perr := s.Protection(); perr != nil || now == nil || bytes.Equal(now.Wrapped, p.Wrapped) {
			return nil, err
		}
	}
}

// openTrust reads all keys and certificates, and says how the keys are closed.
func (s *Store) openTrust() (*Trust, *Protection, error) {
	t := &Trust{Keys: map[string]Secret{}, Certs: map[string][]byte{}}
	var p *Protection
	err := s.base.view(func(tx *tx) error {
		var err error
		if p, err = protectionOf(tx); err != nil {
			return err
		}
		err = tx.table(tableSecrets).each(func(k string, v []byte) error {
			t.Keys[k] = append(Secret{}, v...)
			return nil
		})
		return errors.Join(err, tx.table(tableCerts).each(func(k string, v []byte) error {
			t.Certs[k] = append([]byte{}, v...)
			return nil
		}))
	})
	if err != nil || p == nil || len(t.Keys) == 0 {
		return t, p, err
	}
	key, err := s.unlock(p)
	if err != nil {
		return nil, p, err
	}
	for id, sealed := range t.Keys {
		if t.Keys[id], err = open(key, id, sealed); err != nil {
			return nil, p, &Damage{s.base.where(), err}
		}
	}
	return t, p, nil
}

// TrustChange is what a change does to keys and certificates.
type TrustChange struct {
	Add *Trust
	// Gone says which go, by their ID; those that are added stay. Nil: none.
	Gone func(id string) bool
}

// Gone are keys and certificates that go, by their IDs.
func Gone(ids ...string) func(id string) bool {
	return func(id string) bool { return slices.Contains(ids, id) }
}

// SaveTrust adds keys and certificates and takes others away, all or none.
func (s *Store) SaveTrust(t *Trust, gone ...string) error {
	return s.UpdateWith(TrustChange{t, Gone(gone...)}, func(*memory.State) error { return nil })
}

// sealed changes the store with the key with which its secrets are sealed, if any are to
// be. That is looked up before, for a person may be asked; a store that was closed anew
// meanwhile is not written to with the key from before, which would open nothing.
func (s *Store) sealed(seals bool, f func(tx *tx, key []byte) error) error {
	for try := 0; ; try++ {
		var p *Protection
		var key []byte
		if seals {
			var err error
			if p, err = s.Protection(); err != nil {
				return err
			}
			if p == nil {
				return fmt.Errorf("the store %s: %w", s.base.where(), os.ErrNotExist)
			}
			if key, err = s.unlock(p); err != nil {
				return err
			}
		}
		err := s.base.update(func(tx *tx) error {
			now, err := protectionOf(tx)
			if err != nil {
				return err
			}
			if seals && !bytes.Equal(now.Wrapped, p.Wrapped) {
				return errClosedAnew
			}
			return f(tx, key)
		})
		if !errors.Is(err, errClosedAnew) || try == mostAnew {
			return err
		}
	}
}

var errClosedAnew = errors.New("the store was closed anew meanwhile; try again")

func putTrust(tx *tx, key []byte, c TrustChange) error {
	secrets, certs := tx.table(tableSecrets), tx.table(tableCerts)
	if c.Gone != nil {
		if err := errors.Join(secrets.clear(c.Gone), certs.clear(c.Gone)); err != nil {
			return err
		}
	}
	if c.Add == nil {
		return nil
	}
	for id, k := range c.Add.Keys {
		v, err := seal(key, id, k)
		if err != nil {
			return err
		}
		if err := secrets.put(id, v); err != nil {
			return err
		}
	}
	for id, cert := range c.Add.Certs {
		if err := certs.put(id, cert); err != nil {
			return err
		}
	}
	return nil
}

// Remove deletes the memory but for the journal and backups.
func (s *Store) Remove() error {
	p, err := s.Protection()
	var damage *Damage
	switch {
	case errors.As(err, &damage), errors.Is(err, os.ErrNotExist):
		p = nil // what opens it cannot be known any more, and stays
	case err != nil:
		return err
	}
	if err := errors.Join(s.base.remove(), ignoreMissing(os.Remove(filepath.Join(s.Path, lockDrill))), ignoreMissing(os.Remove(filepath.Join(s.Path, "drill.json")))); err != nil {
		return err
	}
	// What opens the backups stays with them: of a memory that others share, nobody knows where
	// they all lie.
	if _, here := s.base.(*inFolder); !here {
		return nil
	}
	opens := filepath.Join(s.backupDir(), aside)
	if left := whole.Named(s.backupDir(), ""); p != nil && s.keeper != nil && !slices.ContainsFunc(left, func(f string) bool { return f != opens }) {
		return errors.Join(s.base.keepOpener(nil), s.keeper.Forget(*p))
	}
	return nil
}

func ignoreMissing(err error) error {
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}
