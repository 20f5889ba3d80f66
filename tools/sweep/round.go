package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// The cluster of a round.
const (
	cluster = "tidewatch"
	older   = "v1.36.3"
	newer   = "v1.37.2"
)

// deed is something that is done with a cluster.
type deed struct {
	name    string
	entries int        // of its journal, about
	args    []string   // of the command; empty: the raising
	before  [][]string // commands before it, that nobody disturbs
	version string     // that the cluster runs afterwards
	gauges  int        // machines of that pool afterwards; 0 as drafted
	edits   [][2]string
	loses   bool // what was written after the commands before it
	again   bool // the same command goes on, and no other does: status says so
}

var deeds = []deed{
	{name: "raise", entries: 122, version: older},
	{name: "upgrade", entries: 133, args: []string{"upgrade", newer}, version: newer},
	{name: "upgrade-replacing", entries: 392, args: []string{"upgrade", newer}, version: newer, edits: [][2]string{{"way: in-place", "way: replacement"}, {"rollout: {soak", "rollout: {way: replacement, soak"}}},
	{name: "renew", entries: 78, args: []string{"trust", "renew", "--all"}, version: older},
	{name: "replace-authority", entries: 100, args: []string{"trust", "replace", "cluster-authority"}, version: older, again: true},
	{name: "replace", entries: 26, args: []string{"replace", cluster + "-gauges-2"}, version: older},
	{name: "replace-control", entries: 30, args: []string{"replace", cluster + "-control-2"}, version: older},
	{name: "restore", entries: 26, args: []string{"backup", "restore", "newest"}, before: [][]string{{"backup", "take"}}, version: older, loses: true},
	{name: "grow", entries: 42, args: []string{"scale", "gauges", "4"}, version: older, gauges: 4},
	{name: "shrink", entries: 32, args: []string{"scale", "gauges", "2"}, version: older, gauges: 2},
	{name: "clear", entries: 8, args: []string{"clear", cluster + "-gauges-1"}, version: older},
}

func names() (out []string) {
	for _, d := range deeds {
		out = append(out, d.name)
	}
	return out
}

// victims are who is killed; of a lead it is the lease that goes, and whoever held it ends by that.
var victims = []string{"tool", "site", "zone", "machine", "lead"}

// ofMemory are those of a memory that lies in an etcd: a member of it, and the way to all of them.
var ofMemory = []string{"member", "way"}

// whom is who may be killed.
func whom(share bool) []string {
	if share {
		return append(slices.Clone(ofMemory), "tool")
	}
	return victims
}

// mostRuns is how many runs may be needed after something was killed.
const mostRuns = 2

// round is one cluster with which one thing is done while something is killed.
type round struct {
	program string
	seed    uint64
	does    string
	kills   string
	after   int  // entries of the journal
	share   bool // the memory lies in an etcd

	memory *shared
	dir    string
	killed bool   // it came to that
	said   int    // entries of the journal, up to the end of what was disturbed
	whom   string // by name
	runs   int    // that were needed afterwards
	notes  map[string]string
}

// chosen is the round of a seed; what is not left open is as it was asked for.
func chosen(program string, seed uint64, does, kills string, share bool) *round {
	rnd := rand.New(rand.NewPCG(seed, 0))
	who := whom(share)
	d, v := deeds[rnd.IntN(len(deeds))], who[rnd.IntN(len(who))]
	part := rnd.Float64()
	if does != "" {
		d = deeds[slices.Index(names(), does)]
	}
	if kills != "" {
		v = kills
	}
	return &round{program: program, seed: seed, does: d.name, kills: v, after: 1 + int(part*float64(d.entries)), share: share}
}

// what says who was killed when.
func (r *round) what() string {
	if !r.killed {
		return fmt.Sprintf("over after %d entries, before entry %d", r.said, r.after)
	}
	return fmt.Sprintf("%s killed at entry %d", r.whom, r.after)
}

