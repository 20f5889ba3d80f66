package desk

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/plan"
	"verbund/internal/engine/look"
	"verbund/internal/store"
)

// Into a pipe go finished steps as plain lines: when, what state, where, what,
// how long.
func TestProgressIntoAPipe(t *testing.T) {
	var errs bytes.Buffer
	a := &App{UI: &term.UI{In: strings.NewReader(""), Out: &errs, Err: &errs, Output: "text"}}
	a.Style()
	p := newProgress(a, look.Durations{"ready": 400 * time.Millisecond}, make([]plan.Step, 2), func(plan.Step) time.Duration { return time.Second })
	p.Start()
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.Local)
	p.Entry(store.Entry{Kind: store.RunBegan, Time: at})
	p.Entry(store.Entry{Kind: store.StepBegan, Time: at, Step: "ready/m", What: "ready", Where: "m", Text: "wait"})
	p.tick()
	p.tick()
	p.Entry(store.Entry{Kind: store.StepDone, Time: at, Step: "ready/m", What: "ready", Where: "m", Text: "wait", Seconds: 0.5})
	p.Entry(store.Entry{Kind: store.StepFailed, Time: at, Step: "roles", What: "roles", Text: "bind", Seconds: 61})
	p.Stop()
	p.Finish("r1", errors.New("x"))
	text := errs.String()
	for _, want := range []string{"08:00:00  ok      m                       wait  0.5 s\n", "08:00:00  failed  cluster                 bind  61 s\n", "stopped after 2 steps", "verbund history r1"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
	// It began long ago, so the wait is told, once.
	if n := strings.Count(text, "usually 0.4 s, worry from 3 min; NotReady is normal"); n != 1 {
		t.Errorf("the wait is told %d times:\n%s", n, text)
	}
	if strings.ContainsRune(text, 0x1b) {
		t.Errorf("control characters go into a pipe: %q", text)
	}
}
