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

	"verbund/internal/backup"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/trust"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// IdentityFile held the key that opens the backups beside it, before it was
// closed like the store.
const IdentityFile = "identity.txt"

// backup writes a snapshot of the datastore to a file, with what opens the Secrets in
// it, encrypted with age. It has its name only when all of it was read back.
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
	t, err := r.Trust()
	if err != nil {
		return err
	}
	secrets, err := Content(nodeconf.File{Kind: nodeconf.SecretsConfig, From: trust.SecretsKey}, t)
	if err != nil {
		return err
	}
	m := backup.Manifest{Cluster: r.Cluster.Name, Taken: time.Now().UTC(), Kubernetes: plan.Version(r.Cluster, r.View.Seen)}
	name := filepath.Join(dir, fmt.Sprintf("%s-%s%s", m.Taken.Format("20060102-150405"), m.Kubernetes, backup.Suffix))
	f, err := os.OpenFile(name+".part", os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(name + ".part")
	defer f.Close()
	if err := d.Snapshot(ctx, func(size int64, from io.Reader) error {
		m.Bytes = size
		return backup.Write(f, id.Recipient(), m, secrets, from)
	}); err != nil {
		return fmt.Errorf("writing the backup: %w", err)
	}
	if err := f.Sync(); err != nil {
		return err
	}
	// A backup that cannot be opened is none.
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	back, err := backup.Open(f, id)
	if err == nil {
		err = back.Verify(io.Discard)
	}
	if err != nil {
		return fmt.Errorf("reading the backup back: %w", err)
	}
	if err := f.Close(); err != nil {
		return err
	}
	if err := whole.Replace(name+".part", name); err != nil {
		return err
	}
	r.Note(s, fmt.Sprintf("backup %s, %d KiB", name, m.Bytes>>10))
	return nil
}

// recentEnough is how old a backup may be to count as the one before an
// upgrade, when the run that took it was cut off.
const recentEnough = 15 * time.Minute

// recentBackup is the version of which a backup was taken a short while ago,
// since the datastore was founded: those of an earlier cluster do not count.
func (s *Session) recentBackup(founded, now time.Time) string {
	if b, _ := s.newestBackup(); b != nil && b.Taken.After(founded) && now.Sub(b.Taken) < recentEnough && !b.Taken.After(now) {
		return b.Version
	}
	return ""
}

// newestBackup finds this cluster's newest backup by what stands in it, nil if there is
// none, and counts the files that are of another cluster or cannot be opened with what is
// here.
func (s *Session) newestBackup() (newest *BackupFound, unopened int) {
	files := s.Backups()
	if len(files) == 0 {
		return nil, 0
	}
	plain, err := s.Store.OpenAside()
	if err != nil {
		return nil, len(files)
	}
	id, err := readIdentity(plain)
	if err != nil {
		return nil, len(files)
	}
	for _, f := range files {
		m, err := manifestOf(f, id)
		switch {
		case err != nil || m.Cluster != s.Decl.Name:
			unopened++
		case newest == nil || m.Taken.After(newest.Taken):
			newest = &BackupFound{f, m.Taken, m.Kubernetes}
		}
	}
	return newest, unopened
}

// Backups lists the files of all backups, also of those from before they had a manifest,
// which count for nothing any more.
func (s *Session) Backups() []string {
	var out []string
	for _, ending := range []string{backup.Suffix, ".snapshot.age"} {
		out = append(out, whole.Named(s.Store.BackupDir(), ending)...)
	}
	return out
}

func manifestOf(file string, id age.Identity) (backup.Manifest, error) {
	f, err := os.Open(file)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer f.Close()
	b, err := backup.Open(f, id)
	if err != nil {
		return backup.Manifest{}, err
	}
	return b.Manifest, nil
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
	return readIdentity(b)
}

func readIdentity(b []byte) (*age.X25519Identity, error) {
	for line := range strings.Lines(string(b)) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return age.ParseX25519Identity(line)
		}
	}
	return nil, fmt.Errorf("%s holds no identity", store.Aside)
}
