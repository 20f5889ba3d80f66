package keep

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"

	"verbund/internal/backup"
	"verbund/internal/core/memory"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

func options(ctx context.Context) []remote.Option {
	return []remote.Option{remote.WithContext(ctx), remote.WithAuthFromKeychain(authn.DefaultKeychain), remote.WithJobs(2)}
}

// Copy sends a backup off as it is, to a folder or to an OCI registry, and reads it there once
// more. Where it lies is remembered.
func Copy(ctx context.Context, s *session.Session, f *Found, to string) (*memory.Copy, error) {
	c := memory.Copy{To: to, At: time.Now().UTC()}
	var err error
	if strings.HasPrefix(to, backup.InRegistry) {
		c.Digest, err = backup.Push(path(s, f.Name), to, options(ctx)...)
	} else {
		if c.To, err = filepath.Abs(to); err == nil {
			err = copyTo(path(s, f.Name), filepath.Join(c.To, f.Name))
		}
	}
	if err != nil {
		return nil, err
	}
	if err := Check(ctx, s, f, &c); err != nil {
		return nil, fmt.Errorf("it was sent, and is not there as it is here: %w", err)
	}
	n := f.Note
	copies := []memory.Copy{c}
	for _, o := range n.Copies {
		if o.To != c.To {
			copies = append(copies, o)
		}
	}
	n.Copies = copies
	f.Note = n
	return &c, s.Remember(func(st *memory.State) { st.Backups[f.Name] = n })
}

// Send sends a backup wherever it is declared that each goes: where it lies then, and what could
// not be sent, with what to do, which keeps nothing else from being.
func Send(ctx context.Context, s *session.Session, f *Found) (lies []string, unsent error) {
	var errs []error
	for _, to := range s.Decl.Backup.To {
		c, err := Copy(ctx, s, f, to)
		if err != nil {
			errs = append(errs, fmt.Errorf("backup %s is here, and could not be sent to %s: %w; try again: verbund backup copy %s %s", f.Short(), to, err, f.Short(), to))
			continue
		}
		lies = append(lies, c.To)
	}
	return lies, errors.Join(errs...)
}

// copyTo copies a file into a folder. One that is there already is the same, from a copy that was
// cut off before anybody noted it, or somebody else's, which stays.
func copyTo(from, to string) error {
	if _, err := os.Stat(to); err == nil {
		want, err := backup.SumOf(from)
		if err != nil {
			return err
		}
		if got, err := backup.SumOf(to); err != nil || got != want {
			return errors.Join(fmt.Errorf("%s is there already, and is another one", to), err)
		}
		return nil
	}
	if i, err := os.Stat(filepath.Dir(to)); err != nil || !i.IsDir() {
		return fmt.Errorf("there is no folder %s", filepath.Dir(to))
	}
	in, err := whole.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := whole.Partial(to, backup.Suffix)
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	if _, err := io.Copy(out, in); err != nil {
		return err
	}
	if err := out.Sync(); err != nil {
		return err
	}
	return whole.Replace(out.Name(), to)
}

// Check reads a copy where it lies, and holds it against the file here. What it finds well is
// noted in it.
func Check(ctx context.Context, s *session.Session, f *Found, c *memory.Copy) error {
	want, err := backup.SumOf(path(s, f.Name))
	if err != nil {
		return err
	}
	h := sha256.New()
	if _, err := fetch(ctx, c, f.Name, h); err != nil {
		return err
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != want {
		return fmt.Errorf("what lies at %s has the digest %s, and the file here %s", c.To, got, want)
	}
	c.Checked = time.Now().UTC()
	return nil
}

// fetch reads a copy into w; it returns the name of its file.
func fetch(ctx context.Context, c *memory.Copy, file string, w io.Writer) (string, error) {
	if !strings.HasPrefix(c.To, backup.InRegistry) {
		in, err := whole.Open(filepath.Join(c.To, file))
		if err != nil {
			return "", err
		}
		defer in.Close()
		_, err = io.Copy(w, in)
		return file, err
	}
	ref, err := backup.Reference(c.To)
	if err != nil {
		return "", err
	}
	if c.Digest != "" {
		ref = ref.Context().Digest(c.Digest)
	}
	img, err := remote.Image(ref, options(ctx)...)
	if err != nil {
		return "", fmt.Errorf("the registry does not give it: %w", err)
	}
	m, err := img.Manifest()
	if err != nil {
		return "", err
	}
	if len(m.Layers) != 1 || m.Layers[0].MediaType != backup.MediaType {
		return "", fmt.Errorf("what lies at %s is no backup", c.To)
	}
	return m.Layers[0].Annotations[backup.Titled], layerTo(img, w)
}

func layerTo(img v1.Image, w io.Writer) error {
	ls, err := img.Layers()
	if err != nil {
		return err
	}
	// The library checks the digest as it is read. What it calls compressed is the blob as it
	// lies there.
	r, err := ls[0].Compressed()
	if err != nil {
		return err
	}
	defer r.Close()
	_, err = io.Copy(w, r)
	return err
}

// Fetch gets a copy back, to where backups lie; it returns the backup as it is found there.
func Fetch(ctx context.Context, s *session.Session, from string) (*Found, error) {
	c := &memory.Copy{To: from}
	at := ""
	if !strings.HasPrefix(from, backup.InRegistry) {
		c.To, at = filepath.Split(from)
	}
	if _, err := s.Store.BackupKey(); err != nil { // which makes the folder
		return nil, err
	}
	folder, _ := s.Store.BackupsAt()
	part, err := whole.Unnamed(folder)
	if err != nil {
		return nil, err
	}
	defer part.Close()
	is, err := fetch(ctx, c, at, part)
	if err != nil {
		return nil, err
	}
	if filepath.Base(is) != is || !strings.HasSuffix(is, backup.Suffix) {
		return nil, fmt.Errorf("what lies at %s calls itself %q, which is no name of a backup", from, is)
	}
	if _, err := os.Stat(path(s, is)); err == nil {
		return nil, fmt.Errorf("backup %s is here already", is)
	}
	if _, err := part.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	// Whether it can be used here is said of it: it may be of another cluster.
	if _, err := s.Store.SaveBackup(is, func(w io.Writer) error { _, err := io.Copy(w, part); return err }, func(io.Reader) error { return nil }); err != nil {
		return nil, err
	}
	return Find(s, is)
}
