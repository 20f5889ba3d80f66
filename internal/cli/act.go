package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"verbund/internal/engine/act"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"

	"github.com/spf13/cobra"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/site"
	"verbund/internal/store"
	"verbund/internal/whole"
)

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
	var only string
	c := &cobra.Command{
		Use: "converge", Short: "Bring about what is declared: raise, grow, shrink, upgrade, repair", Args: noArgs,
		Long: `Looks at what is there, does what is missing, and says what happened where and
how long it took. It can be interrupted at any moment and run again: it goes on.

With --only it does one part: control (control plane, datastore and what answers
at the endpoint), addons, or a pool. What the rest has to precede is refused, and
what is left is said.`,
		RunE: func(*cobra.Command, []string) error {
			s, r, err := a.openFile(true)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.converge(s, r, "converge", only, nil)
		},
	}
	c.Flags().StringVar(&only, "only", "", "one part: control, addons, or the name of a pool")
	return a.drains(c)
}

// held takes the lock of a memory that may have to be made first.
func held(s *session.Session, command string) (release func(), err error) {
	release, err = s.Store.Lock(command)
	if err != nil {
		return nil, err
	}
	if err := s.Store.Make(); err != nil {
		release()
		return nil, err
	}
	return release, nil
}

// followEndpoint points the kubeconfig files into which access was merged to
// where the endpoint is now, and, once every API server has a certificate with
// it, to its name.
func (a *app) followEndpoint(s *session.Session, c *topology.Cluster, named bool) error {
	server := fmt.Sprintf("https://%s:%d", c.Endpoint.Address, c.Endpoint.Port)
	return a.mergedFiles(s, func(kc *clientcmdapi.Config) (string, error) {
		cl := kc.Clusters[c.Name]
		if cl == nil || cl.Server == server && (!named || cl.TLSServerName == c.Endpoint.Name) {
			return "", nil
		}
		said := "points to " + server
		if cl.Server = server; named && cl.TLSServerName != c.Endpoint.Name {
			cl.TLSServerName = c.Endpoint.Name
			said += " as " + c.Endpoint.Name
		}
		return said + " now", nil
	})
}

// finals lists the steps of a plan that take something away for good.
func finals(p *plan.Plan) []string {
	var out []string
	for _, s := range p.Steps {
		if s.Kind == plan.Wipe || s.Kind == plan.Release {
			out = append(out, s.ID)
		}
	}
	return out
}

// sayLeft says what a limited run did not do.
func (a *app) sayLeft(left []plan.Step) {
	if len(left) == 0 {
		return
	}
	where := map[string]int{}
	for _, s := range left {
		where[cmp.Or(s.Machine, "the cluster")]++
	}
	a.ui.say("left, since the run was limited: %s on %s", count(len(left), "step"), strings.Join(slices.Sorted(maps.Keys(where)), ", "))
}

// pin fixes the versions and digests that a run uses, before it uses them.
func (a *app) pin(r *declare.Result, v *look.View) error {
	var sets []versions.Set
	for _, m := range v.Cluster.Machines {
		if set, ok := r.Catalogue.Set(m.Set.Kubernetes); ok {
			sets = append(sets, set)
		}
	}
	if set, ok := r.Catalogue.Set(r.Decl.Kubernetes); ok {
		sets = append(sets, set)
	}
	return a.writePins(r, sets, r.Catalogue)
}

// writePins fixes sets, and add-ons on versions of their own, as a catalogue
// has them; the file is written if it would change.
func (a *app) writePins(r *declare.Result, sets []versions.Set, cat *versions.Catalogue) error {
	p, err := versions.NewPins(r.Decl.Name, sets, cat)
	if err != nil {
		return err
	}
	for name, addon := range r.Decl.AddOns {
		p.Artefacts[name+":"+addon.Version] = cat.Digest(name + ":" + addon.Version)
	}
	b, err := p.Encode()
	if err != nil {
		return err
	}
	old, err := os.ReadFile(r.PinsFile)
	if err == nil && bytes.Equal(old, b) {
		return nil
	}
	if err := whole.Write(r.PinsFile, b, 0o644); err != nil {
		return err
	}
	a.ui.say("wrote %s: the versions and digests that this cluster uses", filepath.Base(r.PinsFile))
	return nil
}

