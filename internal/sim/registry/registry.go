// Package registry is the site's OCI registry, filled with the artefacts of
// every version of the catalogue and with the images of the examples. The
// server is a library's; what is ours is the stock, and the fault of a blob
// that arrives damaged.
package registry

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"verbund/internal/core/versions"
	"verbund/internal/sim/host"
	"verbund/internal/sim/serve"
	"verbund/internal/site/protocol"
)

// examples are the images of the shipped applications, and of the proof.
var examples = []versions.Component{{Name: "tidetable", Version: "1.0"}, {Name: "tidetable", Version: "1.1"}, {Name: "lampbook", Version: "1.0"}, versions.Witness}

// Stock lists every artefact that the registry has.
func Stock(cat *versions.Catalogue) []versions.Component {
	seen := map[versions.Component]bool{}
	var out []versions.Component
	add := func(cs ...versions.Component) {
		for _, c := range cs {
			if !seen[c] {
				seen[c] = true
				out = append(out, c)
			}
		}
	}
	for _, s := range cat.Sets {
		add(s.Components(versions.AllParts)...)
		add(s.Images()...)
	}
	add(examples...)
	return out
}

// stores holds writers: each is larger than all that it ever writes here.
var stores = sync.Pool{New: func() any {
	z, err := gzip.NewWriterLevel(nil, gzip.NoCompression)
	if err != nil {
		panic("gzip cannot store: " + err.Error())
	}
	return z
}}

// Artefact makes the OCI image of a component (OCI Image Format 1.1): one layer
// with its stand-in descriptor as an executable file, the same bytes every time.
func Artefact(c versions.Component) (v1.Image, error) {
	body, err := json.Marshal(host.Descriptor{StandIn: c.Name, Version: c.Version})
	if err != nil {
		return nil, err
	}
	body = append(body, '\n')
	// Stored, not compressed: how well it is compressed may change from one
	// release of the compiler to the next, and the digest with it.
	var layer bytes.Buffer
	z := stores.Get().(*gzip.Writer)
	defer stores.Put(z)
	z.Reset(&layer)
	t := tar.NewWriter(z)
	h := &tar.Header{Typeflag: tar.TypeReg, Name: "bin/" + c.Name, Mode: 0o755, Size: int64(len(body)), ModTime: time.Unix(0, 0), Format: tar.FormatUSTAR}
	if err := t.WriteHeader(h); err != nil {
		return nil, err
	}
	_, err = t.Write(body)
	if err = errors.Join(err, t.Close(), z.Close()); err != nil {
		return nil, err
	}
	l, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(layer.Bytes())), nil }, tarball.WithMediaType(types.OCILayer))
	if err != nil {
		return nil, err
	}
	img, err := mutate.ConfigFile(mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON),
		&v1.ConfigFile{OS: "linux", Architecture: "amd64", RootFS: v1.RootFS{Type: "layers"}, Config: v1.Config{Entrypoint: []string{"/" + h.Name},
			Labels: map[string]string{"org.opencontainers.image.title": c.Name, "org.opencontainers.image.version": c.Version}}})
	if err != nil {
		return nil, err
	}
	return mutate.Append(img, mutate.Addendum{Layer: l})
}

// Registry serves the stock.
type Registry struct {
	handler http.Handler
	mu      sync.Mutex
	layers  map[string]string // digest of the first layer, by NAME:VERSION
	damaged map[string]bool   // digests of blobs
	mirror  map[string]*upstream
	srv     *http.Server
}

// New fills a registry with the stand-ins of a catalogue, and with what lies in a folder of
// artefacts (OCI Image Layout 1.1) that their names and tags are in; without a folder, with
// the stand-ins alone. What both have is had from either by its digest, and by its tag from
// the folder; where only some programs run for real, from there only theirs.
func New(cat *versions.Catalogue, folder string, only ...string) (*Registry, error) {
	blobs := shelves{registry.NewInMemoryBlobHandler().(made), registry.NewDiskBlobHandler(filepath.Join(folder, "blobs"))}
	r := &Registry{layers: map[string]string{}, damaged: map[string]bool{}, mirror: map[string]*upstream{},
		handler: registry.New(registry.Logger(log.New(io.Discard, "", 0)), registry.WithBlobHandler(blobs))}
	// The stock is written through the registry's own protocol, without a socket.
	for _, c := range Stock(cat) {
		if err := r.standIn(c); err != nil {
			return nil, err
		}
	}
	if folder == "" {
		return r, nil
	}
	if err := r.stock(folder); err != nil || len(only) == 0 {
		return r, err
	}
	for _, c := range Stock(cat) {
		if !slices.Contains(only, c.Name) {
			if err := r.standIn(c); err != nil { // it has its tag again
				return nil, err
			}
		}
	}
	return r, nil
}

