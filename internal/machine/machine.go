// Package machine is a machine seen from outside: an SSH connection whose host
// key is known, and the agent's protocol over it.
package machine

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"strings"
	"syscall"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"golang.org/x/crypto/ssh"

	"verbund/internal/machine/protocol"
)

// Target is how to reach a machine.
type Target struct {
	Name        string
	Address     netip.Addr
	Port        int
	Fingerprint string // of its host key
	Login       ssh.Signer
	// User is who one logs in as; empty is root. Whoever is not root becomes it by sudo. Logins
	// are the keys of that user's, where it is not Login that is let in.
	User   string
	Logins func() ([]ssh.Signer, error)
	// Bring has the agent brought where it is not, or is another one than this program; it
	// is for machines that are real systems.
	Bring bool
}

// HostKeyError is a machine that shows another host key than it should.
type HostKeyError struct{ Name, Want, Got string }

func (e *HostKeyError) Error() string {
	return fmt.Sprintf("machine %s shows host key %s, and %s is known; nothing was sent to it. If the machine was set up anew by somebody you trust, release it at the site and converge; otherwise find out who answers there", e.Name, e.Got, e.Want)
}

// Machine is an open connection to a machine's agent.
type Machine struct {
	Name   string
	ssh    *ssh.Client
	client *jrpc2.Client
}

// Dial logs in and opens the agent's subsystem.
func Dial(ctx context.Context, t Target) (*Machine, error) {
	cl, err := login(ctx, t)
	if err != nil {
		return nil, err
	}
	if t.Bring {
		brought, err := bring(ctx, t, cl)
		if err != nil || brought {
			cl.Close()
		}
		if err != nil {
			return nil, err
		}
		if brought { // the SSH server knows it from the next login on
			if cl, err = again(ctx, t); err != nil {
				return nil, err
			}
		}
	}
	m, err := open(ctx, t, cl)
	if err != nil {
		cl.Close()
		return nil, fmt.Errorf("agent of %s: %w", t.Name, err)
	}
	return m, nil
}

// startPatience is how long an SSH server may take to start itself anew.
const startPatience = 20 * time.Second

// again logs in to a machine whose SSH server has just been told to read its configuration:
// it starts itself anew, and nobody listens for a moment.
func again(ctx context.Context, t Target) (*ssh.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, startPatience)
	defer cancel()
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		cl, err := login(ctx, t)
		if err == nil || !errors.Is(err, syscall.ECONNREFUSED) {
			return cl, err
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return nil, err
		}
	}
}

// root is who may do everything.
const root = "root"

func (t Target) auth() ssh.AuthMethod {
	if t.Logins != nil {
		return ssh.PublicKeysCallback(t.Logins)
	}
	return ssh.PublicKeys(t.Login)
}

// command is a shell command that is run as root.
func (t Target) command(c string) string {
	if cmp.Or(t.User, root) == root {
		return c
	}
	return "sudo -n -- sh -c '" + strings.ReplaceAll(c, "'", `'\''`) + "'"
}

// login logs in, to the machine with the host key that is known and to no other.
func login(ctx context.Context, t Target) (*ssh.Client, error) {
	addr := netip.AddrPortFrom(t.Address, uint16(t.Port)).String()
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("reaching %s: %w", t.Name, err)
	}
	if dl, ok := ctx.Deadline(); ok {
		c.SetDeadline(dl)
	}
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	began := time.Now()
	var mismatch *HostKeyError
	cfg := &ssh.ClientConfig{Config: protocol.SSHConfig(), User: cmp.Or(t.User, root), Auth: []ssh.AuthMethod{t.auth()}, HostKeyAlgorithms: []string{ssh.KeyAlgoED25519},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if got := ssh.FingerprintSHA256(key); got != t.Fingerprint {
				mismatch = &HostKeyError{t.Name, t.Fingerprint, got}
				return mismatch
			}
			return nil
		}}
	sc, chans, reqs, err := ssh.NewClientConn(c, addr, cfg)
	if err != nil {
		c.Close()
		if mismatch != nil {
			return nil, mismatch
		}
		var late net.Error
		if errors.Is(ctx.Err(), context.DeadlineExceeded) || errors.As(err, &late) && late.Timeout() {
			return nil, fmt.Errorf("logging in to %s at %s: it takes the connection and has said no more in %s, as a machine does that stands still or has too much to do: %w", t.Name, addr, time.Since(began).Round(time.Second), context.DeadlineExceeded)
		}
		return nil, fmt.Errorf("logging in to %s at %s: %w", t.Name, addr, cmp.Or(ctx.Err(), err))
	}
	c.SetDeadline(time.Time{})
	return ssh.NewClient(sc, chans, reqs), nil
}

