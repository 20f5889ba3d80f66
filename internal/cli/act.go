package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/core/plan"
	"verbund/internal/engine"
	"verbund/internal/site"
	"verbund/internal/store"
)

func (a *app) planCmd() *cobra.Command {
	var code bool
	c := &cobra.Command{
		Use: "plan", Short: "Show what would be done, why, and in which order", Args: noArgs,
		Long: "Looks at the site, the machines, the datastore and the API, and shows the steps\nthat lead to what is declared. It changes nothing and waits for no lock.",
		RunE: func(*cobra.Command, []string) error {
			s, err := a.open(true)
			if err != nil {
				return err
			}
			defer s.Close()
			p, v, err := s.Plan(a.soft)
			if err != nil {
				return err
			}
			if a.output == "json" {
				if err := a.ui.json(p); err != nil {
					return err
				}
			} else {
				a.showPlan(s, p, v)
			}
			if code && len(p.Steps) > 0 {
				return &exit{code: exitNotWell}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&code, "exit-code", false, "exit 3 when there is something to do")
	return c
}

func (a *app) showPlan(s *engine.Session, p *plan.Plan, v *engine.View) {
	if v.Inventory == nil && s.Store.Exists() {
		a.ui.say("the site's process is not running, so its machines were not seen; converge starts it")
	}
	if len(p.Steps) == 0 {
		fmt.Fprintf(a.out, "Cluster %s is as declared: nothing to do.\n", s.Decl.Name)
		return
	}
	if p.From != "" && p.From != p.To {
		fmt.Fprintf(a.out, "Upgrade of %s from %s to %s.\n\n", s.Decl.Name, p.From, p.To)
	}
	usual := s.Durations()
	var rows [][]cell
	for i, st := range p.Steps {
		where := st.Machine
		if where == "" {
			where = "cluster"
		}
		batch := ""
		if st.Batch > 0 {
			batch = fmt.Sprint(st.Batch)
		}
		about := ""
		if d, ok := usual.Of(string(st.Kind), st.Machine); ok {
			about = seconds(d)
		}
		what := st.Text
		state := ""
		if st.Final {
			what, state = what+" (final)", "attention"
		}
		row := []cell{plain(fmt.Sprint(i + 1)), plain(where), plain(batch), plain(about), {what, state}}
		rows = append(rows, row)
		if a.verbose {
			why := "because " + st.Why
			if len(st.Guards) > 0 {
				why += "; guard: " + strings.Join(st.Guards, ", ")
			}
			rows = append(rows, cells("", "", "", "", "  "+why))
		}
	}
	a.ui.table([]string{"", "where", "batch", "usually", "what"}, rows)
	fmt.Fprintf(a.out, "\n%s.", count(len(p.Steps), "step"))
	if len(p.Asleep(v.Seen)) > 0 {
		fmt.Fprint(a.out, " Machines that were not reached are switched on first; what they need shows then.")
	}
	fmt.Fprintln(a.out)
	for _, r := range p.Removes {
		fmt.Fprintf(a.out, "Removes %s.\n", r)
	}
	for _, e := range p.Endangers {
		fmt.Fprintf(a.out, "Careful: %s.\n", e)
	}
}

func seconds(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	if rest := d % time.Minute; rest >= time.Second {
		return fmt.Sprintf("%d min %.0f s", d/time.Minute, rest.Seconds())
	}
	return fmt.Sprintf("%d min", d/time.Minute)
}

func (a *app) convergeCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "converge", Short: "Bring about what is declared: raise, grow, shrink, upgrade, repair", Args: noArgs,
		Long: "Looks at what is there, does what is missing, and says what happened where and\nhow long it took. It can be interrupted at any moment and run again: it goes on.",
		RunE: func(*cobra.Command, []string) error {
			s, siteFile, err := a.openFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.converge(s, siteFile)
		},
	}
	return a.asks(c)
}

