package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"verbund/internal/core/plan"
	"verbund/internal/store"
)

// IdentityFile held the key that opens the backups beside it, before it was
// closed like the store.
const IdentityFile = "identity.txt"

// backup writes a snapshot of the datastore to a file, encrypted with age: it
// holds every Secret of the cluster.
func (r *Run) backup(ctx context.Context, s plan.Step) error {
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	dir := r.Store.BackupDir()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	id, err := backupIdentity(r.Store)
	if err != nil {
		return err
	}
	name := filepath.Join(dir, fmt.Sprintf("%s-%s.snapshot.age", time.Now().UTC().Format("20060102-150405"), plan.Version(r.Cluster, r.View.Seen)))
	f, err := os.OpenFile(name+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(name + ".part")
	defer f.Close()
	w, err := age.Encrypt(f, id.Recipient())
	if err != nil {
		return err
	}
	n, err := d.Snapshot(ctx, w)
	if err != nil {
		return err
	}
	if err := errors.Join(w.Close(), f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(name+".part", name); err != nil {
		return err
	}
	// A backup that cannot be opened is none: read it back.
	if err := ReadBackup(name, id, n); err != nil {
		return err
	}
	r.Note(s, fmt.Sprintf("backup %s, %d KiB", name, n>>10))
	return nil
}

// recentEnough is how old a backup may be to count as the one before an
// upgrade, when the run that took it was cut off.
const recentEnough = 15 * time.Minute

// recentBackup is the version of which a backup was taken a short while ago,
// since the datastore was founded: those of an earlier cluster do not count.
func (s *Session) recentBackup(founded, now time.Time) string {
	files, _ := filepath.Glob(filepath.Join(s.Store.BackupDir(), "*.snapshot.age"))
	for _, f := range files {
		stamp, version, ok := strings.Cut(strings.TrimSuffix(filepath.Base(f), ".snapshot.age"), "-v")
		at, err := time.Parse("20060102-150405", stamp)
		if ok && err == nil && at.After(founded) && now.Sub(at) < recentEnough {
			return "v" + version
		}
	}
	return ""
}

// ReadBackup opens a backup and checks that it holds n bytes.
func ReadBackup(name string, id age.Identity, n int64) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	p, err := age.Decrypt(f, id)
	if err != nil {
		return fmt.Errorf("reading the backup back: %w", err)
	}
	got, err := io.Copy(io.Discard, p)
	if err != nil || got != n {
		return fmt.Errorf("reading the backup back: %d of %d bytes: %w", got, n, err)
	}
	return nil
}

// backupIdentity is what opens the backups. It is kept beside them, closed like
// the store; one from before that lay there in plain is closed now.
func backupIdentity(st *store.Store) (*age.X25519Identity, error) {
	b, err := st.OpenAside()
	var closed *store.Closed
	if errors.As(err, &closed) {
		// Backups of an earlier life of the cluster lie there, which another key
		// opens: they keep theirs.
		aside := filepath.Join(st.BackupDir(), store.Aside)
		b, err = nil, os.Rename(aside, strings.TrimSuffix(aside, ".age")+"-until-"+time.Now().UTC().Format("20060102-150405")+".age")
	}
	if err != nil {
		return nil, err
	}
	before := filepath.Join(st.BackupDir(), IdentityFile)
	if b == nil {
		if b, err = os.ReadFile(before); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
		if b == nil {
			id, err := age.GenerateX25519Identity()
			if err != nil {
				return nil, err
			}
			b = fmt.Appendf(nil, "# opens the backups in this folder\n# public key: %s\n%s\n", id.Recipient(), id)
		}
		if err := st.CloseAside(b); err != nil {
			return nil, err
		}
		if err := os.Remove(before); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	for _, line := range strings.Split(string(b), "\n") {
		if line != "" && line[0] != '#' {
			return age.ParseX25519Identity(line)
		}
	}
	return nil, fmt.Errorf("%s holds no identity", filepath.Join(st.BackupDir(), store.Aside))
}
