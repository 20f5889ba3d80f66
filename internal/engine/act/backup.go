package act

import (
	"context"
	"fmt"
	"io"
	"time"

	"verbund/internal/backup"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
)

// backup writes a snapshot of the datastore to a file, with what opens the Secrets in
// it, encrypted with age. It has its name only when all of it was read back.
func (r *Run) backup(ctx context.Context, s plan.Step) error {
	d, err := r.Datastore(r.Cluster)
	if err != nil {
		return err
	}
	id, err := r.Store.BackupKey()
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
	as := fmt.Sprintf("%s-%s%s", m.Taken.Format("20060102-150405"), m.Kubernetes, backup.Suffix)
	name, err := r.Store.SaveBackup(as, func(to io.Writer) error {
		return d.Snapshot(ctx, func(size int64, from io.Reader) error {
			m.Bytes = size
			return backup.Write(to, id.Recipient(), m, secrets, from)
		})
	}, func(from io.Reader) error { // one that cannot be opened is none
		back, err := backup.Open(from, id)
		if err == nil {
			err = back.Verify(io.Discard)
		}
		return err
	})
	if err != nil {
		return err
	}
	r.Note(s, fmt.Sprintf("backup %s, %d KiB", name, m.Bytes>>10))
	return nil
}
