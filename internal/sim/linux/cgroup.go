package linux

import (
	"bufio"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// groups is where this computer has its cgroups.
const groups = "/sys/fs/cgroup"

// hierarchy is one mounted tree of cgroups.
type hierarchy struct {
	at      string // where it is mounted
	options string // of mounting it; empty for that of version 2
	own     string // the group of this process in it
}

// hierarchies lists those of this computer, of version 1 and 2.
func hierarchies() ([]hierarchy, error) {
	own := map[string]string{} // by controllers, "" for version 2
	b, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return nil, err
	}
	for l := range strings.Lines(string(b)) {
		if f := strings.SplitN(strings.TrimSpace(l), ":", 3); len(f) == 3 {
			own[f[1]] = f[2]
		}
	}
	f, err := os.Open("/proc/self/mounts")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var out []hierarchy
	for sc := bufio.NewScanner(f); sc.Scan(); {
		m := strings.Fields(sc.Text())
		if len(m) < 4 || !strings.HasPrefix(m[1], groups) {
			continue
		}
		switch m[2] {
		case "cgroup2":
			out = append(out, hierarchy{at: m[1], own: own[""]})
		case "cgroup":
			var opts []string
			for _, o := range strings.Split(m[3], ",") {
				if !slices.Contains([]string{"rw", "ro", "relatime", "nosuid", "nodev", "noexec"}, o) && !strings.HasPrefix(o, "release_agent") && o != "xattr" {
					opts = append(opts, o)
				}
			}
			o := strings.Join(opts, ",")
			key := o
			if strings.HasPrefix(o, "name=") {
				o = "none," + o
			}
			out = append(out, hierarchy{at: m[1], options: o, own: own[key]})
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no cgroups are mounted under %s", groups)
	}
	return out, nil
}

// controls says whether a hierarchy has a controller of version 1.
func (h hierarchy) controls(name string) bool {
	return slices.Contains(strings.Split(h.options, ","), name)
}

// group is a machine's cgroup: one in every hierarchy.
type group struct {
	name string
	hs   []hierarchy
}

func openGroup(name string) (group, error) {
	hs, err := hierarchies()
	return group{name, hs}, err
}

func (g group) path(h hierarchy) string {
	// Where this process is limited itself, machines are limited with it.
	own := h.own
	if h.options == "" || h.options == "none,name=systemd" {
		own = ""
	}
	return filepath.Join(h.at, own, g.name)
}

// take makes the groups with a machine's limits, and puts a process into them.
func (g group) take(pid, cpus int, memory int64) error {
	for _, h := range g.hs {
		p := g.path(h)
		if h.options == "" {
			// Of version 2, what a group may limit its parent has to hand out. Where all
			// controllers are of version 1 there is nothing to hand out.
			enable(filepath.Dir(p))
		}
		if err := os.MkdirAll(p, 0o755); err != nil {
			return fmt.Errorf("making the cgroup %s: %w", p, err)
		}
		var limits map[string]string
		switch {
		case h.options == "":
			limits = map[string]string{"cpu.max": fmt.Sprintf("%d %d", cpus*period, period), "memory.max": strconv.FormatInt(memory, 10)}
		case h.controls("cpuset"):
			for _, f := range []string{"cpuset.cpus", "cpuset.mems"} {
				b, err := os.ReadFile(filepath.Join(filepath.Dir(p), f))
				if err != nil {
					return err
				}
				if err := os.WriteFile(filepath.Join(p, f), b, 0o644); err != nil {
					return err
				}
			}
		case h.controls("cpu"):
			limits = map[string]string{"cpu.cfs_period_us": strconv.Itoa(period), "cpu.cfs_quota_us": strconv.Itoa(cpus * period)}
		case h.controls("memory"):
			limits = map[string]string{"memory.limit_in_bytes": strconv.FormatInt(memory, 10)}
		}
		for f, v := range limits {
			err := os.WriteFile(filepath.Join(p, f), []byte(v), 0o644)
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
				continue // this computer does not limit it
			}
			if err != nil {
				return fmt.Errorf("limiting %s: %w", p, err)
			}
		}
		if err := os.WriteFile(filepath.Join(p, "cgroup.procs"), []byte(strconv.Itoa(pid)), 0o644); err != nil {
			return fmt.Errorf("putting a machine into the cgroup %s: %w", p, err)
		}
	}
	return nil
}

// period is that in which a share of the processors is counted, in microseconds.
const period = 100000

// enable hands the controllers of version 2 out, as far as there are any.
func enable(at string) {
	for _, c := range []string{"cpu", "memory", "pids", "io", "cpuset"} {
		os.WriteFile(filepath.Join(at, "cgroup.subtree_control"), []byte("+"+c), 0o644)
	}
}

// endPatience is how long the kernel may take to let go of a machine: its last process
// unmounts its disk, and what is not on this computer's disk yet is written then.
const endPatience = 30 * time.Second

// leave removes the groups. The kernel lets go of one a moment after its last process.
func (g group) leave() error {
	var errs []error
	until := time.Now().Add(endPatience)
	for _, h := range g.hs {
		p := g.path(h)
		for {
			err := removeGroups(p)
			if err == nil {
				break
			}
			if !errors.Is(err, syscall.EBUSY) || time.Now().After(until) {
				errs = append(errs, err)
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	return errors.Join(errs...)
}

// removeGroups removes a group with those inside it, the innermost first.
func removeGroups(p string) error {
	es, err := os.ReadDir(p)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range es {
		if e.IsDir() {
			if err := removeGroups(filepath.Join(p, e.Name())); err != nil {
				return err
			}
		}
	}
	if err := syscall.Rmdir(p); err != nil && !errors.Is(err, syscall.ENOENT) {
		return fmt.Errorf("removing the cgroup %s: %w", p, err)
	}
	return nil
}

// Left lists the machines of a site in a folder that have cgroups on this computer: while the
// site does not run, what a crash has left.
func Left(folder string) ([]string, error) {
	hs, err := hierarchies()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, h := range hs {
		found, err := filepath.Glob(filepath.Join(filepath.Dir(group{name: "x"}.path(h)), groupOf(folder, "*")))
		if err != nil {
			return nil, err
		}
		for _, f := range found {
			if n := strings.TrimPrefix(filepath.Base(f), groupOf(folder, "")); !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

// Clear removes what machines of a site that do not run any more have left, and says of
// which machines it was.
func Clear(folder string) ([]string, error) {
	left, err := Left(folder)
	for _, n := range left {
		g, gerr := openGroup(groupOf(folder, n))
		if gerr == nil {
			gerr = g.leave()
		}
		err = errors.Join(err, gerr)
	}
	return left, err
}

// groupOf names a machine's cgroup.
func groupOf(folder, machine string) string { return prefix + short(folder) + "-" + machine }
