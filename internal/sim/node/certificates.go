package node

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	certv1 "k8s.io/api/certificates/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"
	"k8s.io/client-go/util/connrotation"

	"verbund/internal/core/trust"
	"verbund/internal/kubeapi"
	"verbund/internal/sim/apiserver"
	"verbund/internal/sim/host"
	"verbund/internal/sim/kubeclient"
)

// certificates are a kubelet's own: it asks for them, keeps them, and asks for
// the next ones before they end.
type certificates struct {
	k   *kubelet
	dir string
	ca  *apiserver.Trusted

	mu      sync.Mutex
	client  *tls.Certificate
	serving *tls.Certificate
	issued  bool                 // the client's is still the one that the tool issued
	conns   *connrotation.Dialer // closed when the client's certificate changes
}

// identify finds out as whom the kubelet talks to the API: with its own
// certificate, with the one in its kubeconfig, or, when it has neither, with
// the one that it asks for with its enrolment token.
func (c *certificates) identify(ctx context.Context, kubeconfig, enrolment string) (*kubeapi.Clients, error) {
	e := c.k.e
	c.conns = connrotation.NewDialer(e.Dial)
	if own, err := c.load(c.file(trust.KubeletClientFile)); err == nil && c.k.cfg.RotateCertificates {
		c.client = own
	}
	if _, err := e.Host.ReadFile(kubeconfig); c.client == nil && err != nil && enrolment != "" {
		if err := c.enrol(ctx, enrolment, kubeconfig); err != nil {
			return nil, err
		}
	}
	cluster, own, err := kubeclient.Current(e.Host, kubeconfig)
	if err != nil {
		return nil, err
	}
	if c.client == nil {
		pair, err := apiserver.ReadPair(e.Host, own.ClientCertificate, own.ClientKey)
		if err != nil {
			return nil, err
		}
		if c.client, err = pair.Client(nil); err != nil {
			return nil, err
		}
		c.issued = true
	}
	if c.ca, err = apiserver.ReadTrusted(e.Host, cluster.CertificateAuthority); err != nil {
		return nil, err
	}
	t := &http.Transport{DialContext: c.conns.DialContext, ForceAttemptHTTP2: true, TLSClientConfig: &tls.Config{RootCAs: c.ca.Pool(), GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) {
		c.mu.Lock()
		defer c.mu.Unlock()
		return c.client, nil
	}}}
	return kubeapi.NewForConfig(&rest.Config{Host: cluster.Server, Transport: t, QPS: -1})
}

// file is where one of the kubelet's own files lies.
func (c *certificates) file(usual string) string { return path.Join(c.dir, path.Base(usual)) }

