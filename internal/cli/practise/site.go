package practise

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/engine/session"
	"verbund/internal/site"
)

// SiteCmd is verbund site.
func SiteCmd(a *desk.App) *cobra.Command {
	c := &cobra.Command{Use: "site", Short: "Start and stop the site, meet its machines, and disturb them"}
	with := func(use, short string, n int, what string, start bool, f func(*session.Session, []string) error) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: term.ExactArgs(n, what), RunE: func(_ *cobra.Command, args []string) error {
			s, r, err := a.OpenFile(false)
			if err != nil {
				return err
			}
			if start {
				if err := a.StartSite(s, r); err != nil {
					return err
				}
			}
			err = f(s, args)
			return desk.SiteError(s, err)
		}}
	}
	c.AddCommand(
		with("start", "Start the site's process", 0, "no argument", true, func(s *session.Session, _ []string) error {
			a.UI.Say("site %s is running", s.Decl.Site)
			return nil
		}),
		with("stop", "Stop the site's process; machines lose their power and keep their disks", 0, "no argument", false, func(s *session.Session, _ []string) error {
			c, err := desk.SimulatedSite(s)
			if err != nil {
				return err
			}
			if err := c.Stop(a.Hard); err != nil {
				return err
			}
			a.UI.Say("site %s is stopped", s.Decl.Site)
			return nil
		}),
		with("power MACHINE on|off|cut|restart", "Switch a machine; cut is without warning", 2, "a machine and one of on, off, cut, restart", false, func(s *session.Session, args []string) error {
			return s.Site.Power(a.Hard, args[0], args[1])
		}),
		with("mirror", "Show what came through the site's mirror, by upstream registry", 0, "no argument", false, func(s *session.Session, _ []string) error {
			inv, err := s.Site.Inventory(a.Hard)
			if err != nil {
				return err
			}
			if a.Output == "json" {
				return a.UI.JSON(term.List(inv.Mirror))
			}
			if len(inv.Mirror) == 0 {
				a.UI.Say("nothing has come through the mirror since the site was started")
				return nil
			}
			var rows [][]term.Cell
			for _, m := range inv.Mirror {
				rows = append(rows, term.Cells(m.Upstream, fmt.Sprint(m.Hits), fmt.Sprint(m.Misses), fmt.Sprint(m.Fetched), fmt.Sprint(m.Saved)))
			}
			a.UI.Table([]string{"upstream", "hits", "misses", "bytes fetched", "bytes saved"}, rows)
			return nil
		}),
		with("images", "Show the machine images that the site has composed", 0, "no argument", false, func(s *session.Session, _ []string) error {
			inv, err := s.Site.Inventory(a.Hard)
			if err != nil {
				return err
			}
			return sayImages(a, inv.Images)
		}),
		with("console MACHINE", "Show what a machine wrote to its console", 1, "a machine", false, func(s *session.Session, args []string) error {
			t, err := s.Site.Console(a.Hard, args[0])
			fmt.Fprint(a.Out, term.Visible(t))
			return err
		}),
		meetCmd(a),
		faultCmd(a),
	)
	return c
}

// sayImages shows what was composed, and what is being composed.
func sayImages(a *desk.App, images []site.Composed) error {
	if a.Output == "json" {
		return a.UI.JSON(term.List(images))
	}
	var rows [][]term.Cell
	for _, i := range images {
		state := term.Cell{Text: "composed", State: "good"}
		if i.Composing {
			state = term.Cell{Text: "being composed", State: "attention"}
		}
		rows = append(rows, append(term.Cells(term.ShortDigest(i.Digest), i.Image.System, i.Image.Architecture, strings.Join(i.Image.Extras, ", "), fmt.Sprint(i.Machines)), state))
	}
	a.UI.Table([]string{"image", "system", "architecture", "extras", "machines ordered", "state"}, rows)
	return nil
}