func (a *app) converge(s *engine.Session, siteFile string) error {
	st, err := store.Open(filepath.Dir(filepath.Dir(s.Store.Path)), s.Decl.Name)
	if err != nil {
		return err
	}
	s.Store = st
	release, err := st.Lock("converge")
	if err != nil {
		return err
	}
	defer release()
	if err := a.startSite(s, siteFile); err != nil {
		return err
	}
	asked := false
	// Machines that are there and asleep are woken first; what they need shows
	// only then. Twice is enough: what does not wake the second time fails.
	for range 3 {
		p, v, err := s.Plan(a.soft)
		if err != nil {
			return err
		}
		if len(p.Steps) == 0 {
			a.ui.say("cluster %s is as declared: nothing to do", s.Decl.Name)
			return nil
		}
		if !asked {
			if err := a.agree(s, p, v); err != nil {
				return err
			}
			asked = true
		}
		steps := p.Asleep(v.Seen)
		again := len(steps) > 0
		if !again {
			steps = p.Steps
		}
		if err := a.carryOut(s, v, "converge", steps); err != nil {
			return err
		}
		if !again {
			return nil
		}
	}
	return errors.New("machines keep falling asleep; machines and their consoles say why")
}

// agree shows what will be done and asks, where there is somebody to ask.
func (a *app) agree(s *engine.Session, p *plan.Plan, v *engine.View) error {
	for _, r := range p.Removes {
		a.ui.say("removes %s", r)
	}
	if len(p.Endangers) > 0 {
		return a.askByName(s.Decl.Name, fmt.Sprintf("in cluster %s, %s", s.Decl.Name, strings.Join(p.Endangers, "; ")))
	}
	if a.yes {
		return nil
	}
	if _, ok := isTerminal(a.in); ok {
		a.showPlan(s, p, v)
	}
	return a.ask(fmt.Sprintf("Do these %s to cluster %s?", count(len(p.Steps), "step"), s.Decl.Name))
}

// carryOut runs steps with the journal and the progress.
func (a *app) carryOut(s *engine.Session, v *engine.View, command string, steps []plan.Step) error {
	pr := newProgress(a, s.Durations(), len(steps))
	r, err := s.Begin(v, command, pr.entry)
	if err != nil {
		return err
	}
	pr.start()
	err = r.Prepare()
	if err == nil {
		err = r.Steps(a.soft, a.hard, steps)
	}
	pr.stop()
	eerr := r.End(err)
	pr.finish(r.ID, err)
	if err == nil {
		return eerr
	}
	var se *engine.StepError
	if errors.As(err, &se) {
		return errors.Join(failure(se), eerr)
	}
	return err
}

// failure tells a failed step so that one can act on it.
func failure(se *engine.StepError) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%v", se)
	if se.Machine != "" {
		fmt.Fprintf(&b, "\n  machine    %s", se.Machine)
	}
	if se.Unit != "" {
		fmt.Fprintf(&b, "\n  unit       %s\n  exit code  %d", se.Unit, se.Exit)
	}
	if len(se.Log) > 0 {
		b.WriteString("\n  last log lines")
		for _, l := range se.Log {
			b.WriteString("\n    " + l)
		}
	}
	fmt.Fprintf(&b, "\n  what now   %s", se.Todo)
	return &exit{exitFailed, errors.New(b.String())}
}

func (a *app) teardownCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "teardown", Short: "Remove the cluster and everything that it left", Args: noArgs,
		Long: "Gives back every machine with its disk and address, takes the cluster's entry out\nof the kubeconfig files that it was merged into, and stops the site if nobody else\nuses it. What stays: the declaration, the site file, the journal, and backups with\nthe key that opens them.",
		RunE: func(*cobra.Command, []string) error {
			s, siteFile, err := a.openFile(false)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.teardown(s, siteFile)
		},
	}
	return a.asks(c)
}

