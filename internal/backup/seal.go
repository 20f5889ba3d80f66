package backup

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"

	"filippo.io/age"
)

// SealedFile is the file of a backup that holds what a machine may put beside a snapshot, and
// cannot open.
const SealedFile = "rest.age"

// Seal writes files, by name, so that each of the recipients can open them: a tar archive,
// encrypted with age.
func Seal(w io.Writer, to []age.Recipient, files map[string][]byte) error {
	enc, err := age.Encrypt(w, to...)
	if err != nil {
		return err
	}
	t := tar.NewWriter(enc)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(files[name])), Format: tar.FormatPAX}); err != nil {
			return err
		}
		if _, err := t.Write(files[name]); err != nil {
			return err
		}
	}
	return errors.Join(t.Close(), enc.Close())
}

// unseal puts what was sealed in the place of the file that holds it.
func (b *Reader) unseal(ids []age.Identity) error {
	closed, ok := b.Files[SealedFile]
	if !ok {
		return nil
	}
	plain, err := age.Decrypt(bytes.NewReader(closed), ids...)
	if err != nil {
		return fmt.Errorf("opening the backup's %s: %w", SealedFile, err)
	}
	delete(b.Files, SealedFile)
	for t := tar.NewReader(plain); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the backup's %s: %w", SealedFile, err)
		}
		if _, twice := b.Files[h.Name]; twice || path.Base(h.Name) != h.Name || h.Name == "." || h.Name == "/" || h.Size > mostFile {
			return fmt.Errorf("the backup's %s holds a file %q, which does not belong there", SealedFile, h.Name)
		}
		if b.Files[h.Name], err = io.ReadAll(t); err != nil {
			return fmt.Errorf("the backup's %s: %w", SealedFile, err)
		}
	}
}
