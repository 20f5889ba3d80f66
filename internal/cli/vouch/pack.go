package vouch

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"verbund/internal/backup"
	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/store"
	"verbund/internal/whole"
)

func trustPackCmd(a *desk.App) *cobra.Command {
	var to []string
	var passFile string
	c := &cobra.Command{
		Use: "pack FILE", Short: "Pack everything that is needed to keep the cluster from another computer", Args: term.ExactArgs(1, "the file to be written"),
		Long: `Writes one archive (tar, encrypted with age): the declaration with its site file and
pins, the store with its secrets, what opens the cluster's backups, and the journal. It opens with a passphrase, which
is asked for, or for recipients (age or SSH public keys). trust unpack takes it on the
other computer.`,
		Example: "  verbund trust pack tidewatch.pack\n  verbund trust pack tidewatch.pack --to 'ssh-ed25519 AAAA…'",
		RunE: func(_ *cobra.Command, args []string) error {
			s, r, err := a.OpenFile(false)
			if err != nil {
				return err
			}
			defer s.Close()
			if _, err := os.Stat(args[0]); err == nil {
				return term.Usage("%s is there already; choose another name", args[0])
			}
			if !s.Store.Exists() {
				return fmt.Errorf("cluster %s has no store yet; converge or render makes it", s.Decl.Name)
			}
			recipients, err := backup.Recipients(to)
			if err != nil {
				return term.Usage("--to: %v", err)
			}
			if len(recipients) == 0 {
				text, err := a.NewPassphrase(a.Keys(), passFile)
				if err != nil {
					return term.Usage("%v", err)
				}
				rc, err := age.NewScryptRecipient(text)
				if err != nil {
					return err
				}
				recipients = append(recipients, rc)
			}
			p, err := s.Store.Pack()
			if err != nil {
				return err
			}
			path, err := a.FindDeclaration()
			if err != nil {
				return err
			}
			files, err := s.Store.JournalFiles()
			if err != nil {
				return err
			}
			for _, f := range []string{path, r.SiteFile, r.PinsFile} {
				b, err := whole.Read(f)
				if errors.Is(err, os.ErrNotExist) {
					continue
				}
				if err != nil {
					return err
				}
				files[filepath.Base(f)] = b
			}
			var b bytes.Buffer
			if err := writePack(&b, recipients, s.Decl.Name, p, files); err != nil {
				return err
			}
			if err := whole.Write(args[0], b.Bytes(), 0o600); err != nil {
				return err
			}
			a.UI.Say("packed cluster %s into %s, %d KiB; whoever opens it holds every key of the cluster", s.Decl.Name, args[0], b.Len()>>10)
			return nil
		},
	}
	c.Flags().StringArrayVar(&to, "to", nil, "who may open it: an age recipient or an SSH public key, instead of a passphrase")
	c.Flags().StringVar(&passFile, "passphrase-file", "", "file with the passphrase in its first line")
	return c
}

// Names in an archive beside the files of the working folder.
const (
	packedStore  = "store.db"
	packedKey    = "store.key"
	packedOpener = "store.opener"
	packedName   = "cluster"
)

func writePack(w io.Writer, to []age.Recipient, cluster string, p *store.Packed, files map[string][]byte) error {
	enc, err := age.Encrypt(w, to...)
	if err != nil {
		return err
	}
	t := tar.NewWriter(enc)
	put := func(name string, b []byte) error {
		err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(b))})
		if err == nil {
			_, err = t.Write(b)
		}
		return err
	}
	err = errors.Join(put(packedName, []byte(cluster)), put(packedKey, p.Key), put(packedStore, p.Database))
	if p.Opener != nil {
		err = errors.Join(err, put(packedOpener, p.Opener))
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		err = errors.Join(err, put(name, files[name]))
	}
	return errors.Join(err, t.Close(), enc.Close())
}