func open(ctx context.Context, t Target, cl *ssh.Client) (*Machine, error) {
	s, err := cl.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := s.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if cmp.Or(t.User, root) == root {
		err = s.RequestSubsystem(protocol.Subsystem)
	} else if _, err = run(ctx, cl, "test -x "+agentProgram, nil); err == nil {
		// A sub-system would have the rights of the user.
		err = s.Start(t.command("exec " + agentProgram + " " + protocol.AgentArg))
	}
	if err != nil {
		return nil, fmt.Errorf("%w (%w)", ErrNoAgent, err)
	}
	return &Machine{Name: t.Name, ssh: cl, client: jrpc2.NewClient(channel.Line(&lines{r: out}, in), nil)}, nil
}

// lines ends a stream in which no line ends: what a machine says is held in memory until
// its line is whole.
type lines struct {
	r    io.Reader
	line int // bytes since the last end of a line
}

// longestLine is how long an answer of an agent may be, in bytes. The longest are files
// and logs, whose parts are limited by themselves.
const longestLine = 64 << 20

func (l *lines) Read(b []byte) (int, error) {
	if l.line > longestLine {
		return 0, fmt.Errorf("an answer of more than %d bytes, which no agent gives", longestLine)
	}
	n, err := l.r.Read(b)
	if i := bytes.LastIndexByte(b[:n], '\n'); i >= 0 {
		l.line = n - i - 1
	} else {
		l.line += n
	}
	return n, err
}

// Close hangs up.
func (m *Machine) Close() error {
	m.client.Close()
	return m.ssh.Close()
}

// UnitError is a unit that did not come up.
type UnitError struct {
	Machine string
	State   protocol.UnitState
	Text    string
}

func (e *UnitError) Error() string { return e.Text }

// ErrDiskFull says that the machine's disk takes no more.
var ErrDiskFull = errors.New("the disk is full")

// ErrDigest says that an artefact did not have the digest that is pinned.
var ErrDigest = errors.New("the digest is not the one that is pinned")

// ErrOldAgent says that a machine's agent is older than this program.
var ErrOldAgent = errors.New("its agent is older than this Verbund")

// ErrLost says that the connection broke; the call may have been carried out.
var ErrLost = errors.New("the connection was lost")

// older says that the machine's agent does not know something, and what to do.
func (m *Machine) older(what string) error {
	return fmt.Errorf("%s: %w (it does not know %s); on a simulated site, verbund site stop and start brings the new one, to other machines the next converge", m.Name, ErrOldAgent, what)
}

// call makes one call and turns the protocol's codes into errors.
func (m *Machine) call(ctx context.Context, method string, in, out any) error {
	err := m.client.CallResult(ctx, method, in, out)
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return fmt.Errorf("%s on %s: %w", method, m.Name, context.Cause(ctx))
	}
	var je *jrpc2.Error
	if !errors.As(err, &je) || m.client.IsStopped() {
		return fmt.Errorf("%s on %s: %w: %w", method, m.Name, ErrLost, err)
	}
	switch je.Code {
	case jrpc2.MethodNotFound:
		return m.older(method)
	case protocol.CodeDiskFull:
		return fmt.Errorf("%s: %w (%s)", m.Name, ErrDiskFull, je.Message)
	case protocol.CodeDigest:
		return fmt.Errorf("%w: %s", ErrDigest, je.Message)
	case protocol.CodeUnitFailed:
		ue := &UnitError{Machine: m.Name, Text: je.Message}
		var st []protocol.UnitState
		if json.Unmarshal(je.Data, &st) == nil && len(st) > 0 {
			ue.State = st[0]
		}
		return ue
	}
	return fmt.Errorf("%s on %s: %s", method, m.Name, je.Message)
}

// Facts asks the machine about itself.
func (m *Machine) Facts(ctx context.Context) (*protocol.FactsReply, error) {
	var r protocol.FactsReply
	return &r, m.call(ctx, protocol.Facts, nil, &r)
}

// Put writes files and returns those that changed.
func (m *Machine) Put(ctx context.Context, files []protocol.File, remove []string) ([]string, error) {
	var r protocol.PutReply
	err := m.call(ctx, protocol.FilesPut, protocol.PutRequest{Files: files, Remove: remove}, &r)
	return r.Changed, err
}

// Digests asks for the digests of files.
func (m *Machine) Digests(ctx context.Context, paths []string) (map[string]string, error) {
	var r protocol.DigestsReply
	err := m.call(ctx, protocol.FilesDigests, protocol.PathsRequest{Paths: paths}, &r)
	return r.Digests, err
}

// Read reads files; those that do not exist are left out.
func (m *Machine) Read(ctx context.Context, paths ...string) (map[string][]byte, error) {
	var r protocol.FilesReply
	if err := m.call(ctx, protocol.FilesRead, protocol.PathsRequest{Paths: paths}, &r); err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, f := range r.Files {
		out[f.Path] = f.Content
	}
	return out, nil
}

