package keep

import (
	"io"
	"log"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"

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
