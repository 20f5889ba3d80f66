package vouch

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"filippo.io/age"
	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/store"
	"verbund/internal/whole"
)

func trustUnpackCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "unpack FILE", Short: "Unpack what trust pack wrote, into this folder", Args: term.ExactArgs(1, "the archive"),
		Long:    "Nothing that is there is overwritten. The passphrase is asked for; --unlock gives a\nfile with it in its first line, an age key file, or an SSH private key. The store is\nprotected with a key file of this computer.",
		Example: "  verbund trust unpack tidewatch.pack\n  verbund trust unpack tidewatch.pack --unlock ~/.ssh/id_ed25519",
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := whole.Read(args[0])
			if err != nil {
				return term.Usage("%v", err)
			}
			files, err := unpack(a, b)
			if err != nil {
				return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s cannot be opened: %w; nothing was changed", args[0], err)}
			}
			name := string(files[packedName])
			packed := &store.Packed{Database: files[packedStore], Key: files[packedKey], Opener: files[packedOpener]}
			for _, f := range []string{packedName, packedStore, packedKey, packedOpener} {
				delete(files, f)
			}
			journals := map[string][]byte{}
			for _, f := range store.Journals {
				if b, ok := files[f]; ok {
					journals[f] = b
					delete(files, f)
				}
			}
			write, st, err := a.Unfold(args[0], name, files, packed)
			if err != nil {
				return err
			}
			for f, b := range journals {
				if err := whole.Write(filepath.Join(st.Path, f), b, 0o600); err != nil {
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
	ids, err := a.Identities("passphrase of the archive")
	if err != nil {
		return nil, err
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
