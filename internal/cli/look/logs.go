package look

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/engine/session"
	"verbund/internal/site"
)

// LogLine is one line of a log.
type LogLine struct {
	Time    time.Time `json:"time,omitzero"` // zero: the line says none, nor any before it
	Machine string    `json:"machine"`
	Unit    string    `json:"unit"` // console: what the machine itself wrote
	Text    string    `json:"text"`
}

const console = "console"

// LogsCmd is verbund logs.
func LogsCmd(a *desk.App) *cobra.Command {
	var units []string
	var lines int
	var all, follow bool
	var since string
	c := &cobra.Command{
		Use: "logs MACHINE…", Short: "Show what machines or their services wrote",
		Long: `Shows the console of machines, or what their services wrote: those that are named
with --unit, or all of them side by side, in the order of time.`,
		Example: "  verbund logs tidewatch-control-1 -u kube-apiserver --since 10m\n  verbund logs tidewatch-control-1 tidewatch-gauges-1 --all --follow",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("logs needs at least one machine; machines lists them")
			}
			if lines < 0 {
				return term.Usage("--lines %d is not possible; 0 shows all", lines)
			}
			l := &logs{App: a, lines: lines, all: all, follow: follow}
			for _, u := range units {
				l.units = append(l.units, strings.TrimSuffix(u, ".service")+".service")
			}
			if since != "" {
				var d declare.Duration
				if err := d.UnmarshalText([]byte(since)); err == nil {
					l.since = time.Now().Add(-time.Duration(d))
				} else if l.since, err = time.Parse(time.RFC3339, since); err != nil {
					return term.Usage("--since %s is neither a time, such as 10m, nor a moment, such as 2026-11-26T19:00:00Z", since)
				}
				l.lines = 0
			}
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			err = l.show(s, args)
			if errors.Is(err, site.ErrNotRunning) {
				err = desk.SiteError(s, err)
			}
			return err
		},
	}
	c.Flags().StringSliceVarP(&units, "unit", "u", nil, "a service, such as kubelet; the console if none is given")
	c.Flags().BoolVar(&all, "all", false, "the console and all services, side by side")
	c.Flags().IntVarP(&lines, "lines", "n", 50, "how many lines of each, 0 for all")
	c.Flags().BoolVar(&follow, "follow", false, "go on with what is written from now on")
	c.Flags().StringVar(&since, "since", "", "only what was written since then: a time, such as 10m, or a moment")
	return c
}

// logs is one look at logs.
type logs struct {
	*desk.App
	units       []string
	lines       int
	all, follow bool
	since       time.Time

	from []*source
}

// source is one log of one machine.
type source struct {
	name string
	m    session.Machine
	unit string // empty: the console
	last string // the last line that was shown, as it lies there
	at   time.Time
}

func (l *logs) show(s *session.Session, names []string) error {
	for _, name := range names {
		m, err := s.Machine(l.Soft, name, 0)
		if err != nil {
			return err
		}
		us, err := m.Units(l.Soft)
		if err != nil {
			return err
		}
		known := []string{}
		for _, u := range us {
			known = append(known, u.Name)
		}
		for _, u := range l.units {
			if !slices.Contains(known, u) {
				short := []string{}
				for _, k := range known {
					short = append(short, strings.TrimSuffix(k, ".service"))
				}
				return term.Usage("machine %s has no service %s; it has %s", name, strings.TrimSuffix(u, ".service"), strings.Join(short, ", "))
			}
		}
		units := l.units
		if l.all {
			units = append([]string{""}, known...)
		} else if len(units) == 0 {
			units = []string{""}
		}
		for _, u := range units {
			l.from = append(l.from, &source{name: name, m: m, unit: u})
		}
	}
	if err := l.next(); err != nil || !l.follow {
		return err
	}
	tick := time.NewTicker(500 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-l.Soft.Done():
			return nil
		case <-tick.C:
		}
		if err := l.next(); err != nil && l.Soft.Err() == nil {
			return err
		}
	}
}

// next shows what every log has that was not shown yet, in the order of time.
func (l *logs) next() error {
	all := make([][]LogLine, len(l.from))
	errs := make([]error, len(l.from))
	var wg sync.WaitGroup
	for i, f := range l.from {
		wg.Go(func() { all[i], errs[i] = f.read(l.Soft, l.lines, l.since) })
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return err
	}
	out := slices.Concat(all...)
	slices.SortStableFunc(out, func(x, y LogLine) int { return x.Time.Compare(y.Time) })
	if l.Output == "json" {
		if !l.follow {
			return l.UI.JSON(term.List(out))
		}
		e := json.NewEncoder(l.Out)
		for _, x := range out {
			if err := e.Encode(x); err != nil {
				return err
			}
		}
		return nil
	}
	machines, units := map[string]bool{}, map[string]bool{}
	for _, f := range l.from {
		machines[f.name], units[f.unit] = true, true
	}
	for _, x := range out {
		at := strings.Repeat(" ", len(time.StampMilli))
		if !x.Time.IsZero() {
			at = x.Time.Local().Format("2006-01-02 15:04:05.000")
		}
		line := at
		if len(machines) > 1 {
			line += "  " + x.Machine
		}
		if len(units) > 1 {
			line += "  " + x.Unit
		}
		fmt.Fprintln(l.Out, line+"  "+term.Visible(x.Text))
	}
	return nil
}

// read reads what came since it was last read.
func (f *source) read(ctx context.Context, lines int, since time.Time) ([]LogLine, error) {
	n := lines
	if f.last != "" {
		n = 1000 // more than is written between two looks
	}
	got, err := f.m.Logs(ctx, f.unit, n)
	if err != nil {
		return nil, err
	}
	if f.last != "" {
		for i := len(got) - 1; i >= 0; i-- {
			if got[i] == f.last {
				got = got[i+1:]
				break
			}
		}
	}
	var out []LogLine
	for _, raw := range got {
		if raw == "" {
			continue
		}
		f.last = raw
		at, text := stamped(raw)
		// A line that says no time belongs to the one before it.
		if at.IsZero() {
			at = f.at
		}
		f.at = at
		if at.Before(since) {
			continue
		}
		out = append(out, LogLine{at, f.name, cmp.Or(strings.TrimSuffix(f.unit, ".service"), console), text})
	}
	return out, nil
}

// stamped reads the time at the head of a line, however it is written there: as the
// services write it, or as a key of JSON.
func stamped(line string) (time.Time, string) {
	head, rest, _ := strings.Cut(line, " ")
	if at, err := time.Parse(time.RFC3339, head); err == nil {
		return at, rest
	}
	if strings.HasPrefix(line, "{") {
		var j struct {
			TS string `json:"ts"`
		}
		if json.Unmarshal([]byte(line), &j) == nil && j.TS != "" {
			for _, form := range []string{"2006-01-02T15:04:05.999999Z0700", time.RFC3339Nano} {
				if at, err := time.Parse(form, j.TS); err == nil {
					return at, line
				}
			}
		}
	}
	return time.Time{}, line
}
