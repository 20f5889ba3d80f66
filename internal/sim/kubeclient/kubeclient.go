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
	"io"
	"math/big"
	"net/http"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/rest"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"
	"k8s.io/client-go/tools/record"

	"verbund/internal/kubeapi"
	"verbund/internal/sim/host"
	"verbund/internal/sim/serve"
	"verbund/internal/unit"
)

// Current reads the current context of a kubeconfig of the machine.
func Current(h *host.Host, file string) (*clientcmdapi.Cluster, *clientcmdapi.AuthInfo, error) {
	return unit.Current(host.Ours(&host.Env{Host: h}), file)
}

// Config reads a kubeconfig of the machine.
func Config(e *host.Env, file string) (*rest.Config, error) { return unit.Config(host.Ours(e), file) }

// Client is Config with a typed client.
func Client(e *host.Env, file string) (*kubeapi.Clients, error) {
	return unit.Client(host.Ours(e), file)
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

// Recorder writes events in a component's name until ctx ends.
func Recorder(ctx context.Context, e *host.Env, c *kubeapi.Clients, component string) record.EventRecorder {
	b := record.NewBroadcaster(record.WithContext(ctx))
	b.StartRecordingToSink(sink{ctx, c})
	context.AfterFunc(ctx, b.Shutdown)
	return b.NewRecorder(kubeapi.Scheme, corev1.EventSource{Component: component, Host: e.Host.Spec.Name})
}

// sink takes events to the API, each into its own namespace, until ctx ends: what writes them hands
// none in.
type sink struct {
	ctx context.Context
	c   *kubeapi.Clients
}

func (s sink) Create(e *corev1.Event) (*corev1.Event, error) {
	return s.c.CoreV1().Events(e.Namespace).Create(s.ctx, e, metav1.CreateOptions{})
}

func (s sink) Update(e *corev1.Event) (*corev1.Event, error) {
	return s.c.CoreV1().Events(e.Namespace).Update(s.ctx, e, metav1.UpdateOptions{})
}

func (s sink) Patch(e *corev1.Event, data []byte) (*corev1.Event, error) {
	return s.c.CoreV1().Events(e.Namespace).Patch(s.ctx, e.Name, types.StrategicMergePatchType, data, metav1.PatchOptions{})
}