// load reads one of the kubelet's own files; one that has ended is none.
func (c *certificates) load(file string) (*tls.Certificate, error) {
	b, err := c.k.e.Host.ReadFile(file)
	if err != nil {
		return nil, err
	}
	p, err := tls.X509KeyPair(b, b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if time.Now().After(p.Leaf.NotAfter) {
		return nil, fmt.Errorf("%s ended on %s", file, p.Leaf.NotAfter.Format(time.RFC3339))
	}
	return &p, nil
}

// key is a new key, or the one of a request that was not answered yet: it lies
// on the disk, so that the machine can show that it is its own.
func (c *certificates) key(file string) (*ecdsa.PrivateKey, error) {
	if b, err := c.k.e.Host.ReadFile(file); err == nil {
		if k, err := trust.DecodeKey(b); err == nil {
			if ek, ok := k.(*ecdsa.PrivateKey); ok {
				return ek, nil
			}
		}
	}
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	b, err := sec1(k)
	if err != nil {
		return nil, err
	}
	return k, c.k.e.Host.WriteFile(file, b, 0o600)
}

// keyBeside is where the key of an unanswered request lies.
func (c *certificates) keyBeside(file string) string {
	if !c.k.cfg.RotateCertificates {
		return path.Join(c.dir, "kubelet-client.key.tmp")
	}
	return file + ".next-key"
}

// ask has a certificate signed, and writes it with its key to a file. It waits
// for as long as it takes somebody to approve.
func (c *certificates) ask(ctx context.Context, api *kubeapi.Clients, signer, file string) (*tls.Certificate, error) {
	k, h := c.k, c.k.e.Host
	key, err := c.key(c.keyBeside(file))
	if err != nil {
		return nil, err
	}
	t := &x509.CertificateRequest{Subject: pkix.Name{CommonName: "system:node:" + k.name, Organization: []string{"system:nodes"}}}
	usage := certv1.UsageClientAuth
	if signer == trust.KubeletServingSigner {
		usage = certv1.UsageServerAuth
		t.DNSNames, t.IPAddresses = []string{k.name}, []net.IP{k.ip.AsSlice()}
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, t, key)
	if err != nil {
		return nil, err
	}
	csrs := api.CertificatesV1().CertificateSigningRequests()
	csr, err := csrs.Create(ctx, &certv1.CertificateSigningRequest{ObjectMeta: metav1.ObjectMeta{GenerateName: "csr-"}, Spec: certv1.CertificateSigningRequestSpec{
		Request: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}), SignerName: signer, Usages: []certv1.KeyUsage{certv1.UsageDigitalSignature, usage}}}, metav1.CreateOptions{})
	if err != nil {
		return nil, fmt.Errorf("asking %s to sign: %w", signer, err)
	}
	k.e.Logf("asked for a certificate: %s, signer %s", csr.Name, signer)
	for wait := 100 * time.Millisecond; len(csr.Status.Certificate) == 0; wait = min(wait*3/2, 2*time.Second) {
		for _, cond := range csr.Status.Conditions {
			if cond.Type == certv1.CertificateDenied || cond.Type == certv1.CertificateFailed {
				os.Remove(h.Path(c.keyBeside(file)))
				return nil, fmt.Errorf("request %s: %s: %s", csr.Name, cond.Type, cond.Message)
			}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(wait):
		}
		if csr, err = csrs.Get(ctx, csr.Name, metav1.GetOptions{}); err != nil {
			return nil, fmt.Errorf("request: %w", err)
		}
	}
	kb, err := sec1(key)
	if err != nil {
		return nil, err
	}
	both := slices.Concat(csr.Status.Certificate, kb)
	pair, err := tls.X509KeyPair(both, both)
	if err != nil {
		return nil, fmt.Errorf("request %s: what was signed does not fit the key: %w", csr.Name, err)
	}
	if err := c.put(file, both); err != nil {
		return nil, err
	}
	os.Remove(h.Path(c.keyBeside(file)))
	return &pair, nil
}

