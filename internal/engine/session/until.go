package session

import (
	"context"
	"fmt"
	"math"
	"strings"
	"time"

	"k8s.io/apimachinery/pkg/util/wait"
)

// Until asks again and again until the answer is yes or ctx ends; then the last
// reason is told.
func Until(ctx context.Context, what string, ask func(context.Context) (string, error)) error {
	// What takes long is asked about less often.
	pause := wait.Backoff{Duration: 40 * time.Millisecond, Factor: 1.1, Steps: math.MaxInt32, Cap: time.Second}
	tick := time.NewTimer(pause.Step())
	defer tick.Stop()
	began, last := time.Now(), ""
	for {
		why, err := ask(ctx)
		if err == nil && why == "" {
			return nil
		}
		// That the time is over is no reason; the one before it is.
		if err != nil && (ctx.Err() == nil || last == "") {
			why = err.Error()
		}
		if why != "" {
			last = why
		}
		select {
		case <-ctx.Done():
			why = last
			return fmt.Errorf("waited %s for %s: %s", time.Since(began).Round(100*time.Millisecond), what, strings.TrimSpace(why))
		case <-tick.C:
			tick.Reset(pause.Step())
		}
	}
}
