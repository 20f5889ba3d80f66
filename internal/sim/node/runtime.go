package node

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/pflag"
	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/types"

	"verbund/internal/sim/host"
)

// PodProgram is what an image holds. It returns when ctx ends; a program that
// serves others finishes what it has begun first.
type PodProgram func(ctx context.Context, p *PodEnv) error

// PodEnv is what a program in a pod can see.
type PodEnv struct {
	Host    *host.Host
	Net     *host.Pod // nil with the machine's own network
	IP      netip.Addr
	DNS     netip.Addr // name server of pods with a network of their own
	Version string
	Pod     *corev1.Pod
	Token   string            // file with the token of its service account
	Files   map[string]string // mounted, by path
	Log     io.Writer
	Ready   func()
}

// Logf writes one line to the container's log.
func (p *PodEnv) Logf(format string, args ...any) {
	fmt.Fprintf(p.Log, "%s %s\n", time.Now().UTC().Format(time.RFC3339), fmt.Sprintf(format, args...))
}

// runtime is the container runtime. What runs in it belongs to the machine and
// outlives restarts of the runtime's own service, as it does with shims.
type runtime struct {
	h        *host.Host
	programs map[string]PodProgram

	mu      sync.Mutex
	version string
	certs   string
	pods    map[types.UID]*pod
}

// pod is one running sandbox.
type pod struct {
	ip      netip.Addr
	started time.Time
	cancel  context.CancelFunc
	done    chan struct{}

	mu       sync.Mutex
	ready    bool
	restarts int32
	err      error
	log      *ring
}

// ring keeps the newest part of a container's log.
type ring struct {
	mu      sync.Mutex
	buf     bytes.Buffer
	changed chan struct{}
}

func (r *ring) Write(b []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.buf.Len() > 1<<20 {
		r.buf.Next(1 << 19)
	}
	close(r.changed)
	r.changed = make(chan struct{})
	return r.buf.Write(b)
}

func (r *ring) read() (string, <-chan struct{}) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.buf.String(), r.changed
}

const shims = "/run/containerd/shims"

// containerdConfig is the part of the runtime's configuration that matters here.
type containerdConfig struct {
	Version int                       `toml:"version"`
	Root    string                    `toml:"root"`
	State   string                    `toml:"state"`
	GRPC    struct{ Address string }  `toml:"grpc"`
	Plugins map[string]map[string]any `toml:"plugins"`
}

type hostsConfig struct {
	Server string                    `toml:"server"`
	Host   map[string]map[string]any `toml:"host"`
}

// Containerd is the container runtime's stand-in. programs are the images'
// contents, by the name in their descriptor.
func Containerd(programs map[string]PodProgram) host.Program {
	return func(ctx context.Context, e *host.Env) error {
		fs := pflag.NewFlagSet("containerd", pflag.ContinueOnError)
		fs.SetOutput(io.Discard)
		file := fs.String("config", "/etc/containerd/config.toml", "")
		if err := fs.Parse(e.Args); err != nil {
			return &host.ExitError{Code: 2, Err: err}
		}
		var cfg containerdConfig
		if err := cfg.read(e.Host, *file); err != nil {
			return err
		}
		certs, _ := cfg.Plugins["io.containerd.cri.v1.images"]["registry"].(map[string]any)
		dir, _ := certs["config_path"].(string)
		// What is wrong with the default shows at once; the others are read when
		// an image of their registry is pulled, as the real one does.
		if _, err := mirrorOf(e.Host, dir, "_default"); err != nil {
			return err
		}
		var rt *runtime
		if old, err := e.Host.Local(shims); err == nil {
			rt = old.(*runtime)
		} else {
			rt = &runtime{h: e.Host, programs: programs, pods: map[types.UID]*pod{}}
			e.Host.Offer(shims, rt)
		}
		rt.mu.Lock()
		rt.version, rt.certs = e.Version, dir
		rt.mu.Unlock()
		defer e.Host.Offer(cfg.GRPC.Address, rt)()
		e.Ready()
		<-ctx.Done()
		return nil
	}
}

// read reads the configuration strictly and refuses another format's version.
func (c *containerdConfig) read(h *host.Host, file string) error {
	if err := strictTOML(h, file, c); err != nil {
		return err
	}
	if c.Version != 3 {
		return &host.ExitError{Code: 2, Err: fmt.Errorf("%s: version %d is not supported", file, c.Version)}
	}
	return nil
}

