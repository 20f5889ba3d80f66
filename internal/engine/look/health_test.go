package look

import (
	"testing"
	"time"

	"verbund/internal/core/plan"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/store"
)

// Only a run that looked at everything explains the restarts before its end: not
// one of a part, though it ended as it should.
func TestFoundWell(t *testing.T) {
	s := sessiontest.Session(t)
	if at := foundWell(s); !at.IsZero() {
		t.Errorf("with no journal: %s", at)
	}
	if err := s.Store.Make(); err != nil {
		t.Fatal(err)
	}
	j, err := s.Store.Journal()
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	began := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for i, e := range []store.Entry{
		{Kind: store.StepFailed, What: string(plan.Verify)},
		{Kind: store.StepDone, What: string(plan.Verify)},
		{Kind: store.StepDone, What: string(plan.Write)},
		{Kind: store.RunEnded, Outcome: store.OutcomeDone},
	} {
		e.Time = began.Add(time.Duration(i) * time.Minute)
		if err := j.Append(e); err != nil {
			t.Fatal(err)
		}
	}
	if at := foundWell(s); !at.Equal(began.Add(time.Minute)) {
		t.Errorf("found well at %s", at)
	}
}
