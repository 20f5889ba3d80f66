package keep

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"verbund/internal/backup"
	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/trust"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// lost says whether a folder holds no cluster, and a word names a backup's file: then the
// folder in which the cluster was kept is lost, and is had back from that.
func lost(a *desk.App, word string) bool {
	if !strings.HasSuffix(word, backup.Suffix) || a.File != "" {
		return false
	}
	_, err := os.Stat(word)
	_, derr := a.FindDeclaration()
	return err == nil && derr != nil
}

// hadBack writes the declaration and the memory that a backup holds into this folder, with the
// backup itself; it says whether the machines have to be got anew.
func hadBack(a *desk.App, file string) (again bool, err error) {
	refuse := func(err error) error {
		return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s: %w; nothing was changed", file, err)}
	}
	ids, err := a.Identities("passphrase of what opens the backup")
	if err != nil {
		return false, refuse(err)
	}
	// What opens it travels inside, and may lie beside it, closed like the store was.
	for _, beside := range store.OpenersIn(filepath.Dir(file)) {
		if b, err := whole.Read(beside); err == nil {
			if more, err := backup.Identities(b, ids...); err == nil {
				ids = append(ids, more...)
			}
		}
	}
	ids = append(ids, backup.Inside(ids...))
	f, err := whole.Open(file)
	if err != nil {
		return false, refuse(err)
	}
	defer f.Close()
	b, err := backup.Open(f, ids...)
	if err != nil {
		var none *age.NoIdentityMatchError
		if errors.As(err, &none) {
			err = errors.New("what --unlock gives does not open it, nor what lies beside it; it wants the key file of the store that it was taken with, or the key of somebody whom backup.opens named")
		}
		return false, refuse(err)
	}
	if err := b.Verify(io.Discard); err != nil {
		return false, refuse(err)
	}
	m := b.Manifest
	files := map[string][]byte{}
	for name, text := range b.Files {
		if name != keep.MemoryFile && name != keep.MemoryKey && name != keep.MemoryOpener {
			files[name] = text
		}
	}
	if b.Files[keep.MemoryFile] == nil {
		return false, refuse(errors.New("it is from before backups held the declaration and the keys: a lost folder cannot be had back from it"))
	}
	a.UI.Say("backup %s is of cluster %s, of %s, on %s", filepath.Base(file), m.Cluster, m.Taken.Local().Format("2006-01-02 15:04:05"), m.Kubernetes)
	if err := a.Ask(fmt.Sprintf("Have cluster %s, its declaration and its keys, back in this folder?", m.Cluster)); err != nil {
		return false, err
	}
	written, st, err := a.Unfold(file, m.Cluster, files, &store.Packed{Database: b.Files[keep.MemoryFile], Key: b.Files[keep.MemoryKey], Opener: b.Files[keep.MemoryOpener]})
	if err != nil {
		return false, err
	}
	a.UI.Say("cluster %s is here again: %s, and its store", m.Cluster, strings.Join(written, ", "))
	if p, err := st.Protection(); err == nil && p != nil {
		a.UI.Say("the store is protected with the key file %s", a.Keys().KeyFile(*p))
		a.Unlock = a.Keys().KeyFile(*p) // from here on; what opened the backup opens nothing else
	}
	if err := closedAnew(st, file, ids); err != nil {
		return false, err
	}
	s, r, err := a.OpenPath(filepath.Join(a.Dir, m.Cluster+declare.Ending), false)
	if err != nil {
		return false, err
	}
	defer s.Close()
	if r.Site.Kind == declare.ListedSite || s.Site.Here() {
		a.UI.Say("its machines are those that it had, and nothing was done to them: verbund status looks at them, verbund backup restore brings the datastore back to what the backup holds")
		return false, nil
	}
	// A site of this computer begins without any machine.
	err = allForgotten(st)
	a.UI.Say("site %s has no inventory in this folder: all of its machines are got anew", s.Decl.Site)
	return true, err
}

// allForgotten forgets all machines of a cluster, with their certificates and keys.
func allForgotten(st session.Memory) error {
	had, err := st.Read()
	if err != nil {
		return err
	}
	of := func(id string) bool {
		for name := range had.Machines {
			if trust.IsOf(name, id) {
				return true
			}
		}
		return false
	}
	return st.UpdateWith(store.TrustChange{Gone: of}, func(st *memory.State) error {
		for name := range had.Machines {
			st.Forget(name)
		}
		return nil
	})
}

// closedAnew puts a backup among those of the cluster, closed for the key that opens these.
func closedAnew(st session.Memory, file string, ids []age.Identity) error {
	if _, err := st.BackupKey(); err != nil { // which makes it
		return err
	}
	o, err := st.OpensBackups()
	if err != nil {
		return err
	}
	to, err := keep.ClosedFor(o)
	if err != nil {
		return err
	}
	f, err := whole.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	is, err := backup.Open(f, ids...)
	if err != nil {
		return err
	}
	name, err := st.SaveBackup(filepath.Base(file), func(w io.Writer) error { return backup.Rewrite(w, to, is) }, func(r io.Reader) error {
		b, err := backup.Open(r, o.Own)
		if err == nil {
			err = b.Verify(io.Discard)
		}
		return err
	})
	if err != nil {
		return err
	}
	return st.Update(func(st *memory.State) error {
		st.Backups[filepath.Base(name)] = memory.BackupNote{Verified: time.Now().UTC()}
		return nil
	})
}
