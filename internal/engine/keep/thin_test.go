package keep

import (
	"errors"
	"slices"
	"testing"
	"time"

	"verbund/internal/backup"
	"verbund/internal/core/declare"
)

func TestThin(t *testing.T) {
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC) // a Friday
	at := func(name string, ago time.Duration, why string) Found {
		return Found{Name: name, Manifest: backup.Manifest{Taken: now.Add(-ago), Why: why}}
	}
	const day = 24 * time.Hour
	all := []Found{
		at("now", 0, AsDeclared), at("hour", time.Hour, AsDeclared), at("hours", 6*time.Hour, AsDeclared), at("yesterday", day, AsDeclared), at("yesterday-early", day+6*time.Hour, AsDeclared),
		at("wednesday", 2*day, AsDeclared), at("last-week", 6*day, AsDeclared), at("last-week-early", 8*day, AsDeclared), at("long-ago", 60*day, AsDeclared),
		at("by-hand", 90*day, "asked for"), at("upgrade", 90*day, "before the upgrade to v1.37.2"), {Name: "unreadable", Trouble: errors.New("closed")},
	}
	for _, x := range []struct {
		name string
		keep declare.KeepFew
		want []string
	}{
		{"the last", declare.KeepFew{Last: 2}, []string{"hours", "yesterday", "yesterday-early", "wednesday", "last-week", "last-week-early", "long-ago"}},
		{"days", declare.KeepFew{Daily: 3}, []string{"hour", "hours", "yesterday-early", "last-week", "last-week-early", "long-ago"}},
		{"weeks", declare.KeepFew{Weekly: 3}, []string{"hour", "hours", "yesterday", "yesterday-early", "wednesday", "last-week-early"}},
		{"together", declare.KeepFew{Last: 3, Daily: 2, Weekly: 2}, []string{"yesterday-early", "wednesday", "last-week-early", "long-ago"}},
		{"more than there are", declare.KeepFew{Last: 100}, nil},
	} {
		if got := Thin(all, x.keep); !slices.Equal(got, x.want) {
			t.Errorf("%s: %v go, wanted %v", x.name, got, x.want)
		}
	}
}

func TestDue(t *testing.T) {
	now := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	one := []Found{{Manifest: backup.Manifest{Taken: now.Add(-6 * time.Hour)}}}
	for _, x := range []struct {
		all   []Found
		every time.Duration
		want  bool
	}{{one, 6 * time.Hour, true}, {one, 7 * time.Hour, false}, {nil, time.Hour, true}, {nil, 0, false}, {[]Found{{Trouble: errors.New("closed")}}, time.Hour, true}} {
		if _, due := Due(x.all, x.every, now); due != x.want {
			t.Errorf("%v every %s: due %v", x.all, x.every, due)
		}
	}
}
