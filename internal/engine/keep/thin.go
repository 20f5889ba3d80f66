package keep

import (
	"cmp"
	"slices"
	"time"

	"verbund/internal/backup"
	"verbund/internal/core/declare"
)

// AsDeclared is why a backup is taken by backup.every; only such are thinned.
const AsDeclared = backup.AsDeclared

// Thin says which backups are not needed any more, of those that were taken as declared.
func Thin(all []Found, k declare.KeepFew) []string {
	var own []Found
	for _, f := range all {
		if f.Trouble == nil && f.Manifest.Why == AsDeclared {
			own = append(own, f)
		}
	}
	slices.SortFunc(own, func(a, b Found) int {
		return cmp.Or(b.Manifest.Taken.Compare(a.Manifest.Taken), cmp.Compare(a.Name, b.Name))
	})
	var taken []time.Time
	for _, f := range own {
		taken = append(taken, f.Manifest.Taken)
	}
	stay := k.Stay(taken)
	var out []string
	for i, f := range own {
		if !stay[i] {
			out = append(out, f.Name)
		}
	}
	return out
}

// Due says since when one should have been taken, by backup.every; false if none is due.
func Due(all []Found, every time.Duration, now time.Time) (since time.Time, due bool) {
	if every <= 0 {
		return time.Time{}, false
	}
	if len(all) == 0 || all[0].Trouble != nil {
		return time.Time{}, true
	}
	since = all[0].Manifest.Taken.Add(every)
	return since, !now.Before(since)
}
