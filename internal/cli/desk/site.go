package desk

import (
	"errors"
	"fmt"
	"net/http"
	"path/filepath"

	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/engine/session"
	"verbund/internal/sim"
	"verbund/internal/site"
	"verbund/internal/site/simulated"
	"verbund/internal/store"
)

// SiteError says what a person can do about what a site answered.
func SiteError(s *session.Session, err error) error {
	if errors.Is(err, site.ErrNotRunning) {
		return fmt.Errorf("site %s is not running; start it with: verbund site start", s.Decl.Site)
	}
	// What there is not, or what cannot be said, is a mistake of whoever asks.
	var r *site.Refused
	if errors.As(err, &r) && (r.Status == http.StatusNotFound || r.Status == http.StatusBadRequest) {
		return &term.Exit{Code: term.ExitUsage, Err: err}
	}
	return err
}

func siteFolder(folder, name string) string {
	return filepath.Join(folder, store.Dir, "sites", name)
}

// SimulatedSite is the site of a cluster as one that the tool starts, ends and disturbs
// itself.
func SimulatedSite(s *session.Session) (*simulated.Client, error) {
	c, ok := s.Site.(*simulated.Client)
	if !ok {
		return nil, &term.Exit{Code: term.ExitUsage, Err: fmt.Errorf("site %s is no simulated one: what it runs is not the tool's to start, stop or disturb", s.Decl.Site)}
	}
	return c, nil
}

// StartSite makes sure that the site runs, and says so if it had to be started.
func (a *App) StartSite(s *session.Session, r *declare.Result) error {
	own, err := SimulatedSite(s)
	if err != nil {
		return err
	}
	folder, err := filepath.Abs(own.Folder)
	if err != nil {
		return err
	}
	c, started, said, err := simulated.Start(a.Hard, folder, r.SiteFile, []string{"/proc/self/exe", sim.ArgSite})
	if err != nil {
		return err
	}
	s.Site = c
	if started {
		a.UI.Say("the process of site %s was not running; it is started", s.Decl.Site)
	}
	if said != "" {
		a.UI.Say("site %s: %s", s.Decl.Site, said)
	}
	return nil
}
