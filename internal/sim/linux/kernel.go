package linux

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// shows are files in which the kernel says what a machine has, by path; each is worked out of what
// it says of this computer. Namespaces do not change them: without files of a machine's own, a
// kubelet would offer the memory of the whole computer, and the kernel end what the scheduler then
// puts there.
var shows = map[string]func(computer string, cpus int, memory int64) string{
	"proc/meminfo":                   func(c string, _ int, memory int64) string { return meminfo(c, memory) },
	"proc/cpuinfo":                   func(c string, cpus int, _ int64) string { return cpuinfo(c, cpus) },
	"sys/devices/system/cpu/online":  func(c string, cpus int, _ int64) string { return firstOf(c, cpus) },
	"sys/devices/system/cpu/present": func(c string, cpus int, _ int64) string { return firstOf(c, cpus) },
}

// meminfo is /proc/meminfo of a machine with so many bytes of memory: it has no swap, and of
// everything else its share (proc_meminfo(5)).
func meminfo(computer string, memory int64) string {
	var b strings.Builder
	total := int64(0)
	for l := range strings.Lines(computer) {
		name, rest, _ := strings.Cut(strings.TrimRight(l, "\n"), ":")
		f := strings.Fields(rest)
		if len(f) != 2 || f[1] != "kB" {
			b.WriteString(l)
			continue
		}
		n, err := strconv.ParseInt(f[0], 10, 64)
		if err != nil {
			b.WriteString(l)
			continue
		}
		switch {
		case name == "MemTotal":
			total, n = n, min(n, memory>>10)
		case strings.HasPrefix(name, "Swap"):
			n = 0
		case total > memory>>10 && !strings.HasPrefix(name, "Vmalloc") && name != "Hugepagesize":
			n = int64(float64(n) * float64(memory>>10) / float64(total))
		}
		fmt.Fprintf(&b, "%s %8d kB\n", fmt.Sprintf("%-15s", name+":"), n)
	}
	return b.String()
}

// cpuinfo is /proc/cpuinfo of a machine with so many processors, of those that this computer has.
func cpuinfo(computer string, cpus int) string {
	blocks := strings.Split(strings.TrimRight(computer, "\n"), "\n\n")
	return strings.Join(blocks[:min(len(blocks), max(cpus, 1))], "\n\n") + "\n\n"
}

// firstOf are the first of a list of processors, such as 0-3,6 (sysfs, cputopology).
func firstOf(list string, cpus int) string {
	var out []string
	for part := range strings.SplitSeq(strings.TrimSpace(list), ",") {
		from, to, isRange := strings.Cut(part, "-")
		a, err := strconv.Atoi(from)
		z := a
		if isRange && err == nil {
			z, err = strconv.Atoi(to)
		}
		if err != nil {
			return list
		}
		for n := a; n <= z && len(out) < max(cpus, 1); n++ {
			out = append(out, strconv.Itoa(n))
		}
	}
	return strings.Join(out, ",") + "\n"
}

// showOwn puts a machine's own files over those in which the kernel says what this computer has.
func showOwn(root, own string, cpus int, memory int64) error {
	for p, of := range shows {
		b, err := os.ReadFile(filepath.Join(root, p))
		if errors.Is(err, fs.ErrNotExist) {
			continue // this kernel does not say it
		}
		if err != nil {
			return err
		}
		f := filepath.Join(own, strings.ReplaceAll(p, "/", "."))
		if err := os.WriteFile(f, []byte(of(string(b), cpus, memory)), 0o444); err != nil {
			return err
		}
		if err := bind(f, filepath.Join(root, p)); err != nil {
			return err
		}
	}
	return nil
}
