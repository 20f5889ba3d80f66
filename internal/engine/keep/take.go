package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"verbund/internal/backup"
	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/datastore"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

// Reason says what a backup is taken for.
type Reason struct {
	Name string // that a person gives it; empty: none
	Why  string
	// Version is the lowest one of the control plane.
	Version string
}

// BeforeUpgrade is what a backup is taken for that is the way back from an upgrade.
func BeforeUpgrade(version string) string { return "before the upgrade to " + version }

// called is what a backup may be called.
var called = regexp.MustCompile(`^[a-z0-9]([a-z0-9.-]{0,38}[a-z0-9])?$`)

// CheckName refuses a name that is none.
func CheckName(text string) error {
	if text != Newest && called.MatchString(text) {
		return nil
	}
	return fmt.Errorf("%q is no name of a backup: use up to 40 small letters, digits, dots and hyphens, and another word than %s", text, Newest)
}

// Names of the tool's memory among the files of a backup.
const (
	MemoryFile   = "store.db"
	MemoryKey    = "store.key"
	MemoryOpener = "store.opener" // what opens other backups of the cluster
)

// Take takes a backup: a snapshot of the datastore, with all that is needed to raise the same
// cluster from it. It has its name only when all of it was read back.
func Take(ctx context.Context, s *session.Session, c *topology.Cluster, why Reason) (*Found, error) {
	d, err := s.Datastore(c)
	if err != nil {
		return nil, err
	}
	var snap *Plain
	if err := d.Snapshot(ctx, func(_ int64, from io.Reader) error {
		snap, err = Read(s, from)
		return err
	}); err != nil {
		return nil, noRoom(s, err)
	}
	defer snap.Close()
	f, err := Keep(s, c, why, snap)
	return f, noRoom(s, err)
}

// noRoom says what to do where a file found no room.
func noRoom(s *session.Session, err error) error {
	for _, full := range []error{syscall.ENOSPC, syscall.EDQUOT, syscall.EFBIG} {
		if errors.Is(err, full) {
			folder, _ := s.Store.BackupsAt()
			return fmt.Errorf("%w; make room where %s lies, or drop backups that are not needed any more: verbund backup drop NAME", err, folder)
		}
	}
	return err
}

// Plain is a snapshot in a file that has no name.
type Plain struct {
	*os.File
	Size     int64
	Contents *datastore.Contents
}