// enrol asks for the first certificate with the enrolment token, again and
// again, and writes the kubeconfig that goes with it.
func (c *certificates) enrol(ctx context.Context, enrolment, kubeconfig string) error {
	e := c.k.e
	for {
		cfg, err := kubeclient.Config(e, enrolment)
		var api *kubeapi.Clients
		if err == nil {
			api, err = kubeapi.NewForConfig(cfg)
		}
		if err == nil {
			c.client, err = c.ask(ctx, api, trust.KubeletClientSigner, c.file(trust.KubeletClientFile))
		}
		if err == nil {
			break
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		e.Logf("enrolling: %v, trying again", err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
	b, err := e.Host.ReadFile(enrolment)
	if err != nil {
		return err
	}
	kc, err := clientcmd.Load(b)
	if err != nil {
		return err
	}
	for _, in := range kc.Contexts {
		in.AuthInfo = "own"
	}
	kc.AuthInfos = map[string]*clientcmdapi.AuthInfo{"own": {ClientCertificate: c.file(trust.KubeletClientFile), ClientKey: c.file(trust.KubeletClientFile)}}
	if b, err = clientcmd.Write(*kc); err != nil {
		return err
	}
	e.Logf("enrolled as %s", c.k.name)
	return e.Host.WriteFile(kubeconfig, b, 0o600)
}

// due is when a certificate is to be renewed: at 70 to 90 percent of its life,
// so that not all nodes ask at once.
func due(cert *tls.Certificate) time.Time {
	life := cert.Leaf.NotAfter.Sub(cert.Leaf.NotBefore)
	n, err := rand.Int(rand.Reader, big.NewInt(int64(life)/5+1))
	if err != nil {
		n = big.NewInt(0)
	}
	return cert.Leaf.NotBefore.Add(life*7/10 + time.Duration(n.Int64()))
}

// keep renews one certificate for ever. take gets each new one.
func (c *certificates) keep(ctx context.Context, signer, file string, have *tls.Certificate, take func(*tls.Certificate)) {
	for ctx.Err() == nil {
		if have != nil {
			t := time.NewTimer(time.Until(due(have)))
			select {
			case <-ctx.Done():
				t.Stop()
				return
			case <-t.C:
			}
		}
		next, err := c.ask(ctx, c.k.c, signer, file)
		if err != nil {
			if ctx.Err() == nil {
				c.k.e.Logf("renewing: %v, trying again", err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(500 * time.Millisecond):
			}
			continue
		}
		have = next
		take(next)
	}
}

// run keeps the kubelet's certificates until ctx ends.
func (c *certificates) run(ctx context.Context) {
	c.mu.Lock()
	client := c.client
	c.mu.Unlock()
	c.k.wg.Go(func() {
		defer c.k.e.Catch()
		c.keep(ctx, trust.KubeletClientSigner, c.file(trust.KubeletClientFile), client, func(p *tls.Certificate) {
			c.mu.Lock()
			c.client = p
			c.mu.Unlock()
			// What is open was begun with the old one.
			c.conns.CloseAll()
			c.k.e.Logf("client certificate renewed, until %s", p.Leaf.NotAfter.Format(time.RFC3339))
		})
	})
	if !c.k.cfg.ServerTLSBootstrap {
		return
	}
	serving, err := c.load(c.file(trust.KubeletServerFile))
	if err == nil && c.mine(serving.Leaf) {
		c.mu.Lock()
		c.serving = serving
		c.mu.Unlock()
	} else {
		serving = nil
	}
	c.k.wg.Go(func() {
		defer c.k.e.Catch()
		c.keep(ctx, trust.KubeletServingSigner, c.file(trust.KubeletServerFile), serving, func(p *tls.Certificate) {
			c.mu.Lock()
			c.serving = p
			c.mu.Unlock()
			c.k.e.Logf("serving certificate renewed, until %s", p.Leaf.NotAfter.Format(time.RFC3339))
		})
	})
}

// mine says whether a serving certificate names the machine's address.
func (c *certificates) mine(cert *x509.Certificate) bool {
	return slices.ContainsFunc(cert.IPAddresses, func(ip net.IP) bool {
		a, _ := netip.AddrFromSlice(ip)
		return a.Unmap() == c.k.ip
	})
}

// server gives the kubelet's serving certificate to who connects.
func (c *certificates) server(h *host.Host, cfg tlsFiles) (func(*tls.ClientHelloInfo) (*tls.Certificate, error), error) {
	if cfg.cert != "" {
		p, err := apiserver.ReadPair(h, cfg.cert, cfg.key)
		if err != nil {
			return nil, err
		}
		return p.Server, nil
	}
	return func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.serving == nil {
			return nil, errors.New("the kubelet has no serving certificate yet: its request waits for approval")
		}
		return c.serving, nil
	}, nil
}

type tlsFiles struct{ cert, key string }

// put writes a pair under its date, as kubelets do, and has the link lead to it by which it is
// used. Those from before stay.
func (c *certificates) put(file string, pair []byte) error {
	h := c.k.e.Host
	dated := strings.TrimSuffix(file, "current.pem") + time.Now().UTC().Format("2006-01-02-15-04-05") + ".pem"
	if err := h.WriteFile(dated, pair, 0o600); err != nil {
		return err
	}
	link := h.Path(file)
	os.Remove(link + ".new")
	if err := os.Symlink(path.Base(dated), link+".new"); err != nil {
		return err
	}
	return os.Rename(link+".new", link)
}

// sec1 writes a key as kubelets do (RFC 5915).
func sec1(k *ecdsa.PrivateKey) ([]byte, error) {
	b, err := x509.MarshalECPrivateKey(k)
	return pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: b}), err
}
