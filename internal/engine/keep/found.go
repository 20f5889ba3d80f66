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
	"verbund/internal/core/memory"
	"verbund/internal/core/words"
	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// Found is a backup that lies there.
type Found struct {
	Name     string // of its file
	Size     int64  // of its file, in bytes
	Manifest backup.Manifest
	Note     memory.BackupNote
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
	st, err := s.Store.Read()
	if err != nil {
		return nil, err
	}
	ids, trouble, err := opens(s)
	if err != nil {
		return nil, err
	}
	var out []Found
	for _, file := range Names(s) {
		f := Found{Name: filepath.Base(file), Note: st.Backups[filepath.Base(file)]}
		if i, err := os.Stat(file); err == nil {
			f.Size = i.Size()
		}
		f.Manifest, f.Trouble = manifestOf(s, file, ids)
		f.Trouble = why(f.Trouble, trouble)
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

// opens are all identities with which a backup is tried: those beside the backups, and what opens
// what travels inside. trouble is why the store's own key is not among them.
func opens(s *session.Session) (ids []age.Identity, trouble, err error) {
	o, err := s.Store.OpensBackups()
	if err != nil {
		return nil, nil, err
	}
	return append(slices.Clone(o.Beside), backup.Inside(o.Keys...)), o.Trouble, nil
}

// why says in words why a backup does not open.
func why(err, trouble error) error {
	var none *age.NoIdentityMatchError
	switch {
	case !errors.As(err, &none):
		return err
	case trouble != nil:
		return trouble
	}
	return ErrClosed
}

// ErrClosed is a backup that none of the keys opens that are here.
var ErrClosed = errors.New("none of the keys that are here opens it: neither what lies beside the backups, nor the key of this store or of an earlier one; say --unlock FILE, with the key file of the store that it was taken with")

// closesFor are those who open what is taken: the cluster's own, what opens the store, and whom
// the declaration names.
func closesFor(s *session.Session) ([]age.Recipient, error) {
	if _, err := s.Store.BackupKey(); err != nil { // which makes it
		return nil, err
	}
	o, err := s.Store.OpensBackups()
	if err != nil {
		return nil, err
	}
	to, err := ClosedFor(o)
	if err != nil {
		return nil, err
	}
	more, err := backup.Recipients(s.Decl.Backup.Opens)
	return append(to, more...), err
}

// ClosedFor are the recipients by which a backup opens with what opens those of a cluster, and
// with what opens its store.
func ClosedFor(o *store.Openers) ([]age.Recipient, error) {
	if o.Own == nil {
		return nil, cmp.Or(o.Trouble, ErrClosed)
	}
	return []age.Recipient{o.Own.Recipient(), backup.Opener(o.Closed)}, nil
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

func manifestOf(s *session.Session, file string, ids []age.Identity) (backup.Manifest, error) {
	r, err := s.Store.OpenBackup(file)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer r.Close()
	b, err := backup.Open(r, ids...)
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
		switch {
		case len(all) == 0:
			return nil, &NotFound{"cluster " + s.Decl.Name + " has no backup here", "verbund backup take takes one"}
		case all[0].Trouble != nil:
			return nil, &NotFound{fmt.Sprintf("none of the %s of cluster %s here can be used; %s: %v", words.Count(len(all), "backup"), s.Decl.Name, all[0].Name, all[0].Trouble), "verbund backup list shows them"}
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
	ids, trouble, err := opens(s)
	if err != nil {
		return nil, nil, err
	}
	f, err := s.Store.OpenBackup(path(s, name))
	if err != nil {
		return nil, nil, err
	}
	b, err := backup.Open(f, ids...)
	if err != nil {
		f.Close()
		return nil, nil, fmt.Errorf("backup %s: %w", name, why(err, trouble))
	}
	return b, f, nil
}
