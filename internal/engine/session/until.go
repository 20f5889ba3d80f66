package session

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"k8s.io/apimachinery/pkg/util/wait"

	"verbund/internal/store"
)

// Until asks again and again until the answer is yes or ctx ends; then the last
// reason is told. What no waiting changes ends it at once.
func Until(ctx context.Context, what string, ask func(context.Context) (string, error)) error {
	// What takes long is asked about less often.
	pause := wait.Backoff{Duration: 40 * time.Millisecond, Factor: 1.1, Steps: math.MaxInt32, Cap: time.Second}
	tick := time.NewTimer(pause.Step())
	defer tick.Stop()
	began, last := time.Now(), error(nil)
	for {
		why, err := ask(ctx)
		if err == nil && why == "" {
			return nil
		}
		if lasts(err) {
			return fmt.Errorf("%s: %w", what, err)
		}
		if err == nil {
			err = errors.New(strings.TrimSpace(why))
		} else if ctx.Err() != nil && last != nil {
			err = last // that the time is over is no reason; the one before it is
		}
		last = err
		select {
		case <-ctx.Done():
			return fmt.Errorf("waited %s for %s: %w", time.Since(began).Round(100*time.Millisecond), what, last)
		case <-tick.C:
			tick.Reset(pause.Step())
		}
	}
}

// lasts says whether an error stays what it is, however long one waits: what is remembered
// cannot be read, or there is nothing to log in with.
func lasts(err error) bool {
	var damage *store.Damage
	var closed *store.Closed
	return errors.As(err, &damage) || errors.As(err, &closed) || errors.Is(err, ErrNoTrust)
}
