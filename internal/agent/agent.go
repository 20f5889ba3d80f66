// Package agent answers the agent protocol on a machine: files, artefacts, units, slots and
// logs, as docs/protocols.md describes them.
//
// What is the same on every machine is here, and what the machine is made of is behind
// System: a real Linux system (systemd, in the folder of that name), or a simulated machine.
// Both so follow one protocol by one code, and one test holds them to it.
//
// In come calls over a login; whoever is logged in may do what the login's rights say. Two
// logins never change a machine at the same time. The agent remembers nothing: all of its
// state are files on the machine, and what it has not finished, the next call finds.
package agent

import (
	"bytes"
	"cmp"
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
	"sync/atomic"
	"syscall"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"github.com/creachadair/jrpc2/handler"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"golang.org/x/sync/errgroup"

	"verbund/internal/core/trust"
	"verbund/internal/machine/protocol"
)

// agent answers on one channel.
type agent struct {
	sys     System
	changes changes
	wiped   atomic.Bool
	restart func() // restarts the machine, once
}

// Serve answers one client until it hangs up.
func Serve(c io.ReadWriteCloser, sys System) {
	a := newAgent(sys)
	srv := jrpc2.NewServer(handler.Map{
		protocol.Facts:           handler.New(a.facts),
		protocol.FilesPut:        alone(a, protocol.FilesPut, a.put),
		protocol.FilesDigests:    handler.New(a.digests),
		protocol.FilesRead:       handler.New(a.read),
		protocol.FilesList:       handler.New(a.listFiles),
		protocol.KeysShow:        handler.New(a.show),
		protocol.ArtefactsPull:   alone(a, protocol.ArtefactsPull, a.pull),
		protocol.UnitsList:       handler.New(sys.Units),
		protocol.UnitsStart:      alone(a, protocol.UnitsStart, a.start),
		protocol.UnitsStop:       alone(a, protocol.UnitsStop, a.stop),
		protocol.UnitsRestart:    alone(a, protocol.UnitsRestart, a.startAgain),
		protocol.UnitsReload:     alone(a, protocol.UnitsReload, a.reload),
		protocol.Logs:            handler.New(a.logs),
		protocol.SlotsPrepare:    alone(a, protocol.SlotsPrepare, a.prepare),
		protocol.SlotsSwitch:     alone(a, protocol.SlotsSwitch, a.swap),
		protocol.SocketsAsk:      handler.New(a.ask),
		protocol.DatastoreSeed:   alone(a, protocol.DatastoreSeed, a.seed),
		protocol.DatastoreRescue: alone(a, protocol.DatastoreRescue, a.rescue),
		protocol.MachineProbe:    handler.New(a.probe),
		protocol.MachineWipe:     alone(a, protocol.MachineWipe, func(ctx context.Context, _ struct{}) (bool, error) { return a.wipe(ctx) }),
	}, &jrpc2.ServerOptions{Concurrency: 8})
	srv.Start(protocol.Questions(channel.Line(c, c))).Wait()
	if a.wiped.Load() {
		a.restart()
	}
}

func newAgent(sys System) *agent {
	return &agent{sys: sys, changes: changes{sys: sys}, restart: sync.OnceFunc(sys.Restart)}
}

// hangUp is how long whoever had a machine wiped may take to hang up before it restarts all
// the same: what was answered is to arrive.
const hangUp = 2 * time.Second

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
	t, err := os.Readlink(a.sys.Path(protocol.ActiveSlot))
	if err != nil {
		return ""
	}
	return filepath.Base(t)
}

func (a *agent) facts(ctx context.Context) (*protocol.FactsReply, error) {
	r, err := a.sys.Facts(ctx)
	if err != nil {
		return nil, err
	}
	r.Rights = cmp.Or(a.sys.Rights(), "all")
	r.Active, r.Slots, r.Digests, r.Busy = a.activeSlot(), map[string]map[string]string{}, map[string]map[string]string{}, a.changes.others()
	for _, slot := range []string{"a", "b"} {
		r.Slots[slot], r.Digests[slot] = map[string]string{}, map[string]string{}
		bin := protocol.SlotDir + slot + "/bin/"
		here, _ := os.ReadDir(a.sys.Path(bin))
		for _, f := range here {
			if v, err := a.sys.Version(bin + f.Name()); err == nil {
				digest, _ := os.ReadFile(a.sys.Path(bin + f.Name() + ofDigest))
				r.Slots[slot][f.Name()], r.Digests[slot][f.Name()] = v, string(digest)
			}
		}
	}
	return r, nil
}

