package unit

import (
	"crypto/tls"
	"fmt"
	"time"

	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"

	"verbund/internal/kubeapi"
)

// Current reads the current context of a kubeconfig of the machine.
func Current(m Machine, file string) (*clientcmdapi.Cluster, *clientcmdapi.AuthInfo, error) {
	b, err := m.ReadFile(file)
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
func Config(m Machine, file string) (*rest.Config, error) {
	cl, u, err := Current(m, file)
	if err != nil {
		return nil, err
	}
	cfg := &rest.Config{Host: cl.Server, Dial: m.Dial, QPS: -1, Timeout: 0}
	if cfg.CAData, err = m.ReadFile(cl.CertificateAuthority); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	if u.Token != "" {
		cfg.BearerToken = u.Token
		return cfg, nil
	}
	cert, err := m.ReadFile(u.ClientCertificate)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	key, err := m.ReadFile(u.ClientKey)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	p, err := tls.X509KeyPair(cert, key)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	// The client reads the pair again when the files have changed, so that a
	// renewed certificate needs no restart.
	cfg.CertFile, cfg.KeyFile = m.Path(u.ClientCertificate), m.Path(u.ClientKey)
	if time.Now().After(p.Leaf.NotAfter) {
		return nil, fmt.Errorf("%s: the client certificate ended on %s", file, p.Leaf.NotAfter.Format(time.RFC3339))
	}
	return cfg, nil
}

// Client is Config with a typed client.
func Client(m Machine, file string) (*kubeapi.Clients, error) {
	cfg, err := Config(m, file)
	if err != nil {
		return nil, err
	}
	return kubeapi.NewForConfig(cfg)
}
