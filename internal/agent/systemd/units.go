package systemd

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/unit"
	godbus "github.com/godbus/dbus/v5"

	"verbund/internal/machine/protocol"
	"verbund/internal/whole"
)

const (
	unitDir = "/etc/systemd/system"
	ours    = "/opt/verbund/" // a unit whose file is a link to here
	active  = ours + "active/units"
)

// names lists our units: those with a file, and those whose file has gone that still run.
func (s *System) names(ctx context.Context) ([]string, error) {
	var out []string
	for _, f := range whole.Named(unitDir, ".service") {
		if to, err := os.Readlink(f); err == nil && strings.HasPrefix(to, ours) {
			out = append(out, filepath.Base(f))
		}
	}
	all, err := s.manager.ListUnitsByPatternsContext(ctx, []string{"active", "activating", "deactivating", "reloading"}, []string{"*.service"})
	if err != nil {
		return nil, fmt.Errorf("asking systemd for its units: %w", err)
	}
	for _, u := range all {
		if u.LoadState == "loaded" && !slices.Contains(out, u.Name) {
			if p, err := s.manager.GetUnitPropertyContext(ctx, u.Name, "FragmentPath"); err == nil {
				if f, _ := p.Value.Value().(string); strings.HasPrefix(f, ours) {
					out = append(out, u.Name)
				}
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

// Units asks for the state of every unit of ours.
func (s *System) Units(ctx context.Context) ([]protocol.UnitState, error) {
	names, err := s.names(ctx)
	if err != nil {
		return nil, err
	}
	out := []protocol.UnitState{}
	for _, n := range names {
		st, err := s.state(ctx, n)
		if err != nil {
			return nil, err
		}
		out = append(out, st)
	}
	return out, nil
}

// killed is added to a signal to make an exit code of it, as shells do.
const killed = 128

func (s *System) state(ctx context.Context, name string) (protocol.UnitState, error) {
	p, err := s.manager.GetAllPropertiesContext(ctx, name)
	if err != nil {
		return protocol.UnitState{}, fmt.Errorf("asking systemd for %s: %w", name, err)
	}
	st := protocol.UnitState{Name: name, State: fmt.Sprint(p["ActiveState"])}
	if us, ok := p["StateChangeTimestamp"].(uint64); ok && us > 0 {
		st.Since = time.UnixMicro(int64(us))
	}
	if n, ok := p["NRestarts"].(uint32); ok {
		st.Restarts = int(n)
	}
	status, _ := p["ExecMainStatus"].(int32)
	code, _ := p["ExecMainCode"].(int32)
	if st.ExitCode = int(status); code == cldKilled || code == cldDumped {
		st.ExitCode += killed
	}
	if pid, ok := p["MainPID"].(uint32); ok && pid > 0 {
		began, _ := p["ExecMainStartTimestamp"].(uint64)
		unread, _ := p["NeedDaemonReload"].(bool)
		i, err := os.Stat(filepath.Join(unitDir, name))
		st.Older = unread || err == nil && began > 0 && time.UnixMicro(int64(began)).Before(i.ModTime())
		// What runs, not what should: a link that was moved does not change a process.
		exe, _ := os.Readlink("/proc/" + strconv.Itoa(int(pid)) + "/exe")
		st.Program = filepath.Base(exe)
		st.Version, _ = s.Version(exe)
	}
	if st.Program == "" || st.Version == "" {
		if exe := execOf(p["ExecStart"]); exe != "" {
			st.Program = filepath.Base(exe)
			if st.Version == "" {
				st.Version, _ = s.Version(exe)
			}
		}
	}
	if st.ExitCode != 0 && (st.Restarts > 0 || st.State == "failed") {
		st.Last = s.lastWord(ctx, name)
	}
	return st, nil
}

// How a process ended, as waitid(2) says.
const cldKilled, cldDumped = 2, 3

// execOf is the program of a unit's first command.
func execOf(property any) string {
	cs, ok := property.([][]any)
	if !ok || len(cs) == 0 || len(cs[0]) == 0 {
		return ""
	}
	exe, _ := cs[0][0].(string)
	return exe
}

// lastWord is the last line that a unit itself wrote.
func (s *System) lastWord(ctx context.Context, name string) string {
	ls, err := journal(ctx, 1, "_SYSTEMD_UNIT="+name)
	if err != nil || len(ls) == 0 {
		return ""
	}
	_, text, _ := strings.Cut(ls[0], " ")
	return text
}

// job has systemd do something to a unit, and waits until it has.
func (s *System) job(ctx context.Context, name, what string, do func(context.Context, string, string, chan<- string) (int, error)) error {
	done := make(chan string, 1)
	if _, err := do(ctx, name, "replace", done); err != nil {
		return fmt.Errorf("unit %s: %s: %w", name, what, err)
	}
	select {
	case r := <-done:
		if r == "done" || r == "skipped" {
			return nil
		}
		st, err := s.state(ctx, name)
		if err != nil {
			return err
		}
		return fmt.Errorf("unit %s: %s ended as %s: exit code %d: %s", name, what, r, st.ExitCode, s.lastWord(ctx, name))
	case <-ctx.Done():
		return fmt.Errorf("unit %s: %s: %w", name, what, ctx.Err())
	}
}

// Start brings a unit up. What was written since is read first: systemd would start it
// with what it knew before, and say nothing.
func (s *System) Start(ctx context.Context, name string) error {
	if err := s.ours(name); err != nil {
		return err
	}
	if err := s.manager.ReloadContext(ctx); err != nil {
		return fmt.Errorf("having systemd read its files: %w", err)
	}
	// It may have failed too often before, for reasons that are gone.
	if err := s.manager.ResetFailedUnitContext(ctx, name); err != nil && !unknown(err) {
		return fmt.Errorf("unit %s: %w", name, err)
	}
	return s.job(ctx, name, "starting", s.manager.StartUnitContext)
}

// Stop stops a unit; one that does not run, or is not there, is stopped, whosesoever it is.
func (s *System) Stop(ctx context.Context, name string) error {
	st, err := s.manager.ListUnitsByNamesContext(ctx, []string{name})
	if err != nil {
		return fmt.Errorf("asking systemd for %s: %w", name, err)
	}
	if len(st) == 0 || st[0].ActiveState == "inactive" {
		return nil
	}
	p, err := s.manager.GetUnitPropertyContext(ctx, name, "FragmentPath")
	if err != nil {
		return fmt.Errorf("asking systemd for %s: %w", name, err)
	}
	// Its file may have been taken away while it ran: what it was started from is known still.
	if f, _ := p.Value.Value().(string); !strings.HasPrefix(f, ours) {
		if err := s.ours(name); err != nil {
			return err
		}
	}
	return s.job(ctx, name, "stopping", s.manager.StopUnitContext)
}

// Reload has a unit that runs read its configuration.
func (s *System) Reload(ctx context.Context, name string) error {
	if err := s.ours(name); err != nil {
		return err
	}
	if err := s.manager.ReloadContext(ctx); err != nil {
		return fmt.Errorf("having systemd read its files: %w", err)
	}
	return s.job(ctx, name, "reloading", s.manager.ReloadUnitContext)
}

// ours refuses a unit that we have not brought.
func (s *System) ours(name string) error {
	if strings.ContainsAny(name, "/\x00") {
		return fmt.Errorf("%q is not the name of a unit", name)
	}
	to, err := os.Readlink(filepath.Join(unitDir, name))
	switch {
	case errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("unit %s: there is no such unit in the active slot", name)
	case err != nil || !strings.HasPrefix(to, ours):
		return fmt.Errorf("unit %s was not brought by Verbund, which leaves it alone", name)
	}
	return nil
}

func unknown(err error) bool {
	var e godbus.Error
	return errors.As(err, &e) && e.Name == "org.freedesktop.systemd1.NoSuchUnit"
}

// Linked links and enables what the active slot has, and forgets what it has not.
func (s *System) Linked(ctx context.Context) error {
	has := whole.Named(active, ".service")
	for _, f := range whole.Named(unitDir, ".service") {
		n := filepath.Base(f)
		if to, err := os.Readlink(f); err != nil || !strings.HasPrefix(to, ours) || slices.Contains(has, filepath.Join(active, n)) {
			continue
		}
		if err := s.forget(ctx, n); err != nil {
			return err
		}
	}
	for _, f := range has {
		n := filepath.Base(f)
		own := filepath.Join(unitDir, n)
		if to, err := os.Readlink(own); err == nil && !strings.HasPrefix(to, ours) || err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("unit %s is there already and was not brought by Verbund; take it away, or its machine out of the cluster", n)
		}
		b, err := os.ReadFile(f)
		if err != nil {
			return err
		}
		opts, err := unit.DeserializeOptions(bytes.NewReader(b))
		if err != nil {
			return fmt.Errorf("unit %s: %w", n, err)
		}
		if err := relink(f, own); err != nil {
			return err
		}
		for _, o := range opts {
			if o.Section != "Install" || o.Name != "WantedBy" {
				continue
			}
			for _, target := range strings.Fields(o.Value) {
				if err := relink("../"+n, filepath.Join(unitDir, target+".wants", n)); err != nil {
					return err
				}
			}
		}
	}
	if err := s.manager.ReloadContext(ctx); err != nil {
		return fmt.Errorf("having systemd read its files: %w", err)
	}
	return nil
}

// relink makes a link lead somewhere.
func relink(to, at string) error {
	if now, err := os.Readlink(at); err == nil && now == to {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		return err
	}
	if err := os.Remove(at); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return os.Symlink(to, at)
}

// forget takes the links of a unit away.
func (s *System) forget(ctx context.Context, name string) error {
	wants, err := filepath.Glob(unitDir + "/*.wants/" + name)
	if err != nil {
		return err
	}
	for _, f := range append(wants, filepath.Join(unitDir, name)) {
		if err := os.Remove(f); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

// endContainers ends what a container runtime leaves running when it stops: shims and the
// processes of pods, which live in cgroups of their own.
func (s *System) endContainers(ctx context.Context) error {
	end, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		left := 0
		procs, err := filepath.Glob("/proc/[0-9]*/cgroup")
		if err != nil {
			return err
		}
		for _, f := range procs {
			b, err := os.ReadFile(f)
			if err != nil || !bytes.Contains(b, []byte("kubepods")) && !bytes.Contains(b, []byte("/containerd.service")) {
				continue
			}
			if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(f))); err == nil && pid != os.Getpid() {
				left++
				syscall.Kill(pid, syscall.SIGKILL)
			}
		}
		if left == 0 {
			return nil
		}
		select {
		case <-tick.C:
		case <-end.Done():
			return fmt.Errorf("%d processes of containers do not end", left)
		}
	}
}

// stampForm is how logs tell the time (RFC 3339).
const stampForm = "2006-01-02T15:04:05.000Z07:00"

// Log is the end of the journal of a unit, what systemd says of it included.
func (s *System) Log(ctx context.Context, name string, lines int) ([]string, error) {
	if name == "" {
		return journal(ctx, lines)
	}
	return journal(ctx, lines, "-u", name)
}

// journal reads the journal's end as lines of time and text.
func journal(ctx context.Context, lines int, match ...string) ([]string, error) {
	args := []string{"-o", "json", "--no-pager", "-q"}
	if lines > 0 {
		args = append(args, "-n", strconv.Itoa(lines))
	}
	c := exec.CommandContext(ctx, "journalctl", append(args, match...)...)
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if err != nil {
		return nil, fmt.Errorf("reading the journal: %w: %s", err, strings.TrimSpace(said.String()))
	}
	res := []string{}
	for d := json.NewDecoder(bytes.NewReader(out)); d.More(); {
		var e struct {
			At      string          `json:"__REALTIME_TIMESTAMP"`
			Message json.RawMessage `json:"MESSAGE"`
		}
		if err := d.Decode(&e); err != nil {
			return nil, fmt.Errorf("reading the journal: %w", err)
		}
		us, err := strconv.ParseInt(e.At, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("reading the journal: the time %q: %w", e.At, err)
		}
		res = append(res, time.UnixMicro(us).UTC().Format(stampForm)+" "+message(e.Message))
	}
	return res, nil
}

// message is a line of the journal as text; what is no text comes as a list of bytes.
func message(raw json.RawMessage) string {
	var text string
	if json.Unmarshal(raw, &text) == nil {
		return text
	}
	var numbers []int
	if json.Unmarshal(raw, &numbers) != nil {
		return ""
	}
	b := make([]byte, len(numbers))
	for i, n := range numbers {
		b[i] = byte(n)
	}
	return strings.ToValidUTF8(string(b), "?")
}
