// Package balancer is the stand-in of HAProxy: a TCP proxy with health checks
// that reads the part of HAProxy's configuration language that is rendered for
// it, and refuses the rest.
package balancer

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/pflag"

	"verbund/internal/sim/apiserver"
	"verbund/internal/sim/host"
	"verbund/internal/sim/serve"
	"verbund/internal/unit"
)

type server struct {
	name, addr string
	weight     int
	up         atomic.Bool
	cancel     context.CancelFunc
}

type backend struct {
	name, path       string
	tls              bool
	ca, verifyHost   string
	checkPort        string
	inter            time.Duration // between checks of a server about which nothing is in doubt
	fast, down       time.Duration // of one whose state is changing, and of one that is down
	fall, rise       int
	servers          []*server
	pool             *x509.CertPool
	next             atomic.Uint64
	connect, checkT  time.Duration
	clientT, serverT time.Duration // how long a side may say nothing; zero: for ever
	retries          int
	redispatch       int // at which of them another server is chosen: each so many, at the last (-1), or at none (0)
}

type frontend struct{ name, bind, backend string }

type config struct {
	fronts   map[string]*frontend
	backends map[string]*backend
	socket   string // where it is asked
}

// parse reads the configuration; an unknown keyword is an error with its line. It is long
// because it is a list, one directive after the other.
func parse(text string, file string) (*config, error) {
	c := &config{fronts: map[string]*frontend{}, backends: map[string]*backend{}}
	connect, checkT, retries, redispatch := 5*time.Second, 2*time.Second, 3, 0
	var clientT, serverT time.Duration
	var f *frontend
	var b *backend
	section := ""
	n := 0
	for line := range strings.Lines(text) {
		n++
		line, _, _ = strings.Cut(line, "#")
		w := strings.Fields(line)
		if len(w) == 0 {
			continue
		}
		bad := fmt.Errorf("%s:%d: %q is not known here", file, n, strings.TrimSpace(line))
		arg := func(i int) string {
			if i < len(w) {
				return w[i]
			}
			return ""
		}
		var err error
		switch w[0] {
		case "global", "defaults":
			section = w[0]
			continue
		case "frontend":
			section, f = w[0], &frontend{name: arg(1)}
			c.fronts[f.name] = f
			continue
		case "backend":
			section, b = w[0], &backend{name: arg(1), inter: 2 * time.Second, fall: 3, rise: 2}
			c.backends[b.name] = b
			continue
		}
		switch section + " " + w[0] {
		case "global maxconn", "global hard-stop-after", "defaults mode", "backend balance", "backend http-check":
		case "global stats":
			if arg(1) != "socket" {
				return nil, bad
			}
			c.socket = arg(2)
		case "defaults option":
			if arg(1) != "redispatch" {
				return nil, bad
			}
			if redispatch = -1; arg(2) != "" {
				redispatch, err = strconv.Atoi(arg(2))
			}
		case "defaults retries":
			retries, err = strconv.Atoi(arg(1))
		case "defaults timeout":
			var d time.Duration
			d, err = time.ParseDuration(arg(2))
			switch arg(1) {
			case "connect":
				connect = d
			case "check":
				checkT = d
			case "client":
				clientT = d
			case "server":
				serverT = d
			}
		case "frontend bind":
			f.bind = arg(1)
		case "frontend default_backend":
			f.backend = arg(1)
		case "backend option":
			if b.path = arg(3); arg(1) != "httpchk" {
				return nil, bad
			}
		case "backend default-server":
			err = b.options(w[1:], nil)
		case "backend server":
			s := &server{name: arg(1), addr: arg(2), weight: 1}
			b.servers = append(b.servers, s)
			err = b.options(w[min(3, len(w)):], s)
		default:
			return nil, bad
		}
		if err != nil {
			return nil, fmt.Errorf("%s:%d: %w", file, n, err)
		}
	}
	for _, b := range c.backends {
		b.connect, b.checkT, b.clientT, b.serverT, b.retries, b.redispatch = connect, checkT, clientT, serverT, retries, redispatch
		b.fast, b.down = cmp.Or(b.fast, b.inter), cmp.Or(b.down, b.inter)
	}
	for _, f := range c.fronts {
		if c.backends[f.backend] == nil || f.bind == "" {
			return nil, fmt.Errorf("%s: frontend %s has no bind or no backend", file, f.name)
		}
	}
	return c, nil
}

