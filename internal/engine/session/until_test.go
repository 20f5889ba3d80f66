package session

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"verbund/internal/store"
)

// A wait ends with its condition, or says what it waited for.
func TestUntil(t *testing.T) {
	n := 0
	if err := Until(context.Background(), "three", func(context.Context) (string, error) {
		if n++; n < 3 {
			return "not yet", nil
		}
		return "", nil
	}); err != nil || n != 3 {
		t.Errorf("%v after %d", err, n)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Millisecond)
	defer cancel()
	err := Until(ctx, "the moon", func(context.Context) (string, error) { return "", errors.New("clouds") })
	if err == nil || !strings.Contains(err.Error(), "the moon: clouds") {
		t.Errorf("error is %v", err)
	}
}

// The last reason is told as what it was, and not that the time is over; what no waiting changes
// is not waited for.
func TestUntilKeepsReasons(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	clouds := errors.New("clouds")
	n := 0
	if err := Until(ctx, "the moon", func(ctx context.Context) (string, error) {
		if n++; n < 3 {
			return "", clouds
		}
		cancel()
		return "", ctx.Err()
	}); !errors.Is(err, clouds) || errors.Is(err, context.Canceled) || n != 3 {
		t.Errorf("%v, after %d", err, n)
	}
	for _, lasting := range []error{ErrNoTrust, &store.Damage{Path: "x", Err: clouds}, &store.Closed{Path: "x", Err: clouds}} {
		n := 0
		if err := Until(t.Context(), "the moon", func(context.Context) (string, error) { n++; return "", fmt.Errorf("looking: %w", lasting) }); !errors.Is(err, lasting) || n != 1 {
			t.Errorf("%v was waited for: %d times, %v", lasting, n, err)
		}
	}
}