// agree shows what will be done and asks, where there is somebody to ask.
func (a *app) agree(s *session.Session, p *plan.Plan, v *look.View) error {
	for _, r := range p.Removes {
		a.ui.say("removes %s", r)
	}
	for _, st := range p.Steps {
		if st.Kind == plan.Wipe {
			a.ui.say("on %s: %s", st.Machine, st.Text)
		}
	}
	if len(p.Endangers) > 0 {
		return a.askByName(s.Decl.Name, fmt.Sprintf("in cluster %s, %s", s.Decl.Name, strings.Join(p.Endangers, "; ")))
	}
	if a.yes {
		return nil
	}
	if _, ok := isTerminal(a.in); ok {
		slots, total := p.Schedule(s.Parallel, a.usual(s))
		a.showPlan(s, p, v, slots, total)
	}
	return a.ask(fmt.Sprintf("Do these %s to cluster %s?", count(len(p.Steps), "step"), s.Decl.Name))
}

// carryOut runs steps with the journal and the progress.
func (a *app) carryOut(s *session.Session, v *look.View, command string, steps []plan.Step) error {
	pr := newProgress(a, look.UsualDurations(s), steps)
	r, err := act.Begin(s, v, command, pr.entry)
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
	var se *act.StepError
	if errors.As(err, &se) {
		return errors.Join(failure(se), eerr)
	}
	return err
}

// failure tells a failed step so that one can act on it.
func failure(se *act.StepError) error {
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
	return &exit{exitFailed, &told{b.String(), se}}
}

// told is an error in the words in which a person is told of it.
type told struct {
	text string
	err  error
}

func (t *told) Error() string { return t.text }

func (t *told) Unwrap() error { return t.err }

func (a *app) teardownCmd() *cobra.Command {
	c := &cobra.Command{
		Use: "teardown", Short: "Remove the cluster and everything that it left", Args: noArgs,
		Long: "Gives back every machine with its disk and address, takes the cluster's entry out\nof the kubeconfig files that it was merged into, and stops the site if nobody else\nuses it. What stays: the declaration with its pins and its schema for editors, the\nsite file, the journal, and backups with what opens them: a file beside them, which\nthe key of the store opens.",
		RunE: func(*cobra.Command, []string) error {
			s, r, err := a.openFile(false)
			if err != nil {
				return err
			}
			defer s.Close()
			return a.teardown(s, r)
		},
	}
	return a.asks(c)
}

func (a *app) teardown(s *session.Session, r *declare.Result) error {
	name := s.Decl.Name
	if !s.Store.Exists() {
		v, err := look.Locate(a.soft, s)
		if err != nil {
			return err
		}
		if len(v.Unknown) == 0 {
			a.ui.say("there is nothing of cluster %s here", name)
			return nil
		}
		a.ui.say("nothing is remembered of cluster %s here, and machines of it are at the site", name)
	}
	release, err := a.locked(s, r, "teardown")
	if err != nil {
		return err
	}
	defer release()
	inv, err := s.Site.Inventory(a.soft)
	if err != nil {
		return err
	}
	var steps []plan.Step
	for _, m := range inv.Machines {
		if m.Cluster != name {
			continue
		}
		steps = append(steps, plan.Step{ID: "release/" + m.Name, Kind: plan.Release, Machine: m.Name, Text: "give the machine back to the site, with its disk", Why: "the cluster is torn down", Final: true})
	}
	kcs, err := s.Store.Kubeconfigs()
	if err != nil {
		return err
	}
	a.ui.say("tearing down cluster %s removes %s, all that runs on them, and its entry in %s", name, count(len(steps), "machine"), count(len(kcs), "kubeconfig file"))
	if _, err := s.Trust(); err != nil {
		a.ui.say("the keys of the cluster are not to be had: %v", err)
	}
	if err := a.askByName(name, fmt.Sprintf("everything in cluster %s will be lost", name)); err != nil {
		return err
	}
	if err := s.Store.Make(); err != nil {
		return err
	}
	c, err := s.Topology()
	if err != nil {
		return err
	}
	pr := newProgress(a, look.UsualDurations(s), steps)
	run, err := act.Begin(s, &look.View{Cluster: c}, "teardown", pr.entry)
	if err != nil {
		return err
	}
	pr.start()
	err = run.Steps(a.soft, a.hard, steps)
	pr.stop()
	if err == nil {
		err = a.sweep(s, kcs)
	}
	eerr := run.End(err)
	pr.finish(run.ID, err)
	return errors.Join(err, eerr)
}

