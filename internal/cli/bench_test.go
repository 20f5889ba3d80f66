package cli_test

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
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

// What a worker costs: to raise one, as processor seconds of the tool and of all the site's
// processes, and to have one, as processors that are busy and bytes that are resident when nothing
// is to be done. Where it costs more in a large cluster, something grows faster than the cluster.
func BenchmarkWorkers(b *testing.B) {
	for _, n := range []int{5, 25, 100, 200} {
		b.Run(strconv.Itoa(n), func(b *testing.B) {
			for b.Loop() {
				w := newWorld(b, "available", "v1.37.2")
				w.edit("estuary.site.yaml", `addresses: (127\.\d+)\..*`, fmt.Sprintf("addresses: 127.%d.0.0/16", 128+os.Getpid()%120))
				for _, zone := range []string{"north", "south", "island"} {
					w.edit("estuary.site.yaml", zone+", machines: 12", fmt.Sprintf("%s, machines: %d", zone, n/3+20))
				}
				w.edit("estuary.site.yaml", `pace: .*`, "pace: 100")
				w.declare(`count: 3\n    size: small`, fmt.Sprintf("count: %d\n    size: small", n-2))
				c := w.command("converge", "--yes")
				if out, err := c.CombinedOutput(); err != nil {
					b.Fatalf("%v\n%s", err, out)
				}
				raise := c.ProcessState.UserTime().Seconds() + c.ProcessState.SystemTime().Seconds()
				spent, _ := w.siteUses()
				b.ReportMetric(raise+spent, "cpu-s/raise")
				b.ReportMetric((raise+spent)/float64(n), "cpu-s/worker")
				w.settle(2 * time.Minute)
				before, _ := w.siteUses()
				began := time.Now()
				<-time.After(20 * time.Second)
				after, resident := w.siteUses()
				b.ReportMetric((after-before)/time.Since(began).Seconds(), "idle-cores")
				b.ReportMetric(float64(resident)/float64(n)/(1<<20), "MB/worker")
				w.ok("site", "stop")
			}
		})
	}
}

// siteUses is what the site's process and all that it has started have used: processor seconds
// since they were started, and bytes that are resident now.
func (w *world) siteUses() (seconds float64, resident int64) {
	w.Helper()
	type process struct {
		parent   int
		ticks    int64
		resident int64
	}
	all := map[int]process{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, f := range stats {
		b, err := os.ReadFile(f)
		if err != nil {
			continue // it has ended
		}
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(f)))
		// After the name in brackets (proc_pid_stat(5)): the state, the parent, and the times and the
		// resident pages as the 12th, the 13th and the 22nd.
		v := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
		n := func(i int) int64 { x, _ := strconv.ParseInt(v[i], 10, 64); return x }
		all[pid] = process{int(n(1)), n(11) + n(12), n(21) * int64(os.Getpagesize())}
	}
	var below func(pid int)
	below = func(pid int) {
		const second = 100 // clock ticks, of which Linux shows that many on every architecture
		seconds, resident = seconds+float64(all[pid].ticks)/second, resident+all[pid].resident
		for child, p := range all {
			if p.parent == pid {
				below(child)
			}
		}
	}
	for _, p := range w.processes() {
		var pid int
		if _, err := fmt.Sscanf(p, "/proc/%d/", &pid); err == nil && strings.Contains(p, "simulated-site") {
			below(pid)
		}
	}
	return seconds, resident
}

// settle waits until the site's processes take less than half a processor, or no less than a
// moment ago: those of a large cluster that was just raised are busy with telling each other.
func (w *world) settle(most time.Duration) {
	w.Helper()
	last, _ := w.siteUses()
	at, before := time.Now(), math.Inf(1)
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for end := time.Now().Add(most); time.Now().Before(end); {
		<-tick.C
		now, _ := w.siteUses()
		busy := (now - last) / time.Since(at).Seconds()
		if busy < 0.5 || busy > 0.9*before {
			return
		}
		last, at, before = now, time.Now(), busy
	}
	w.Fatalf("the site's processes are still busy after %s", most)
}
