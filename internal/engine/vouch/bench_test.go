package vouch_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"math/big"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/engine/session"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/engine/vouch"
	"verbund/internal/engine/vouchtest"
	"verbund/internal/store"
)

func requests(c *topology.Cluster) []trust.Request {
	var rs []trust.Request
	for _, m := range c.Machines {
		rs = append(rs, trust.Requests(c, m)...)
	}
	return rs
}

// bare makes as many keys and certificates as there are requests, and nothing
// else: what issuing is compared with.
func bare(rs []trust.Request, cas map[trust.Authority]*vouch.Authority) error {
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, r := range rs {
		g.Go(func() error {
			k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
			if err != nil {
				return err
			}
			t := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now(), NotAfter: time.Now().Add(time.Hour), DNSNames: r.DNS}
			_, err = x509.CreateCertificate(rand.Reader, t, cas[r.Authority].Cert, k.Public(), cas[r.Authority].Key)
			return err
		})
	}
	return g.Wait()
}

// Issuing for 1,000 machines, keys and certificates as files, beside the bare
// work in turns: the computer may be busy with something else meanwhile.
func BenchmarkIssueThousand(b *testing.B) {
	cas, rs := vouchtest.Authorities(b), requests(sessiontest.Cluster(b, 997))
	var issuing, plain time.Duration
	for b.Loop() {
		began := time.Now()
		if err := bare(rs, cas); err != nil {
			b.Fatal(err)
		}
		between := time.Now()
		made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
		if err := vouch.Issue(rs, cas, time.Now(), made); err != nil {
			b.Fatal(err)
		}
		plain, issuing = plain+between.Sub(began), issuing+time.Since(between)
	}
	b.ReportMetric(float64(issuing)/float64(plain), "times-bare")
	b.ReportMetric(float64(len(rs)), "certificates")
}

// Everything for 1,000 machines: topology, certificates, all files; beside the
// bare work with keys and certificates, in turns.
func BenchmarkRenderThousand(b *testing.B) {
	cas := vouchtest.Authorities(b)
	var all, plain time.Duration
	for b.Loop() {
		began := time.Now()
		if err := bare(requests(sessiontest.Cluster(b, 997)), cas); err != nil {
			b.Fatal(err)
		}
		between := time.Now()
		plain += between.Sub(began)
		c := sessiontest.Cluster(b, 997)
		made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
		if err := vouch.Issue(requests(c), cas, time.Now(), made); err != nil {
			b.Fatal(err)
		}
		made.Keys[trust.SecretsKey] = vouch.NewSecretsKey()
		made.Keys[trust.ServiceAccountKey] = made.Keys["tidewatch-control-1/proxy"]
		for _, a := range trust.Authorities {
			made.Certs[string(a)] = trust.EncodeCert(cas[a].Cert)
			k, err := trust.EncodeKey(cas[a].Key)
			if err != nil {
				b.Fatal(err)
			}
			made.Keys[string(a)] = k
		}
		var files atomic.Int64
		if err := session.RenderAll(c, made, func(_ topology.Machine, fs []session.Rendered) error {
			files.Add(int64(len(fs)))
			return nil
		}); err != nil {
			b.Fatal(err)
		}
		all += time.Since(between)
		b.ReportMetric(float64(files.Load()), "files")
	}
	b.ReportMetric(float64(all)/float64(plain), "times-bare")
}