func (b *backend) options(w []string, s *server) error {
	for i := 0; i < len(w); i++ {
		val := ""
		if i+1 < len(w) {
			val = w[i+1]
		}
		var err error
		switch w[i] {
		case "check":
			continue
		case "check-ssl":
			b.tls = true
			continue
		case "verify":
		case "ca-file":
			b.ca = val
		case "verifyhost":
			b.verifyHost = val
		case "port":
			b.checkPort = val
		case "inter":
			b.inter, err = time.ParseDuration(val)
		case "fastinter":
			b.fast, err = time.ParseDuration(val)
		case "downinter":
			b.down, err = time.ParseDuration(val)
		case "fall":
			b.fall, err = strconv.Atoi(val)
		case "rise":
			b.rise, err = strconv.Atoi(val)
		case "weight":
			if s == nil {
				return fmt.Errorf("weight belongs to a server")
			}
			s.weight, err = strconv.Atoi(val)
		default:
			return fmt.Errorf("option %q is not known here", w[i])
		}
		if err != nil {
			return err
		}
		i++
	}
	return nil
}

type proxy struct {
	e       *host.Env
	mu      sync.Mutex
	cfg     *config
	ls      map[string]net.Listener // by bind
	wg      sync.WaitGroup
	workers int // how many processes there would have been by now: a reload makes a new one
}

// Run is the stand-in.
func Run(ctx context.Context, e *host.Env) error {
	fs := pflag.NewFlagSet("haproxy", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	// Its own options are single letters that may stand together.
	file := fs.StringP("file", "f", "", "")
	fs.BoolP("worker", "W", false, "")
	fs.BoolP("systemd", "s", false, "")
	if err := fs.Parse(e.Args); err != nil {
		return &host.ExitError{Code: 1, Err: err}
	}
	p := &proxy{e: e, ls: map[string]net.Listener{}}
	defer p.wg.Wait()
	if err := p.load(ctx, *file); err != nil {
		return &host.ExitError{Code: 1, Err: err}
	}
	defer p.close()
	withdraw := p.offer()
	defer func() { withdraw() }()
	e.Ready()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-e.Reload:
			if err := p.load(ctx, *file); err != nil {
				e.Logf("reload refused, the old configuration stays: %v", err)
			} else {
				p.mu.Lock()
				p.workers++
				p.mu.Unlock()
				withdraw()
				withdraw = p.offer()
				e.Logf("configuration reloaded")
			}
		}
	}
}

// offer puts the balancer's own socket where its configuration says, if it does.
func (p *proxy) offer() (withdraw func()) {
	p.mu.Lock()
	at := p.cfg.socket
	p.mu.Unlock()
	if at == "" {
		return func() {}
	}
	return p.e.Host.Offer(at, p)
}

// Ask answers the two commands of HAProxy's runtime API that matter here.
func (p *proxy) Ask(line string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	var b strings.Builder
	switch line {
	case "show info":
		fmt.Fprintf(&b, "Name: HAProxy\nVersion: %s\nPid: %d\n\n", strings.TrimPrefix(p.e.Version, "v"), p.workers)
	case "show stat":
		b.WriteString("# pxname,svname,status,weight,\n")
		for _, f := range slices.Sorted(maps.Keys(p.cfg.fronts)) {
			fmt.Fprintf(&b, "%s,FRONTEND,OPEN,,\n", f)
		}
		for _, n := range slices.Sorted(maps.Keys(p.cfg.backends)) {
			any := "DOWN"
			for _, s := range p.cfg.backends[n].servers {
				status := "DOWN"
				if s.up.Load() {
					status, any = "UP", "UP"
				}
				fmt.Fprintf(&b, "%s,%s,%s,%d,\n", n, s.name, status, s.weight)
			}
			fmt.Fprintf(&b, "%s,BACKEND,%s,,\n", n, any)
		}
		b.WriteString("\n")
	default:
		fmt.Fprintf(&b, "Unknown command: '%s'\n", line)
	}
	return b.String()
}

func (p *proxy) close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.ls {
		l.Close()
	}
	for _, b := range p.cfg.backends {
		for _, s := range b.servers {
			s.cancel()
		}
	}
}

