package kubeclient

import (
	"context"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"k8s.io/client-go/kubernetes/fake"

	"verbund/internal/unit"
)

// Whoever leads on a machine that is made to lose its lease ends as the real ones do, and the one
// that is started in its place leads again; whoever does not lead is not touched.
func TestLosesItsLead(t *testing.T) {
	c := fake.NewClientset()
	term := unit.Term{Lease: 2 * time.Second, Renew: time.Second, Retry: 10 * time.Millisecond}
	var lost atomic.Int64
	many := func() int { return int(lost.Load()) }
	lost.Store(3) // before this one began
	ended := false
	err := lead(t.Context(), unit.Here{}, c.CoordinationV1().Leases("kube-system"), many, "kube-scheduler", "a", term, func(ctx context.Context) {
		lost.Add(1)
		<-ctx.Done()
		ended = true
	})
	if err == nil || !strings.Contains(err.Error(), "leader election lost") || !ended {
		t.Errorf("it ended with %v; its work was over before: %v", err, ended)
	}
	ctx, stop := context.WithTimeout(t.Context(), 2*time.Minute)
	defer stop()
	led := false
	if err := lead(ctx, unit.Here{}, c.CoordinationV1().Leases("kube-system"), many, "kube-scheduler", "b", term, func(context.Context) {
		led = true
		stop()
	}); err != nil || !led {
		t.Errorf("the next one led: %v, and ended with %v", led, err)
	}
}
