package act

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"verbund/internal/backup"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/whole"
)

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
	id, err := vouch.BackupIdentity(r.Store)
	if err != nil {
		return err
	}
	t, err := r.Trust()
	if err != nil {
		return err
	}
	secrets, err := session.Content(nodeconf.File{Kind: nodeconf.SecretsConfig, From: trust.SecretsKey}, t)
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