// standIn takes a stand-in in.
func (r *Registry) standIn(c versions.Component) error {
	img, err := Artefact(c)
	if err != nil {
		return fmt.Errorf("artefact %s: %w", c.Ref(), err)
	}
	ref, err := name.ParseReference("registry.test/"+c.Ref(), name.Insecure)
	if err != nil {
		return err
	}
	if err := remote.Write(ref, img, remote.WithTransport(roundTripper{r.handler}), remote.WithJobs(1)); err != nil {
		return fmt.Errorf("stocking %s: %w", c.Ref(), err)
	}
	return r.learn(c.Ref(), img)
}

// learn remembers which blob is an artefact's first layer.
func (r *Registry) learn(ref string, img v1.Image) error {
	m, err := img.Manifest()
	if err != nil || len(m.Layers) == 0 {
		return fmt.Errorf("artefact %s has no layer: %w", ref, err)
	}
	r.layers[ref] = m.Layers[0].Digest.String()
	return nil
}

// named is the annotation of an artefact's name and tag.
const named = "org.opencontainers.image.ref.name"

// stock takes the artefacts of a folder in. Their blobs stay there and are read when they are
// asked for; one that is missing, or has another size than it should, is noticed now.
func (r *Registry) stock(folder string) error {
	index, err := layout.ImageIndexFromPath(folder)
	if err != nil {
		return fmt.Errorf("%w: the folder %s: %v", ErrStock, folder, err)
	}
	all, err := index.IndexManifest()
	if err != nil {
		return fmt.Errorf("%w: the index of %s: %v", ErrStock, folder, err)
	}
	for _, d := range all.Manifests {
		ref := d.Annotations[named]
		repository, tag, ok := strings.Cut(ref, ":")
		if !ok {
			return fmt.Errorf("%w: an artefact of %s has no name with a tag, but %q", ErrStock, folder, ref)
		}
		img, err := index.Image(d.Digest)
		if err != nil {
			return fmt.Errorf("%w: %s of %s: %v", ErrStock, ref, folder, err)
		}
		m, err := img.Manifest()
		if err != nil {
			return fmt.Errorf("%w: %s of %s: %v", ErrStock, ref, folder, err)
		}
		for _, b := range append([]v1.Descriptor{m.Config}, m.Layers...) {
			f := filepath.Join(folder, "blobs", b.Digest.Algorithm, b.Digest.Hex)
			if i, err := os.Stat(f); err != nil || i.Size() != b.Size {
				return fmt.Errorf("%w: %s of %s lacks a part, or has only some of it: %s", ErrStock, ref, folder, b.Digest)
			}
		}
		raw, err := img.RawManifest()
		if err != nil {
			return err
		}
		q, err := http.NewRequest(http.MethodPut, "http://registry.test/v2/"+repository+"/manifests/"+tag, bytes.NewReader(raw))
		if err != nil {
			return err
		}
		q.Header.Set("Content-Type", string(m.MediaType))
		resp, err := roundTripper{r.handler}.RoundTrip(q)
		if err != nil || resp.StatusCode != http.StatusCreated {
			return fmt.Errorf("%w: %s of %s was not taken in: %v", ErrStock, ref, folder, err)
		}
		if err := r.learn(ref, img); err != nil {
			return err
		}
	}
	return nil
}

// ErrStock is a folder of artefacts that is not whole.
var ErrStock = errors.New("the site's stock cannot be used; run the program that built it once more")

// made is where blobs are kept that are made here.
type made interface {
	registry.BlobHandler
	registry.BlobPutHandler
	registry.BlobStatHandler
}

// shelves are blobs that were made here, and those that lie in a folder.
type shelves struct {
	made
	folder registry.BlobHandler
}

func (s shelves) Get(ctx context.Context, repository string, h v1.Hash) (io.ReadCloser, error) {
	if rc, err := s.made.Get(ctx, repository, h); err == nil {
		return rc, nil
	}
	return s.folder.Get(ctx, repository, h)
}

