package registry

import (
	"errors"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/validate"

	"verbund/internal/core/versions"
)

// shelf lays an artefact down in a folder, under a name, and returns its digest and the file
// of its layer.
func shelf(t *testing.T, folder, ref string) (digest, layer string) {
	t.Helper()
	img, err := random.Image(4096, 1)
	if err != nil {
		t.Fatal(err)
	}
	p, err := layout.Write(folder, empty.Index)
	if err != nil {
		t.Fatal(err)
	}
	var opts []layout.Option
	if ref != "" {
		opts = append(opts, layout.WithAnnotations(map[string]string{named: ref}))
	}
	if err := p.AppendImage(img, opts...); err != nil {
		t.Fatal(err)
	}
	d, err := img.Digest()
	if err != nil {
		t.Fatal(err)
	}
	m, err := img.Manifest()
	if err != nil {
		t.Fatal(err)
	}
	return d.String(), filepath.Join(folder, "blobs", "sha256", m.Layers[0].Digest.Hex)
}

// What lies in the site's folder is served beside the stand-ins, also in place of one, and
// can be damaged as those can.
func TestStock(t *testing.T) {
	folder := t.TempDir()
	digest, _ := shelf(t, folder, "kubelet:v1.37.2")
	r, err := New(versions.Shipped(), folder)
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(r)
	defer srv.Close()
	get := func(ref string) (string, error) {
		n, err := name.ParseReference(strings.TrimPrefix(srv.URL, "http://") + "/" + ref)
		if err != nil {
			return "", err
		}
		img, err := remote.Image(n)
		if err != nil {
			return "", err
		}
		d, err := img.Digest()
		if err != nil {
			return "", err
		}
		return d.String(), validate.Image(img)
	}
	for _, ref := range []string{"kubelet:v1.37.2", "kubelet@" + digest} {
		if got, err := get(ref); err != nil || got != digest {
			t.Errorf("%s is %s, %v", ref, got, err)
		}
	}
	shipped := versions.Shipped().Digest("kubelet:v1.37.2")
	for ref, want := range map[string]string{"kubelet@" + shipped: shipped, "etcd:v3.7.3": versions.Shipped().Digest("etcd:v3.7.3")} {
		if got, err := get(ref); err != nil || got != want {
			t.Errorf("the stand-in %s is %s, %v", ref, got, err)
		}
	}
	if err := r.Damage("kubelet:v1.37.2", true); err != nil {
		t.Fatal(err)
	}
	if _, err := get("kubelet@" + digest); err == nil {
		t.Error("a damaged artefact arrived whole")
	}
}

// A folder that is not whole is refused, before anybody is given half of something.
func TestStockIsWhole(t *testing.T) {
	for what, spoil := range map[string]func(folder string) error{
		"no folder": func(f string) error { return os.RemoveAll(f) },
		"no layer": func(f string) error {
			_, l := shelf(t, f, "kubelet:v1.37.2")
			return os.Remove(l)
		},
		"half a layer": func(f string) error {
			_, l := shelf(t, f, "kubelet:v1.37.2")
			return os.Truncate(l, 100)
		},
		"no name":   func(f string) error { shelf(t, f, ""); return nil },
		"no index":  func(f string) error { shelf(t, f, "a:b"); return os.Remove(filepath.Join(f, "index.json")) },
		"bad index": func(f string) error { return os.WriteFile(filepath.Join(f, "index.json"), []byte("{"), 0o600) },
	} {
		folder := filepath.Join(t.TempDir(), "stock")
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := spoil(folder); err != nil {
			t.Fatal(err)
		}
		if _, err := New(versions.Shipped(), folder); !errors.Is(err, ErrStock) || !strings.Contains(err.Error(), folder) {
			t.Errorf("%s: %v", what, err)
		}
	}
}
