package desk

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
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

// Open gets a session for the declared cluster. Warnings are told when tell is
// set; errors end it.
func (a *App) Open(tell bool) (*session.Session, error) {
	s, _, err := a.OpenFile(tell)
	return s, err
}

// OpenFile is Open, together with all that was read.
func (a *App) OpenFile(tell bool) (*session.Session, *declare.Result, error) {
	path, err := a.FindDeclaration()
	if err != nil {
		return nil, nil, err
	}
	return a.OpenPath(path, tell)
}

// OpenPath opens the cluster that a file declares.
func (a *App) OpenPath(path string, tell bool) (*session.Session, *declare.Result, error) {
	return a.OpenAs(path, nil, tell)
}

// OpenAs opens the cluster as a text would declare it that is not written yet.
func (a *App) OpenAs(path string, text []byte, tell bool) (*session.Session, *declare.Result, error) {
	r, err := a.ReadAs(path, text)
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
	s, err := a.SessionOf(path, r)
	if err != nil {
		return nil, nil, err
	}
	s.MayLose = may
	return s, r, nil
}

// SessionOf is a session for what a file declares.
func (a *App) SessionOf(path string, r *declare.Result) (*session.Session, error) {
	folder := filepath.Dir(path)
	st, err := a.memory(folder, r.Decl.Name)
	if err != nil {
		return nil, err
	}
	if r.Site != nil && r.Site.Key != "" {
		k := r.Site.Key
		// As it stands in the site file; ~ is the person's own folder.
		if home, err := os.UserHomeDir(); err == nil && strings.HasPrefix(k, "~/") {
			k = filepath.Join(home, k[2:])
		}
		if !filepath.IsAbs(k) {
			k = filepath.Join(filepath.Dir(r.SiteFile), k)
		}
		r.Site.Key = k
	}
	return &session.Session{Papers: papers(path, r), Decl: r.Decl, SiteFile: r.Site, Cat: r.Catalogue, Store: st, Site: simulated.NewClient(siteFolder(folder, r.Decl.Site)),
		Accepted: r.Findings.Accepted(), Parallel: max(a.Parallel, 1)}, nil
}

// memory is what is remembered of a cluster that is declared in a folder: beside the declaration,
// or where the file that lies there says.
func (a *App) memory(folder, cluster string) (*store.Store, error) {
	keys := a.Keys()
	p, err := store.ReadPlace(folder, cluster)
	if p == nil || err != nil {
		return store.At(folder, cluster, keys), err
	}
	access, err := p.Kept(keys.Dir)
	if err != nil {
		return nil, err
	}
	srv, err := p.Server(access)
	if err != nil {
		return nil, fmt.Errorf("what is remembered of cluster %s lies at %s: %w; verbund store reach says as whom this computer asks there", cluster, p, err)
	}
	return store.InEtcd(srv, folder, cluster, keys), nil
}

// papers reads the files in which a cluster is declared. A declaration that extends another
// one is taken as it stands after that.
func papers(path string, r *declare.Result) func() (map[string][]byte, error) {
	return func() (map[string][]byte, error) {
		out := map[string][]byte{}
		for _, f := range []string{path, r.SiteFile, r.PinsFile} {
			b, err := whole.Read(f)
			if errors.Is(err, os.ErrNotExist) {
				continue
			}
			if err != nil {
				return nil, err
			}
			out[filepath.Base(f)] = b
		}
		if r.Decl.Extends != "" {
			text, err := r.Merged()
			if err != nil {
				return nil, err
			}
			out[filepath.Base(path)] = []byte(text)
		}
		return out, nil
	}
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

// Reach opens a living cluster and its API.
func (a *App) Reach() (*session.Session, *look.View, *kube.Client, error) {
	s, v, err := a.View()
	if err != nil {
		return nil, nil, nil, err
	}
	k, err := s.Kube(v.Cluster)
	if err == nil && !v.Seen.Founded {
		err = fmt.Errorf("cluster %s has not been raised yet, and has no API to be asked; verbund converge raises it", s.Decl.Name)
	}
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
	run, err := act.Begin(s, v, command, 0, func(store.Entry) {})
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
