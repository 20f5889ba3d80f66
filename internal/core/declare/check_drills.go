package declare

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// DrillFaults are the faults of drills, each with what mends it; those that nothing mends but
// converge have none.
var DrillFaults = map[string]string{
	"cut-power": "power", "full-disk": "mended-disk", "wrong-clock": "mended-clock", "lesser-rights": "full-rights",
	"damaged-blob": "mended-blob", "cut-network": "mended-network", "one-way-network": "mended-network", "lossy-network": "mended-network",
	"slow-network": "mended-network", "slow-machine": "mended-machine", "slow-disk": "mended-disk",
	"new-host-key": "", "new-lease": "", "lost-lead": "", "lost-machine": "", "lost-zone": "", "lost-disk": "",
}

// drillWaits are what drills can wait for.
var drillWaits = []string{"writes", "no-writes", "ailing", "well"}

// drillRuns are the commands that a drill may run, by their first words.
var drillRuns = []string{"converge", "prove", "replace", "backup take", "backup restore", "trust renew", "trust replace"}

// drills judges the declared ones.
func (k *checker) drills() {
	seen := map[string]bool{}
	for i, d := range k.c.Drills {
		at := fmt.Sprintf("drills[%d]", i)
		if seen[d.Name] {
			k.add(at+".name", "name-twice", fmt.Sprintf("drill %s is declared twice", d.Name), "give each drill a name of its own")
		}
		seen[d.Name] = true
		if len(d.Steps) == 0 && k.has(at+".steps") {
			k.add(at+".steps", "bad-drill", fmt.Sprintf("drill %s has no step", d.Name), "write one, such as {fault: cut-power, at: leader}")
		}
		switch f := d.Holds.Failed; {
		case f == nil:
		case *f < 0:
			k.add(at+".holds.failed", "bad-drill", fmt.Sprintf("drill %s cannot allow %d wrong answers", d.Name, *f), "choose 0 or more")
		case len(k.c.Watch) == 0:
			k.add(at+".holds.failed", "bad-drill", fmt.Sprintf("drill %s limits the wrong answers of watches, and none is declared", d.Name), "declare a watch, or take the limit away")
		}
		for j, s := range d.Steps {
			for _, f := range s.Wrong() {
				k.add(fmt.Sprintf("%s.steps[%d]", at, j), "bad-drill", fmt.Sprintf("step %d of drill %s %s", j+1, d.Name, f[0]), f[1])
			}
		}
	}
}

// Wrong says what keeps a step from being carried out, each with the way out.
func (s DrillStep) Wrong() (out [][2]string) {
	does := 0
	for _, is := range []bool{s.Fault != "", s.Ages != "", s.Run != "", s.Wait != 0, s.Until != ""} {
		if is {
			does++
		}
	}
	switch {
	case does == 0:
		return [][2]string{{"does nothing", "write one of fault, ages, run, wait and until"}}
	case does > 1:
		return [][2]string{{"does two things at once", "write each as a step of its own"}}
	}
	if s.Fault != "" {
		var all []string
		for f, m := range DrillFaults {
			all = append(all, f, m)
		}
		slices.Sort(all)
		all = slices.DeleteFunc(slices.Compact(all), func(x string) bool { return x == "" })
		if !slices.Contains(all, s.Fault) {
			out = append(out, [2]string{fmt.Sprintf("cannot be carried out: no site makes %q happen", s.Fault), oneOf(s.Fault, all)})
		} else if s.At == "" {
			out = append(out, [2]string{fmt.Sprintf("cannot be carried out: %s hits nobody", s.Fault), "write whom with at"})
		}
	}
	if s.Ages != "" && s.At == "" {
		out = append(out, [2]string{"cannot be carried out: it is nobody's certificate that is to end", "write whose with at"})
	}
	if s.Run != "" && !slices.ContainsFunc(drillRuns, func(r string) bool { return s.Run == r || strings.HasPrefix(s.Run, r+" ") }) {
		out = append(out, [2]string{fmt.Sprintf("cannot be carried out: a drill does not run %q", s.Run), "choose among " + strings.Join(drillRuns, ", ")})
	}
	if s.Run == "" && s.Killed != 0 {
		out = append(out, [2]string{fmt.Sprintf("is to be killed after %d entries, and it runs nothing", s.Killed), "write run beside it"})
	}
	if s.Run == "" && s.Fails {
		out = append(out, [2]string{"is to fail, and it runs nothing", "write run beside it"})
	}
	if s.Killed < 0 {
		out = append(out, [2]string{fmt.Sprintf("cannot be killed after %d entries", s.Killed), "choose 1 or more"})
	}
	if s.Until != "" && !slices.Contains(drillWaits, s.Until) {
		out = append(out, [2]string{fmt.Sprintf("cannot be carried out: %q cannot be waited for", s.Until), oneOf(s.Until, drillWaits)})
	}
	if t := time.Duration(s.Wait); s.Wait != 0 && (t < 100*time.Millisecond || t > time.Hour) {
		out = append(out, [2]string{fmt.Sprintf("waits %s", s.Wait), "choose 100ms to 1h"})
	}
	if t := time.Duration(s.Within); s.Within != 0 && (t < time.Second || t > time.Hour) {
		switch {
		case s.Until != "":
			out = append(out, [2]string{fmt.Sprintf("waits %s for %s", s.Within, s.Until), "choose 1s to 1h"})
		case s.Ages != "":
			out = append(out, [2]string{fmt.Sprintf("has certificate %s end after %s", s.Ages, s.Within), "choose 1s to 1h"})
		}
	}
	return out
}
