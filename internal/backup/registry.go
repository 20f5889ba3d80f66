package backup

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// InRegistry is how a place in an OCI registry begins.
const InRegistry = "oci://"

// MediaType is that of a backup in a registry, as the only layer of an artefact.
const MediaType types.MediaType = "application/vnd.verbund.backup.age"

// Titled is the annotation that names a layer's file (OCI Image Specification).
const Titled = "org.opencontainers.image.title"

// Reference is a repository, and in it a tag or a digest.
func Reference(to string) (name.Reference, error) {
	text := strings.TrimPrefix(to, InRegistry)
	var o []name.Option
	// One on this computer's loopback speaks plain HTTP, as everywhere.
	if h, _, _ := strings.Cut(text, "/"); strings.HasPrefix(h, "127.") || strings.HasPrefix(h, "localhost") {
		o = append(o, name.Insecure)
	}
	ref, err := name.ParseReference(text, o...)
	if err != nil {
		return nil, fmt.Errorf("%s is no place in a registry, such as oci://registry.test/kept/tidewatch: %w", to, err)
	}
	return ref, nil
}

// Push writes an artefact with a file as its only layer, under the time of the backup as its
// tag; it returns the artefact's digest.
func Push(path, to string, o ...remote.Option) (digest string, err error) {
	ref, err := Reference(to)
	if err != nil {
		return "", err
	}
	if t, ok := ref.(name.Tag); ok && t.TagStr() == name.DefaultTag && !strings.HasSuffix(to, ":"+name.DefaultTag) {
		ref = t.Tag(strings.TrimSuffix(filepath.Base(path), Suffix))
	}
	base := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), "application/vnd.oci.empty.v1+json")
	sum, err := SumOf(path)
	if err != nil {
		return "", err
	}
	layer := file{path, v1.Hash{Algorithm: "sha256", Hex: sum}}
	img, err := mutate.Append(base, mutate.Addendum{Layer: layer, MediaType: MediaType, Annotations: map[string]string{Titled: filepath.Base(path)}})
	if err != nil {
		return "", err
	}
	if err := remote.Write(ref, img, o...); err != nil {
		return "", fmt.Errorf("the registry did not take it: %w", err)
	}
	d, err := img.Digest()
	return d.String(), err
}

// file is a layer that is a file as it lies there.
type file struct {
	path string
	sum  v1.Hash
}

func (f file) Digest() (v1.Hash, error)             { return f.sum, nil }
func (f file) DiffID() (v1.Hash, error)             { return f.sum, nil }
func (f file) Compressed() (io.ReadCloser, error)   { return os.Open(f.path) }
func (f file) Uncompressed() (io.ReadCloser, error) { return os.Open(f.path) }
func (f file) MediaType() (types.MediaType, error)  { return MediaType, nil }

func (f file) Size() (int64, error) {
	i, err := os.Stat(f.path)
	if err != nil {
		return 0, err
	}
	return i.Size(), nil
}

// SumOf is the SHA-256 of a file, in hexadecimal.
func SumOf(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}
