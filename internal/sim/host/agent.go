package host

import (
	"archive/tar"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"github.com/creachadair/jrpc2/handler"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"golang.org/x/sync/errgroup"

	"verbund/internal/core/trust"
	"verbund/internal/machine/protocol"
	"verbund/internal/sim/serve"
)

// agent answers the agent protocol on one channel.
type agent struct {
	h        *Host
	onReboot func()
}

// serveAgent serves one client until it hangs up or the machine goes off.
func (h *Host) serveAgent(c io.ReadWriteCloser, onReboot func()) {
	a := &agent{h, onReboot}
	srv := jrpc2.NewServer(handler.Map{
		protocol.Facts:         handler.New(a.facts),
		protocol.FilesPut:      changing(a, protocol.FilesPut, a.put),
		protocol.FilesDigests:  handler.New(a.digests),
		protocol.ArtefactsPull: changing(a, protocol.ArtefactsPull, a.pull),
		protocol.UnitsList:     handler.New(a.list),
		protocol.UnitsStart:    changing(a, protocol.UnitsStart, a.start),
		protocol.UnitsStop:     changing(a, protocol.UnitsStop, a.stop),
		protocol.UnitsRestart:  changing(a, protocol.UnitsRestart, a.restart),
		protocol.UnitsReload:   changing(a, protocol.UnitsReload, a.reload),
		protocol.Logs:          handler.New(a.logs),
		protocol.SlotsPrepare:  changing(a, protocol.SlotsPrepare, a.prepare),
		protocol.SlotsSwitch:   changing(a, protocol.SlotsSwitch, a.swap),
		protocol.FilesRead:     handler.New(a.read),
		protocol.FilesList:     handler.New(a.listFiles),
		protocol.KeysShow:      handler.New(a.show),
		protocol.MachineProbe:  handler.New(a.probe),
		protocol.MachineWipe:   changing(a, protocol.MachineWipe, func(ctx context.Context, _ struct{}) (bool, error) { return a.wipe(ctx) }),
	}, &jrpc2.ServerOptions{Concurrency: 8})
	srv.Start(serve.Questions(channel.Line(c, c))).Wait()
}

// code turns errors that the other side acts on into the protocol's codes.
func code(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, syscall.ENOSPC):
		return jrpc2.Errorf(protocol.CodeDiskFull, "%v", err)
	}
	return err
}

// activeSlot is the slot in use, or nothing before the first switch.
func (a *agent) activeSlot() string {
	t, err := os.Readlink(a.h.Path("/opt/verbund/active"))
	if err != nil {
		return ""
	}
	return filepath.Base(t)
}

func (a *agent) facts(context.Context) (*protocol.FactsReply, error) {
	s := a.h.Spec
	wrong := a.h.faults()
	used := a.h.Used()
	if a.h.room(0) != nil {
		used = s.Disk
	}
	r := &protocol.FactsReply{Name: s.Name, Hardware: s.Hardware, BootID: a.h.BootID, Image: s.Image, CPUs: s.CPUs, Memory: s.Memory, Disk: s.Disk,
		DiskUsed: used, Clock: time.Now().Add(wrong.ClockOff), Rights: cmp.Or(wrong.Rights, "all"),
		Cards: []protocol.Card{{Name: "eth0", Address: s.Address}}, Active: a.activeSlot(), Slots: map[string]map[string]string{}, Digests: map[string]map[string]string{}, Busy: a.h.changes.others(a)}
	for _, slot := range []string{"a", "b"} {
		r.Slots[slot], r.Digests[slot] = map[string]string{}, map[string]string{}
		bins, _ := os.ReadDir(a.h.Path(protocol.SlotDir + slot + "/bin"))
		for _, b := range bins {
			if d, err := a.h.describe(protocol.SlotDir + slot + "/bin/" + b.Name()); err == nil {
				r.Slots[slot][b.Name()] = d.Version
				digest, _ := a.h.ReadFile(protocol.SlotDir + slot + "/bin/" + b.Name() + ".digest")
				r.Digests[slot][b.Name()] = string(digest)
			}
		}
	}
	return r, nil
}

// mayChange refuses when the login may only look.
func (a *agent) mayChange(what string) error {
	if r := a.h.faults().Rights; r != "" {
		return fmt.Errorf("%s: permission denied: this login may only %s", what, r)
	}
	return nil
}

