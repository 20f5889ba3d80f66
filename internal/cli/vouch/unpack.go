package vouch

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
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
