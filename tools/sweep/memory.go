package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"go.etcd.io/etcd/server/v3/embed"
)

// The memory of a round lies in the folder, or in an etcd of three members: processes of their own,
// of which each is reached through a link that can be cut.
const members = 3

// asMember is the variable by which a process of this program is one of them.
const asMember = "VERBUND_SWEEP_MEMBER"

// memberConfig is what such a process is told.
type memberConfig struct {
	Name, Dir, Client, Peer, Cluster string
}

// beMember runs a member, if this process is to be one. It ends when it is killed, or when its
// standard input ends: with whoever started it.
func beMember() {
	text := os.Getenv(asMember)
	if text == "" {
		return
	}
	err := func() error {
		var c memberConfig
		if err := json.Unmarshal([]byte(text), &c); err != nil {
			return err
		}
		cfg := embed.NewConfig()
		cfg.Name, cfg.Dir, cfg.LogLevel, cfg.InitialCluster = c.Name, c.Dir, "panic", c.Cluster
		at := func(s string) []url.URL { return []url.URL{{Scheme: "http", Host: s}} }
		cfg.ListenClientUrls, cfg.AdvertiseClientUrls = at(c.Client), at(c.Client)
		cfg.ListenPeerUrls, cfg.AdvertisePeerUrls = at(c.Peer), at(c.Peer)
		e, err := embed.StartEtcd(cfg)
		if err != nil {
			return err
		}
		go func() {
			io.Copy(io.Discard, os.Stdin)
			os.Exit(0)
		}()
		return <-e.Err()
	}()
	fmt.Fprintln(os.Stderr, "a member of the memory:", err)
	os.Exit(1)
}

// shared is a memory in an etcd.
type shared struct {
	configs []memberConfig
	mu      sync.Mutex
	running []*exec.Cmd
	in      []io.Closer
	links   []*link
	over    bool // none is started any more
}

// startShared starts its members, which keep what they have below a folder.
func startShared(dir string) (*shared, error) {
	s := &shared{running: make([]*exec.Cmd, members), in: make([]io.Closer, members)}
	var all []string
	for i := range members {
		var free [2]string
		for j := range free {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return nil, err
			}
			free[j] = l.Addr().String()
			l.Close()
		}
		c := memberConfig{Name: fmt.Sprint("m", i), Dir: filepath.Join(dir, fmt.Sprint("member-", i)), Client: free[0], Peer: free[1]}
		all = append(all, c.Name+"=http://"+c.Peer)
		s.configs = append(s.configs, c)
	}
	for i := range s.configs {
		s.configs[i].Cluster = strings.Join(all, ",")
		l, err := newLink(s.configs[i].Client)
		if err == nil {
			s.links = append(s.links, l)
			err = s.start(i)
		}
		if err != nil {
			s.end()
			return nil, err
		}
	}
	return s, nil
}

func (s *shared) start(i int) error {
	b, err := json.Marshal(s.configs[i])
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	c := exec.Command(self)
	c.Env, c.Stderr = append(os.Environ(), asMember+"="+string(b)), os.Stderr
	in, err := c.StdinPipe()
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over {
		return nil
	}
	if err := c.Start(); err != nil {
		return err
	}
	s.running[i], s.in[i] = c, in
	return nil
}

// place is where the memory lies, as the tool is told.
func (s *shared) place() string {
	var at []string
	for _, l := range s.links {
		at = append(at, l.Addr().String())
	}
	return "etcd://" + strings.Join(at, ",") + "/sweep"
}

// killMember kills one, which comes back some seconds later.
func (s *shared) killMember(rnd *rand.Rand) (whom string, err error) {
	i := rnd.IntN(members)
	s.mu.Lock()
	c := s.running[i]
	s.mu.Unlock()
	if err := c.Process.Kill(); err != nil {
		return "", err
	}
	c.Wait()
	time.AfterFunc(4*time.Second, func() { s.start(i) })
	return fmt.Sprintf("member %d of the memory", i+1), nil
}

// cut cuts the way to all of them, for a moment or for longer than a lock outlives its holder.
func (s *shared) cut(rnd *rand.Rand) (whom string) {
	span := []time.Duration{time.Second, 4 * time.Second, 45 * time.Second}[rnd.IntN(3)]
	for _, l := range s.links {
		l.cut(true)
	}
	time.AfterFunc(span, s.mend)
	return fmt.Sprintf("the way to the memory, for %s,", span)
}

func (s *shared) mend() {
	for _, l := range s.links {
		l.cut(false)
	}
}

func (s *shared) end() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.over = true
	for i, c := range s.running {
		if c != nil {
			s.in[i].Close()
			c.Process.Kill()
			c.Wait()
		}
	}
	for _, l := range s.links {
		l.Close()
	}
}

// link passes on what comes to a member, as long as it is not cut.
type link struct {
	net.Listener
	to string

	mu     sync.Mutex
	isCut  bool
	passes map[net.Conn]bool
}

func newLink(to string) (*link, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	k := &link{Listener: l, to: to, passes: map[net.Conn]bool{}}
	go k.serve()
	return k, nil
}

func (l *link) serve() {
	for {
		a, err := l.Accept()
		if err != nil {
			return
		}
		go l.pass(a)
	}
}

func (l *link) pass(a net.Conn) {
	defer a.Close()
	b, err := net.Dial("tcp", l.to)
	if err != nil || !l.let(a, b) {
		return
	}
	defer b.Close()
	go func() {
		io.Copy(b, a)
		b.Close()
	}()
	io.Copy(a, b)
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.passes, a)
	delete(l.passes, b)
}

// let notes two ends of what is passed on; nothing is while it is cut.
func (l *link) let(a, b net.Conn) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.isCut {
		b.Close()
		return false
	}
	l.passes[a], l.passes[b] = true, true
	return true
}

func (l *link) cut(is bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.isCut = is; is {
		for c := range l.passes {
			c.Close()
		}
		clear(l.passes)
	}
}

// shareMemory has the round's memory lie in an etcd from the beginning.
func (r *round) shareMemory(ctx context.Context) (err error) {
	if r.memory, err = startShared(r.dir); err != nil {
		return err
	}
	if _, err := r.tool(ctx, "render"); err != nil { // which makes it
		return err
	}
	_, err = r.tool(ctx, "store", "move", r.memory.place(), "--yes")
	return err
}

// waits runs a command, as long as the lock is held that a killed one has left.
func (r *round) waits(ctx context.Context, args ...string) error {
	for began := time.Now(); ; {
		_, err := r.tool(ctx, args...)
		var x *exec.ExitError
		if r.memory == nil || !errors.As(err, &x) || x.ExitCode() != exitLocked || time.Since(began) > lockOutlives {
			return err
		}
		if err := pause(ctx, time.Second); err != nil {
			return err
		}
	}
}

// pause is between two looks.
func pause(ctx context.Context, span time.Duration) error {
	t := time.NewTimer(span)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// exitLocked is the exit code of a command when another one holds the lock, and lockOutlives how
// long one may outlive its holder, with room for a busy computer.
const (
	exitLocked   = 4
	lockOutlives = 90 * time.Second
)

// endMemory ends the etcd in which the memory lies, if it does.
func (r *round) endMemory() {
	if r.memory != nil {
		r.memory.end()
	}
}
