package keep

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"verbund/internal/backup"
	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

// aside raises a copy of a cluster beside it from one of its backups, for looking at.
func aside(a *desk.App, s *session.Session, path, name, as string) error {
	if !declare.IsName(as) || as == s.Decl.Name {
		return term.Usage("a copy of cluster %s needs a name of its own, in small letters, digits and hyphens; %q is none", s.Decl.Name, as)
	}
	if s.Decl.CopyOf != "" {
		return term.Usage("cluster %s is a copy itself; raise another one from a backup of %s", s.Decl.Name, s.Decl.CopyOf)
	}
	f, err := named(s, name)
	if err != nil {
		return err
	}
	if f.Trouble != nil {
		return fmt.Errorf("backup %s cannot be looked at: %w", f.Name, f.Trouble)
	}
	file := filepath.Join(filepath.Dir(path), as+declare.Ending)
	was, err := whole.Read(file)
	switch {
	case err == nil && declare.CopyOf(was) != s.Decl.Name:
		return term.Usage("%s is here already, and declares no copy of %s; choose another name", file, s.Decl.Name)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	text, err := asideText(a, s, path, f, as)
	if err != nil {
		return err
	}
	c, r, err := a.OpenAs(file, text, false)
	if err != nil {
		return err
	}
	defer c.Close()
	o, err := s.Store.OpensBackups()
	if err != nil {
		return err
	}
	folder, _ := s.Store.BackupsAt()
	ch := &converge.Change{Text: fmt.Sprintf("declared %s in %s, a copy of %s", as, file, s.Decl.Name), Write: func() error {
		if err := whole.Write(file, text, 0o644); err != nil {
			return err
		}
		at, _ := c.Store.BackupsAt()
		if _, err := os.Stat(filepath.Join(at, f.Name)); err == nil {
			return nil // from when the copy was made from it before
		}
		return closedAnew(c.Store, filepath.Join(folder, f.Name), append(o.Beside, backup.Inside(o.Keys...)))
	}}
	if err := a.Work(c, r).Aside("backup restore", s, f, ch); err != nil {
		return err
	}
	a.UI.Say("look at it with: verbund access --file %s > %s.kubeconfig; kubectl --kubeconfig %s.kubeconfig get pods -A", as, as, as)
	a.UI.Say("it goes, with all that was written for it here, with: verbund teardown --file %s", as)
	return nil
}

// asideText declares a copy as the cluster was declared when the backup was taken.
func asideText(a *desk.App, s *session.Session, path string, f *keep.Found, as string) ([]byte, error) {
	b, end, err := keep.Open(s, f.Name)
	if err != nil {
		return nil, err
	}
	defer end.Close()
	var text []byte
	for name, t := range b.Files {
		if strings.HasSuffix(name, declare.Ending) {
			text = t
		}
	}
	if text == nil {
		return nil, fmt.Errorf("backup %s is from before backups held the declaration: no copy can be raised from it", f.Name)
	}
	r, err := a.ReadAs(path, text)
	if err != nil {
		return nil, err
	}
	d := *r.Decl
	d.Kubernetes = f.Manifest.Kubernetes // in the middle of an upgrade another one is declared
	out, err := declare.Aside(text, &d, as, fmt.Sprintf("A copy of cluster %s for looking at, from its backup %s.", s.Decl.Name, f.Short()))
	if err != nil {
		return nil, fmt.Errorf("the declaration in backup %s: %w", f.Name, err)
	}
	return out, nil
}