// run makes the round. Its folder stays if it failed.
func (r *round) run(ctx context.Context) (err error) {
	if r.dir, err = os.MkdirTemp("", "verbund-sweep-"); err != nil {
		return err
	}
	defer func() {
		if err == nil || ctx.Err() != nil {
			// Whatever happened, nothing is left running.
			r.tool(context.WithoutCancel(ctx), "teardown", "--confirm", cluster)
			r.killSite()
			r.endMemory()
			os.RemoveAll(r.dir)
			return
		}
		r.killSite()
		r.endMemory()
		err = fmt.Errorf("%s, %s: %w\n  its folder: %s", r.does, r.what(), err, r.dir)
	}()
	d := deeds[slices.Index(names(), r.does)]
	if err := r.draft(ctx, d); err != nil {
		return err
	}
	if r.share {
		if err := r.shareMemory(ctx); err != nil {
			return err
		}
	}
	rnd := rand.New(rand.NewPCG(r.seed, 1))
	if d.args == nil {
		if err := r.disturbed(ctx, rnd, []string{"converge", "--yes"}); err != nil {
			return err
		}
	} else {
		if _, err := r.tool(ctx, "converge", "--yes"); err != nil {
			return err
		}
		if r.notes, err = r.write(ctx, "kept"); err != nil {
			return err
		}
		for _, args := range d.before {
			if _, err := r.tool(ctx, args...); err != nil {
				return err
			}
		}
		if d.loses {
			if _, err := r.write(ctx, "lost"); err != nil {
				return err
			}
		}
		if err := r.disturbed(ctx, rnd, append(slices.Clone(d.args), "--yes", "--confirm", cluster)); err != nil {
			return err
		}
	}
	if err := r.finish(ctx, d); err != nil {
		return err
	}
	return r.compare(ctx, d)
}

// draft declares the cluster of a round, at a block of addresses of its own.
func (r *round) draft(ctx context.Context, d deed) error {
	if _, err := r.tool(ctx, "draft", cluster, "--shape", "available", "--pools", "gauges,forecast", "--kubernetes", older); err != nil {
		return err
	}
	change := func(file string, edits ...[2]string) error {
		b, err := os.ReadFile(filepath.Join(r.dir, file))
		if err != nil {
			return err
		}
		text := string(b)
		for _, e := range edits {
			if !strings.Contains(text, e[0]) {
				return fmt.Errorf("the draft has no %q", e[0])
			}
			text = strings.ReplaceAll(text, e[0], e[1])
		}
		return os.WriteFile(filepath.Join(r.dir, file), []byte(text), 0o644)
	}
	if err := change(cluster+".verbund.yaml", append([][2]string{{"soak: 10s", "soak: 1s"}}, d.edits...)...); err != nil {
		return err
	}
	var lines []string
	b, err := os.ReadFile(filepath.Join(r.dir, "estuary.site.yaml"))
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(b)) {
		switch {
		case strings.HasPrefix(line, "pace:"):
			line = "pace: 400\n"
		case strings.HasPrefix(line, "addresses:"):
			line = fmt.Sprintf("addresses: 127.%d.%d.0/24\n", 140+os.Getpid()%80, r.seed*7%251+uint64(r.after)%4)
		}
		lines = append(lines, line)
	}
	return os.WriteFile(filepath.Join(r.dir, "estuary.site.yaml"), []byte(strings.Join(lines, "")), 0o644)
}

// command prepares a command of the program in the round's folder.
func (r *round) command(ctx context.Context, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, r.program, args...)
	c.Dir = r.dir
	c.Env = append(os.Environ(), "NO_COLOR=1", "VERBUND_KEYS="+filepath.Join(r.dir, "keys"))
	return c
}

// longest is how long one command may take.
const longest = 5 * time.Minute

// tool runs a command to its end.
func (r *round) tool(ctx context.Context, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	c := r.command(ctx, args...)
	var out, said bytes.Buffer
	c.Stdout, c.Stderr = &out, &said
	if err := c.Run(); err != nil {
		return out.String(), fmt.Errorf("verbund %s: %w\n%s", strings.Join(args, " "), err, said.String())
	}
	return out.String(), nil
}

// disturbed runs a command, and kills somebody after so many entries of its journal. How it
// ends is looked at afterwards.
func (r *round) disturbed(ctx context.Context, rnd *rand.Rand, args []string) error {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	c := r.command(ctx, append(args, "--output", "json")...)
	out, err := c.StdoutPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return err
	}
	n := 0
	var kerr error
	for d := json.NewDecoder(out); ; {
		var e json.RawMessage
		if d.Decode(&e) != nil {
			break
		}
		if n++; n == r.after {
			switch kerr = r.kill(ctx, rnd, c.Process); {
			case kerr == nil:
				r.killed = true
			case errors.Is(kerr, errNobody):
				kerr = nil
				r.after++ // somebody is there an entry later
			}
		}
	}
	c.Wait()
	r.said = n
	return kerr
}

