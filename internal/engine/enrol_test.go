package engine

import (
	"strings"
	"testing"
	"time"

	"verbund/internal/kube"
)

// Every way in which a token lets nobody in has its words, and one that serves
// has none.
func TestRefusal(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.Local)
	ts := []kube.Token{
		{ID: "serves", Left: 1, Ends: now.Add(time.Minute)},
		{ID: "usedup", Left: 0, Ends: now.Add(time.Minute)},
		{ID: "ended1", Left: 1, Ends: now},
		{ID: "others", Left: 1, Foreign: true},
	}
	for id, want := range map[string]string{"serves": "", "usedup": "used up", "ended1": "it ended at 12:00 on 2026-03-01", "others": "did not make it", "unheard": "not known, or was revoked"} {
		got := refusal(ts, id, now)
		if (got == "") != (want == "") || !strings.Contains(got, want) || got != "" && !strings.Contains(got, "token "+id+" ") {
			t.Errorf("%s: %q, wanted %q", id, got, want)
		}
	}
}
