package keep

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"verbund/internal/backup"
	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/keep"
	"verbund/internal/whole"
)

func restoreCmd(a *desk.App) *cobra.Command {
	var member, as string
	c := &cobra.Command{
		Use: "restore [NAME]", Short: "Found the datastore anew from a backup, and converge; or raise a copy to look at",
		Long: `What the datastore holds now is lost: what that is, by kind, is said first, and wants the
cluster's name. It is backed up before, if it can be.

API servers and members of the datastore stop, everywhere; then all members are made
from the one snapshot, as a new cluster with revisions beyond all that were; then the API
servers start, and the rest follows as converge does it. Pods on workers go on serving
meanwhile: kubelets and controllers see the older state when the API is back, and bring
the cluster to it. Machines that are gone are got anew first.

A backup of an older minor brings the control plane and the datastore back to that minor,
which is written into the declaration; workers follow.

In a folder that holds no cluster the name is that of a backup's file, from wherever it
was kept: the declaration, the pins, the site's file and every key come back from it, and
the cluster with them. It opens with what --unlock gives: the key of somebody whom
backup.opens named, or the key file, passphrase or SSH key of the lost store.

Where the majority of the datastore's machines is lost for good, --member names the one
whose member survived: what it holds becomes a backup, and is restored. It is newer than
any backup, and may lack what was written while it could not be reached.

To look at what a backup holds, --as raises a copy of the cluster beside it, under the name
that is given: one machine more, whose API holds what the backup does. Nothing acts on that:
there are no controllers, no scheduler and no nodes, and nobody comes in there with what
lets in to the cluster itself, which is not touched. Its declaration is written beside this
one, and is meant by --file NAME alone; teardown --file NAME removes all of it.

Interrupted, the same command goes on, and so does converge. A restoration that is
underway needs no name.`,
		Example: "  verbund backup restore newest --confirm tidewatch\n  verbund backup restore before-the-fair\n  verbund backup restore before-the-fair --as tidewatch-then\n  verbund backup restore /mnt/vault/20261127-090000-v1.36.3.backup.age --unlock ~/.ssh/id_ed25519",
		RunE: func(_ *cobra.Command, args []string) error {
			name := ""
			switch {
			case len(args) > 1:
				return term.Usage("restore takes one backup")
			case len(args) == 1:
				name = args[0]
			}
			switch {
			case member != "" && as != "":
				return term.Usage("--as raises a copy from a backup; take one of the member first, with --member alone")
			case member != "" && name != "":
				return term.Usage("--member takes what a machine holds, and no backup beside it")
			}
			return restore(a, name, member, as)
		},
	}
	c.Flags().StringVar(&member, "member", "", "machine whose member of the datastore survived, where the majority is lost for good")
	c.Flags().StringVar(&as, "as", "", "name of a copy that is raised beside the cluster, for looking at")
	return a.Drains(c)
}

// restore brings back a backup, what a machine's member holds, or, where neither is named, what
// a restoration goes on with; or raises a copy.
func restore(a *desk.App, name, member, as string) error {
	if name != "" && lost(a, name) {
		if as != "" {
			return term.Usage("a copy is raised beside the cluster, and this folder holds none; have it back first, without --as")
		}
		again, err := hadBack(a, name)
		if err != nil || !again {
			return err
		}
		name = filepath.Base(name)
	}
	path, err := a.FindDeclaration()
	if err != nil {
		return err
	}
	s, r, err := a.OpenPath(path, false)
	if err != nil {
		return err
	}
	defer s.Close()
	switch {
	case member != "":
		f, err := a.Work(s, r).Rescue(member)
		if err != nil {
			return err
		}
		return a.Work(s, r).Restore("backup restore", f, nil)
	case as != "":
		return aside(a, s, path, cmp.Or(name, keep.Newest), as)
	case name == "":
		st, err := s.Store.Read()
		if err != nil {
			return err
		}
		under := st.Restoring
		if under == nil || under.Founded || under.Kubernetes == "" || versions.Minor(under.Kubernetes) == versions.Minor(s.Decl.Kubernetes) {
			return a.Work(s, r).Restore("backup restore", nil, nil)
		}
		name = under.Backup // it was cut off before its minor was declared
	}
	f, err := named(s, name)
	if err != nil {
		if i, serr := os.Stat(name); serr == nil && i.Mode().IsRegular() && strings.HasSuffix(name, backup.Suffix) {
			return term.Usage("%s is a file, and not among the backups of cluster %s, which this folder holds; bring it among them: verbund backup copy --back %s; or have the cluster that it is of back in an empty folder", name, s.Decl.Name, name)
		}
		return err
	}
	if f.Trouble != nil {
		return fmt.Errorf("backup %s cannot be restored: %w", f.Name, f.Trouble)
	}
	was := f.Manifest.Kubernetes
	if versions.Minor(was) == versions.Minor(s.Decl.Kubernetes) {
		return a.Work(s, r).Restore("backup restore", f, nil)
	}
	return restoreOther(a, path, f)
}

// restoreOther restores a backup of another minor, which is declared from then on.
func restoreOther(a *desk.App, path string, f *keep.Found) error {
	was := f.Manifest.Kubernetes
	data, err := whole.Read(path)
	if err != nil {
		return err
	}
	out, err := declare.SetKubernetes(data, was)
	if errors.Is(err, declare.ErrElsewhere) {
		return term.Usage("backup %s is of %s, and the version does not stand in %s, but in a file that it extends; write %s there first", f.Name, was, path, was)
	}
	if err != nil {
		return fmt.Errorf("changing kubernetes in %s: %w", path, err)
	}
	s, r, err := a.OpenAs(path, out, true)
	if err != nil {
		return err
	}
	defer s.Close()
	var ch *converge.Change
	if !bytes.Equal(data, out) {
		ch = &converge.Change{Text: "changed kubernetes in " + path + " to " + was, Write: func() error { return desk.Rewrite(path, data, out) }}
	}
	return a.Work(s, r).Restore("backup restore", f, ch)
}