// load takes up the configuration; connections that there are live on.
func (p *proxy) load(ctx context.Context, file string) error {
	text, err := p.e.Host.ReadFile(file)
	if err != nil {
		return err
	}
	c, err := parse(string(text), file)
	if err != nil {
		return err
	}
	for _, b := range c.backends {
		if b.ca != "" {
			trusted, terr := apiserver.ReadTrusted(p.e.Host, b.ca)
			if b.pool, err = trusted.Pool(), terr; err != nil {
				return err
			}
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	want := map[string]bool{}
	for _, f := range c.fronts {
		want[f.bind] = true
		if p.ls[f.bind] != nil {
			continue
		}
		l, err := p.e.Listen(f.bind)
		if err != nil {
			return err
		}
		p.ls[f.bind] = l
		go p.accept(l, f.bind)
	}
	for bind, l := range p.ls {
		if !want[bind] {
			l.Close()
			delete(p.ls, bind)
		}
	}
	old := p.cfg
	p.cfg = c
	for name, b := range c.backends {
		for _, s := range b.servers {
			sctx, cancel := context.WithCancel(ctx)
			s.cancel = cancel
			// What was known to be up is still so.
			if old != nil && old.backends[name] != nil {
				for _, o := range old.backends[name].servers {
					if o.name == s.name && o.addr == s.addr {
						s.up.Store(o.up.Load())
					}
				}
			}
			p.wg.Go(func() { p.check(sctx, b, s) })
		}
	}
	if old != nil {
		for _, b := range old.backends {
			for _, s := range b.servers {
				s.cancel()
			}
		}
	}
	return nil
}

// check asks a server for its health until ctx ends.
func (p *proxy) check(ctx context.Context, b *backend, s *server) {
	addr, scheme := s.addr, "http"
	if b.checkPort != "" {
		h, _, _ := net.SplitHostPort(s.addr)
		addr = net.JoinHostPort(h, b.checkPort)
	}
	// Of a check the connection may take no longer than the time between two of them; the time
	// of checks is that of the answer (HAProxy, timeout check).
	tr := &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network, to string) (net.Conn, error) {
		ctx, cancel := context.WithTimeout(ctx, min(b.connect, b.inter))
		defer cancel()
		return p.e.Dial(ctx, network, to)
	}}
	if b.tls {
		scheme = "https"
		tr.TLSClientConfig = &tls.Config{RootCAs: b.pool, ServerName: b.verifyHost}
	}
	c := &http.Client{Transport: tr, Timeout: b.checkT}
	good, bad := 0, 0
	next := time.NewTimer(0)
	defer next.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-next.C:
		}
		ok := false
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+addr+b.path, nil)
		if err == nil {
			if resp, err := c.Do(req); err == nil {
				resp.Body.Close()
				ok = resp.StatusCode == http.StatusOK
			}
		}
		if ctx.Err() != nil {
			return
		}
		if ok {
			good, bad = good+1, 0
		} else {
			good, bad = 0, bad+1
		}
		if up := s.up.Load(); !up && good >= b.rise || up && bad >= b.fall {
			s.up.Store(!up)
			p.e.Logf("%s/%s is %s", b.name, s.name, map[bool]string{true: "down", false: "up"}[up])
		}
		switch up := s.up.Load(); {
		case up && bad > 0, !up && good > 0:
			next.Reset(b.fast)
		case !up:
			next.Reset(b.down)
		default:
			next.Reset(b.inter)
		}
	}
}

func (p *proxy) accept(l net.Listener, bind string) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go p.forward(c, bind)
	}
}

// chooses says whether a server is chosen for a try, of which the first is 0; otherwise it is
// the same once more.
func (b *backend) chooses(try int) bool {
	switch {
	case try == 0:
		return true
	case b.redispatch < 0:
		return try == b.retries
	}
	return b.redispatch > 0 && try%b.redispatch == 0
}

func (p *proxy) forward(c net.Conn, bind string) {
	p.mu.Lock()
	var b *backend
	for f := range maps.Values(p.cfg.fronts) {
		if f.bind == bind {
			b = p.cfg.backends[f.backend]
		}
	}
	p.mu.Unlock()
	if b == nil {
		c.Close()
		return
	}
	var able []*server
	for _, s := range b.servers {
		if s.up.Load() && s.weight > 0 {
			able = append(able, s)
		}
	}
	var s *server
	for try := 0; try <= b.retries && len(able) > 0; try++ {
		if b.chooses(try) {
			s = able[int(b.next.Add(1))%len(able)]
		}
		ctx, cancel := context.WithTimeout(context.Background(), b.connect)
		to, err := p.e.Dial(ctx, "tcp", s.addr)
		cancel()
		if err == nil {
			unit.Splice(serve.Quiet(c, b.clientT), serve.Quiet(to, b.serverT))
			return
		}
	}
	c.Close()
}
