package apiserver

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/pflag"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"
	"google.golang.org/grpc"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime/schema"
	"k8s.io/apimachinery/pkg/version"
	"k8s.io/utils/lru"

	"verbund/internal/sim/host"
	"verbund/internal/sim/serve"
)

// options are the flags that the server knows; another one is an error.
type options struct {
	advertise, bind                                string
	port                                           int
	reconciler, authorization, admission           string
	privileged, bootstrapTokens                    bool
	clientCA                                       string
	etcdServers                                    []string
	etcdCA, etcdCert, etcdKey                      string
	kubeletCA, kubeletCert, kubeletKey             string
	kubeletAddresses                               string
	proxyCert, proxyKey                            string
	headerNames                                    []string
	headerCA, headerExtra, headerGroup, headerUser string
	issuer                                         string
	saKey, saSigningKey                            string
	services                                       string
	maxToken                                       time.Duration
	extendTokens                                   bool
	encryption                                     string
	runtime                                        map[string]string // --runtime-config
	shutdownDelay                                  time.Duration
	tlsCert, tlsKey                                string
	suites                                         []string
}

func parseFlags(e *host.Env) (*options, error) {
	o := &options{}
	fs := pflag.NewFlagSet("kube-apiserver", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	fs.StringVar(&o.advertise, "advertise-address", "", "")
	fs.StringVar(&o.bind, "bind-address", "0.0.0.0", "")
	fs.IntVar(&o.port, "secure-port", 6443, "")
	fs.StringVar(&o.reconciler, "endpoint-reconciler-type", "lease", "")
	fs.StringVar(&o.authorization, "authorization-mode", "AlwaysAllow", "")
	fs.StringVar(&o.admission, "enable-admission-plugins", "", "")
	fs.BoolVar(&o.privileged, "allow-privileged", false, "")
	fs.BoolVar(&o.bootstrapTokens, "enable-bootstrap-token-auth", false, "")
	fs.StringVar(&o.clientCA, "client-ca-file", "", "")
	fs.StringSliceVar(&o.etcdServers, "etcd-servers", nil, "")
	fs.StringVar(&o.etcdCA, "etcd-cafile", "", "")
	fs.StringVar(&o.etcdCert, "etcd-certfile", "", "")
	fs.StringVar(&o.etcdKey, "etcd-keyfile", "", "")
	fs.StringVar(&o.kubeletCA, "kubelet-certificate-authority", "", "")
	fs.StringVar(&o.kubeletCert, "kubelet-client-certificate", "", "")
	fs.StringVar(&o.kubeletKey, "kubelet-client-key", "", "")
	fs.StringVar(&o.kubeletAddresses, "kubelet-preferred-address-types", "", "")
	fs.StringVar(&o.proxyCert, "proxy-client-cert-file", "", "")
	fs.StringVar(&o.proxyKey, "proxy-client-key-file", "", "")
	fs.StringSliceVar(&o.headerNames, "requestheader-allowed-names", nil, "")
	fs.StringVar(&o.headerCA, "requestheader-client-ca-file", "", "")
	fs.StringVar(&o.headerExtra, "requestheader-extra-headers-prefix", "", "")
	fs.StringVar(&o.headerGroup, "requestheader-group-headers", "", "")
	fs.StringVar(&o.headerUser, "requestheader-username-headers", "", "")
	fs.StringVar(&o.issuer, "service-account-issuer", "", "")
	fs.StringVar(&o.saKey, "service-account-key-file", "", "")
	fs.StringVar(&o.saSigningKey, "service-account-signing-key-file", "", "")
	fs.StringVar(&o.services, "service-cluster-ip-range", "", "")
	fs.DurationVar(&o.maxToken, "service-account-max-token-expiration", 0, "")
	fs.BoolVar(&o.extendTokens, "service-account-extend-token-expiration", true, "")
	fs.StringVar(&o.encryption, "encryption-provider-config", "", "")
	fs.Func("runtime-config", "", func(text string) error {
		o.runtime = map[string]string{}
		for kv := range strings.SplitSeq(text, ",") {
			k, v, _ := strings.Cut(kv, "=")
			o.runtime[strings.TrimSpace(k)] = strings.TrimSpace(v)
		}
		return nil
	})
	fs.DurationVar(&o.shutdownDelay, "shutdown-delay-duration", 0, "")
	fs.StringSliceVar(&o.suites, "tls-cipher-suites", nil, "")
	fs.StringVar(&o.tlsCert, "tls-cert-file", "", "")
	fs.StringVar(&o.tlsKey, "tls-private-key-file", "", "")
	e.KnownFlags(fs)
	if err := fs.Parse(e.Args); err != nil {
		return nil, err
	}
	if fs.NArg() > 0 {
		return nil, fmt.Errorf("unexpected argument %q", fs.Arg(0))
	}
	if a, err := netip.ParseAddr(o.advertise); err == nil && a.IsLoopback() && o.reconciler != "none" {
		return nil, fmt.Errorf("--advertise-address %s: a loopback address cannot be advertised, unless --endpoint-reconciler-type=none", a)
	}
	for f, v := range map[string]string{"client-ca-file": o.clientCA, "etcd-cafile": o.etcdCA, "tls-cert-file": o.tlsCert, "tls-private-key-file": o.tlsKey,
		"service-account-issuer": o.issuer, "service-account-key-file": o.saKey, "service-account-signing-key-file": o.saSigningKey, "service-cluster-ip-range": o.services} {
		if v == "" {
			return nil, fmt.Errorf("--%s is missing", f)
		}
	}
	return o, nil
}

// server is one API server.
type server struct {
	env      *host.Env
	opt      *options
	version  version.Info
	etcd     *clientv3.Client
	tokens   *tokens
	rbac     *rbac
	services netip.Prefix
	ports    nodePorts // that services may have; none: the customary ones
	kubelets *http.Client
	cas      *Trusted // of client certificates
	fronts   *Trusted // of what stands in front and says who asks
	secrets  *encryption
	// known are client certificates that were verified, with what was trusted.
	known      sync.Map
	knownCount atomic.Int64
	kept       *lru.Cache // *stored as it was seen last, by key
	// refusedToken is what was last said of an enrolment token.
	refusedToken atomic.Value
	events       expiry
	feedsMu      sync.Mutex
	feeds        map[schema.GroupResource]*feed
	servedOnce   sync.Once
	servedList   []*resource
	asked        requested
	hooks        hooks
	dial         func(ctx context.Context, network, addr string) (net.Conn, error) // from its machine
	// life ends when the server shuts down; watches end with it.
	life     context.Context
	stopping atomic.Bool
	ready    atomic.Bool
}

// Run is the stand-in. It is long because what starts first is what the next one needs, and
// ends last.
func Run(ctx context.Context, e *host.Env) error {
	o, err := parseFlags(e)
	if err != nil {
		return &host.ExitError{Code: 2, Err: err}
	}
	s := &server{env: e, opt: o, version: Version(e.Version), dial: e.Dial, kept: lru.New(mostKept)}
	if s.services, err = netip.ParsePrefix(o.services); err != nil {
		return &host.ExitError{Code: 2, Err: fmt.Errorf("--service-cluster-ip-range: %w", err)}
	}
	suites, err := serve.Suites(o.suites)
	if err != nil {
		return &host.ExitError{Code: 1, Err: err}
	}
	serving, err := ReadPair(e.Host, o.tlsCert, o.tlsKey)
	if err != nil {
		return err
	}
	if s.cas, err = ReadTrusted(e.Host, o.clientCA); err != nil {
		return err
	}
	if s.fronts, err = ReadTrusted(e.Host, o.headerCA); err != nil {
		return err
	}
	if _, err := ReadPair(e.Host, o.proxyCert, o.proxyKey); err != nil {
		return err
	}
	if s.secrets, err = readEncryption(e.Host, o.encryption); err != nil {
		return err
	}
	if s.tokens, err = loadTokens(e.Host, o); err != nil {
		return err
	}
	if s.kubelets, err = s.kubeletClient(); err != nil {
		return err
	}
	life, end := context.WithCancel(context.WithoutCancel(ctx))
	defer end()
	s.life = life
	if s.etcd, err = s.datastore(life); err != nil {
		return err
	}
	defer s.etcd.Close()
	l, err := e.Listen(net.JoinHostPort(o.bind, fmt.Sprint(o.port)))
	if err != nil {
		return err
	}
	srv := serve.HTTP(s)
	srv.TLSConfig = &tls.Config{GetCertificate: serving.Server, ClientAuth: tls.RequestClientCert, MinVersion: tls.VersionTLS12, CipherSuites: suites, NextProtos: []string{"h2", "http/1.1"}}
	served := make(chan error, 1)
	go func() { served <- srv.ServeTLS(l, "", "") }()
	bctx, stopBoot := context.WithCancel(ctx)
	defer stopBoot()
	booted := make(chan error, 1)
	go func() {
		defer e.Catch()
		booted <- s.bootstrap(bctx)
	}()
	for running := true; running; {
		select {
		case err := <-booted:
			if err != nil && ctx.Err() == nil {
				srv.Close()
				return fmt.Errorf("post-start: %w", err)
			}
			if err == nil {
				s.ready.Store(true)
				e.Logf("serving on %s:%d", o.bind, o.port)
				e.Ready()
			}
			booted = nil
		case err := <-served:
			return err
		case <-ctx.Done():
			running = false
		}
	}
	s.stopping.Store(true)
	if e.Host.Pulled() {
		srv.Close()
		return nil
	}
	// The flag is the real server's own, so its time is not scaled.
	select {
	case <-time.After(o.shutdownDelay):
	case <-served:
	}
	end()
	sctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if srv.Shutdown(sctx) != nil {
		srv.Close()
	}
	return nil
}

// Version is what a component of a version says of itself.
func Version(v string) version.Info {
	var maj, min string
	if n, _ := fmt.Sscanf(v, "v%1s.%2s", &maj, &min); n != 2 {
		maj, min = "0", "0"
	}
	return version.Info{Major: maj, Minor: min, GitVersion: v, GitTreeState: "clean", GoVersion: "stand-in", Compiler: "gc", Platform: "linux/amd64"}
}

func (s *server) datastore(ctx context.Context) (*clientv3.Client, error) {
	cert, err := ReadPair(s.env.Host, s.opt.etcdCert, s.opt.etcdKey)
	if err != nil {
		return nil, err
	}
	pool, err := ReadTrusted(s.env.Host, s.opt.etcdCA)
	if err != nil {
		return nil, err
	}
	return clientv3.New(clientv3.Config{
		Context: ctx, Endpoints: s.opt.etcdServers, Logger: zap.NewNop(), DialKeepAliveTime: 5 * time.Second, DialKeepAliveTimeout: 2 * time.Second,
		TLS: &tls.Config{GetClientCertificate: cert.Client, RootCAs: pool.Pool()},
		DialOptions: []grpc.DialOption{grpc.WithContextDialer(func(ctx context.Context, addr string) (net.Conn, error) {
			return s.env.Dial(ctx, "tcp", addr)
		})},
	})
}

func (s *server) kubeletClient() (*http.Client, error) {
	cert, err := ReadPair(s.env.Host, s.opt.kubeletCert, s.opt.kubeletKey)
	if err != nil {
		return nil, err
	}
	pool, err := ReadTrusted(s.env.Host, s.opt.kubeletCA)
	if err != nil {
		return nil, err
	}
	return &http.Client{Transport: &http.Transport{DialContext: s.env.Dial, TLSClientConfig: &tls.Config{GetClientCertificate: cert.Client, RootCAs: pool.Pool()}, IdleConnTimeout: 10 * time.Second}}, nil
}

func (s *server) healthy(ctx context.Context) error {
	if s.stopping.Load() {
		return errors.New("shutting down")
	}
	if !s.ready.Load() {
		return errors.New("post-start work is not done")
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if _, err := s.etcd.Get(ctx, "/registry/health"); err != nil {
		return fmt.Errorf("etcd: %w", err)
	}
	return nil
}

// ServeHTTP answers every request.
func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch r.URL.Path {
	case "/livez", "/healthz", "/readyz":
		if err := s.healthy(r.Context()); err != nil {
			http.Error(w, "not ready: "+err.Error(), http.StatusServiceUnavailable)
			return
		}
		io.WriteString(w, "ok")
		return
	case "/version":
		writeJSON(w, http.StatusOK, s.version)
		return
	}
	u, err := s.authenticate(r)
	if err != nil {
		fail(w, apierrors.NewUnauthorized(err.Error()))
		return
	}
	if u, err = s.impersonate(r.Context(), u, r.Header); err != nil {
		fail(w, err)
		return
	}
	if r.URL.Path == "/metrics" {
		if !u.in("system:masters") && (s.rbac == nil || !s.rbac.allowsPath(u, "get", r.URL.Path)) {
			fail(w, apierrors.NewForbidden(metav1ResourceNone, "", fmt.Errorf("user %q cannot get path %q", u.name, r.URL.Path)))
			return
		}
		s.metrics(w)
		return
	}
	q, err := parseRequest(r)
	if err != nil {
		fail(w, err)
		return
	}
	if q.resource == nil {
		if u.name == anonymous {
			fail(w, apierrors.NewForbidden(metav1ResourceNone, "", fmt.Errorf("anonymous requests see only health and version")))
			return
		}
		s.discover(w, r)
		return
	}
	if err := s.authorize(r.Context(), u, q); err != nil {
		fail(w, err)
		return
	}
	s.serve(w, r, u, q)
}

func writeJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

// fail answers with a Status, as the API demands.
func fail(w http.ResponseWriter, err error) {
	var se apierrors.APIStatus
	if !errors.As(err, &se) {
		if errors.Is(err, context.DeadlineExceeded) {
			se = apierrors.NewTimeoutError(err.Error(), 1)
		} else {
			se = apierrors.NewInternalError(err)
		}
	}
	st := se.Status()
	st.TypeMeta = metav1.TypeMeta{Kind: "Status", APIVersion: "v1"}
	if d := st.Details; d != nil && d.RetryAfterSeconds > 0 {
		w.Header().Set("Retry-After", fmt.Sprint(d.RetryAfterSeconds))
	}
	writeJSON(w, int(st.Code), st)
}
