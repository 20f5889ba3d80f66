// Package kubeclient gives stand-ins a client of the API, from the kubeconfig
// and the certificate files on their machine's disk.
//
// Informers end with the context of whoever started them, and nobody waits for
// that: one whose API is gone sleeps for up to a minute before it looks, and a
// machine that is switched off is off at once.
package kubeclient

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"os"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/kubernetes/scheme"
	typedcorev1 "k8s.io/client-go/kubernetes/typed/core/v1"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"
	"k8s.io/client-go/tools/leaderelection"
	"k8s.io/client-go/tools/leaderelection/resourcelock"
	"k8s.io/client-go/tools/record"

	"verbund/internal/sim/host"
	"verbund/internal/sim/serve"
)

// Current reads the current context of a kubeconfig of the machine.
func Current(h *host.Host, file string) (*clientcmdapi.Cluster, *clientcmdapi.AuthInfo, error) {
	b, err := h.ReadFile(file)
	if err != nil {
		return nil, nil, err
	}
	kc, err := clientcmd.Load(b)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	c := kc.Contexts[kc.CurrentContext]
	if c == nil || kc.Clusters[c.Cluster] == nil || kc.AuthInfos[c.AuthInfo] == nil {
		return nil, nil, fmt.Errorf("%s: its current context %q is incomplete", file, kc.CurrentContext)
	}
	return kc.Clusters[c.Cluster], kc.AuthInfos[c.AuthInfo], nil
}

// Config reads a kubeconfig of the machine.
func Config(e *host.Env, file string) (*rest.Config, error) {
	h := e.Host
	cl, u, err := Current(h, file)
	if err != nil {
		return nil, err
	}
	cfg := &rest.Config{Host: cl.Server, Dial: e.Dial, QPS: -1, Timeout: 0}
	if cfg.CAData, err = h.ReadFile(cl.CertificateAuthority); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if u.Token != "" {
		cfg.BearerToken = u.Token
		return cfg, nil
	}
	cert, err := h.ReadFile(u.ClientCertificate)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	key, err := h.ReadFile(u.ClientKey)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	p, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	// The client reads the pair again when the files have changed, so that a
	// renewed certificate needs no restart.
	cfg.CertFile, cfg.KeyFile = h.Path(u.ClientCertificate), h.Path(u.ClientKey)
	if time.Now().After(p.Leaf.NotAfter) {
		return nil, fmt.Errorf("%s: the client certificate ended on %s", file, p.Leaf.NotAfter.Format(time.RFC3339))
	}
	return cfg, nil
}

// Client is Config with a typed client.
func Client(e *host.Env, file string) (*kubernetes.Clientset, error) {
	cfg, err := Config(e, file)
	if err != nil {
		return nil, err
	}
	return kubernetes.NewForConfig(cfg)
}

// Healthz serves /healthz until ctx ends: over TLS, with a certificate of its own making
// as components do that were given none, and with those cipher suites, when secure.
func Healthz(ctx context.Context, e *host.Env, addr string, secure bool, suites []uint16, check func() error) error {
	l, err := e.Listen(addr)
	if err != nil {
		return err
	}
	srv := serve.HTTP(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := check(); err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
			return
		}
		io.WriteString(w, "ok")
	}))
	context.AfterFunc(ctx, func() { srv.Close() })
	if secure {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return err
		}
		t := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), NotBefore: time.Now().Add(-time.Minute), NotAfter: time.Now().Add(24 * time.Hour * 365)}
		der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
		if err != nil {
			return err
		}
		srv.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, CipherSuites: suites, Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
		go srv.ServeTLS(l, "", "")
		return nil
	}
	go srv.Serve(l)
	return nil
}

// Lead runs work while this machine holds the lease, again and again until ctx
// ends. A leader that stops in order gives the lease back.
func Lead(ctx context.Context, e *host.Env, c *kubernetes.Clientset, name string, lease, renew, retry time.Duration, work func(context.Context)) error {
	id := fmt.Sprintf("%s_%d_%s", e.Host.Spec.Name, os.Getpid(), e.Host.BootID)
	lock := &resourcelock.LeaseLock{LeaseMeta: metav1.ObjectMeta{Namespace: "kube-system", Name: name}, Client: c.CoordinationV1(), LockConfig: resourcelock.ResourceLockConfig{Identity: id}}
	for ctx.Err() == nil {
		done := make(chan struct{})
		started := false
		le, err := leaderelection.NewLeaderElector(leaderelection.LeaderElectionConfig{Lock: lock, LeaseDuration: lease, RenewDeadline: renew, RetryPeriod: retry, ReleaseOnCancel: true, Name: name,
			Callbacks: leaderelection.LeaderCallbacks{
				OnStartedLeading: func(ctx context.Context) {
					started = true
					defer close(done)
					defer e.Catch()
					e.Logf("leading")
					work(ctx)
				},
				OnStoppedLeading: func() {},
			}})
		if err != nil {
			return &host.ExitError{Code: 2, Err: err}
		}
		le.Run(ctx)
		if started {
			<-done
		}
		if ctx.Err() == nil {
			return errors.New("leader election lost")
		}
	}
	return nil
}

// Recorder writes events in a component's name until ctx ends.
func Recorder(ctx context.Context, e *host.Env, c kubernetes.Interface, component string) record.EventRecorder {
	b := record.NewBroadcaster(record.WithContext(ctx))
	b.StartRecordingToSink(&typedcorev1.EventSinkImpl{Interface: c.CoreV1().Events("")})
	context.AfterFunc(ctx, b.Shutdown)
	return b.NewRecorder(scheme.Scheme, corev1.EventSource{Component: component, Host: e.Host.Spec.Name})
}
