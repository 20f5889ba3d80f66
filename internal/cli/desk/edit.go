package desk

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"

	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

// Wish is what else is asked for beside a value of the declaration: one part, and after
// which hop of an upgrade to stop.
type Wish struct{ Only, ToHop string }

// Edit converges to the declaration with one value changed. value says which
// one it is and how the file is changed; no way to change it means that the
// declaration allows it already, and that the count of a pool is remembered. The
// file is written when the person has agreed, and when nothing is in the way.
func (a *App) Edit(command string, w Wish, value func(*declare.Result) (string, func([]byte) ([]byte, error), error), pool string, count int) error {
	path, err := a.FindDeclaration()
	if err != nil {
		return err
	}
	_, r, err := a.OpenPath(path, false)
	if err != nil {
		return err
	}
	if _, ok := term.IsTerminal(a.In); !ok && !a.Yes {
		return a.Ask("")
	}
	at, f, err := value(r)
	if err != nil {
		return err
	}
	if f == nil {
		s, r, err := a.OpenPath(path, true)
		if err != nil {
			return err
		}
		defer s.Close()
		s.Counts = map[string]int{pool: count}
		return a.Work(s, r).Converge(command, "", &converge.Change{Text: fmt.Sprintf("pool %s is to have %d machines, inside its declared range", pool, count), Write: func() error { return s.Remember(func(st *memory.State) { st.Counts[pool] = count }) }})
	}
	if file, line, ok := r.Where(at); ok && file != r.File {
		return term.Usage("%s is given in line %d of %s, which this declaration extends and which others may extend too; change it there, or give it here", at, line, Under(file))
	}
	data, err := whole.Read(path)
	if err != nil {
		return err
	}
	out, err := f(data)
	if errors.Is(err, declare.ErrElsewhere) {
		return term.Usage("%s does not stand in %s; write it there first", at, path)
	}
	if err != nil {
		return fmt.Errorf("changing %s in %s: %w", at, path, err)
	}
	s, r, err := a.OpenAs(path, out, true)
	if err != nil {
		return err
	}
	defer s.Close()
	work := a.Work(s, r)
	work.ToHop = w.ToHop
	if bytes.Equal(out, data) {
		return work.Converge(command, w.Only, nil)
	}
	return work.Converge(command, w.Only, &converge.Change{Text: fmt.Sprintf("changed %s in %s", at, path), Write: func() error { return Rewrite(path, data, out) }})
}

// Rewrite puts another text into a declaration, unless somebody has written it meanwhile,
// while the question stood.
func Rewrite(path string, was, now []byte) error {
	i, err := os.Stat(path)
	if err != nil {
		return err
	}
	is, err := whole.Read(path)
	if err != nil {
		return err
	}
	if !bytes.Equal(is, was) {
		return fmt.Errorf("%s was changed meanwhile by something else; nothing was written, run the same command again", path)
	}
	return whole.Write(path, now, i.Mode().Perm())
}

// OpenTo opens the cluster, as if another version were declared if one is named.
func (a *App) OpenTo(to string) (*session.Session, error) {
	if to == "" {
		return a.Open(true)
	}
	path, err := a.FindDeclaration()
	if err != nil {
		return nil, err
	}
	s, r, err := a.OpenPath(path, false)
	if err != nil {
		return nil, err
	}
	s.Close()
	if err := Reachable(r, to); err != nil {
		return nil, err
	}
	data, err := whole.Read(path)
	if err != nil {
		return nil, err
	}
	if data, err = declare.SetKubernetes(data, to); err != nil {
		return nil, fmt.Errorf("reading kubernetes in %s: %w", path, err)
	}
	s, _, err = a.OpenAs(path, data, true)
	return s, err
}

// Reachable refuses a version that there is no way to from the declared one.
func Reachable(r *declare.Result, to string) error {
	if _, ok := r.Catalogue.Set(to); !ok {
		return term.Usage("Kubernetes %s is not in the catalogue; choose one of %s", to, strings.Join(r.Catalogue.Versions(), ", "))
	}
	if _, err := r.Catalogue.Road(r.Decl.Kubernetes, to); err != nil {
		return term.Usage("%v", err)
	}
	return nil
}
