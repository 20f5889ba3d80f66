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
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/store"
	"verbund/internal/whole"
)

func trustPackCmd(a *desk.App) *cobra.Command {
	var to []string
	var passFile string
	c := &cobra.Command{
		Use: "pack FILE", Short: "Pack everything that is needed to keep the cluster from another computer", Args: term.ExactArgs(1, "the file to be written"),
		Long: `Writes one archive (tar, encrypted with age): the declaration with its site file and
pins, the store with its secrets, and the journal. It opens with a passphrase, which
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
			var recipients []age.Recipient
			for _, t := range to {
				var rc age.Recipient
				if strings.HasPrefix(t, "ssh-") {
					rc, err = agessh.ParseRecipient(t)
				} else {
					rc, err = age.ParseX25519Recipient(t)
				}
				if err != nil {
					return term.Usage("--to: %v", err)
				}
				recipients = append(recipients, rc)
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
			files := map[string]string{filepath.Base(path): path, filepath.Base(r.SiteFile): r.SiteFile, filepath.Base(r.PinsFile): r.PinsFile, packedJournal: s.Store.JournalFile()}
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
	packedStore   = "store.db"
	packedKey     = "store.key"
	packedName    = "cluster"
	packedJournal = "journal.jsonl"
)

func writePack(w io.Writer, to []age.Recipient, cluster string, p *store.Packed, files map[string]string) error {
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
	for _, name := range slices.Sorted(maps.Keys(files)) {
		b, rerr := os.ReadFile(files[name])
		if errors.Is(rerr, os.ErrNotExist) {
			continue
		}
		err = errors.Join(err, rerr, put(name, b))
	}
	return errors.Join(err, t.Close(), enc.Close())
}

func trustUnpackCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "unpack FILE", Short: "Unpack what trust pack wrote, into this folder", Args: term.ExactArgs(1, "the archive"),
		Long:    "Nothing that is there is overwritten. The passphrase is asked for; --unlock gives a\nfile with it in its first line, an age key file, or an SSH private key. The store is\nprotected with a key file of this computer.",
		Example: "  verbund trust unpack tidewatch.pack\n  verbund trust unpack tidewatch.pack --unlock ~/.ssh/id_ed25519",
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := os.ReadFile(args[0])
			if err != nil {
				return term.Usage("%v", err)
			}
			files, err := unpack(a, b)
			if err != nil {
				return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s cannot be opened: %w; nothing was changed", args[0], err)}
			}
			name := string(files[packedName])
			if name == "" || files[packedStore] == nil || files[packedKey] == nil {
				return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s holds no packed cluster; nothing was changed", args[0])}
			}
			// Whoever made the archive chose the name; it becomes a folder here.
			if !declare.IsName(name) {
				return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s is of a cluster %q, which is no name of a cluster; nothing was changed, and whoever made the archive should be asked why", args[0], name)}
			}
			st := store.At(a.Dir, name, a.Keys())
			var write []string
			for f := range files {
				switch f {
				case packedName, packedStore, packedKey, packedJournal:
					continue
				}
				if filepath.Base(f) != f || !strings.HasSuffix(f, ".yaml") {
					return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s holds a file %q that does not belong there; nothing was changed", args[0], f)}
				}
				if _, err := os.Stat(filepath.Join(a.Dir, f)); err == nil {
					return term.Usage("%s is here already; unpack into an empty folder, nothing was changed", f)
				}
				write = append(write, f)
			}
			if st.Exists() {
				return term.Usage("cluster %s has a store here already; unpack into an empty folder, nothing was changed", name)
			}
			if err := st.Unpack(&store.Packed{Database: files[packedStore], Key: files[packedKey]}); err != nil {
				return err
			}
			if files[packedJournal] != nil {
				if err := whole.Write(st.JournalFile(), files[packedJournal], 0o600); err != nil {
					return err
				}
			}
			slices.Sort(write)
			for _, f := range write {
				if err := whole.Write(filepath.Join(a.Dir, f), files[f], 0o644); err != nil {
					return err
				}
			}
			a.UI.Say("unpacked cluster %s: %s, its store and its journal", name, strings.Join(write, ", "))
			if p, err := st.Protection(); err == nil && p != nil {
				a.UI.Say("the store is protected with the key file %s", a.Keys().KeyFile(*p))
			}
			a.UI.Say("the machines of a simulated site stay on the computer where they run")
			return nil
		},
	}
}

// unpack opens an archive with whatever was given or is asked for.
func unpack(a *desk.App, b []byte) (map[string][]byte, error) {
	var ids []age.Identity
	k := a.Keys()
	text := ""
	switch {
	case k.Unlock != "":
		given, err := os.ReadFile(k.Unlock)
		if err != nil {
			return nil, err
		}
		if id, err := agessh.ParseIdentity(given); err == nil {
			ids = append(ids, id)
		} else if more, err := age.ParseIdentities(bytes.NewReader(given)); err == nil {
			ids = more
		} else {
			text, _, _ = strings.Cut(string(given), "\n")
			text = strings.TrimRight(text, "\r")
		}
	case k.Ask != nil:
		var err error
		if text, err = k.Ask("passphrase of the archive"); err != nil {
			return nil, err
		}
	default:
		return nil, errors.New("there is nobody to ask for its passphrase; say --unlock FILE")
	}
	if len(ids) == 0 {
		id, err := age.NewScryptIdentity(text)
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	r, err := age.Decrypt(bytes.NewReader(b), ids...)
	if err != nil {
		var none *age.NoIdentityMatchError
		if errors.As(err, &none) {
			err = errors.New("this is not what it was closed with")
		}
		return nil, err
	}
	return readPack(r)
}

// readPack reads the inside of an archive.
func readPack(r io.Reader) (map[string][]byte, error) {
	out, left := map[string][]byte{}, int64(mostPacked)
	for t := tar.NewReader(r); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		if left -= h.Size; left < 0 || h.Typeflag != tar.TypeReg {
			return nil, fmt.Errorf("it holds %q, which is no file, or with which it is larger than any that was packed here", h.Name)
		}
		if out[h.Name], err = io.ReadAll(t); err != nil {
			return nil, err
		}
	}
}

// mostPacked is how large the files of an archive may be together, in bytes.
const mostPacked = 1 << 30
