package desk

import (
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
	"verbund/internal/sim"
	"verbund/internal/site"
	"verbund/internal/site/simulated"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// Held takes the lock of a memory that may have to be made first.
func Held(s *session.Session, command string) (release func(), err error) {
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

// View opens the cluster and looks.
func (a *App) View() (*session.Session, *look.View, error) {
	s, err := a.Open(false)
	if err != nil {
		return nil, nil, err
	}
	v, err := look.Observe(a.Soft, s)
	if err != nil {
		s.Close()
		return nil, nil, err
	}
	return s, v, nil
}

const (
	DeclarationEnding = declare.Ending
	SiteEnding        = declare.SiteEnding
)

// FindDeclaration is the file that --file names, or the only one in the folder.
func (a *App) FindDeclaration() (string, error) {
	if a.File != "" {
		// The cluster's name is enough.
		if _, err := os.Stat(a.File); errors.Is(err, fs.ErrNotExist) {
			if _, err := os.Stat(a.File + DeclarationEnding); err == nil {
				return a.File + DeclarationEnding, nil
			}
		}
		return a.File, nil
	}
	found := whole.Named(a.Dir, DeclarationEnding)
	switch len(found) {
	case 0:
		return "", term.Usage("there is no declaration (NAME%s) in this folder; write one with: verbund draft NAME", DeclarationEnding)
	case 1:
		return found[0], nil
	}
	return "", term.Usage("there are %d declarations in this folder: %s; say which with --file", len(found), strings.Join(found, ", "))
}

// Read decodes and checks a declaration with everything that it names. Paths in
// findings are as a person in the current folder would write them.
func (a *App) Read(path string) (*declare.Result, error) { return a.readAs(path, nil) }

// readAs does so with a text in the place of the file's, if there is one.
func (a *App) readAs(path string, text []byte) (*declare.Result, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	r, err := declare.Read(declare.Input{Files: os.DirFS("/"), File: strings.TrimPrefix(abs, "/"), Text: text, Shipped: versions.Shipped(), Now: time.Now()})
	if err != nil {
		var pe *fs.PathError
		if errors.As(err, &pe) {
			err = fmt.Errorf("%s: %w", path, pe.Err)
		}
		return nil, term.Usage("reading the declaration: %v", err)
	}
	here, err := os.Getwd()
	if err != nil {
		here = "/"
	}
	for i, f := range r.Findings {
		r.Findings[i].File = shown(here, path, abs, "/"+f.File)
	}
	r.SiteFile, r.PinsFile = Under(r.SiteFile), Under(r.PinsFile)
	return r, nil
}

// Under makes a path below the root one of this computer.
func Under(p string) string {
	if p == "" {
		return ""
	}
	return "/" + p
}

// shown is a path as a person in a folder would write it: the declaration as
// it was given, its neighbours like it, others relative if they lie below.
func shown(here, given, abs, p string) string {
	if rel, err := filepath.Rel(filepath.Dir(abs), p); err == nil && filepath.IsLocal(rel) {
		return filepath.Join(filepath.Dir(given), rel)
	}
	if rel, err := filepath.Rel(here, p); err == nil && !strings.HasPrefix(rel, "../../..") {
		return rel
	}
	return p
}

func (a *App) PrintFindings(all declare.Findings) {
	for _, f := range all {
		line := a.UI.Fitting(f.String())
		if a.UI.ErrColour {
			c := a.UI.Attention
			if f.Severity == declare.Error {
				c = a.UI.Bad
			}
			line = strings.Replace(line, string(f.Severity)+":", c.Render(string(f.Severity)+":"), 1)
		}
		fmt.Fprintln(a.Err, line)
	}
}

// Open gets a session for the declared cluster. Warnings are told when tell is
// set; errors end it.
func (a *App) Open(tell bool) (*session.Session, error) {
	s, _, err := a.OpenFile(tell)
	return s, err
}

func (a *App) OpenFile(tell bool) (*session.Session, *declare.Result, error) {
	path, err := a.FindDeclaration()
	if err != nil {
		return nil, nil, err
	}
	return a.OpenPath(path, tell)
}

func (a *App) OpenPath(path string, tell bool) (*session.Session, *declare.Result, error) {
	return a.OpenAs(path, nil, tell)
}

// OpenAs opens the cluster as a text would declare it that is not written yet.
func (a *App) OpenAs(path string, text []byte, tell bool) (*session.Session, *declare.Result, error) {
	r, err := a.readAs(path, text)
	if err != nil {
		return nil, nil, err
	}
	if n := r.Findings.Errors(); n > 0 {
		a.PrintFindings(r.Findings)
		return nil, nil, &term.Exit{Code: term.ExitUsage, Err: fmt.Errorf("%s has %s; nothing was done", path, words.Count(n, "error"))}
	}
	if tell && !a.Quiet && a.Output != "json" {
		a.PrintFindings(r.Findings)
	}
	var may []declare.Loss
	for _, sel := range a.MayLose {
		l := declare.Loss{Pods: sel}
		if _, err := l.Selector(); err != nil {
			return nil, nil, term.Usage("--may-lose: %v", err)
		}
		may = append(may, l)
	}
	s := a.SessionOf(path, r)
	s.MayLose = may
	return s, r, nil
}

// SessionOf is a session for what a file declares.
func (a *App) SessionOf(path string, r *declare.Result) *session.Session {
	folder := filepath.Dir(path)
	return &session.Session{Decl: r.Decl, SiteFile: r.Site, Cat: r.Catalogue, Store: store.At(folder, r.Decl.Name, a.Keys()), Site: simulated.NewClient(siteFolder(folder, r.Decl.Site)),
		Accepted: r.Findings.Accepted(), Parallel: max(a.Parallel, 1)}
}

// Keys is what opens stores on this computer: key files in the person's own
// configuration folder, or where the environment says.
func (a *App) Keys() *store.Keys {
	k := &store.Keys{Dir: a.KeyDir, Unlock: a.Unlock}
	if k.Unlock == "" {
		k.Unlock = os.Getenv("VERBUND_UNLOCK")
	}
	if k.Dir == "" {
		k.Dir = os.Getenv("VERBUND_KEYS")
	}
	if k.Dir == "" {
		if d, err := os.UserConfigDir(); err == nil {
			k.Dir = filepath.Join(d, "verbund")
		}
	}
	if fd, ok := term.IsTerminal(a.In); ok {
		k.Ask = func(what string) (string, error) {
			return a.HearUnseen(fd, what+": ")
		}
	}
	return k
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

// Reach opens a living cluster and its API.
func (a *App) Reach() (*session.Session, *look.View, *kube.Client, error) {
	s, v, err := a.View()
	if err != nil {
		return nil, nil, nil, err
	}
	k, err := s.Kube(v.Cluster)
	if err == nil && !v.Seen.API {
		err = fmt.Errorf("the API of cluster %s does not answer: %v", s.Decl.Name, v.APIError)
	}
	if err != nil {
		s.Close()
		return nil, nil, nil, err
	}
	return s, v, k, nil
}

// Noted does something to a living cluster and writes it to the journal.
func (a *App) Noted(s *session.Session, v *look.View, command string, do func(*act.Run) (string, error)) error {
	if v == nil {
		v = &look.View{}
	}
	run, err := act.Begin(s, v, command, func(store.Entry) {})
	if err != nil {
		return err
	}
	text, err := do(run)
	if text != "" {
		run.Remark(text)
	}
	if eerr := run.End(err); err == nil {
		err = eerr
	}
	return err
}

// SchemaFile is where draft puts the schema for editors.
const SchemaFile = store.Dir + "/declaration.schema.json"

// WorkTree is the git work tree that a path lies in, or nothing.
func WorkTree(path string) string {
	abs, err := filepath.Abs(path)
	if err != nil {
		return ""
	}
	for {
		if _, err := os.Stat(filepath.Join(abs, ".git")); err == nil {
			return abs
		}
		up := filepath.Dir(abs)
		if up == abs {
			return ""
		}
		abs = up
	}
}
