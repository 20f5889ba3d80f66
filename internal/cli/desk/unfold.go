package desk

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"

	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// Identities are what --unlock gives, or a passphrase that is asked for: what may open a file
// that was closed for somebody. what says whose passphrase is asked for.
func (a *App) Identities(what string) ([]age.Identity, error) {
	k := a.Keys()
	text := ""
	switch {
	case k.Unlock != "":
		given, err := whole.Read(k.Unlock)
		if err != nil {
			return nil, err
		}
		if id, err := agessh.ParseIdentity(given); err == nil {
			return []age.Identity{id}, nil
		}
		if ids, err := age.ParseIdentities(bytes.NewReader(given)); err == nil {
			return ids, nil
		}
		text, _, _ = strings.Cut(string(given), "\n")
		text = strings.TrimRight(text, "\r")
	case k.Ask != nil:
		var err error
		if text, err = k.Ask(what); err != nil {
			return nil, err
		}
	default:
		return nil, errors.New("there is nobody to ask for its passphrase; say --unlock FILE")
	}
	id, err := age.NewScryptIdentity(text)
	if err != nil {
		return nil, err
	}
	return []age.Identity{id}, nil
}

// Unfold writes a cluster into this folder: the files in which it is declared, and the memory
// of it. Nothing that is there is overwritten, and nothing is written before all of it was
// looked at; from says what it comes from.
func (a *App) Unfold(from, name string, files map[string][]byte, p *store.Packed) (written []string, st *store.Store, err error) {
	refuse := func(format string, args ...any) error {
		return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf(format+"; nothing was changed", args...)}
	}
	if name == "" || p.Database == nil || p.Key == nil {
		return nil, nil, refuse("%s holds no packed cluster", from)
	}
	// Whoever made it chose the name; it becomes a folder here.
	if !declare.IsName(name) {
		return nil, nil, refuse("%s is of a cluster %q, which is no name of a cluster: whoever made it should be asked why", from, name)
	}
	st = store.At(a.Dir, name, a.Keys())
	for f := range files {
		if filepath.Base(f) != f || !strings.HasSuffix(f, ".yaml") {
			return nil, nil, refuse("%s holds a file %q that does not belong there", from, f)
		}
		if _, err := os.Stat(filepath.Join(a.Dir, f)); err == nil {
			return nil, nil, term.Usage("%s is here already; work in an empty folder, nothing was changed", f)
		}
		written = append(written, f)
	}
	if st.Exists() {
		return nil, nil, term.Usage("cluster %s has a store here already; work in an empty folder, nothing was changed", name)
	}
	if err := st.Unpack(p); err != nil {
		return nil, nil, err
	}
	slices.Sort(written)
	for _, f := range written {
		if err := whole.Write(filepath.Join(a.Dir, f), files[f], 0o644); err != nil {
			return nil, nil, err
		}
	}
	return written, st, nil
}
