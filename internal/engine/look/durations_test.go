package look

import (
	"testing"
	"time"

	"verbund/internal/engine/sessiontest"
	"verbund/internal/store"
)

func TestDurations(t *testing.T) {
	s := sessiontest.Session(t)
	j, err := s.Store.Journal()
	if err != nil {
		t.Fatal(err)
	}
	for i, e := range []store.Entry{{What: "switch", Where: "t-control-1", Seconds: 3}, {What: "switch", Where: "t-control-2", Seconds: 5}, {What: "switch", Where: "t-control-2", Seconds: 4}, {What: "switch", Where: "t-gauges-1", Seconds: 0.1}} {
		e.Kind, e.Step = store.StepDone, e.What
		if err := j.Append(e); err != nil {
			t.Fatal(i, err)
		}
	}
	d := UsualDurations(s)
	for where, want := range map[string]time.Duration{"t-control-9": 4 * time.Second, "t-gauges-3": 100 * time.Millisecond, "t-other-1": 4 * time.Second} {
		if got, ok := d.Of("switch", where); !ok || got != want {
			t.Errorf("%s: %v, wanted %v", where, got, want)
		}
	}
	if _, ok := d.Of("drain", "t-gauges-1"); ok {
		t.Error("a step that was never done has a duration")
	}
}
