package store

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"verbund/internal/core/memory"
	"verbund/internal/whole"
)

// BackupKey is what opens the backups, made if there is none. It is kept beside them, closed
// like the store.
func (s *Store) BackupKey() (*age.X25519Identity, error) {
	if err := os.MkdirAll(s.backupDir(), 0o700); err != nil {
		return nil, err
	}
	b, err := s.openedAside()
	var closed *Closed
	if errors.As(err, &closed) {
		// Backups of an earlier life of the cluster lie there, which another key
		// opens: they keep theirs.
		was, rerr := s.base.opener()
		if rerr != nil {
			return nil, rerr
		}
		name := strings.TrimSuffix(aside, ".age") + "-until-" + time.Now().UTC().Format("20060102-150405") + ".age"
		b, err = nil, whole.Write(filepath.Join(s.backupDir(), name), was, 0o600)
	}
	if err != nil {
		return nil, err
	}
	if b == nil {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		b = openerText(id)
		if err := s.closeAside(b); err != nil {
			return nil, err
		}
	}
	ids, err := readOpener(b)
	if err != nil {
		return nil, err
	}
	return ids[0], nil
}

// openerText is an identity as it is kept beside the backups, closed.
func openerText(id *age.X25519Identity) []byte {
	return fmt.Appendf(nil, "# opens the backups in this folder\n# public key: %s\n%s\n", id.Recipient(), id)
}

// Openers are what opens and closes the backups of a cluster.
type Openers struct {
	// Own closes new ones, and opens them; nil where there is none yet. Closed is the same, closed
	// like the store.
	Own    *age.X25519Identity
	Closed []byte
	// Beside are all that lie beside the backups and open here: Own, and those of earlier lives.
	Beside []age.Identity
	// Keys open the store, and the stores of earlier lives of the cluster.
	Keys []age.Identity
	// Trouble is why the store's key is not to be had.
	Trouble error
}

// String does not say what it holds.
func (o Openers) String() string {
	return fmt.Sprintf("%d identities and %d keys", len(o.Beside), len(o.Keys))
}

// GoString does not either.
func (o Openers) GoString() string { return o.String() }

// OpensBackups is what opens the backups. That of an earlier life of the cluster opens with the
// key of that one, which is kept as long as there are backups.
func (s *Store) OpensBackups() (*Openers, error) {
	out := &Openers{}
	if s.keeper == nil {
		return out, nil
	}
	p, err := s.Protection()
	if err != nil {
		return nil, err
	}
	if p != nil {
		ids, err := s.keeper.Identities(*p)
		if err != nil {
			out.Trouble = &Closed{s.backupDir(), p.Kind, err}
		}
		out.Keys = ids
	}
	out.Keys = append(out.Keys, s.keeper.Earlier(filepath.Base(s.Path))...)
	if len(out.Keys) == 0 {
		return out, nil
	}
	own, err := s.base.opener()
	if err != nil {
		return nil, err
	}
	openers := map[string][]byte{filepath.Join(s.backupDir(), aside): own}
	if own == nil {
		clear(openers)
	}
	for _, f := range OpenersIn(s.backupDir()) {
		if filepath.Base(f) != aside {
			if openers[f], err = whole.Read(f); err != nil {
				return nil, err
			}
		}
	}
	for _, f := range slices.Sorted(maps.Keys(openers)) {
		plain, err := unwrap(openers[f], out.Keys)
		if err != nil {
			continue // closed for a key that is not here: what it opens says so
		}
		ids, err := readOpener(plain)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f, err)
		}
		for _, id := range ids {
			out.Beside = append(out.Beside, id)
		}
		if filepath.Base(f) == aside {
			out.Own, out.Closed = ids[0], openers[f]
		}
	}
	return out, nil
}

// OpenersIn are the files in a folder of backups that hold what opens these, closed.
func OpenersIn(folder string) []string {
	return slices.DeleteFunc(whole.Named(folder, ".age"), func(f string) bool { return !strings.HasPrefix(filepath.Base(f), "identity") })
}

// readOpener reads the keys that open backups, as they are kept beside them: that by which new ones
// open, and then those from before somebody was dismissed who had them.
func readOpener(b []byte) (ids []*age.X25519Identity, err error) {
	for line := range strings.Lines(string(b)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			id, err := age.ParseX25519Identity(line)
			if err != nil {
				return nil, err
			}
			ids = append(ids, id)
		}
	}
	if len(ids) == 0 {
		return nil, fmt.Errorf("%s holds no identity", aside)
	}
	return ids, nil
}

// Backups are the names of the backups with one of these endings.
func (s *Store) Backups(endings ...string) []string {
	var out []string
	for _, ending := range endings {
		out = append(out, whole.Named(s.backupDir(), ending)...)
	}
	return out
}

// BackupsAt says in which folder the backups lie, and in which file there what opens them.
func (s *Store) BackupsAt() (folder, opener string) { return s.backupDir(), aside }

// OpenBackup opens one by its name.
func (s *Store) OpenBackup(name string) (io.ReadCloser, error) { return os.Open(name) }

// SaveBackup keeps what write writes, and returns its name: it has it only when check, which
// reads it back, found nothing wrong.
func (s *Store) SaveBackup(as string, write func(io.Writer) error, check func(io.Reader) error) (name string, err error) {
	if err := os.MkdirAll(s.backupDir(), 0o700); err != nil {
		return "", err
	}
	name = filepath.Join(s.backupDir(), as)
	if _, err := os.Lstat(name); !errors.Is(err, os.ErrNotExist) {
		return "", cmp.Or(err, fmt.Errorf("backup %s is there already, and is not written over", as))
	}
	f, err := whole.Partial(name, filepath.Ext(as))
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := write(f); err != nil {
		return "", fmt.Errorf("writing the backup: %w", err)
	}
	if err := f.Sync(); err != nil {
		return "", err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	if err := check(f); err != nil {
		return "", fmt.Errorf("reading the backup back: %w", err)
	}
	return name, whole.Replace(f.Name(), name)
}

// DropBackup takes one away, by its name, with what is remembered of it.
func (s *Store) DropBackup(name string) error {
	if err := os.Remove(name); err != nil {
		return err
	}
	return s.Update(func(st *memory.State) error {
		delete(st.Backups, filepath.Base(name))
		return nil
	})
}