func (s shelves) Stat(ctx context.Context, repository string, h v1.Hash) (int64, error) {
	if n, err := s.made.Stat(ctx, repository, h); err == nil {
		return n, nil
	}
	return s.folder.(registry.BlobStatHandler).Stat(ctx, repository, h)
}

type roundTripper struct{ h http.Handler }

func (t roundTripper) RoundTrip(q *http.Request) (*http.Response, error) {
	if q.Body == nil {
		q.Body = http.NoBody
	}
	w := httptest.NewRecorder()
	t.h.ServeHTTP(w, q)
	resp := w.Result()
	resp.Request = q
	return resp, nil
}

// ErrUnknown is an artefact that the registry does not have.
var ErrUnknown = errors.New("the registry has no such artefact")

// Damage makes the first layer of an artefact arrive damaged, or heals it.
func (r *Registry) Damage(ref string, damaged bool) error {
	blob, ok := r.layers[ref]
	if !ok {
		return fmt.Errorf("%w: %s", ErrUnknown, ref)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.damaged[blob] = damaged
	return nil
}

// upstream is what came through the mirror from one registry.
type upstream struct {
	protocol.Mirrored
	have map[string]bool // paths that were fetched
}

// Mirrored lists what came through the mirror, by upstream registry.
func (r *Registry) Mirrored() []protocol.Mirrored {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []protocol.Mirrored
	for _, n := range slices.Sorted(maps.Keys(r.mirror)) {
		out = append(out, r.mirror[n].Mirrored)
	}
	return out
}

// counted passes a request on for an upstream registry, which a container
// runtime names with the parameter ns, and counts it.
func (r *Registry) counted(ns string, w http.ResponseWriter, q *http.Request) {
	c := &counter{ResponseWriter: w}
	r.serve(c, q)
	if q.Method != http.MethodGet || c.status != http.StatusOK || strings.HasSuffix(q.URL.Path, "/v2/") {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	u := r.mirror[ns]
	if u == nil && len(r.mirror) >= mostUpstreams {
		return
	}
	if u == nil {
		u = &upstream{Mirrored: protocol.Mirrored{Upstream: ns}, have: map[string]bool{}}
		r.mirror[ns] = u
	}
	if u.have[q.URL.Path] {
		u.Hits, u.Saved = u.Hits+1, u.Saved+c.bytes
		return
	}
	u.have[q.URL.Path] = true
	u.Misses, u.Fetched = u.Misses+1, u.Fetched+c.bytes
}

// mostUpstreams is of how many registries what came through is counted: whoever asks
// chooses the name.
const mostUpstreams = 100

// counter counts what is answered.
type counter struct {
	http.ResponseWriter
	status int
	bytes  int64
}

func (c *counter) WriteHeader(status int) {
	c.status = status
	c.ResponseWriter.WriteHeader(status)
}

func (c *counter) Write(b []byte) (int, error) {
	if c.status == 0 {
		c.status = http.StatusOK
	}
	n, err := c.ResponseWriter.Write(b)
	c.bytes += int64(n)
	return n, err
}

// ServeHTTP serves the site's own artefacts and, as a mirror, those of upstream
// registries, which are the same stock on a simulated site.
func (r *Registry) ServeHTTP(w http.ResponseWriter, q *http.Request) {
	// Its stock is the site's; nobody brings anything.
	if q.Method != http.MethodGet && q.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		http.Error(w, "this registry is only read from", http.StatusMethodNotAllowed)
		return
	}
	if ns := q.URL.Query().Get("ns"); ns != "" {
		r.counted(ns, w, q)
		return
	}
	r.serve(w, q)
}

// serve passes requests on and spoils what is marked as damaged.
func (r *Registry) serve(w http.ResponseWriter, q *http.Request) {
	r.mu.Lock()
	bad := r.damaged[q.URL.Path[strings.LastIndex(q.URL.Path, "/")+1:]]
	r.mu.Unlock()
	if !bad || q.Method != http.MethodGet {
		r.handler.ServeHTTP(w, q)
		return
	}
	rec := httptest.NewRecorder()
	r.handler.ServeHTTP(rec, q)
	for k, v := range rec.Header() {
		w.Header()[k] = v
	}
	w.WriteHeader(rec.Code)
	b := bytes.Clone(rec.Body.Bytes())
	if len(b) > 0 {
		b[len(b)/2] ^= 0x20 // as long as before
	}
	w.Write(b)
}

// Serve answers on l until Close.
func (r *Registry) Serve(l net.Listener) {
	r.srv = serve.HTTP(r)
	r.srv.Serve(l)
}
