package declare

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// Stay says which of several backups stay, by when each was taken: the newest few, and the
// newest of each of so many days and weeks, by UTC, on which any was taken.
func (k KeepFew) Stay(taken []time.Time) []bool {
	order := make([]int, len(taken))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Or(taken[b].Compare(taken[a]), cmp.Compare(a, b)) })
	stay := make([]bool, len(taken))
	for _, i := range order[:min(k.Last, len(order))] {
		stay[i] = true
	}
	newest := func(most int, of func(time.Time) string) {
		seen := map[string]bool{}
		for _, i := range order {
			if span := of(taken[i].UTC()); !seen[span] && len(seen) < most {
				seen[span], stay[i] = true, true
			}
		}
	}
	newest(k.Daily, func(t time.Time) string { return t.Format(time.DateOnly) })
	newest(k.Weekly, func(t time.Time) string {
		y, w := t.ISOWeek()
		return fmt.Sprint(y, "-", w)
	})
	return stay
}
