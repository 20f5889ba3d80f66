package rollout

import (
	"time"
)

// Way is how a machine becomes what is declared.
type Way string

// The ways.
const (
	InPlace     Way = "in-place"    // it stays, and what it runs changes
	Replacement Way = "replacement" // a new one comes, then it goes
)

// Hold is where a roll-out waits for a person's word.
type Hold string

// The places.
const (
	Never      Hold = "never"
	AfterTrial Hold = "after-trial"
	EachBatch  Hold = "each-batch"
	EachPool   Hold = "each-pool"
)

// Policy is how changes reach the machines of a group.
type Policy struct {
	Way      Way
	Batch    int // machines out of service at a time, at least one
	Surge    int // new machines beyond the count at a time, at least one
	Spread   bool
	Trial    int // machines that go first, alone
	Soak     time.Duration
	Hold     Hold
	Failures int // machines that may fail
}

// Careful is the policy of machines that always go one after the other.
func Careful(way Way, soak time.Duration, hold Hold) Policy {
	return Policy{Way: way, Batch: 1, Surge: 1, Trial: 1, Soak: soak, Hold: hold}
}

// Window is hours of some days in which a wave may begin; none, at any time.
type Window struct {
	Days     [7]bool // from Sunday, as time.Weekday counts
	From, To time.Duration
	Zone     *time.Location
}

// Open says whether a wave may begin at a moment, and if not, when the next one may. A
// window that closes before it opens closes on the next day. Hours are those of a clock on
// the wall: on a day on which it is put forward, an hour that does not exist is not waited
// for.
func (w *Window) Open(now time.Time) (open bool, next time.Time) {
	if w == nil {
		return true, now
	}
	here := now.In(w.Zone)
	at := func(days int, clock time.Duration) time.Time {
		return time.Date(here.Year(), here.Month(), here.Day()+days, int(clock/time.Hour), int(clock%time.Hour/time.Minute), 0, 0, w.Zone)
	}
	const week = 7
	for d := -1; d <= week; d++ {
		from, close := at(d, w.From), d
		if w.To <= w.From {
			close++
		}
		if !w.Days[from.Weekday()] {
			continue
		}
		if !here.Before(from) && here.Before(at(close, w.To)) {
			return true, now
		}
		if here.Before(from) {
			return false, from
		}
	}
	return false, time.Time{} // a window without a day, which none that is declared is
}
