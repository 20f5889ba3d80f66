package act

import (
	"context"
	"fmt"
	"time"

	"verbund/internal/core/plan"
)

// limited is a context in which a step has to come to its end. What goes on elsewhere, and is seen
// to, is waited for as long as it goes on: a machine boots only from an image that is there, and a
// slow computer takes long to compose one.
func (r *Run) limited(ctx context.Context, s plan.Step) (context.Context, context.CancelFunc) {
	most := s.Limit()
	if r.limit != nil {
		most = r.limit(s)
	}
	if s.Kind != plan.Get {
		return context.WithTimeout(ctx, most)
	}
	lctx, cancel := context.WithCancelCause(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		said, waited := false, time.Duration(0)
		for {
			// That it takes longer than usual is said when it does, and not when it would be given up.
			every := min(most, s.Kind.About().Usual)
			t := time.NewTimer(every)
			select {
			case <-lctx.Done():
				t.Stop()
				return
			case <-t.C:
			}
			what := r.composing(lctx)
			if waited += every; what != "" {
				waited = 0
			}
			if waited >= most {
				cancel(fmt.Errorf("it took longer than %s: %w", most, context.DeadlineExceeded))
				return
			}
			if what != "" && !said {
				r.Note(s, what+" is still being composed, and is waited for as long as that goes on")
				said = true
			}
		}
	}()
	return lctx, func() {
		cancel(nil)
		<-ended
	}
}

// composing names a machine image that the site is putting together; empty when there is none, or
// that is not known.
func (r *Run) composing(ctx context.Context) string {
	inv, err := r.Site.Inventory(ctx)
	if err != nil {
		return ""
	}
	for _, i := range inv.Images {
		if i.Composing {
			return fmt.Sprintf("the machine image %s for %s", i.Image.System, i.Image.Architecture)
		}
	}
	return ""
}
