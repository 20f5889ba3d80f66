package kubeclient

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"time"

	coordinationv1 "k8s.io/api/coordination/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/kubeapi"
	"verbund/internal/sim/host"
	"verbund/internal/unit"
)

// Lead runs work while this machine holds the lease. It ends with an error when the lease is
// lost, as components of Kubernetes do; who starts it is to start it again. A leader that stops
// in order gives the lease back.
func Lead(ctx context.Context, e *host.Env, c *kubeapi.Clients, name string, lease, renew, retry time.Duration, work func(context.Context)) error {
	id := fmt.Sprintf("%s_%d_%s", e.Host.Spec.Name, os.Getpid(), e.Host.BootID)
	return host.ExitOf(lead(ctx, host.Ours(e), c.CoordinationV1().Leases("kube-system"), e.Host.LeadsLost, name, id, unit.Term{Lease: lease, Renew: renew, Retry: retry}, func(ctx context.Context) {
		defer e.Catch()
		work(ctx)
	}))
}

// lead is Lead where lost says how often the machine has lost what leads on it.
func lead(ctx context.Context, m unit.Machine, ls unit.Leases, lost func() int, name, id string, t unit.Term, work func(context.Context)) error {
	k := &keeper{Leases: ls, lost: lost}
	k.since.Store(stands)
	err := unit.LeadOnce(ctx, m, k, name, id, t, func(ctx context.Context) {
		k.since.Store(int64(lost()))
		work(ctx)
	})
	if err == nil && ctx.Err() == nil {
		err = errors.New("leader election lost")
	}
	return err
}

// stands is a candidate that does not lead yet.
const stands = -1

// keeper is who cannot renew its lease any more once its machine has lost the lead, as one whose
// requests do not come through.
type keeper struct {
	unit.Leases
	lost  func() int
	since atomic.Int64 // how often the lead had been lost when this one began to lead
}

func (k *keeper) Update(ctx context.Context, l *coordinationv1.Lease, o metav1.UpdateOptions) (*coordinationv1.Lease, error) {
	if since := k.since.Load(); since != stands && int64(k.lost()) > since {
		return nil, context.DeadlineExceeded
	}
	return k.Leases.Update(ctx, l, o)
}