func (a *app) teardown(s *engine.Session, siteFile string) error {
	name := s.Decl.Name
	if !s.Store.Exists() {
		a.ui.say("there is nothing of cluster %s here", name)
		return nil
	}
	st, err := store.Open(filepath.Dir(filepath.Dir(s.Store.Path)), name)
	if err != nil {
		return err
	}
	s.Store = st
	release, err := st.Lock("teardown")
	if err != nil {
		return err
	}
	defer release()
	if err := a.startSite(s, siteFile); err != nil {
		return err
	}
	inv, err := s.Site.Inventory(a.soft)
	if err != nil {
		return err
	}
	var steps []plan.Step
	others := 0
	for _, m := range inv.Machines {
		if m.Cluster != name {
			others++
			continue
		}
		steps = append(steps, plan.Step{ID: "release/" + m.Name, Kind: plan.Release, Machine: m.Name, Text: "give the machine back to the site, with its disk", Why: "the cluster is torn down", Final: true})
	}
	kcs, err := st.Kubeconfigs()
	if err != nil {
		return err
	}
	a.ui.say("tearing down cluster %s removes %s, all that runs on them, and %s of kubeconfig files", name, count(len(steps), "machine"), count(len(kcs), "entry"))
	if !a.yes || a.confirm != "" {
		if err := a.askByName(name, fmt.Sprintf("everything in cluster %s will be lost", name)); err != nil {
			return err
		}
	}
	c, err := s.Topology()
	if err != nil {
		return err
	}
	pr := newProgress(a, s.Durations(), len(steps))
	r, err := s.Begin(&engine.View{Cluster: c}, "teardown", pr.entry)
	if err != nil {
		return err
	}
	pr.start()
	err = r.Steps(a.soft, a.hard, steps)
	pr.stop()
	if err == nil {
		err = a.sweep(s, kcs, others == 0)
	}
	eerr := r.End(err)
	pr.finish(r.ID, err)
	return errors.Join(err, eerr)
}

// sweep removes what the cluster left on this computer.
func (a *app) sweep(s *engine.Session, kcs map[string]time.Time, last bool) error {
	for f := range kcs {
		removed, err := removeEntry(f, s.Decl.Name)
		if err != nil {
			return fmt.Errorf("kubeconfig %s: %w", f, err)
		}
		if removed {
			a.ui.say("took the entry %s out of %s", s.Decl.Name, f)
		}
	}
	if last {
		ctx, cancel := context.WithTimeout(a.hard, 20*time.Second)
		defer cancel()
		if err := s.Site.Stop(ctx); err != nil {
			return err
		}
		if err := os.RemoveAll(s.Site.Folder); err != nil {
			return err
		}
		os.Remove(filepath.Dir(s.Site.Folder)) // only if no other site is there
		a.ui.say("site %s has no machine left; its process is stopped", s.Decl.Site)
	}
	return s.Store.Remove()
}

func (a *app) siteCmd() *cobra.Command {
	c := &cobra.Command{Use: "site", Short: "Start, stop and disturb the simulated site"}
	with := func(use, short string, n int, what string, start bool, f func(*engine.Session, []string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: exactArgs(n, what), RunE: func(_ *cobra.Command, args []string) error {
			s, siteFile, err := a.openFile(false)
			if err != nil {
				return err
			}
			if start {
				if err := a.startSite(s, siteFile); err != nil {
					return err
				}
			}
			err = f(s, args)
			if errors.Is(err, site.ErrNotRunning) {
				return fmt.Errorf("site %s is not running; start it with: verbund site start", s.Decl.Site)
			}
			return err
		}}
	}
	c.AddCommand(
		with("start", "Start the site's process", 0, "no argument", true, func(s *engine.Session, _ []string) error {
			a.ui.say("site %s is running", s.Decl.Site)
			return nil
		}),
		with("stop", "Stop the site's process; machines lose their power and keep their disks", 0, "no argument", false, func(s *engine.Session, _ []string) error {
			if err := s.Site.Stop(a.hard); err != nil {
				return err
			}
			a.ui.say("site %s is stopped", s.Decl.Site)
			return nil
		}),
		with("power MACHINE on|off|cut|restart", "Switch a machine; cut is without warning", 2, "a machine and one of on, off, cut, restart", false, func(s *engine.Session, args []string) error {
			return s.Site.Power(a.hard, args[0], args[1])
		}),
		with("console MACHINE", "Show what a machine wrote to its console", 1, "a machine", false, func(s *engine.Session, args []string) error {
			t, err := s.Site.Console(a.hard, args[0])
			fmt.Fprint(a.out, t)
			return err
		}),
		a.faultCmd(),
	)
	return c
}
