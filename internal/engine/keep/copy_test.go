package keep

import (
	"io"
	"log"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"

	"verbund/internal/backup"
	"verbund/internal/core/memory"
)

// A copy in a registry is read by its digest, whatever its name leads to by then; what is no backup
// is not taken for one.
func TestCopyInRegistry(t *testing.T) {
	srv := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer srv.Close()
	s := life(t, t.TempDir(), t.TempDir())
	f := take(t, s, "one")
	to := backup.InRegistry + strings.TrimPrefix(srv.URL, "http://") + "/tides:newest"
	c, err := Copy(t.Context(), s, f, to)
	if err != nil || c.Digest == "" {
		t.Fatalf("%+v, %v", c, err)
	}
	// Somebody puts something else under its name.
	ref, err := name.ParseReference(strings.TrimPrefix(to, backup.InRegistry))
	if err != nil {
		t.Fatal(err)
	}
	for layers, want := range map[int64]string{1: "is no backup", 2: "is no backup"} {
		img, err := random.Image(10, layers)
		if err == nil {
			err = remote.Write(ref, img)
		}
		if err != nil {
			t.Fatal(err)
		}
		if err := Check(t.Context(), s, f, c); err != nil {
			t.Errorf("by its digest: %v", err)
		}
		if err := Check(t.Context(), s, f, &memory.Copy{To: to}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("by its name, %d layers: %v", layers, err)
		}
	}
	// A folder that is not there is not made: a disk may not be mounted.
	for _, folder := range []string{filepath.Join(t.TempDir(), "vault"), path(s, f.Name)} {
		if _, err := Copy(t.Context(), s, f, folder); err == nil || !strings.Contains(err.Error(), "there is no folder") {
			t.Errorf("to %s: %v", folder, err)
		}
	}
}

// Whoever has put something into a registry chose its name: it leads nowhere but to where backups
// lie, and over none that is there.
func TestFetch(t *testing.T) {
	srv := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer srv.Close()
	folder := t.TempDir()
	s := life(t, filepath.Join(folder, "one"), t.TempDir())
	f := take(t, s, "one")
	to := backup.InRegistry + strings.TrimPrefix(srv.URL, "http://") + "/tides:newest"
	ref, err := name.ParseReference(strings.TrimPrefix(to, backup.InRegistry))
	if err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(path(s, f.Name))
	if err != nil {
		t.Fatal(err)
	}
	for title, want := range map[string]string{
		"../../../" + f.Name: "is no name of a backup", "/" + f.Name: "is no name of a backup", "": "is no name of a backup", "authorized_keys": "is no name of a backup",
		f.Name: "is here already",
	} {
		img, err := mutate.Append(empty.Image, mutate.Addendum{Layer: static.NewLayer(b, backup.MediaType), MediaType: backup.MediaType, Annotations: map[string]string{backup.Titled: title}})
		if err == nil {
			err = remote.Write(ref, img)
		}
		if err != nil {
			t.Fatal(err)
		}
		if got, err := Fetch(t.Context(), s, to); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("as %q: %+v, %v", title, got, err)
		}
	}
	// Where it is not, it comes, from a registry and from a folder.
	if _, err := Copy(t.Context(), s, f, to); err != nil {
		t.Fatal(err)
	}
	there := life(t, filepath.Join(folder, "two"), t.TempDir())
	if got, err := Fetch(t.Context(), there, to); err != nil || got.Name != f.Name {
		t.Errorf("%+v, %v", got, err)
	}
	third := life(t, filepath.Join(folder, "three"), t.TempDir())
	if got, err := Fetch(t.Context(), third, path(s, f.Name)); err != nil || got.Name != f.Name {
		t.Errorf("%+v, %v", got, err)
	}
}