// sweep removes what the cluster left on this computer.
func (a *app) sweep(s *session.Session, kcs map[string]time.Time) error {
	t, err := s.Trust()
	if err != nil && len(kcs) > 0 {
		return err
	}
	for f := range kcs {
		removed, err := removeEntry(f, s.Decl.Name, t)
		if err != nil {
			return fmt.Errorf("kubeconfig %s: %w", f, err)
		}
		if removed {
			a.ui.say("took the entry %s out of %s", s.Decl.Name, f)
		}
	}
	ctx, cancel := context.WithTimeout(a.hard, 20*time.Second)
	defer cancel()
	c, err := simulatedSite(s)
	if err != nil {
		return err
	}
	gone, err := c.Leave(ctx)
	if errors.Is(err, site.ErrOlder) {
		a.ui.say("site %s stays: %v; verbund site stop ends it, and its folder %s can go when no cluster has machines there", s.Decl.Site, err, c.Folder)
		err = nil
	}
	if err != nil {
		return fmt.Errorf("site %s: %w", s.Decl.Site, err)
	}
	if gone {
		os.Remove(filepath.Dir(c.Folder)) // only if no other site is there
		a.ui.say("site %s has no machine left; its process is stopped", s.Decl.Site)
	}
	if left := look.Backups(s); len(left) > 0 {
		if p, err := s.Store.Protection(); err == nil && p != nil {
			a.ui.say("%s left in %s, to be opened with %s there, and that with the %s", count(len(left), "backup"), s.Store.BackupDir(), store.Aside, cmp.Or(a.keys().KeyFile(*p), p.Kind))
		}
	}
	return s.Store.Remove()
}

// siteError says what a person can do about what a site answered.
func siteError(s *session.Session, err error) error {
	if errors.Is(err, site.ErrNotRunning) {
		return fmt.Errorf("site %s is not running; start it with: verbund site start", s.Decl.Site)
	}
	// What there is not, or what cannot be said, is a mistake of whoever asks.
	var r *site.Refused
	if errors.As(err, &r) && (r.Status == http.StatusNotFound || r.Status == http.StatusBadRequest) {
		return &exit{exitUsage, err}
	}
	return err
}

func (a *app) siteCmd() *cobra.Command {
	c := &cobra.Command{Use: "site", Short: "Start, stop and disturb the simulated site"}
	with := func(use, short string, n int, what string, start bool, f func(*session.Session, []string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: exactArgs(n, what), RunE: func(_ *cobra.Command, args []string) error {
			s, r, err := a.openFile(false)
			if err != nil {
				return err
			}
			if start {
				if err := a.startSite(s, r); err != nil {
					return err
				}
			}
			err = f(s, args)
			return siteError(s, err)
		}}
	}
	c.AddCommand(
		with("start", "Start the site's process", 0, "no argument", true, func(s *session.Session, _ []string) error {
			a.ui.say("site %s is running", s.Decl.Site)
			return nil
		}),
		with("stop", "Stop the site's process; machines lose their power and keep their disks", 0, "no argument", false, func(s *session.Session, _ []string) error {
			c, err := simulatedSite(s)
			if err != nil {
				return err
			}
			if err := c.Stop(a.hard); err != nil {
				return err
			}
			a.ui.say("site %s is stopped", s.Decl.Site)
			return nil
		}),
		with("power MACHINE on|off|cut|restart", "Switch a machine; cut is without warning", 2, "a machine and one of on, off, cut, restart", false, func(s *session.Session, args []string) error {
			return s.Site.Power(a.hard, args[0], args[1])
		}),
		with("mirror", "Show what came through the site's mirror, by upstream registry", 0, "no argument", false, func(s *session.Session, _ []string) error {
			inv, err := s.Site.Inventory(a.hard)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.ui.json(list(inv.Mirror))
			}
			if len(inv.Mirror) == 0 {
				a.ui.say("nothing has come through the mirror since the site was started")
				return nil
			}
			var rows [][]cell
			for _, m := range inv.Mirror {
				rows = append(rows, cells(m.Upstream, fmt.Sprint(m.Hits), fmt.Sprint(m.Misses), fmt.Sprint(m.Fetched), fmt.Sprint(m.Saved)))
			}
			a.ui.table([]string{"upstream", "hits", "misses", "bytes fetched", "bytes saved"}, rows)
			return nil
		}),
		with("images", "Show the machine images that the site has composed", 0, "no argument", false, func(s *session.Session, _ []string) error {
			inv, err := s.Site.Inventory(a.hard)
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.ui.json(list(inv.Images))
			}
			var rows [][]cell
			for _, i := range inv.Images {
				rows = append(rows, cells(shortDigest(i.Digest), i.Image.System, i.Image.Architecture, strings.Join(i.Image.Extras, ", "), fmt.Sprint(i.Machines)))
			}
			a.ui.table([]string{"image", "system", "architecture", "extras", "machines ordered"}, rows)
			return nil
		}),
		with("console MACHINE", "Show what a machine wrote to its console", 1, "a machine", false, func(s *session.Session, args []string) error {
			t, err := s.Site.Console(a.hard, args[0])
			fmt.Fprint(a.out, visible(t))
			return err
		}),
		a.faultCmd(),
	)
	return c
}