// mirrorOf is the host through which images of a registry come: the first of
// its own hosts file, or of the default one.
func mirrorOf(h *host.Host, dir, registry string) (string, error) {
	var cfg hostsConfig
	file := dir + "/" + registry + "/hosts.toml"
	if _, err := h.ReadFile(file); err != nil && registry != "_default" {
		file = dir + "/_default/hosts.toml"
	}
	if err := strictTOML(h, file, &cfg); err != nil {
		return "", err
	}
	from := cfg.Server
	for _, first := range slices.Sorted(maps.Keys(cfg.Host)) {
		from = first
		break
	}
	u, err := url.Parse(from)
	if err != nil || u.Host == "" {
		return "", fmt.Errorf("%s: %q is no address of a registry", file, from)
	}
	return u.Host, nil
}

func strictTOML(h *host.Host, file string, out any) error {
	b, err := h.ReadFile(file)
	if err != nil {
		return err
	}
	if err := toml.NewDecoder(bytes.NewReader(b)).DisallowUnknownFields().Decode(out); err != nil {
		var unknown *toml.StrictMissingError
		if errors.As(err, &unknown) {
			err = fmt.Errorf("unknown keys:\n%s", unknown.String())
		}
		return &host.ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
	}
	return nil
}

// pull gets an image through the configured registry, unless it is here.
func (r *runtime) pull(ctx context.Context, image string) (host.Descriptor, error) {
	r.mu.Lock()
	dir := r.certs
	r.mu.Unlock()
	var d host.Descriptor
	from, ref := "_default", image
	if first, rest, ok := strings.Cut(image, "/"); ok && strings.ContainsAny(first, ".:") {
		from, ref = first, rest
	}
	registry, err := mirrorOf(r.h, dir, from)
	if err != nil {
		return d, err
	}
	// A mirror is told whose image it is, unless it is its own.
	upstream := from
	if from == registry || from == "_default" {
		upstream = ""
	}
	cached := "/var/lib/containerd/images/" + url.QueryEscape(ref)
	b, err := r.h.ReadFile(cached)
	if err != nil {
		if b, err = r.h.Fetch(ctx, registry, ref, upstream); err != nil {
			return d, fmt.Errorf("pulling %s: %w", image, err)
		}
		if err := r.h.WriteFile(cached, b, 0o644); err != nil {
			return d, err
		}
	}
	if err := json.Unmarshal(b, &d); err != nil {
		os.Remove(r.h.Path(cached))
		return d, fmt.Errorf("image %s: %w", image, err)
	}
	if r.programs[d.StandIn] == nil {
		return d, fmt.Errorf("image %s: there is no stand-in %q", image, d.StandIn)
	}
	return d, nil
}

// find returns what runs for a pod.
func (r *runtime) find(uid types.UID) *pod {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.pods[uid]
}

// start runs a pod's program until stop.
func (r *runtime) start(p *corev1.Pod, d host.Descriptor, ip, dns netip.Addr, files map[string]string, token string, changed func()) *pod {
	ctx, cancel := context.WithCancel(context.Background())
	s := &pod{ip: ip, started: time.Now(), cancel: cancel, done: make(chan struct{}), log: &ring{changed: make(chan struct{})}}
	env := &PodEnv{Host: r.h, IP: ip, Version: d.Version, Pod: p, Token: token, Files: files, Log: s.log}
	if !p.Spec.HostNetwork {
		env.Net, env.DNS = r.h.Net.AddPod(ip), dns
	}
	set := func(f func()) {
		s.mu.Lock()
		f()
		s.mu.Unlock()
		changed()
	}
	env.Ready = func() { set(func() { s.ready = true }) }
	r.mu.Lock()
	r.pods[p.UID] = s
	r.mu.Unlock()
	go func() {
		defer close(s.done)
		for ctx.Err() == nil && !r.h.Pulled() {
			err := r.once(ctx, d.StandIn, env)
			if ctx.Err() != nil || r.h.Pulled() {
				break
			}
			env.Logf("ended: %v", err)
			set(func() { s.ready, s.err = false, err; s.restarts++ })
			if r.h.Work(ctx, 10*time.Second) != nil {
				break
			}
		}
		if !p.Spec.HostNetwork {
			r.h.Net.DropPod(ip)
		}
	}()
	return s
}

// once runs a pod's program; a panic ends it as a process would end, and the
// container is started anew.
func (r *runtime) once(ctx context.Context, program string, env *PodEnv) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("panic: %v", p)
			env.Logf("%v", err)
		}
	}()
	return r.programs[program](ctx, env)
}

// stop ends a pod and waits for it, at most its grace period.
func (r *runtime) stop(uid types.UID, grace time.Duration) {
	s := r.find(uid)
	if s == nil {
		return
	}
	s.cancel()
	t := time.NewTimer(grace)
	defer t.Stop()
	select {
	case <-s.done:
	case <-t.C:
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.pods, uid)
}