// What lies beside a component in a slot: the digest of the manifest under which it was
// fetched, and the version that its artefact names.
const (
	ofDigest  = ".digest"
	OfVersion = ".version"
)

func (a *agent) put(ctx context.Context, req *protocol.PutRequest) (*protocol.PutReply, error) {
	r := &protocol.PutReply{Changed: []string{}}
	for _, f := range req.Files {
		full := a.sys.Path(f.Path)
		if old, err := os.ReadFile(full); err == nil && string(old) == string(f.Content) {
			if i, err := os.Stat(full); err == nil && i.Mode().Perm() == f.Mode.Perm() {
				continue
			}
		}
		if err := a.write(f.Path, f.Content, f.Mode.Perm()); err != nil {
			return nil, code(err)
		}
		r.Changed = append(r.Changed, f.Path)
	}
	for _, p := range req.Remove {
		if err := os.Remove(a.sys.Path(p)); err == nil {
			r.Changed = append(r.Changed, p)
		} else if !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	return r, a.sys.Written(ctx, r.Changed)
}

func (a *agent) write(p string, b []byte, mode fs.FileMode) error {
	return a.sys.Write(p, bytes.NewReader(b), int64(len(b)), mode)
}

func (a *agent) digests(_ context.Context, req *protocol.PathsRequest) (*protocol.DigestsReply, error) {
	r := &protocol.DigestsReply{Digests: map[string]string{}}
	for _, p := range req.Paths {
		b, err := os.ReadFile(a.sys.Path(p))
		if err != nil {
			continue
		}
		i, err := os.Stat(a.sys.Path(p))
		if err != nil {
			continue
		}
		sum := sha256.Sum256(b)
		r.Digests[p] = fmt.Sprintf("%s %o", hex.EncodeToString(sum[:]), i.Mode().Perm())
	}
	return r, nil
}

func (a *agent) start(ctx context.Context, req *protocol.UnitsRequest) (bool, error) {
	for _, n := range req.Units {
		err := a.sys.Start(ctx, n)
		if err != nil {
			err = a.recovers(ctx, n, err)
		}
		if err != nil {
			return false, a.failed(ctx, n, err)
		}
	}
	return true, nil
}

// startPatience is for how long a unit may go on ending before it is up. What it needs at
// its start, an API that has just lost its leader or moved to another machine, is away for
// no longer in a healthy cluster.
const startPatience = 15 * time.Second

// recovers waits for a unit that ended before it was up, as long as the system starts it
// again by itself. One that stays down is said to be so with how it ended last.
func (a *agent) recovers(ctx context.Context, name string, first error) error {
	ctx, cancel := context.WithTimeout(ctx, startPatience)
	defer cancel()
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		u := a.unit(ctx, name)
		switch {
		case u.State == "active":
			a.sys.Note("unit %s is up; before that: %v", name, first)
			return nil
		case u.State != "activating":
			return first
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return fmt.Errorf("%w; started again by itself for %s, it came up no more than before", first, startPatience)
		}
	}
}

func (a *agent) stop(ctx context.Context, req *protocol.UnitsRequest) (bool, error) {
	for _, n := range req.Units {
		if err := a.sys.Stop(ctx, n); err != nil {
			return false, a.failed(ctx, n, err)
		}
	}
	return true, nil
}

func (a *agent) startAgain(ctx context.Context, req *protocol.UnitsRequest) (bool, error) {
	if ok, err := a.stop(ctx, req); !ok {
		return false, err
	}
	return a.start(ctx, req)
}

func (a *agent) reload(ctx context.Context, req *protocol.UnitsRequest) (bool, error) {
	for _, n := range req.Units {
		if err := a.sys.Reload(ctx, n); err != nil {
			return false, a.failed(ctx, n, err)
		}
	}
	return true, nil
}

// failed is the protocol's word for a unit that did not do what it should, with its state.
func (a *agent) failed(ctx context.Context, name string, err error) error {
	return jrpc2.Errorf(protocol.CodeUnitFailed, "%v", err).WithData([]protocol.UnitState{a.unit(ctx, name)})
}

// unit is the state of a unit; of one that is not there, only the name.
func (a *agent) unit(ctx context.Context, name string) protocol.UnitState {
	us, _ := a.sys.Units(context.WithoutCancel(ctx))
	for _, u := range us {
		if u.Name == name {
			return u
		}
	}
	return protocol.UnitState{Name: name}
}

