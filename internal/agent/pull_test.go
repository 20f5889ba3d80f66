package agent

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"verbund/internal/machine/protocol"
)

// shop is a machine that finds one artefact, whatever it asks for.
type shop struct {
	folder
	img v1.Image
}

func (s shop) Artefact(context.Context, string, string) (v1.Image, error) { return s.img, nil }
func (s shop) Restart()                                                   {}

func (s shop) Write(p string, r io.Reader, _ int64, mode fs.FileMode) error {
	b, err := io.ReadAll(r)
	return errors.Join(err, os.MkdirAll(filepath.Dir(s.Path(p)), 0o755), os.WriteFile(s.Path(p), b, mode))
}

func (s shop) Version(p string) (string, error) {
	b, err := os.ReadFile(s.Path(p + OfVersion))
	return string(b), err
}

// packed is an artefact of files, in the order given.
func packed(t *testing.T, architecture, version string, files ...string) v1.Image {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: f, Size: int64(len(f)), Mode: 0o644}); err != nil {
			t.Fatal(err)
		}
		w.Write([]byte(f))
	}
	w.Close()
	l, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b.Bytes())), nil })
	if err != nil {
		t.Fatal(err)
	}
	img, err := mutate.ConfigFile(empty.Image, &v1.ConfigFile{OS: "linux", Architecture: architecture, RootFS: v1.RootFS{Type: "layers"}, Config: v1.Config{Labels: map[string]string{"org.opencontainers.image.version": version}}})
	if err != nil {
		t.Fatal(err)
	}
	if img, err = mutate.AppendLayers(img, l); err != nil {
		t.Fatal(err)
	}
	return img
}

// An artefact brings all its programs, and nothing beside them; one for another machine, or
// without the program that was asked for, brings none.
func TestPullPrograms(t *testing.T) {
	for _, x := range []struct {
		name string
		img  v1.Image
		want string // files in the slot's bin, or what is said
		ok   bool
	}{
		{"two programs", packed(t, runtime.GOARCH, "v2", "bin/containerd", "/bin/containerd-shim", "etc/passwd", "bin/deep/x", "../bin/y"), "containerd containerd-shim containerd.digest containerd.version", true},
		{"another architecture", packed(t, "vax", "v2", "bin/containerd"), "is for vax", false},
		{"another version", packed(t, runtime.GOARCH, "v3", "bin/containerd"), `version "v3", not v2`, false},
		{"without the program", packed(t, runtime.GOARCH, "v2", "bin/other"), "no program bin/containerd", false},
		{"nothing", packed(t, runtime.GOARCH, "v2"), "no program", false},
	} {
		s := shop{folder{root: t.TempDir()}, x.img}
		_, err := newAgent(s).pull(t.Context(), &protocol.PullRequest{Name: "containerd", Version: "v2", Digest: "sha256:x", Slot: "a"})
		var have []string
		es, _ := os.ReadDir(s.Path(protocol.SlotDir + "a/bin"))
		for _, e := range es {
			have = append(have, e.Name())
		}
		if x.ok && (err != nil || strings.Join(have, " ") != x.want) {
			t.Errorf("%s: %v, %v", x.name, have, err)
		}
		if !x.ok && (err == nil || !strings.Contains(err.Error(), x.want) || strings.Contains(strings.Join(have, " "), "containerd.version")) {
			t.Errorf("%s: %v, %v", x.name, have, err)
		}
		if left, err := filepath.Glob(s.Path(protocol.SlotDir + "a/.new-*")); err != nil || len(left) > 0 {
			t.Errorf("%s: left %v, %v", x.name, left, err)
		}
	}
}
