package unit

import (
	"context"
	"crypto/tls"
	"fmt"
	"sync"
	"time"

	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes"
	"k8s.io/client-go/rest"
	"k8s.io/client-go/tools/clientcmd"
	clientcmdapi "k8s.io/client-go/tools/clientcmd/api"
	"k8s.io/client-go/tools/leaderelection"
	"k8s.io/client-go/tools/leaderelection/resourcelock"
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
func Client(m Machine, file string) (*kubernetes.Clientset, error) {
	cfg, err := Config(m, file)
	if err != nil {
		return nil, err
	}
	return kubernetes.NewForConfig(cfg)
}

// Term is how a lease on leading is kept.
type Term struct{ Lease, Renew, Retry time.Duration }

// Lead runs work while the holder has the lease of a name, again and again until ctx ends: who
// loses it, since nobody answered for as long as it may last, is a candidate again. A leader
// that stops in order gives the lease back.
func Lead(ctx context.Context, m Machine, c kubernetes.Interface, name, holder string, t Term, work func(context.Context)) error {
	for ctx.Err() == nil {
		if err := LeadOnce(ctx, m, c, name, holder, t, work); err != nil {
			return err
		}
		if ctx.Err() == nil {
			m.Logf("the lease %s is lost; another may lead, and this one stands again", name)
		}
	}
	return nil
}

// LeadOnce is like Lead, and returns when the lease is lost, after the work has ended.
func LeadOnce(ctx context.Context, m Machine, c kubernetes.Interface, name, holder string, t Term, work func(context.Context)) error {
	lock := &resourcelock.LeaseLock{LeaseMeta: metav1.ObjectMeta{Namespace: "kube-system", Name: name}, Client: c.CoordinationV1(), LockConfig: resourcelock.ResourceLockConfig{Identity: holder}}
	// Whoever comes too late to begin does not begin: the elector starts it beside itself.
	var turn sync.Mutex
	done, begun, over := make(chan struct{}), false, false
	le, err := leaderelection.NewLeaderElector(leaderelection.LeaderElectionConfig{Lock: lock, LeaseDuration: t.Lease, RenewDeadline: t.Renew, RetryPeriod: t.Retry, ReleaseOnCancel: true, Name: name,
		Callbacks: leaderelection.LeaderCallbacks{
			OnStartedLeading: func(ctx context.Context) {
				defer close(done)
				turn.Lock()
				begun = !over
				turn.Unlock()
				if begun {
					m.Logf("leading")
					work(ctx)
				}
			},
			OnStoppedLeading: func() {},
		}})
	if err != nil {
		return Usage(err)
	}
	le.Run(ctx)
	turn.Lock()
	over = true
	wait := begun
	turn.Unlock()
	if wait {
		<-done
	}
	return nil
}