func (a *agent) logs(ctx context.Context, req *protocol.LogsRequest) (*protocol.LogsReply, error) {
	lines, err := a.sys.Log(ctx, req.Unit, req.Lines)
	if err != nil {
		return nil, err
	}
	return &protocol.LogsReply{Lines: lines}, nil
}

func (a *agent) prepare(_ context.Context, req *protocol.SlotRequest) (bool, error) {
	if err := a.slot(req.Slot); err != nil {
		return false, err
	}
	if req.Slot == a.activeSlot() {
		return false, fmt.Errorf("slot %s is in use", req.Slot)
	}
	p := a.sys.Path(protocol.SlotDir + req.Slot)
	return true, errors.Join(os.RemoveAll(p), os.MkdirAll(p, 0o755))
}

func (a *agent) slot(s string) error {
	if s != "a" && s != "b" {
		return fmt.Errorf("slot %q: there are a and b", s)
	}
	return nil
}

// point makes a slot the active one on the disk. One that is so already takes no room on it.
func (a *agent) point(ctx context.Context, slot string) error {
	l := a.sys.Path(protocol.ActiveSlot)
	os.Remove(l + ".new")
	if a.activeSlot() == slot {
		return a.sys.Linked(ctx)
	}
	if err := os.Symlink("slots/"+slot, l+".new"); err != nil {
		return err
	}
	if err := os.Rename(l+".new", l); err != nil {
		return err
	}
	return a.sys.Linked(ctx)
}

// linesOfFailure is how much of a unit's log is told when it does not come up.
const linesOfFailure = 12

func (a *agent) swap(ctx context.Context, req *protocol.SwitchRequest) (*protocol.SwitchReply, error) {
	if err := a.slot(req.Slot); err != nil {
		return nil, err
	}
	old := a.activeSlot()
	before, err := a.sys.Units(ctx)
	if err != nil {
		return nil, err
	}
	var running []string
	for _, u := range before {
		if u.State != "inactive" {
			running = append(running, u.Name)
		}
	}
	err = a.stopAll(ctx, req.Start)
	if err == nil {
		err = a.point(ctx, req.Slot)
	}
	if err != nil {
		// A full disk, or a unit that does not stop: the machine is not left without what it ran.
		return nil, code(errors.Join(err, a.back(ctx, old, req.Start, running)))
	}
	r := &protocol.SwitchReply{Active: req.Slot}
	for _, n := range req.Start {
		err := a.sys.Start(ctx, n)
		if err == nil && req.Health[n] != "" {
			err = a.well(ctx, n, req.Health[n])
		}
		if err == nil {
			continue
		}
		told := context.WithoutCancel(ctx)
		r.FellBack, r.Unit, r.ExitCode = err.Error(), n, a.unit(ctx, n).ExitCode
		r.Units, _ = a.sys.Units(told)
		r.Log, _ = a.sys.Log(told, n, linesOfFailure)
		break
	}
	if r.FellBack == "" || old == "" || old == req.Slot {
		return r, nil
	}
	a.sys.Note("slot %s did not come up (%s), back to slot %s", req.Slot, r.FellBack, old)
	r.Active = old
	if err := a.stopAll(context.WithoutCancel(ctx), req.Start); err != nil {
		return nil, errors.Join(err, a.back(ctx, old, req.Start, running))
	}
	if err := a.back(ctx, old, req.Start, running); err != nil {
		r.FellBack += "; and on the way back: " + err.Error()
	}
	return r, nil
}

// back has a machine use the slot that it used, and starts those of the units that ran. The way
// is gone whoever has hung up meanwhile, and to its end, whatever of it fails.
func (a *agent) back(ctx context.Context, slot string, units, ran []string) error {
	ctx = context.WithoutCancel(ctx)
	var errs []error
	if slot != "" {
		errs = append(errs, a.point(ctx, slot))
	}
	for _, n := range units {
		if slices.Contains(ran, n) {
			errs = append(errs, a.sys.Start(ctx, n))
		}
	}
	return errors.Join(errs...)
}

