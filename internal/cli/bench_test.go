package cli_test

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"
)

// What two hundred machines cost: trust list looks at each of them, on the disk
// and on the wire, with the site on the same processors.
func BenchmarkTrustListTwoHundred(b *testing.B) {
	w := newWorld(b, "small", "v1.37.2")
	w.edit("estuary.site.yaml", `north, machines: 12`, "north, machines: 70")
	w.edit("estuary.site.yaml", `south, machines: 12`, "south, machines: 70")
	w.edit("estuary.site.yaml", `island, machines: 12`, "island, machines: 70")
	w.declare(`keepers, count: 1`, "keepers, count: 199")
	w.ok("converge", "--yes")
	w.settle(2 * time.Minute)
	for b.Loop() {
		w.fails(0, []string{"0 things wrong"}, "trust", "list")
	}
}

// settle waits until the site's processes take less than one processor: those
// of a large cluster that was just raised are busy with telling each other.
func (w *world) settle(most time.Duration) {
	w.Helper()
	busy := func() (ticks int) {
		for _, p := range w.processes() {
			var pid int
			if _, err := fmt.Sscanf(p, "/proc/%d/", &pid); err != nil {
				continue
			}
			b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
			if err != nil {
				continue
			}
			// After the name in brackets: state, and the times as the 12th and 13th.
			f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
			for _, t := range f[11:13] {
				n, _ := strconv.Atoi(t)
				ticks += n
			}
		}
		return ticks
	}
	const second = 100 // clock ticks, of which Linux shows that many on every architecture
	last, at := busy(), time.Now()
	tick := time.NewTicker(3 * time.Second)
	defer tick.Stop()
	for end := time.Now().Add(most); time.Now().Before(end); {
		<-tick.C
		now := busy()
		if float64(now-last)/second < time.Since(at).Seconds() {
			return
		}
		last, at = now, time.Now()
	}
	w.Fatalf("the site's processes are still busy after %s", most)
}
