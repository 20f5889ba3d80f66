package linux

import (
	"strings"
	"testing"
)

// A machine's kernel says what the machine has, and not what this computer has.
func TestKernelShows(t *testing.T) {
	const computer = "MemTotal:       24576000 kB\nMemFree:        12288000 kB\nSwapTotal:       1000000 kB\nVmallocTotal:   34359738367 kB\nHugePages_Total:       0\nHugepagesize:       2048 kB\n"
	got := meminfo(computer, 2048000<<10)
	for _, l := range []string{"MemTotal:        2048000 kB", "MemFree:         1024000 kB", "SwapTotal:             0 kB", "VmallocTotal:   34359738367 kB", "HugePages_Total:       0", "Hugepagesize:       2048 kB"} {
		if !strings.Contains(got, l+"\n") {
			t.Errorf("there is no %q in\n%s", l, got)
		}
	}
	// One that is declared larger than this computer has what there is.
	if got := meminfo(computer, 1<<40); !strings.Contains(got, "MemTotal:       24576000 kB") || !strings.Contains(got, "MemFree:        12288000 kB") {
		t.Errorf("larger than the computer:\n%s", got)
	}
	const cpus = "processor\t: 0\nmodel\t: x\n\nprocessor\t: 1\nmodel\t: x\n\nprocessor\t: 2\nmodel\t: x\n\n"
	for n, want := range map[int]int{1: 1, 2: 2, 8: 3} {
		if got := strings.Count(cpuinfo(cpus, n), "processor"); got != want {
			t.Errorf("of %d it shows %d, wanted %d", n, got, want)
		}
	}
	for _, x := range []struct {
		list string
		n    int
		want string
	}{{"0-7\n", 2, "0,1\n"}, {"0\n", 4, "0\n"}, {"1-2,5\n", 3, "1,2,5\n"}, {"?\n", 2, "?\n"}} {
		if got := firstOf(x.list, x.n); got != x.want {
			t.Errorf("%q of %d: %q, wanted %q", x.list, x.n, got, x.want)
		}
	}
}