// stopAll stops units, the last one first.
func (a *agent) stopAll(ctx context.Context, units []string) error {
	for _, n := range slices.Backward(units) {
		if err := a.sys.Stop(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

func (a *agent) read(_ context.Context, req *protocol.PathsRequest) (*protocol.FilesReply, error) {
	r := &protocol.FilesReply{Files: []protocol.File{}, From: req.From}
	for _, p := range req.Paths {
		i, err := os.Stat(a.sys.Path(p))
		if err != nil || !i.Mode().IsRegular() {
			continue
		}
		f, err := os.Open(a.sys.Path(p))
		if err != nil {
			continue
		}
		b, err := io.ReadAll(io.NewSectionReader(f, req.From, protocol.MaxRead))
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
		es, err := os.ReadDir(a.sys.Path(folder))
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
		found, err := fs.Glob(os.DirFS(a.sys.Path("/")), strings.TrimPrefix(path.Clean(p), "/"))
		if err != nil {
			return nil, fmt.Errorf("show %s: %w", p, err)
		}
		for _, f := range found {
			f = a.sys.Path("/" + f)
			i, err := os.Stat(f)
			if err != nil || !i.Mode().IsRegular() || i.Size() > protocol.MaxRead {
				continue
			}
			b, err := os.ReadFile(f)
			if err != nil {
				continue
			}
			s := protocol.Shown{Path: "/" + strings.TrimPrefix(strings.TrimPrefix(f, a.sys.Path("/")), "/"), Mode: i.Mode().Perm()}
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
	r := &protocol.ProbeReply{Resolve: map[string]string{}, Dial: map[string]string{}, Free: map[string]string{}, Artefacts: map[string]string{}, Programs: map[string]string{}, Empty: map[string]string{}}
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
		ask(r.Resolve, n, func() error { return a.sys.Resolve(ctx, n) })
	}
	for _, d := range req.Dial {
		ask(r.Dial, d, func() error {
			c, err := a.sys.Dial(ctx, "tcp", d)
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
	for _, n := range req.Programs {
		ask(r.Programs, n, func() error { return a.program(n) })
	}
	for _, f := range req.Empty {
		ask(r.Empty, f, func() error { return a.empty(f) })
	}
	for _, ref := range req.Artefacts {
		ask(r.Artefacts, ref, func() error {
			n, err := name.ParseReference(req.Registry+"/"+ref, name.Insecure)
			if err != nil {
				return err
			}
			_, err = remote.Head(n, remote.WithContext(ctx), remote.WithTransport(&http.Transport{DialContext: a.sys.Dial, DisableKeepAlives: true}))
			return err
		})
	}
	return r, g.Wait()
}

// programDirs are where programs of the system lie (systemd.exec(5), ExecSearchPath), and
// those of network plugins (CNI).
var programDirs = []string{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin", "/opt/cni/bin", "/usr/lib/cni"}

// program looks for a program of the machine's system.
func (a *agent) program(name string) error {
	if path.Base(name) != name {
		return errors.New("a program is asked for by its name")
	}
	for _, d := range programDirs {
		if i, err := os.Stat(a.sys.Path(d + "/" + name)); err == nil && i.Mode().IsRegular() && i.Mode()&0o111 != 0 {
			return nil
		}
	}
	return errors.New("it is not there")
}

// empty looks whether nothing is in a folder.
func (a *agent) empty(folder string) error {
	es, err := os.ReadDir(a.sys.Path(folder))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	es = slices.DeleteFunc(es, func(e os.DirEntry) bool { return e.Name() == "lost+found" }) // of a file system of its own
	if len(es) > 0 {
		return fmt.Errorf("%s is in it, and %d more", es[0].Name(), len(es)-1)
	}
	return nil
}

// wipe leaves the machine as one that was never used.
func (a *agent) wipe(ctx context.Context) (bool, error) {
	a.sys.Note("everything is wiped on request")
	// First what says that a slot is in use: a machine whose wipe was cut off would be taken for
	// one that lacks a few files, and its units, which are gone by then, never be brought again.
	if err := os.Remove(a.sys.Path(protocol.ActiveSlot)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	if err := a.sys.Wipe(ctx); err != nil {
		return false, err
	}
	a.wiped.Store(true)
	time.AfterFunc(hangUp, a.restart)
	return true, nil
}

// ask asks a program of the machine by its local socket. What may be asked is what the
// socket's owner lets be asked.
func (a *agent) ask(ctx context.Context, req *protocol.AskRequest) (*protocol.AskReply, error) {
	if p := path.Clean(req.Socket); !strings.HasPrefix(p, "/run/") || p != req.Socket {
		return nil, fmt.Errorf("socket %q does not lie in /run", req.Socket)
	}
	if strings.ContainsAny(req.Line, "\n;") {
		return nil, errors.New("one line with one command is asked at a time")
	}
	text, err := a.sys.Ask(ctx, req.Socket, req.Line)
	if err != nil {
		return nil, fmt.Errorf("asking %s: %w", req.Socket, err)
	}
	return &protocol.AskReply{Text: text}, nil
}
