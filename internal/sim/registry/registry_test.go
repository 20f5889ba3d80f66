package registry

import (
	"archive/tar"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	library "github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/types"
	"github.com/google/go-containerregistry/pkg/v1/validate"

	"verbund/internal/core/versions"
)

var update = flag.Bool("update", false, "write the catalogue's digests anew")

const digestsFile = "../../core/versions/digests.txt"

// The catalogue pins what the registry hands out; if the two part, every pull fails.
func TestDigestsOfTheCatalogue(t *testing.T) {
	var want strings.Builder
	for _, c := range Stock(versions.Shipped()) {
		img, err := Artefact(c)
		if err != nil {
			t.Fatal(err)
		}
		d, err := img.Digest()
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&want, "%s %s\n", c.Ref(), d)
	}
	if *update {
		if err := os.WriteFile(digestsFile, []byte(want.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(digestsFile)
	if err != nil {
		t.Fatal(err)
	}
	if string(have) != want.String() {
		t.Errorf("%s does not have the digests of the stock; after reading why, run: go test ./internal/sim/registry -update", digestsFile)
	}
}

// An ordinary client finds what the media types promise: it reads the manifest,
// the configuration and the files of the layer, and copies it all elsewhere.
func TestOrdinaryClient(t *testing.T) {
	r, err := New(versions.Shipped(), "")
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(r)
	defer srv.Close()
	other := httptest.NewServer(library.New(library.Logger(log.New(io.Discard, "", 0))))
	defer other.Close()
	for _, c := range Stock(versions.Shipped())[:4] {
		from, err := name.ParseReference(strings.TrimPrefix(srv.URL, "http://") + "/" + c.Ref())
		if err != nil {
			t.Fatal(err)
		}
		img, err := remote.Image(from)
		if err != nil {
			t.Fatal(err)
		}
		if err := validate.Image(img); err != nil {
			t.Errorf("%s: %v", c.Ref(), err)
		}
		m, err := img.Manifest()
		if err != nil || m.MediaType != types.OCIManifestSchema1 || m.Config.MediaType != types.OCIConfigJSON || m.Layers[0].MediaType != types.OCILayer {
			t.Errorf("manifest of %s: %+v, %v", c.Ref(), m, err)
		}
		if cfg, err := img.ConfigFile(); err != nil || cfg.Config.Labels["org.opencontainers.image.version"] != c.Version || cfg.OS != "linux" {
			t.Errorf("configuration of %s: %+v, %v", c.Ref(), cfg, err)
		}
		files := mutate.Extract(img)
		defer files.Close()
		if h, err := tar.NewReader(files).Next(); err != nil || h.Name != "bin/"+c.Name || h.Mode != 0o755 {
			t.Errorf("the first file of %s: %+v, %v", c.Ref(), h, err)
		}
		to, err := name.ParseReference(strings.TrimPrefix(other.URL, "http://") + "/" + c.Ref())
		if err != nil {
			t.Fatal(err)
		}
		if err := remote.Write(to, img); err != nil {
			t.Errorf("copying %s: %v", c.Ref(), err)
		}
		copied, err := remote.Image(to)
		if err != nil {
			t.Fatal(err)
		}
		have, err := copied.Digest()
		if want, werr := img.Digest(); err != nil || werr != nil || have != want {
			t.Errorf("the copy of %s is %v, not %v", c.Ref(), have, want)
		}
	}
}

// A damaged blob has to arrive with other bytes than its digest promises.
func TestDamagedBlob(t *testing.T) {
	r, err := New(versions.Shipped(), "")
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(r)
	defer srv.Close()
	c := Stock(versions.Shipped())[0]
	img, err := Artefact(c)
	if err != nil {
		t.Fatal(err)
	}
	ls, err := img.Layers()
	if err != nil {
		t.Fatal(err)
	}
	d, err := ls[0].Digest()
	if err != nil {
		t.Fatal(err)
	}
	get := func() string {
		resp, err := http.Get(srv.URL + "/v2/" + c.Name + "/blobs/" + d.String())
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b := make([]byte, 4096)
		n, _ := resp.Body.Read(b)
		return string(b[:n])
	}
	whole := get()
	if !strings.Contains(whole, c.Name) {
		t.Fatalf("blob is %q", whole)
	}
	if err := r.Damage(c.Ref(), true); err != nil {
		t.Fatal(err)
	}
	if got := get(); got == whole {
		t.Error("the blob arrived whole although it is damaged")
	}
	if err := r.Damage(c.Ref(), false); err != nil {
		t.Fatal(err)
	}
	if got := get(); got != whole {
		t.Error("the blob is still damaged after mending")
	}
}

// What comes for an upstream registry is fetched once and served to all.
func TestMirror(t *testing.T) {
	r, err := New(versions.Shipped(), "")
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(r)
	defer srv.Close()
	get := func(ns string) {
		t.Helper()
		resp, err := http.Get(srv.URL + "/v2/tidetable/manifests/1.0?ns=" + ns)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			t.Fatalf("status %s", resp.Status)
		}
		if _, err := io.Copy(io.Discard, resp.Body); err != nil {
			t.Fatal(err)
		}
	}
	get("") // the registry's own
	for range 3 {
		get("images.seamark.test")
	}
	get("pier.seamark.test")
	m := r.Mirrored()
	if len(m) != 2 || m[0].Upstream != "images.seamark.test" || m[0].Hits != 2 || m[0].Misses != 1 || m[0].Saved != 2*m[0].Fetched || m[0].Fetched == 0 || m[1].Hits != 0 || m[1].Misses != 1 {
		t.Errorf("mirrored: %+v", m)
	}
}

// Nobody brings anything to the site's registry, or takes it away.
func TestReadOnly(t *testing.T) {
	r, err := New(versions.Shipped(), "")
	if err != nil {
		t.Fatal(err)
	}
	srv := httptest.NewServer(r)
	defer srv.Close()
	for _, x := range []struct{ method, path string }{
		{"PUT", "/v2/tidetable/manifests/1.0"}, {"DELETE", "/v2/tidetable/manifests/1.0"}, {"POST", "/v2/tidetable/blobs/uploads/"},
		{"PATCH", "/v2/tidetable/blobs/uploads/x"}, {"PUT", "/v2/tidetable/manifests/1.0?ns=images.seamark.test"},
	} {
		q, err := http.NewRequest(x.method, srv.URL+x.path, strings.NewReader("{}"))
		if err != nil {
			t.Fatal(err)
		}
		resp, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		if resp.StatusCode != http.StatusMethodNotAllowed || resp.Header.Get("Allow") != "GET, HEAD" {
			t.Errorf("%s %s: %s", x.method, x.path, resp.Status)
		}
	}
	if err := r.Damage("nothing:v1", true); !errors.Is(err, ErrUnknown) {
		t.Errorf("what is not there was damaged: %v", err)
	}
	// Whoever asks chooses of which upstreams is counted, and not how many.
	for i := range mostUpstreams + 20 {
		resp, err := http.Get(fmt.Sprintf("%s/v2/tidetable/manifests/1.0?ns=u%d.test", srv.URL, i))
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
	}
	if n := len(r.Mirrored()); n != mostUpstreams {
		t.Errorf("counted is of %d upstreams", n)
	}
}
