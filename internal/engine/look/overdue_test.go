package look

import (
	"testing"
	"time"

	"verbund/internal/backup"
	"verbund/internal/engine/keep"
)

// Keepers have their time: nobody is told before it is over, and what lies with them counts.
func TestOverdue(t *testing.T) {
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	ago := func(d time.Duration) *time.Time { at := now.Add(-d); return &at }
	here := func(d time.Duration) []keep.Found { return []keep.Found{{Manifest: backup.Manifest{Taken: *ago(d)}}} }
	const every = time.Hour // and 8 minutes more
	for name, x := range map[string]struct {
		here    []keep.Found
		kept    []Kept
		founded time.Duration
		want    *time.Time
	}{
		"just raised":                 {founded: 5 * time.Minute},
		"never any":                   {founded: 9 * time.Minute, want: &time.Time{}},
		"here, and young":             {here: here(30 * time.Minute), founded: 9 * time.Hour},
		"here, and they may be at it": {here: here(67 * time.Minute), founded: 9 * time.Hour},
		"here, and old":               {here: here(69 * time.Minute), founded: 9 * time.Hour, want: ago(9 * time.Minute)},
		"there, and young":            {here: here(9 * time.Hour), kept: []Kept{{Taken: ago(time.Minute)}}, founded: 9 * time.Hour},
		"there, and old":              {here: here(9 * time.Hour), kept: []Kept{{Taken: ago(2 * time.Hour)}}, founded: 9 * time.Hour, want: ago(time.Hour)},
		"there, and none was taken":   {here: here(2 * time.Hour), kept: []Kept{{Trouble: "no room"}}, founded: 9 * time.Hour, want: ago(time.Hour)},
	} {
		got := overdue(x.here, x.kept, every, now.Add(-x.founded), now)
		if (got == nil) != (x.want == nil) || got != nil && !got.Equal(*x.want) {
			t.Errorf("%s: due since %v, wanted %v", name, got, x.want)
		}
	}
}
