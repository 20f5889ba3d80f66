package main

import (
	"archive/tar"
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/match"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// shelf is a folder of artefacts (OCI Image Layout 1.1).
type shelf struct {
	at     layout.Path
	folder string
}

func openShelf(folder string) (*shelf, error) {
	// It is laid out anew; blobs that are there already are taken as they are, for they are
	// called by their digests.
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	if err := os.Remove(filepath.Join(folder, "catalogue.yaml")); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	p, err := layout.Write(folder, empty.Index)
	return &shelf{p, folder}, err
}

// named is the annotation of an artefact's name (OCI Image Layout 1.1, annotations).
const named = "org.opencontainers.image.ref.name"

// put lays an artefact down: one layer with its programs in bin/, the same bytes every time.
func (s *shelf) put(name, version string, files []string) (string, error) {
	l, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return programs(files), nil }, tarball.WithMediaType(types.OCIUncompressedLayer), tarball.WithCompressionLevel(0))
	if err != nil {
		return "", err
	}
	img, err := mutate.ConfigFile(mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON),
		&v1.ConfigFile{OS: "linux", Architecture: runtime.GOARCH, RootFS: v1.RootFS{Type: "layers"}, Config: v1.Config{Entrypoint: []string{"/bin/" + name},
			Labels: map[string]string{"org.opencontainers.image.title": name, "org.opencontainers.image.version": version}}})
	if err != nil {
		return "", err
	}
	if img, err = mutate.Append(img, mutate.Addendum{Layer: uncompressed{l}}); err != nil {
		return "", err
	}
	d, err := img.Digest()
	if err != nil {
		return "", err
	}
	ref := name + ":" + version
	return d.String(), s.at.ReplaceImage(img, match.Name(ref), layout.WithAnnotations(map[string]string{named: ref}))
}

// uncompressed is a layer that is stored as it is: these are fetched over a short line.
type uncompressed struct{ v1.Layer }

func (u uncompressed) Compressed() (io.ReadCloser, error) { return u.Uncompressed() }
func (u uncompressed) Digest() (v1.Hash, error)           { return u.DiffID() }
func (u uncompressed) Size() (int64, error) {
	r, err := u.Uncompressed()
	if err != nil {
		return 0, err
	}
	defer r.Close()
	return io.Copy(io.Discard, r)
}

// programs is an archive of programs, without anything that differs from one time to another.
func programs(files []string) io.ReadCloser {
	r, w := io.Pipe()
	go func() {
		t := tar.NewWriter(w)
		for _, f := range files {
			if err := add(t, f); err != nil {
				w.CloseWithError(err)
				return
			}
		}
		w.CloseWithError(t.Close())
	}()
	return r
}

func add(t *tar.Writer, file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	i, err := f.Stat()
	if err != nil {
		return err
	}
	if err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "bin/" + filepath.Base(file), Mode: 0o755, Size: i.Size(), ModTime: time.Unix(0, 0), Format: tar.FormatUSTAR}); err != nil {
		return err
	}
	_, err = io.Copy(t, f)
	return err
}
