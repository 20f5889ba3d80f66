package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"verbund/internal/engine/session"
	"verbund/internal/site/simulated"

	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/sim"
	"verbund/internal/store"
	"verbund/internal/whole"
)

const (
	declarationEnding = declare.Ending
	siteEnding        = declare.SiteEnding
)

// findDeclaration is the file that --file names, or the only one in the folder.
func (a *app) findDeclaration() (string, error) {
	if a.file != "" {
		// The cluster's name is enough.
		if _, err := os.Stat(a.file); errors.Is(err, fs.ErrNotExist) {
			if _, err := os.Stat(a.file + declarationEnding); err == nil {
				return a.file + declarationEnding, nil
			}
		}
		return a.file, nil
	}
	found := whole.Named(a.dir, declarationEnding)
	switch len(found) {
	case 0:
		return "", usage("there is no declaration (NAME%s) in this folder; write one with: verbund draft NAME", declarationEnding)
	case 1:
		return found[0], nil
	}
	return "", usage("there are %d declarations in this folder: %s; say which with --file", len(found), strings.Join(found, ", "))
}

// read decodes and checks a declaration with everything that it names. Paths in
// findings are as a person in the current folder would write them.
func (a *app) read(path string) (*declare.Result, error) { return a.readAs(path, nil) }

// readAs does so with a text in the place of the file's, if there is one.
func (a *app) readAs(path string, text []byte) (*declare.Result, error) {
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
		return nil, usage("reading the declaration: %v", err)
	}
	here, err := os.Getwd()
	if err != nil {
		here = "/"
	}
	for i, f := range r.Findings {
		r.Findings[i].File = shown(here, path, abs, "/"+f.File)
	}
	r.SiteFile, r.PinsFile = under(r.SiteFile), under(r.PinsFile)
	return r, nil
}

// under makes a path below the root one of this computer.
func under(p string) string {
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

func (a *app) printFindings(all declare.Findings) {
	for _, f := range all {
		line := a.ui.fitting(f.String())
		if a.ui.errColour {
			c := a.ui.attention
			if f.Severity == declare.Error {
				c = a.ui.bad
			}
			line = strings.Replace(line, string(f.Severity)+":", c.Render(string(f.Severity)+":"), 1)
		}
		fmt.Fprintln(a.err, line)
	}
}

// open gets a session for the declared cluster. Warnings are told when tell is
// set; errors end it.
func (a *app) open(tell bool) (*session.Session, error) {
	s, _, err := a.openFile(tell)
	return s, err
}

func (a *app) openFile(tell bool) (*session.Session, *declare.Result, error) {
	path, err := a.findDeclaration()
	if err != nil {
		return nil, nil, err
	}
	return a.openPath(path, tell)
}

func (a *app) openPath(path string, tell bool) (*session.Session, *declare.Result, error) {
	return a.openAs(path, nil, tell)
}

// openAs opens the cluster as a text would declare it that is not written yet.
func (a *app) openAs(path string, text []byte, tell bool) (*session.Session, *declare.Result, error) {
	r, err := a.readAs(path, text)
	if err != nil {
		return nil, nil, err
	}
	if n := r.Findings.Errors(); n > 0 {
		a.printFindings(r.Findings)
		return nil, nil, &exit{exitUsage, fmt.Errorf("%s has %s; nothing was done", path, words.Count(n, "error"))}
	}
	if tell && !a.quiet && a.output != "json" {
		a.printFindings(r.Findings)
	}
	var may []declare.Loss
	for _, sel := range a.mayLose {
		l := declare.Loss{Pods: sel}
		if _, err := l.Selector(); err != nil {
			return nil, nil, usage("--may-lose: %v", err)
		}
		may = append(may, l)
	}
	s := a.sessionOf(path, r)
	s.MayLose = may
	return s, r, nil
}

// sessionOf is a session for what a file declares.
func (a *app) sessionOf(path string, r *declare.Result) *session.Session {
	folder := filepath.Dir(path)
	return &session.Session{Decl: r.Decl, SiteFile: r.Site, Cat: r.Catalogue, Store: store.At(folder, r.Decl.Name, a.keys()), Site: simulated.NewClient(siteFolder(folder, r.Decl.Site)),
		Accepted: r.Findings.Accepted(), Parallel: max(a.parallel, 1)}
}

// keys is what opens stores on this computer: key files in the person's own
// configuration folder, or where the environment says.
func (a *app) keys() *store.Keys {
	k := &store.Keys{Dir: a.keyDir, Unlock: a.unlock}
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
	if fd, ok := isTerminal(a.in); ok {
		k.Ask = func(what string) (string, error) {
			return a.hearUnseen(fd, what+": ")
		}
	}
	return k
}

func siteFolder(folder, name string) string {
	return filepath.Join(folder, store.Dir, "sites", name)
}

// simulatedSite is the site of a cluster as one that the tool starts, ends and disturbs
// itself.
func simulatedSite(s *session.Session) (*simulated.Client, error) {
	c, ok := s.Site.(*simulated.Client)
	if !ok {
		return nil, &exit{exitUsage, fmt.Errorf("site %s is no simulated one: what it runs is not the tool's to start, stop or disturb", s.Decl.Site)}
	}
	return c, nil
}

// startSite makes sure that the site runs, and says so if it had to be started.
func (a *app) startSite(s *session.Session, r *declare.Result) error {
	own, err := simulatedSite(s)
	if err != nil {
		return err
	}
	folder, err := filepath.Abs(own.Folder)
	if err != nil {
		return err
	}
	c, started, said, err := simulated.Start(a.hard, folder, r.SiteFile, []string{"/proc/self/exe", sim.ArgSite})
	if err != nil {
		return err
	}
	s.Site = c
	if started {
		a.ui.say("the process of site %s was not running; it is started", s.Decl.Site)
	}
	if said != "" {
		a.ui.say("site %s: %s", s.Decl.Site, said)
	}
	return nil
}
