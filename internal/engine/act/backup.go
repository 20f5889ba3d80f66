package act

import (
	"context"
	"fmt"

	"verbund/internal/core/plan"
	"verbund/internal/engine/keep"
)

// backup takes a backup before something that has no other way back.
func (r *Run) backup(ctx context.Context, s plan.Step) error {
	f, err := keep.Take(ctx, r.Session, r.Cluster, keep.Reason{Why: keep.BeforeUpgrade(r.Cluster.Set.Kubernetes), Version: plan.Version(r.Cluster, r.View.Seen)})
	if err != nil {
		return err
	}
	r.Note(s, fmt.Sprintf("backup %s, %d KiB, %d objects at revision %d", f.Short(), f.Manifest.Bytes>>10, f.Manifest.Number(), f.Manifest.Revision))
	// One that cannot be sent is here all the same: that is said, and keeps nothing from going on.
	lies, unsent := keep.Send(ctx, r.Session, f)
	for _, to := range lies {
		r.Note(s, "it lies at "+to+", too, and was read there")
	}
	if unsent != nil {
		r.Note(s, unsent.Error())
	}
	return nil
}