// kill kills whom the round is to kill.
func (r *round) kill(ctx context.Context, rnd *rand.Rand, tool *os.Process) error {
	r.whom = "the " + r.kills
	switch r.kills {
	case "tool":
		return tool.Kill()
	case "member":
		whom, err := r.memory.killMember(rnd)
		r.whom = whom
		return err
	case "way":
		r.whom = r.memory.cut(rnd)
		return nil
	case "site":
		pid, err := r.site()
		if err != nil {
			return err
		}
		return syscall.Kill(pid, syscall.SIGKILL)
	case "zone":
		pid, err := r.site()
		if err != nil {
			return err
		}
		zones := children(pid, "simulated-zone")
		if len(zones) == 0 {
			return errNobody // it is yet to be started
		}
		z := zones[rnd.IntN(len(zones))]
		r.whom = fmt.Sprintf("zone %d of %d", slices.Index(zones, z)+1, len(zones))
		return syscall.Kill(z, syscall.SIGKILL)
	}
	ms, err := r.machines(ctx)
	if err != nil {
		return err
	}
	if r.kills == "lead" {
		ms = slices.DeleteFunc(ms, func(n string) bool { return !strings.HasPrefix(n, cluster+"-control-") })
	}
	if len(ms) == 0 {
		return errNobody
	}
	name := ms[rnd.IntN(len(ms))]
	does := []string{"site", "power", name, "cut"}
	if r.whom = "machine " + name; r.kills == "lead" {
		r.whom, does = "the lead on "+name, []string{"site", "fault", "lost-lead", name}
	}
	if _, err = r.tool(ctx, does...); err != nil {
		if left, lerr := r.machines(ctx); lerr == nil && !slices.Contains(left, name) {
			return errNobody // it has gone since
		}
	}
	return err
}

// errNobody says that there is nobody to be killed at that moment.
var errNobody = errors.New("nobody is there to be killed")

// site is the process of the site.
func (r *round) site() (int, error) {
	b, err := os.ReadFile(filepath.Join(r.dir, ".verbund/sites/estuary/process"))
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(strings.TrimSpace(string(b)))
}

// killSite ends the site's process, if it runs.
func (r *round) killSite() {
	if pid, err := r.site(); err == nil && len(children(pid, "")) > 0 {
		syscall.Kill(pid, syscall.SIGKILL)
	}
}

// children are the processes that a process has started with a word in their command line.
func children(pid int, word string) (out []int) {
	ps, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, p := range ps {
		b, err := os.ReadFile(p)
		if err != nil {
			continue
		}
		// What stands between the brackets may hold anything (proc_pid_stat(5)).
		_, rest, ok := strings.Cut(string(b[max(0, bytes.LastIndexByte(b, ')')):]), ") ")
		if f := strings.Fields(rest); !ok || len(f) < 2 || f[1] != strconv.Itoa(pid) {
			continue
		}
		line, err := os.ReadFile(filepath.Join(filepath.Dir(p), "cmdline"))
		if id, cerr := strconv.Atoi(filepath.Base(filepath.Dir(p))); err == nil && cerr == nil && strings.Contains(string(line), word) {
			out = append(out, id)
		}
	}
	slices.Sort(out)
	return out
}

// finish runs the tool until the cluster is as declared. A command that did not come so far as
// to write down what it was to change is said again: nothing of it has happened.
func (r *round) finish(ctx context.Context, d deed) error {
	var last error
	for r.runs = 1; r.runs <= mostRuns; r.runs++ {
		args := []string{"converge", "--yes", "--confirm", cluster}
		if d.again || !r.began(d) {
			args = append(slices.Clone(d.args), "--yes", "--confirm", cluster)
		}
		if last = r.waits(ctx, args...); last == nil && r.began(d) {
			return nil
		}
	}
	return fmt.Errorf("not as declared after %d runs: %w", mostRuns, last)
}

// began says whether what a command was to change is written down.
func (r *round) began(d deed) bool {
	b, err := os.ReadFile(filepath.Join(r.dir, cluster+".verbund.yaml"))
	if err != nil {
		return false
	}
	switch d.name {
	case "upgrade", "upgrade-replacing":
		return strings.Contains(string(b), "kubernetes: "+newer)
	case "grow", "shrink":
		return strings.Contains(string(b), fmt.Sprintf("count: %d\n    size: small", d.gauges))
	case "restore":
		text, err := r.tool(context.Background(), "history", "-o", "json")
		return err == nil && strings.Contains(text, `"backup restore"`)
	}
	return true
}
