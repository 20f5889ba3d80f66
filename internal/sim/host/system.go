package host

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"

	"verbund/internal/agent"
	"verbund/internal/machine/protocol"
)

// system is the machine as its agent sees it.
type system struct {
	*Host
	onReboot func()
}

var _ agent.System = system{}

func (s system) Facts(context.Context) (*protocol.FactsReply, error) {
	sp := s.Spec
	used := s.Used()
	if s.room(0) != nil {
		used = sp.Disk
	}
	return &protocol.FactsReply{Name: sp.Name, Hardware: sp.Hardware, BootID: s.BootID, Image: sp.Image, CPUs: sp.CPUs, Memory: sp.Memory, Disk: sp.Disk,
		DiskUsed: used, Clock: time.Now().Add(s.faults().ClockOff), Cards: []protocol.Card{{Name: "eth0", Address: sp.Address}}}, nil
}

func (s system) Rights() string { return s.faults().Rights }

func (s system) Write(p string, r io.Reader, size int64, mode fs.FileMode) error {
	return s.writeFrom(p, r, size, mode)
}

// Version is what the stand-in's descriptor says; that of a program, whether it can run here
// or not, was written beside it when it was fetched.
func (s system) Version(p string) (string, error) {
	if s.isProgram(p) {
		b, err := s.ReadFile(p + agent.OfVersion)
		return string(b), err
	}
	d, err := s.describe(p)
	return d.Version, err
}

func (s system) Resolve(_ context.Context, name string) error {
	_, err := s.Host.Resolve(name)
	return err
}

// asked is what a program offers on a local socket to be asked line by line.
type asked interface{ Ask(line string) string }

func (s system) Ask(_ context.Context, socket, line string) (string, error) {
	at, err := s.Local(socket)
	if err != nil {
		return "", err
	}
	a, ok := at.(asked)
	if !ok {
		return "", errors.New("it is not asked by lines")
	}
	return a.Ask(line), nil
}

func (s system) Artefact(ctx context.Context, registry, ref string) (v1.Image, error) {
	return s.artefact(ctx, registry, ref, "")
}

func (s system) Units(context.Context) ([]UnitState, error) { return s.manager.list(), nil }

func (s system) Start(ctx context.Context, unit string) error { return s.manager.start(ctx, unit) }

func (s system) Stop(_ context.Context, unit string) error {
	s.manager.stop(unit)
	return nil
}

func (s system) Reload(_ context.Context, unit string) error { return s.manager.requestReload(unit) }

func (s system) Linked(context.Context) error { return s.manager.link() }

func (s system) Log(_ context.Context, unit string, lines int) ([]string, error) {
	p := "/var/log/console"
	if unit != "" {
		p = "/var/log/units/" + filepath.Base(unit) + ".log"
	}
	b, err := s.ReadFile(p)
	if err != nil {
		return nil, err
	}
	all := strings.Split(strings.TrimRight(string(b), "\n"), "\n")
	if lines > 0 && len(all) > lines {
		all = all[len(all)-lines:]
	}
	return all, nil
}

func (s system) Note(format string, args ...any) { s.Console(format, args...) }

// Wipe leaves the machine as one that was never used: only its console log and
// its identity stay.
func (s system) Wipe(context.Context) error {
	s.manager.shutdown()
	es, err := os.ReadDir(s.Spec.Root)
	if err != nil {
		return err
	}
	for _, e := range es {
		p := filepath.Join(s.Spec.Root, e.Name())
		if e.Name() != "var" {
			err = errors.Join(err, os.RemoveAll(p))
			continue
		}
		vs, verr := os.ReadDir(p)
		err = errors.Join(err, verr)
		for _, v := range vs {
			if v.Name() != "log" {
				err = errors.Join(err, os.RemoveAll(filepath.Join(p, v.Name())))
			}
		}
		err = errors.Join(err, os.RemoveAll(filepath.Join(p, "log/units")))
	}
	return err
}

func (s system) Restart() { go s.onReboot() }

// artefact finds an artefact in a registry, over the machine's own network. A mirror is told
// of which upstream registry it is, as container runtimes do. That it takes as long as it
// would in life is part of it.
func (h *Host) artefact(ctx context.Context, registry, ref, upstream string) (v1.Image, error) {
	r, err := name.ParseReference(registry+"/"+ref, name.Insecure, name.WithDefaultTag("latest"))
	if err != nil {
		return nil, err
	}
	img, err := remote.Image(r, remote.WithContext(ctx), remote.WithTransport(mirrored{&http.Transport{DialContext: h.Dial, DisableKeepAlives: true}, upstream}),
		remote.WithRetryBackoff(remote.Backoff{Duration: 50 * time.Millisecond, Factor: 2, Steps: 3}))
	if err != nil {
		return nil, err
	}
	return img, h.Work(ctx, 4*time.Second)
}

// Fetch gets the file of an artefact's only layer; the library refuses a blob or
// manifest whose digest is not the one asked for.
func (h *Host) Fetch(ctx context.Context, registry, ref, upstream string) ([]byte, error) {
	img, err := h.artefact(ctx, registry, ref, upstream)
	if err != nil {
		return nil, err
	}
	layers, err := img.Layers()
	if err != nil || len(layers) != 1 {
		return nil, fmt.Errorf("artefact %s has %d layers: %w", ref, len(layers), err)
	}
	return readLayer(layers[0])
}

// mirrored adds the upstream registry to every request to a mirror.
type mirrored struct {
	to       http.RoundTripper
	upstream string
}

func (m mirrored) RoundTrip(q *http.Request) (*http.Response, error) {
	if m.upstream != "" {
		q = q.Clone(q.Context())
		values := q.URL.Query()
		values.Set("ns", m.upstream)
		q.URL.RawQuery = values.Encode()
	}
	return m.to.RoundTrip(q)
}

// readLayer reads the one file of a layer, after all of the layer was found to be
// what its digest promises.
func readLayer(l v1.Layer) ([]byte, error) {
	rc, err := l.Compressed()
	if err != nil {
		return nil, err
	}
	defer rc.Close()
	b, err := io.ReadAll(io.LimitReader(rc, mostLayer+1))
	if err != nil {
		return nil, err
	}
	if len(b) > mostLayer {
		return nil, fmt.Errorf("the layer has more than %d bytes", mostLayer)
	}
	var r io.Reader = bytes.NewReader(b)
	if bytes.HasPrefix(b, []byte{0x1f, 0x8b}) { // gzip, RFC 1952
		if r, err = gzip.NewReader(r); err != nil {
			return nil, err
		}
	}
	t := tar.NewReader(r)
	for {
		h, err := t.Next()
		if err != nil {
			return nil, fmt.Errorf("the layer holds no file: %w", err)
		}
		if h.Typeflag == tar.TypeReg {
			return io.ReadAll(io.LimitReader(t, mostFile))
		}
	}
}

// mostFile bounds what a stand-in's file in a layer may hold, in bytes.
const mostFile = 1 << 20

// mostLayer bounds a layer itself, in bytes.
const mostLayer = 16 << 20
