package cli

import (
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"verbund/internal/engine/session"

	"github.com/spf13/cobra"

	"verbund/internal/site"
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
			return a.work(s, r).Converge("converge", only, nil)
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
			return a.work(s, r).Teardown()
		},
	}
	return a.asks(c)
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