// ReadFrom reads a file from a place in it on, in bytes: some of it at a time, and nothing at
// its end. One that does not exist is fs.ErrNotExist.
func (m *Machine) ReadFrom(ctx context.Context, path string, from int64) ([]byte, error) {
	var r protocol.FilesReply
	if err := m.call(ctx, protocol.FilesRead, protocol.PathsRequest{Paths: []string{path}, From: from}, &r); err != nil {
		return nil, err
	}
	switch {
	case len(r.Files) == 0:
		return nil, fmt.Errorf("read %s: %w", path, fs.ErrNotExist)
	case r.From != from:
		return nil, m.older("how to read on in a file")
	}
	return r.Files[0].Content, nil
}

// List lists the files that stand in folders, with their modes.
func (m *Machine) List(ctx context.Context, folders ...string) ([]protocol.File, error) {
	var r protocol.FilesReply
	err := m.call(ctx, protocol.FilesList, protocol.PathsRequest{Paths: folders}, &r)
	return r.Files, err
}

// Show asks for what files with keys show of themselves: the keys stay there.
func (m *Machine) Show(ctx context.Context, patterns ...string) (map[string]protocol.Shown, error) {
	var r protocol.ShownReply
	if err := m.call(ctx, protocol.KeysShow, protocol.PathsRequest{Paths: patterns}, &r); err != nil {
		return nil, err
	}
	out := map[string]protocol.Shown{}
	for _, f := range r.Files {
		out[f.Path] = f
	}
	return out, nil
}

// Probe asks what the machine can reach and what is free on it.
func (m *Machine) Probe(ctx context.Context, q protocol.ProbeRequest) (*protocol.ProbeReply, error) {
	var r protocol.ProbeReply
	return &r, m.call(ctx, protocol.MachineProbe, q, &r)
}

// Wipe stops everything on the machine and empties its disk, and hangs up: it restarts after
// that.
func (m *Machine) Wipe(ctx context.Context) error {
	var ok bool
	if err := m.call(ctx, protocol.MachineWipe, nil, &ok); err != nil {
		return err
	}
	m.Close() // it may have hung up first
	return nil
}

// Pull fetches an artefact into a slot.
func (m *Machine) Pull(ctx context.Context, q protocol.PullRequest) (bool, error) {
	var r protocol.PullReply
	err := m.call(ctx, protocol.ArtefactsPull, q, &r)
	return r.Fetched, err
}

// Units lists the services.
func (m *Machine) Units(ctx context.Context) ([]protocol.UnitState, error) {
	var r []protocol.UnitState
	err := m.call(ctx, protocol.UnitsList, nil, &r)
	return r, err
}

// Do starts, stops, restarts or reloads units: method is one of the protocol's.
func (m *Machine) Do(ctx context.Context, method string, units ...string) error {
	var ok bool
	return m.call(ctx, method, protocol.UnitsRequest{Units: units}, &ok)
}

// Logs reads the last lines of a unit's log, or of the console.
func (m *Machine) Logs(ctx context.Context, unit string, lines int) ([]string, error) {
	var r protocol.LogsReply
	err := m.call(ctx, protocol.Logs, protocol.LogsRequest{Unit: unit, Lines: lines}, &r)
	return r.Lines, err
}

// PrepareSlot empties an idle slot.
func (m *Machine) PrepareSlot(ctx context.Context, slot string) error {
	var ok bool
	return m.call(ctx, protocol.SlotsPrepare, protocol.SlotRequest{Slot: slot}, &ok)
}

// Switch makes a slot the active one.
func (m *Machine) Switch(ctx context.Context, q protocol.SwitchRequest) (*protocol.SwitchReply, error) {
	var r protocol.SwitchReply
	return &r, m.call(ctx, protocol.SlotsSwitch, q, &r)
}

// Seed makes the data of a stopped member of the datastore from a snapshot.
func (m *Machine) Seed(ctx context.Context, q protocol.SeedRequest) error {
	var ok bool
	return m.call(ctx, protocol.DatastoreSeed, q, &ok)
}

// Rescue takes a snapshot of a stopped member that has lost the others; it returns where on the
// machine its parts lie.
func (m *Machine) Rescue(ctx context.Context, q protocol.RescueRequest) ([]string, error) {
	var r protocol.RescueReply
	err := m.call(ctx, protocol.DatastoreRescue, q, &r)
	return r.Parts, err
}

// Ask says a line to a local socket of the machine, and returns what is answered.
func (m *Machine) Ask(ctx context.Context, socket, line string) (string, error) {
	var r protocol.AskReply
	err := m.call(ctx, protocol.SocketsAsk, protocol.AskRequest{Socket: socket, Line: line}, &r)
	return r.Text, err
}