// Read reads a snapshot, and what is in it.
func Read(s *session.Session, from io.Reader) (*Plain, error) {
	if _, err := s.Store.BackupKey(); err != nil { // which makes the folder
		return nil, err
	}
	folder, _ := s.Store.BackupsAt()
	f, err := whole.Unnamed(folder)
	if err != nil {
		return nil, err
	}
	out := &Plain{File: f}
	if out.Size, err = io.Copy(f, from); err == nil {
		out.Contents, err = datastore.Read(f)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return out, nil
}

// Keep makes a backup of a snapshot that is there.
func Keep(s *session.Session, c *topology.Cluster, why Reason, snap *Plain) (*Found, error) {
	to, err := closesFor(s)
	if err != nil {
		return nil, err
	}
	ids, _, err := opens(s)
	if err != nil {
		return nil, err
	}
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	secrets, err := session.Content(nodeconf.File{Kind: nodeconf.SecretsConfig, From: trust.SecretsKey}, t)
	if err != nil {
		return nil, err
	}
	files, err := beside(s)
	if err != nil {
		return nil, err
	}
	m := backup.Manifest{Cluster: c.Name, Name: why.Name, Taken: time.Now().UTC(), Kubernetes: why.Version, Why: why.Why, Bytes: snap.Size, Revision: snap.Contents.Revision, Objects: snap.Contents.ByKind()}
	for _, x := range c.With(versions.Member) {
		m.Members = append(m.Members, x.Name)
	}
	// Two may be taken in one second: the one before a restoration, and the one that is restored.
	as := free(s, strings.TrimSuffix(backup.FileName(m, m.Name), backup.Suffix))
	if _, err := snap.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	file, err := s.Store.SaveBackup(as, func(w io.Writer) error {
		return backup.Write(w, to, m, secrets, files, snap)
	}, func(from io.Reader) error { // one that cannot be opened is none
		back, err := backup.Open(from, ids...)
		if err == nil {
			err = back.Verify(io.Discard)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	f, err := Find(s, filepath.Base(file))
	if err != nil {
		return nil, err
	}
	f.Note.Verified = time.Now().UTC()
	return f, s.Remember(func(st *memory.State) { st.Backups[f.Name] = f.Note })
}

// free is a name for a file that none has yet.
func free(s *session.Session, as string) string {
	taken := map[string]bool{}
	for _, f := range Names(s) {
		taken[filepath.Base(f)] = true
	}
	name := as + backup.Suffix
	for n := 2; taken[name]; n++ {
		name = fmt.Sprintf("%s-%d%s", as, n, backup.Suffix)
	}
	return name
}

// Verified is what was found when a backup was read from its beginning to its end.
type Verified struct {
	Manifest backup.Manifest
	// Contents are what its snapshot holds, as it is read; Raised what a member holds that was
	// raised from it, nil if none was.
	Contents, Raised *datastore.Contents
}

// Verify reads all of a backup, and with raise also raises a member from it for a moment. What
// it finds well is remembered.
func Verify(ctx context.Context, s *session.Session, f *Found, raise bool) (*Verified, error) {
	b, end, err := Open(s, f.Name)
	if err != nil {
		return nil, err
	}
	defer end.Close()
	out, err := Examine(ctx, s, b, raise)
	if err != nil {
		return nil, fmt.Errorf("backup %s: %w", f.Name, err)
	}
	n := f.Note
	n.Verified = time.Now().UTC()
	if raise {
		n.Raised = n.Verified
	}
	f.Note = n
	return out, s.Remember(func(st *memory.State) { st.Backups[f.Name] = n })
}

// Examine reads a backup to its end, and holds it against its manifest.
func Examine(ctx context.Context, s *session.Session, b *backup.Reader, raise bool) (*Verified, error) {
	snap, err := Snapshot(s, b)
	if err != nil {
		return nil, err
	}
	defer snap.Close()
	out := &Verified{Manifest: b.Manifest, Contents: snap.Contents}
	if m := b.Manifest; m.Revision != 0 && m.Revision != snap.Contents.Revision {
		return nil, fmt.Errorf("its snapshot is of revision %d, and its manifest says %d", snap.Contents.Revision, m.Revision)
	}
	if !raise {
		return out, nil
	}
	if out.Raised, err = datastore.Raise(ctx, fmt.Sprintf("/proc/self/fd/%d", snap.Fd())); err != nil {
		return nil, err
	}
	if len(out.Raised.Keys) != len(snap.Contents.Keys) {
		return nil, fmt.Errorf("a member that is raised from it holds %d objects, and the snapshot %d", len(out.Raised.Keys), len(snap.Contents.Keys))
	}
	return out, nil
}

// Snapshot reads the rest of a backup, into a file without a name.
func Snapshot(s *session.Session, b *backup.Reader) (*Plain, error) {
	folder, _ := s.Store.BackupsAt()
	f, err := whole.Unnamed(folder)
	if err != nil {
		return nil, err
	}
	out := &Plain{File: f, Size: b.Manifest.Bytes}
	if err = b.Verify(f); err == nil {
		out.Contents, err = datastore.Read(f)
	}
	if err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return out, nil
}

// Last says whether no backup that can be used would be left without some.
func Last(s *session.Session, names []string) bool {
	all, err := All(s)
	if err != nil {
		return true
	}
	usable := false
	for _, f := range all {
		if f.Trouble != nil {
			continue
		}
		usable = true
		if !slices.Contains(names, f.Name) {
			return false
		}
	}
	return usable
}

// Drop takes backups away. The last one that can be used stays, unless it is told to go.
func Drop(s *session.Session, names []string, last bool) error {
	if !last && Last(s, names) {
		return ErrLast
	}
	st, err := s.Store.Read()
	if err != nil {
		return err
	}
	if r := st.Restoring; r != nil && !r.Founded && slices.Contains(names, r.Backup) {
		return fmt.Errorf("backup %s is being restored; finish that first: verbund backup restore", Short(r.Backup))
	}
	var errs []error
	for _, n := range names {
		errs = append(errs, s.Store.DropBackup(path(s, n)))
	}
	return errors.Join(errs...)
}

// Forget drops every backup of a cluster that is gone, and is nobody's to have back from them.
func Forget(s *session.Session) error {
	var errs []error
	for _, n := range Names(s) {
		errs = append(errs, s.Store.DropBackup(n))
	}
	return errors.Join(errs...)
}

// ErrLast is the last backup, which stays unless somebody says so by the cluster's name.
var ErrLast = errors.New("no backup would be left that can be used")
