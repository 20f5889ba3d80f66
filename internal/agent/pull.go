package agent

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/creachadair/jrpc2"
	v1 "github.com/google/go-containerregistry/pkg/v1"

	"verbund/internal/machine/protocol"
)

// pullTries bounds how often a blob that arrives damaged is fetched again.
const pullTries = 3

// pull brings an artefact's programs into a slot. What it is of is said only when all of it
// is there, and its digest is the one that was asked for.
func (a *agent) pull(ctx context.Context, req *protocol.PullRequest) (*protocol.PullReply, error) {
	if err := errors.Join(a.slot(req.Slot), plainName(req.Name)); err != nil {
		return nil, err
	}
	dest := protocol.SlotDir + req.Slot + "/bin/" + req.Name
	if v, err := a.sys.Version(dest); err == nil && v == req.Version {
		if b, err := os.ReadFile(a.sys.Path(dest + ofDigest)); err == nil && string(b) == req.Digest {
			return &protocol.PullReply{}, nil
		}
	}
	var err error
	for range pullTries {
		if err = a.fetch(ctx, req); err == nil {
			return &protocol.PullReply{Fetched: true}, code(a.write(dest+ofDigest, []byte(req.Digest), 0o644))
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if c := code(err); c != err { // what another try does not mend
			return nil, c
		}
	}
	err = fmt.Errorf("pulling %s %s from %s, %d tries: %w", req.Name, req.Version, req.Registry, pullTries, err)
	if strings.Contains(err.Error(), "error verifying") {
		return nil, jrpc2.Errorf(protocol.CodeDigest, "%v", err)
	}
	return nil, err
}

func plainName(s string) error {
	if s == "" || s == "." || s == ".." || strings.ContainsAny(s, "/\\\x00") {
		return fmt.Errorf("%q is not the name of a component", s)
	}
	return nil
}

// fetch unpacks the programs of an artefact beside those that are there, and puts them in
// their place when every layer was found to be what its digest promises.
func (a *agent) fetch(ctx context.Context, req *protocol.PullRequest) error {
	img, err := a.sys.Artefact(ctx, req.Registry, req.Name+"@"+req.Digest)
	if err != nil {
		return err
	}
	cfg, err := img.ConfigFile()
	if err != nil {
		return err
	}
	if cfg.Architecture != "" && cfg.Architecture != runtime.GOARCH {
		return fmt.Errorf("artefact %s is for %s, and this machine is %s", req.Name, cfg.Architecture, runtime.GOARCH)
	}
	if v := cfg.Config.Labels["org.opencontainers.image.version"]; v != req.Version {
		return fmt.Errorf("artefact %s says that it is version %q, not %s", req.Name, v, req.Version)
	}
	layers, err := img.Layers()
	if err != nil {
		return err
	}
	slot := protocol.SlotDir + req.Slot
	tmp := slot + "/.new-" + req.Name
	defer os.RemoveAll(a.sys.Path(tmp))
	var names []string
	for _, l := range layers {
		ns, err := a.unpack(l, tmp)
		if err != nil {
			return err
		}
		names = append(names, ns...)
	}
	if err := os.MkdirAll(a.sys.Path(slot+"/bin"), 0o755); err != nil {
		return err
	}
	found := false
	for _, n := range names {
		if err := os.Rename(a.sys.Path(tmp+"/"+n), a.sys.Path(slot+"/bin/"+n)); err != nil {
			return err
		}
		found = found || n == req.Name
	}
	if !found {
		return fmt.Errorf("artefact %s holds no program bin/%s", req.Name, req.Name)
	}
	return a.write(slot+"/bin/"+req.Name+OfVersion, []byte(req.Version), 0o644)
}

// mostLayer bounds a layer, in bytes: the largest program known has a fifth of it.
const mostLayer = 1 << 30

// unpack writes the programs of a layer, which lie in bin/, into a folder, and returns their
// names. The layer is read to its end, since only there its digest is known to be right.
func (a *agent) unpack(l v1.Layer, folder string) (names []string, err error) {
	rc, err := l.Compressed()
	if err != nil {
		return nil, err
	}
	defer rc.Close()
	all := io.LimitReader(rc, mostLayer)
	head := make([]byte, 2)
	if _, err := io.ReadFull(all, head); err != nil {
		return nil, err
	}
	in := io.MultiReader(bytes.NewReader(head), all)
	files := in
	if bytes.Equal(head, []byte{0x1f, 0x8b}) { // gzip, RFC 1952
		if files, err = gzip.NewReader(in); err != nil {
			return nil, fmt.Errorf("error verifying a layer: %w", err)
		}
	}
	t := tar.NewReader(files)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("error verifying a layer, which cannot be read: %w", err)
		}
		n := strings.TrimPrefix(path.Clean(h.Name), "/")
		if path.Dir(n) != "bin" {
			continue
		}
		n = path.Base(n)
		switch h.Typeflag {
		case tar.TypeReg:
			if err := a.sys.Write(folder+"/"+n, t, h.Size, 0o755); err != nil {
				return nil, err
			}
		case tar.TypeSymlink: // to a program of the machine's image
			full := a.sys.Path(folder + "/" + n)
			if err := errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.Symlink(h.Linkname, full)); err != nil {
				return nil, err
			}
		default:
			continue
		}
		names = append(names, n)
	}
	if _, err := io.Copy(io.Discard, in); err != nil {
		return nil, err
	}
	return names, nil
}
