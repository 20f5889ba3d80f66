package desk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// FindDeclaration is the file that --file names, or the only one in the folder.
func (a *App) FindDeclaration() (string, error) {
	if a.File != "" {
		// The cluster's name is enough.
		if _, err := os.Stat(a.File); errors.Is(err, fs.ErrNotExist) {
			if _, err := os.Stat(a.File + declare.Ending); err == nil {
				return a.File + declare.Ending, nil
			}
		}
		return a.File, nil
	}
	found := whole.Named(a.Dir, declare.Ending)
	if len(found) > 1 {
		if own := slices.DeleteFunc(slices.Clone(found), isCopy); len(own) > 0 {
			found = own
		}
	}
	switch len(found) {
	case 0:
		return "", term.Usage("there is no declaration (NAME%s) in this folder; write one with: verbund draft NAME", declare.Ending)
	case 1:
		return found[0], nil
	}
	return "", term.Usage("there are %d declarations in this folder: %s; say which with --file", len(found), strings.Join(found, ", "))
}

// isCopy says whether a file declares a copy of a cluster, which nobody means who does not say so.
func isCopy(file string) bool {
	b, err := whole.Read(file)
	return err == nil && declare.CopyOf(b) != ""
}

// Read decodes and checks a declaration with everything that it names. Paths in
// findings are as a person in the current folder would write them.
func (a *App) Read(path string) (*declare.Result, error) { return a.ReadAs(path, nil) }

// ReadAs does so with a text in the place of the file's, if there is one.
func (a *App) ReadAs(path string, text []byte) (*declare.Result, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	r, err := declare.Read(declare.Input{Files: whole.Files("/"), File: strings.TrimPrefix(abs, "/"), Text: text, Shipped: versions.Shipped(), Now: time.Now()})
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

// PrintFindings tells what was found in a declaration, each in a line.
func (a *App) PrintFindings(all declare.Findings) {
	for _, f := range all {
		line := a.UI.Fitting(term.Visible(f.String()))
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

// SchemaFile and SiteSchemaFile are where draft puts the schemas for editors.
const (
	SchemaFile     = store.Dir + "/declaration.schema.json"
	SiteSchemaFile = store.Dir + "/site.schema.json"
)

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
