package declare

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // a window's time zone is known everywhere
)

// Weekdays are the days of a window, as they are written.
var Weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// Words of a roll-out's policy.
var (
	ways   = []string{"in-place", "replacement"}
	holds  = []string{"never", "after-trial", "each-batch", "each-pool"}
	orders = []string{"zones", "spread"}
	turns  = []string{"in-turn", "together"}
	clock  = regexp.MustCompile(`^([01][0-9]|2[0-3]):[0-5][0-9]$`)
)

// wayAndHold judges what pools and control-plane machines have in common.
func (k *checker) wayAndHold(at, way, hold string) {
	if !slices.Contains(ways, way) {
		k.add(at+".way", "unknown-way", fmt.Sprintf("roll-out way %q is not known", way), oneOf(way, ways))
	}
	if !slices.Contains(holds, hold) {
		k.add(at+".hold", "unknown-hold", fmt.Sprintf("a roll-out does not hold %q", hold), oneOf(hold, holds))
	}
}

// rollout judges how changes reach a pool.
func (k *checker) rollout(at string, p Pool) {
	r, n := p.Rollout, p.Count.From
	k.wayAndHold(at, r.Way, r.Hold)
	if !slices.Contains(orders, r.Order) {
		k.add(at+".order", "unknown-order", fmt.Sprintf("order %q of a roll-out is not known", r.Order), oneOf(r.Order, orders))
	}
	switch b := r.Batch; {
	case b.Of(n) < 1:
		k.add(at+".batch", "bad-batch", fmt.Sprintf("a batch of %s machines never ends", b), "choose 1 or more, or a share")
	case b.Of(n) >= n && n > 1 && r.Way == ways[0]:
		k.add(at+".batch", "batch-whole-pool", fmt.Sprintf("a batch of %s takes the whole pool %s down at once", b, p.Name), fmt.Sprintf("choose less than %d", n))
	}
	if r.Surge.Of(n) < 1 {
		k.add(at+".surge", "bad-batch", fmt.Sprintf("with a surge of %s machines nothing is ever replaced", r.Surge), "choose 1 or more, or a share")
	}
	switch {
	case r.Trial < 0:
		k.add(at+".trial", "bad-trial", fmt.Sprintf("%d machines cannot go on trial", r.Trial), "choose 1, or 0 for no trial")
	case r.Trial == 0 && n > 1:
		k.add(at+".trial", "no-trial", fmt.Sprintf("no machine of pool %s goes first: what is wrong with a change shows on a whole batch", p.Name), "leave trial at 1, or accept it knowingly")
	case r.Trial >= n && n > 1:
		k.add(at+".trial", "no-trial", fmt.Sprintf("all %d machines of pool %s are on trial, and none is left that it could spare", n, p.Name), fmt.Sprintf("choose less than %d", n))
	}
	if r.Hold == "after-trial" && r.Trial == 0 {
		k.add(at+".hold", "hold-idle", fmt.Sprintf("pool %s holds after its trial, and has none", p.Name), "declare a trial, or hold each-batch")
	}
	switch {
	case r.Failures < 0:
		k.add(at+".failures", "bad-failures", fmt.Sprintf("%d machines cannot fail", r.Failures), "choose 0 or more")
	case r.Failures >= n && n > 0:
		k.add(at+".failures", "failures-all", fmt.Sprintf("the roll-out goes on when all %d machines of pool %s have failed", n, p.Name), fmt.Sprintf("choose less than %d", n))
	}
}

// watches judges the probes of applications.
func (k *checker) watches() {
	seen := map[string]bool{}
	for i, w := range k.c.Watch {
		at := fmt.Sprintf("watch[%d]", i)
		if seen[w.Name] {
			k.add(at+".name", "name-twice", fmt.Sprintf("watch %s is declared twice", w.Name), "give each watch a name of its own")
		}
		seen[w.Name] = true
		if u, err := url.Parse(w.URL); k.has(at+".url") && (err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil) {
			k.add(at+".url", "bad-watch", fmt.Sprintf("%q is no address that can be asked", w.URL), "write one such as http://api.tidewatch.test:8080/, without a login in it")
		}
		if w.Status < 100 || w.Status > 599 {
			k.add(at+".status", "bad-watch", fmt.Sprintf("%d is no status of HTTP", w.Status), "write 200")
		}
		within := func(key string, d Duration, least, most time.Duration) {
			if t := time.Duration(d); t < least || t > most {
				k.add(at+"."+key, "bad-watch", fmt.Sprintf("%s of watch %s is %s", key, w.Name, d), fmt.Sprintf("choose %s to %s", Duration(least), Duration(most)))
			}
		}
		// A few answers are waited for before the first wave, which must not take long.
		within("interval", w.Interval, 50*time.Millisecond, 10*time.Second)
		within("slow", w.Slow, 10*time.Millisecond, 10*time.Second)
		if w.Allow < 0 || w.Allow > 50 {
			k.add(at+".allow", "bad-watch", fmt.Sprintf("%d of a hundred answers cannot be allowed to fail", w.Allow), "choose 0 to 50")
		}
	}
}

// rollouts judges how changes reach the cluster as a whole.
func (k *checker) rollouts() {
	r := k.c.Rollout
	if !slices.Contains(turns, r.Pools) {
		k.add("rollout.pools", "unknown-order", fmt.Sprintf("pools do not go %q", r.Pools), oneOf(r.Pools, turns))
	}
	if r.Prefetch < 1 || r.Prefetch > 50 {
		k.add("rollout.prefetch", "bad-prefetch", fmt.Sprintf("nothing can be fetched %d waves ahead", r.Prefetch), "choose 1 to 50")
	}
	if n := k.c.Approvals.Final; n < 0 || n > 9 {
		k.add("approvals.final", "bad-approvals", fmt.Sprintf("%d signatures cannot be wanted of a plan", n), "choose 1 to 9, or leave it out")
	}
	w := r.Window
	if w == nil {
		return
	}
	for i, d := range w.Days {
		if !slices.Contains(Weekdays, d) {
			k.add(fmt.Sprintf("rollout.window.days[%d]", i), "bad-window", fmt.Sprintf("%q is no day", d), "choose among "+strings.Join(Weekdays, ", "))
		}
	}
	for _, x := range []struct{ key, text string }{{"from", w.From}, {"to", w.To}} {
		if !clock.MatchString(x.text) && k.has("rollout.window."+x.key) {
			k.add("rollout.window."+x.key, "bad-window", fmt.Sprintf("%q is no time of day", x.text), "write hour and minute such as '22:00', in quotes")
		}
	}
	if w.From == w.To && w.From != "" {
		k.add("rollout.window.to", "bad-window", fmt.Sprintf("a window from %s to %s is none", w.From, w.To), "leave the window out if a batch may begin at any time")
	}
	if _, err := time.LoadLocation(w.TimeZone); err != nil || w.TimeZone == "Local" {
		k.add("rollout.window.timeZone", "bad-window", fmt.Sprintf("time zone %q is not known", w.TimeZone), "write a name of the IANA time-zone database, such as Europe/Berlin")
	}
}
