package keep

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"

	"verbund/internal/backup"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Found is a backup that lies there.
type Found struct {
	Name     string // of its file
	Size     int64  // of its file, in bytes
	Manifest backup.Manifest
	Note     store.BackupNote
	// Trouble is why it cannot be used here: it cannot be opened, or is of another cluster.
	Trouble error
}

// Short is its name without what all of them end with.
func (f *Found) Short() string { return Short(f.Name) }

// Short is the name of a backup's file without what all of them end with.
func Short(name string) string { return strings.TrimSuffix(name, backup.Suffix) }

// ErrOther is a backup of another cluster.
var ErrOther = errors.New("it is of another cluster")

// All lists the backups beside a declaration, the newest first; those that cannot be used here
// come last, with the reason.
func All(s *session.Session) ([]Found, error) {
	notes := map[string]store.BackupNote{}
	if s.Store.Exists() {
		var err error
		if notes, err = s.Store.BackupNotes(); err != nil {
			return nil, err
		}
	}
	id, err := s.Store.OpensBackups()
	if err == nil && id == nil {
		err = errors.New("the key that opens it is not here")
	}
	var out []Found
	for _, file := range Names(s) {
		f := Found{Name: filepath.Base(file), Note: notes[filepath.Base(file)]}
		if i, err := os.Stat(file); err == nil {
			f.Size = i.Size()
		}
		f.Trouble = err
		if err == nil {
			f.Manifest, f.Trouble = manifestOf(s, file, id)
		}
		if f.Trouble == nil && f.Manifest.Cluster != s.Decl.Name {
			f.Trouble = fmt.Errorf("%w, %s", ErrOther, f.Manifest.Cluster)
		}
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b Found) int {
		return cmp.Or(cmp.Compare(unusable(a), unusable(b)), b.Manifest.Taken.Compare(a.Manifest.Taken), strings.Compare(a.Name, b.Name))
	})
	return out, nil
}

// Names lists the files of all backups, also of those from before they had a manifest, which
// count for nothing any more.
func Names(s *session.Session) []string { return s.Store.Backups(backup.Suffix, ".snapshot.age") }

func unusable(f Found) int {
	if f.Trouble != nil {
		return 1
	}
	return 0
}

func manifestOf(s *session.Session, file string, id age.Identity) (backup.Manifest, error) {
	r, err := s.Store.OpenBackup(file)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer r.Close()
	b, err := backup.Open(r, id)
	if err != nil {
		return backup.Manifest{}, err
	}
	return b.Manifest, nil
}

// NotFound is a backup that there is not, or not just one.
type NotFound struct{ What, Todo string }

func (e *NotFound) Error() string { return e.What + "; " + e.Todo }

// Newest is the word for the newest backup that can be used.
const Newest = "newest"

// Find finds a backup by its file's name, by the name that it was taken under, by the beginning
// of either, or by the word newest.
func Find(s *session.Session, name string) (*Found, error) {
	all, err := All(s)
	if err != nil {
		return nil, err
	}
	if name == Newest {
		if len(all) == 0 || all[0].Trouble != nil {
			return nil, &NotFound{"cluster " + s.Decl.Name + " has no backup here that can be used", "verbund backup take takes one"}
		}
		return &all[0], nil
	}
	var like []Found
	for _, f := range all {
		if f.Name == name || f.Manifest.Name == name && name != "" {
			return &f, nil
		}
		if strings.HasPrefix(f.Name, name) {
			like = append(like, f)
		}
	}
	switch {
	case name != "" && len(like) == 1:
		return &like[0], nil
	case name != "" && len(like) > 1:
		return nil, &NotFound{fmt.Sprintf("%d backups begin with %s", len(like), name), "write more of the name: verbund backup list"}
	}
	return nil, &NotFound{fmt.Sprintf("cluster %s has no backup %q", s.Decl.Name, name), "verbund backup list shows them"}
}

// Usable says whether a backup is there, by its file's name, and can be used.
func Usable(s *session.Session, name string) bool {
	f, err := Find(s, name)
	return err == nil && f.Trouble == nil
}

// path is where a backup's file lies.
func path(s *session.Session, name string) string {
	folder, _ := s.Store.BackupsAt()
	return filepath.Join(folder, name)
}

// Open opens a backup with what opens those of the cluster, and reads all but its snapshot.
func Open(s *session.Session, name string) (*backup.Reader, io.Closer, error) {
	id, err := s.Store.OpensBackups()
	if err != nil {
		return nil, nil, err
	}
	if id == nil {
		return nil, nil, fmt.Errorf("backup %s: the key that opens it is not here: it lies beside the backups, and opens with what opens the store", name)
	}
	f, err := s.Store.OpenBackup(path(s, name))
	if err != nil {
		return nil, nil, err
	}
	b, err := backup.Open(f, id)
	if err != nil {
		f.Close()
		return nil, nil, fmt.Errorf("backup %s: %w", name, err)
	}
	return b, f, nil
}
