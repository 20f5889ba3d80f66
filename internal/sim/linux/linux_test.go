package linux

import (
	"bytes"
	"context"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"verbund/internal/core/topology"
	"verbund/internal/site/protocol"
)

func TestPlainConsole(t *testing.T) {
	var b bytes.Buffer
	stamp(&b, strings.NewReader("\x1b[0;32m[  OK  ]\x1b[0m Reached \x1b[1mtarget\x1b[0m\r\n\r\n\x1b[?25hnext"))
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	if len(lines) != 2 || !strings.HasSuffix(lines[0], "Z [  OK  ] Reached target") || !strings.HasSuffix(lines[1], "Z next") {
		t.Errorf("%q", lines)
	}
}

// An image is told by what it is composed of, and one that cannot be composed is refused.
func TestImages(t *testing.T) {
	i := Images{t.TempDir()}
	spec := protocol.Image{System: System, Architecture: runtime.GOARCH}
	one, err := i.Digest(spec)
	if err != nil {
		t.Fatal(err)
	}
	spec.Extras = []string{"tcpdump"}
	two, err := i.Digest(spec)
	if err != nil || one == two || !strings.HasPrefix(two, "sha256:") {
		t.Errorf("%s and %s, %v", one, two, err)
	}
	for _, bad := range []protocol.Image{{System: "skerry 2026.11", Architecture: runtime.GOARCH}, {System: System, Architecture: "mips"}} {
		if _, err := i.Compose(t.Context(), bad); err == nil || !strings.Contains(err.Error(), System) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	t.Setenv("PATH", t.TempDir())
	if _, err := i.Compose(t.Context(), spec); err == nil || !strings.Contains(err.Error(), "debootstrap") {
		t.Errorf("without debootstrap: %v", err)
	}
	if es, err := filepath.Glob(filepath.Join(i.Folder, "sha256*")); err != nil || len(es) > 0 {
		t.Errorf("left: %v, %v", es, err)
	}
}

// Composing that is cut off leaves nothing that is taken for an image.
func TestComposeCutOff(t *testing.T) {
	i := Images{t.TempDir()}
	bin := t.TempDir()
	// It makes the folder, and then something goes wrong.
	if err := os.WriteFile(filepath.Join(bin, "debootstrap"), []byte("#!/bin/sh\nfor a in \"$@\"; do case $a in */sha256*) mkdir -p \"$a/etc\";; esac; done\necho no mirror >&2\nexit 1\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	spec := protocol.Image{System: System, Architecture: runtime.GOARCH}
	for range 2 {
		if _, err := i.Compose(context.Background(), spec); err == nil || !strings.Contains(err.Error(), "no mirror") {
			t.Errorf("%v", err)
		}
	}
	if es, err := filepath.Glob(filepath.Join(i.Folder, "sha256*")); err != nil || len(es) > 0 {
		t.Errorf("left: %v, %v", es, err)
	}
}

// A site's network comes and goes as a whole, and is not made over addresses that are used.
func TestNetwork(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make a network")
	}
	folder := t.TempDir()
	n := NetworkOf(folder, netip.MustParsePrefix("10.81.94.0/24"))
	if err := n.Open(); err != nil {
		t.Skipf("no network can be made here: %v", err)
	}
	defer n.Close()
	if err := NetworkOf(t.TempDir(), netip.MustParsePrefix("10.81.94.128/25")).Open(); !errors.Is(err, ErrBlockInUse) {
		t.Errorf("over a block that is used: %v", err)
	}
	if err := n.Open(); err != nil {
		t.Errorf("over what a site of the same folder left: %v", err)
	}
	if err := n.free(); !errors.Is(err, ErrBlockInUse) || !strings.Contains(err.Error(), topology.SiteAddress(n.Block, atSite).String()) {
		t.Errorf("while it is there: %v", err)
	}
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	if err := n.Close(); err != nil {
		t.Errorf("what is gone: %v", err)
	}
	if err := n.free(); err != nil {
		t.Errorf("after it: %v", err)
	}
}

// What is left of machines whose site crashed is found and cleared up.
func TestLeft(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can make cgroups")
	}
	folder := t.TempDir()
	g, err := openGroup(groupOf(folder, "tidewatch-gauges-1"))
	if err != nil {
		t.Skip(err)
	}
	for _, h := range g.hs {
		if err := os.MkdirAll(filepath.Join(g.path(h), "init.scope"), 0o755); err != nil {
			t.Skipf("no cgroup can be made here: %v", err)
		}
	}
	if left, err := Left(folder); err != nil || len(left) != 1 || left[0] != "tidewatch-gauges-1" {
		t.Errorf("found %v, %v", left, err)
	}
	if left, err := Left(t.TempDir()); err != nil || len(left) != 0 {
		t.Errorf("of another site: %v, %v", left, err)
	}
	if _, err := Clear(folder); err != nil {
		t.Error(err)
	}
	if left, err := Left(folder); err != nil || len(left) != 0 {
		t.Errorf("afterwards: %v, %v", left, err)
	}
}
