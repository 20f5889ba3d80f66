package act

import (
	"context"
	"fmt"

	"verbund/internal/core/plan"
	"verbund/internal/engine/keep"
)

// backup takes a backup before something that has no other way back.
func (r *Run) backup(ctx context.Context, s plan.Step) error {
	f, err := keep.Take(ctx, r.Session, r.Cluster, keep.Reason{Why: "before the upgrade to " + r.Cluster.Set.Kubernetes, Version: plan.Version(r.Cluster, r.View.Seen)})
	if err != nil {
		return err
	}
	r.Note(s, fmt.Sprintf("backup %s, %d KiB, %d objects at revision %d", f.Short(), f.Manifest.Bytes>>10, f.Manifest.Number(), f.Manifest.Revision))
	return nil
}
