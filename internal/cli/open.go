package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/engine"
	"verbund/internal/sim"
	"verbund/internal/site"
	"verbund/internal/store"
)

const (
	declarationEnding = ".verbund.yaml"
	siteEnding        = ".site.yaml"
)

// findDeclaration is the file that --file names, or the only one in the folder.
func (a *app) findDeclaration() (string, error) {
	if a.file != "" {
		return a.file, nil
	}
	found, _ := filepath.Glob(filepath.Join(a.dir, "*"+declarationEnding))
	switch len(found) {
	case 0:
		return "", usage("there is no declaration (NAME%s) in this folder; write one with: verbund draft NAME", declarationEnding)
	case 1:
		return found[0], nil
	}
	return "", usage("there are %d declarations in this folder: %s; say which with --file", len(found), strings.Join(found, ", "))
}

// readFile reads a file whole, or one byte more than is allowed.
func readFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, declare.MaxBytes+1))
}

// read decodes and checks a declaration with its site.
func (a *app) read(path string) (*declare.Declaration, *declare.Site, string, declare.Findings, error) {
	data, err := readFile(path)
	if err != nil {
		return nil, nil, "", nil, usage("reading the declaration: %v", err)
	}
	siteFile, siteData := "", []byte(nil)
	if n := declare.SiteName(data); n != "" {
		siteFile = filepath.Join(filepath.Dir(path), n+siteEnding)
		siteData, err = readFile(siteFile)
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, nil, "", nil, usage("reading the site file: %v", err)
		}
	}
	d, s, fs := declare.Read(path, data, siteFile, siteData, versions.Shipped())
	if siteData == nil && siteFile != "" {
		fs = append(fs, declare.Finding{File: path, Line: 1, Column: 1, Severity: declare.Error, Rule: "site-missing", What: fmt.Sprintf("the site file %s is not there", siteFile), Todo: "write it, or let draft write an example"})
	}
	return d, s, siteFile, fs, nil
}

func (a *app) printFindings(fs declare.Findings) {
	for _, f := range fs {
		line := f.String()
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
func (a *app) open(tell bool) (*engine.Session, error) {
	s, _, err := a.openFile(tell)
	return s, err
}

func (a *app) openFile(tell bool) (*engine.Session, string, error) {
	path, err := a.findDeclaration()
	if err != nil {
		return nil, "", err
	}
	d, sf, siteFile, fs, err := a.read(path)
	if err != nil {
		return nil, "", err
	}
	if fs.Errors() > 0 {
		a.printFindings(fs)
		return nil, "", &exit{exitUsage, fmt.Errorf("%s has %s; nothing was done", path, count(fs.Errors(), "error"))}
	}
	if tell && !a.quiet && a.output != "json" {
		a.printFindings(fs)
	}
	folder := filepath.Dir(path)
	return &engine.Session{Decl: d, SiteFile: sf, Cat: versions.Shipped(), Store: store.At(folder, d.Name), Site: site.NewClient(siteFolder(folder, d.Site)), Parallel: max(a.parallel, 1)}, siteFile, nil
}

func siteFolder(folder, name string) string {
	return filepath.Join(folder, store.Dir, "sites", name)
}

// startSite makes sure that the site runs, and says so if it had to be started.
func (a *app) startSite(s *engine.Session, siteFile string) error {
	abs, err := filepath.Abs(siteFile)
	if err != nil {
		return err
	}
	folder, err := filepath.Abs(s.Site.Folder)
	if err != nil {
		return err
	}
	c, started, err := site.Start(a.hard, folder, abs, []string{"/proc/self/exe", sim.ArgSite})
	if err != nil {
		return err
	}
	s.Site = c
	if started {
		a.ui.say("the process of site %s was not running; it is started", s.Decl.Site)
	}
	return nil
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