func (a *agent) put(_ context.Context, req *protocol.PutRequest) (*protocol.PutReply, error) {
	if err := a.mayChange("write files"); err != nil {
		return nil, err
	}
	r := &protocol.PutReply{Changed: []string{}}
	for _, f := range req.Files {
		full := a.h.Path(f.Path)
		if old, err := os.ReadFile(full); err == nil && string(old) == string(f.Content) {
			if i, err := os.Stat(full); err == nil && i.Mode().Perm() == f.Mode.Perm() {
				continue
			}
		}
		if err := a.h.WriteFile(f.Path, f.Content, f.Mode.Perm()); err != nil {
			return nil, code(err)
		}
		r.Changed = append(r.Changed, f.Path)
	}
	for _, p := range req.Remove {
		if err := os.Remove(a.h.Path(p)); err == nil {
			r.Changed = append(r.Changed, p)
		} else if !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	return r, nil
}

func (a *agent) digests(_ context.Context, req *protocol.PathsRequest) (*protocol.DigestsReply, error) {
	r := &protocol.DigestsReply{Digests: map[string]string{}}
	for _, p := range req.Paths {
		b, err := os.ReadFile(a.h.Path(p))
		if err != nil {
			continue
		}
		i, err := os.Stat(a.h.Path(p))
		if err != nil {
			continue
		}
		sum := sha256.Sum256(b)
		r.Digests[p] = fmt.Sprintf("%s %o", hex.EncodeToString(sum[:]), i.Mode().Perm())
	}
	return r, nil
}

// pullTries bounds how often a blob that arrives damaged is fetched again.
const pullTries = 3

func (a *agent) pull(ctx context.Context, req *protocol.PullRequest) (*protocol.PullReply, error) {
	if err := a.mayChange("pull"); err != nil {
		return nil, err
	}
	dest := protocol.SlotDir + req.Slot + "/bin/" + req.Name
	if d, err := a.h.describe(dest); err == nil && d.StandIn == req.Name && d.Version == req.Version {
		if b, _ := a.h.ReadFile(dest + ".digest"); string(b) == req.Digest {
			return &protocol.PullReply{}, nil
		}
	}
	var err error
	for range pullTries {
		var body []byte
		if body, err = a.h.Fetch(ctx, req.Registry, req.Name+"@"+req.Digest, ""); err == nil {
			// What it is of is said only when it is there.
			if err := a.h.WriteFile(dest, body, 0o755); err != nil {
				return nil, code(err)
			}
			if err := a.h.WriteFile(dest+".digest", []byte(req.Digest), 0o644); err != nil {
				return nil, code(err)
			}
			return &protocol.PullReply{Fetched: true}, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	err = fmt.Errorf("pulling %s %s from %s, %d tries: %w", req.Name, req.Version, req.Registry, pullTries, err)
	if strings.Contains(err.Error(), "error verifying") {
		return nil, jrpc2.Errorf(protocol.CodeDigest, "%v", err)
	}
	return nil, err
}

// Fetch gets the first layer of an artefact; the library refuses a blob or
// manifest whose digest is not the one asked for. A mirror is told of which
// upstream registry it is, as container runtimes do.
func (h *Host) Fetch(ctx context.Context, registry, ref, upstream string) ([]byte, error) {
	r, err := name.ParseReference(registry+"/"+ref, name.Insecure, name.WithDefaultTag("latest"))
	if err != nil {
		return nil, err
	}
	img, err := remote.Image(r, remote.WithContext(ctx), remote.WithTransport(mirrored{&http.Transport{DialContext: h.Dial, DisableKeepAlives: true}, upstream}),
		remote.WithRetryBackoff(remote.Backoff{Duration: 50 * time.Millisecond, Factor: 2, Steps: 3}))
	if err != nil {
		return nil, err
	}
	layers, err := img.Layers()
	if err != nil || len(layers) != 1 {
		return nil, fmt.Errorf("artefact %s has %d layers: %w", ref, len(layers), err)
	}
	if err := h.Work(ctx, 4*time.Second); err != nil {
		return nil, err
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

func (a *agent) list(context.Context) ([]UnitState, error) { return a.h.manager.list(), nil }

func (a *agent) failed(name string, err error) error {
	st, _ := a.h.manager.service(name).state()
	return jrpc2.Errorf(protocol.CodeUnitFailed, "%v", err).WithData([]UnitState{st})
}

func (a *agent) start(ctx context.Context, req *protocol.UnitsRequest) (bool, error) {
	if err := a.mayChange("start units"); err != nil {
		return false, err
	}
	for _, n := range req.Units {
		if err := a.h.manager.start(ctx, n); err != nil {
			return false, a.failed(n, err)
		}
	}
	return true, nil
}

func (a *agent) stop(_ context.Context, req *protocol.UnitsRequest) (bool, error) {
	if err := a.mayChange("stop units"); err != nil {
		return false, err
	}
	for _, n := range req.Units {
		a.h.manager.stop(n)
	}
	return true, nil
}

func (a *agent) restart(ctx context.Context, req *protocol.UnitsRequest) (bool, error) {
	a.stop(ctx, req)
	return a.start(ctx, req)
}

func (a *agent) reload(_ context.Context, req *protocol.UnitsRequest) (bool, error) {
	for _, n := range req.Units {
		if err := a.h.manager.requestReload(n); err != nil {
			return false, a.failed(n, err)
		}
	}
	return true, nil
}

func (a *agent) logs(_ context.Context, req *protocol.LogsRequest) (*protocol.LogsReply, error) {
	p := "/var/log/console"
	if req.Unit != "" {
		p = "/var/log/units/" + filepath.Base(req.Unit) + ".log"
	}
	b, err := a.h.ReadFile(p)
	if err != nil {
		return nil, err
	}
	return &protocol.LogsReply{Lines: tail(b, req.Lines)}, nil
}

func tail(b []byte, n int) []string {
	lines := strings.Split(strings.TrimRight(string(b), "\n"), "\n")
	if n > 0 && len(lines) > n {
		lines = lines[len(lines)-n:]
	}
	return lines
}

func (a *agent) prepare(_ context.Context, req *protocol.SlotRequest) (bool, error) {
	if err := a.slot(req.Slot); err != nil {
		return false, err
	}
	if req.Slot == a.activeSlot() {
		return false, fmt.Errorf("slot %s is in use", req.Slot)
	}
	p := a.h.Path(protocol.SlotDir + req.Slot)
	return true, errors.Join(os.RemoveAll(p), os.MkdirAll(p, 0o755))
}

func (a *agent) slot(s string) error {
	if s != "a" && s != "b" {
		return fmt.Errorf("slot %q: there are a and b", s)
	}
	return nil
}

// point makes a slot the active one on the disk.
func (a *agent) point(slot string) error {
	l := a.h.Path("/opt/verbund/active")
	os.Remove(l + ".new")
	if err := os.Symlink("slots/"+slot, l+".new"); err != nil {
		return err
	}
	if err := os.Rename(l+".new", l); err != nil {
		return err
	}
	return a.h.manager.link()
}

func (a *agent) swap(ctx context.Context, req *protocol.SwitchRequest) (*protocol.SwitchReply, error) {
	if err := a.slot(req.Slot); err != nil {
		return nil, err
	}
	m, old := a.h.manager, a.activeSlot()
	var running []string
	for _, u := range m.list() {
		if u.State != "inactive" {
			running = append(running, u.Name)
		}
	}
	if len(req.Start) > 0 {
		for _, n := range slices.Backward(req.Start) {
			m.stop(n)
		}
	}
	if err := a.point(req.Slot); err != nil {
		return nil, code(err)
	}
	r := &protocol.SwitchReply{Active: req.Slot}
	for _, n := range req.Start {
		err := m.start(ctx, n)
		if err == nil {
			continue
		}
		st, _ := m.service(n).state()
		r.FellBack, r.Unit, r.ExitCode, r.Units = err.Error(), n, st.ExitCode, m.list()
		if b, lerr := a.h.ReadFile("/var/log/units/" + n + ".log"); lerr == nil {
			r.Log = tail(b, 12)
		}
		break
	}
	if r.FellBack == "" || old == "" || old == req.Slot {
		return r, nil
	}
	a.h.Console("slot %s did not come up (%s), back to slot %s", req.Slot, r.FellBack, old)
	for _, n := range slices.Backward(req.Start) {
		m.stop(n)
	}
	r.Active = old
	if err := a.point(old); err != nil {
		return nil, err
	}
	for _, n := range req.Start {
		if slices.Contains(running, n) {
			if err := m.start(context.WithoutCancel(ctx), n); err != nil {
				r.FellBack += "; and on the way back: " + err.Error()
			}
		}
	}
	return r, nil
}

func (a *agent) read(_ context.Context, req *protocol.PathsRequest) (*protocol.FilesReply, error) {
	r := &protocol.FilesReply{Files: []protocol.File{}}
	for _, p := range req.Paths {
		i, err := os.Stat(a.h.Path(p))
		if err != nil || !i.Mode().IsRegular() {
			continue
		}
		f, err := os.Open(a.h.Path(p))
		if err != nil {
			continue
		}
		b, err := io.ReadAll(io.LimitReader(f, protocol.MaxRead))
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", p, err)
		}
		r.Files = append(r.Files, protocol.File{Path: p, Mode: i.Mode().Perm(), Content: b})
	}
	return r, nil
}

func (a *agent) listFiles(_ context.Context, req *protocol.PathsRequest) (*protocol.FilesReply, error) {
	r := &protocol.FilesReply{Files: []protocol.File{}}
	for _, folder := range req.Paths {
		es, err := os.ReadDir(a.h.Path(folder))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("list %s: %w", folder, err)
		}
		for _, e := range es {
			if i, err := e.Info(); err == nil && i.Mode().IsRegular() {
				r.Files = append(r.Files, protocol.File{Path: path.Join(folder, e.Name()), Mode: i.Mode().Perm()})
			}
		}
	}
	return r, nil
}

// show reads certificates, and of keys only what is public.
func (a *agent) show(_ context.Context, req *protocol.PathsRequest) (*protocol.ShownReply, error) {
	r := &protocol.ShownReply{Files: []protocol.Shown{}}
	for _, p := range req.Paths {
		// Only what was asked for is a pattern: the machine's folder may be called anything.
		found, err := fs.Glob(os.DirFS(a.h.Path("/")), strings.TrimPrefix(path.Clean(p), "/"))
		if err != nil {
			return nil, fmt.Errorf("show %s: %w", p, err)
		}
		for _, f := range found {
			f = a.h.Path("/" + f)
			i, err := os.Stat(f)
			if err != nil || !i.Mode().IsRegular() || i.Size() > protocol.MaxRead {
				continue
			}
			b, err := os.ReadFile(f)
			if err != nil {
				continue
			}
			s := protocol.Shown{Path: "/" + strings.TrimPrefix(strings.TrimPrefix(f, a.h.Path("/")), "/"), Mode: i.Mode().Perm()}
			for rest := b; ; {
				var block *pem.Block
				if block, rest = pem.Decode(rest); block == nil {
					break
				}
				if block.Type == "CERTIFICATE" {
					s.Certificates = append(s.Certificates, pem.EncodeToMemory(block)...)
				} else if k, err := trust.DecodeKey(pem.EncodeToMemory(block)); err == nil {
					if s.Public, err = trust.EncodePublic(k.Public()); err != nil {
						return nil, fmt.Errorf("show %s: %w", p, err)
					}
				}
			}
			if head, _, ok := strings.Cut(string(b), "."); ok {
				var h struct {
					Key string `json:"kid"`
				}
				if raw, err := base64.RawURLEncoding.DecodeString(head); err == nil && json.Unmarshal(raw, &h) == nil {
					s.SignedBy = h.Key
				}
			}
			r.Files = append(r.Files, s)
		}
	}
	return r, nil
}

// probes is how many questions of one probe are asked at a time.
const probes = 32

func (a *agent) probe(ctx context.Context, req *protocol.ProbeRequest) (*protocol.ProbeReply, error) {
	r := &protocol.ProbeReply{Resolve: map[string]string{}, Dial: map[string]string{}, Free: map[string]string{}, Artefacts: map[string]string{}}
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(probes)
	ask := func(into map[string]string, what string, f func() error) {
		g.Go(func() error {
			if err := f(); err != nil {
				mu.Lock()
				defer mu.Unlock()
				into[what] = err.Error()
			}
			return nil
		})
	}
	for _, n := range req.Resolve {
		ask(r.Resolve, n, func() error { _, err := a.h.Resolve(n); return err })
	}
	for _, d := range req.Dial {
		ask(r.Dial, d, func() error {
			c, err := a.h.Dial(ctx, "tcp", d)
			if err == nil {
				c.Close()
			}
			return err
		})
	}
	for _, p := range req.Free {
		ask(r.Free, p, func() error {
			l, err := net.Listen("tcp", p)
			if err == nil {
				l.Close()
			}
			return err
		})
	}
	for _, ref := range req.Artefacts {
		ask(r.Artefacts, ref, func() error {
			n, err := name.ParseReference(req.Registry+"/"+ref, name.Insecure)
			if err != nil {
				return err
			}
			_, err = remote.Head(n, remote.WithContext(ctx), remote.WithTransport(&http.Transport{DialContext: a.h.Dial, DisableKeepAlives: true}))
			return err
		})
	}
	return r, g.Wait()
}

// wipe leaves the machine as one that was never used: only its console log and
// its identity stay.
func (a *agent) wipe(context.Context) (bool, error) {
	if err := a.mayChange("wipe"); err != nil {
		return false, err
	}
	a.h.Console("everything is wiped on request")
	a.h.manager.shutdown()
	es, err := os.ReadDir(a.h.Spec.Root)
	if err != nil {
		return false, err
	}
	for _, e := range es {
		p := filepath.Join(a.h.Spec.Root, e.Name())
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
	go a.onReboot()
	return err == nil, err
}
