package session

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"
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
