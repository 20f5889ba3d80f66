package engine

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"math/big"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"filippo.io/age"
	"golang.org/x/sync/errgroup"

	"verbund/internal/backup"
	"verbund/internal/core/coretest"
	"verbund/internal/core/declare"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
	"verbund/internal/store"
)

func session(t testing.TB) *Session {
	t.Helper()
	s, err := store.Open(t.TempDir(), "tidewatch", &store.Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	return &Session{Cat: versions.Shipped(), Store: s, Parallel: 4}
}

func cluster(t testing.TB, workers int) *topology.Cluster {
	t.Helper()
	c, err := coretest.Cluster("v1.37.2", 3, workers, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Trust is made once, completed when the cluster grows, and renewed where a
// name is missing; nothing else is made anew.
func TestEnsureTrust(t *testing.T) {
	s := session(t)
	c := cluster(t, 1)
	if err := s.EnsureTrust(c, time.Now()); err != nil {
		t.Fatal(err)
	}
	first, err := s.Trust()
	if err != nil {
		t.Fatal(err)
	}
	grown := cluster(t, 2)
	if err := s.EnsureTrust(grown, time.Now()); err != nil {
		t.Fatal(err)
	}
	second, err := s.Trust()
	if err != nil {
		t.Fatal(err)
	}
	// Two for the new worker.
	if len(second.Certs) != len(first.Certs)+2 {
		t.Errorf("%d certificates, then %d", len(first.Certs), len(second.Certs))
	}
	for id, cert := range first.Certs {
		// The balancer moved by one address: its name is what is verified, and no
		// certificate has to know.
		if string(second.Certs[id]) != string(cert) {
			t.Errorf("%s was made anew", id)
		}
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(second.Certs[string(trust.Cluster)])
	cert, err := trust.DecodeCert(second.Certs["tidewatch-control-1/api-server"])
	if err != nil {
		t.Fatal(err)
	}
	if _, err := cert.Verify(x509.VerifyOptions{Roots: pool, DNSName: "api.tidewatch.test"}); err != nil {
		t.Error(err)
	}
	for id := range second.Certs {
		k, err := trust.DecodeKey(second.Keys[id])
		if err != nil {
			t.Fatalf("%s: %v", id, err)
		}
		cert, err := trust.DecodeCert(second.Certs[id])
		if err != nil || !cert.PublicKey.(*ecdsa.PublicKey).Equal(k.Public()) {
			t.Errorf("%s: key and certificate do not belong together: %v", id, err)
		}
	}
}

func TestBackupsOpenAgain(t *testing.T) {
	st, err := store.Open(t.TempDir(), "tidewatch", &store.Keys{Dir: t.TempDir()})
	if err != nil {
		t.Fatal(err)
	}
	dir := st.BackupDir()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	// One from before lay there in plain: it is taken over, and closed.
	plain, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, IdentityFile), []byte(plain.String()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	id, err := backupIdentity(st)
	if err != nil || id.String() != plain.String() {
		t.Fatalf("the identity from before was not taken over: %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, IdentityFile)); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the identity still lies there in plain: %v", err)
	}
	again, err := backupIdentity(st)
	if err != nil || again.String() != id.String() {
		t.Errorf("the identity came back as another: %v", err)
	}
}

// put writes a backup under a name that says nothing.
func put(t *testing.T, s *Session, name, cluster, version string, taken time.Time) {
	t.Helper()
	if err := os.MkdirAll(s.Store.BackupDir(), 0o700); err != nil {
		t.Fatal(err)
	}
	id, err := backupIdentity(s.Store)
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.Create(filepath.Join(s.Store.BackupDir(), name))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := backup.Write(f, id.Recipient(), backup.Manifest{Cluster: cluster, Taken: taken, Kubernetes: version}, nil, strings.NewReader("")); err != nil {
		t.Fatal(err)
	}
}

// A backup counts by what stands in it: of this cluster, since it was founded, and
// not long ago.
func TestRecentBackup(t *testing.T) {
	s := session(t)
	s.Decl = &declare.Declaration{Name: "tidewatch"}
	taken := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	at := taken.Add(5 * time.Minute)
	if err := os.MkdirAll(s.Store.BackupDir(), 0o700); err != nil {
		t.Fatal(err)
	}
	// Files that are called like backups and are none, and one of another cluster.
	for _, name := range []string{"20261123-080100-v1.37.2.backup.age", "20261123-080100-v1.37.2.backup.age.part"} {
		if err := os.WriteFile(filepath.Join(s.Store.BackupDir(), name), []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put(t, s, "20261123-080200-v1.37.1.backup.age", "lampwright", "v1.37.1", taken.Add(time.Minute))
	if v := s.recentBackup(taken.Add(-time.Hour), at); v != "" {
		t.Errorf("before there was one: %q", v)
	}
	if b, n := s.newestBackup(); b != nil || n != 2 {
		t.Errorf("found %+v, and %d that are none of this cluster", b, n)
	}
	put(t, s, "x.backup.age", s.Decl.Name, "v1.36.3", taken)
	put(t, s, "y.backup.age", s.Decl.Name, "v1.35.4", taken.Add(-time.Minute))
	for _, x := range []struct {
		founded, now time.Time
		want         string
	}{
		{taken.Add(-time.Hour), at, "v1.36.3"},
		{taken.Add(-time.Hour), taken.Add(time.Hour), ""},
		{taken.Add(time.Minute), at, ""},
		{taken.Add(-time.Hour), taken.Add(-time.Minute), ""}, // a clock that was wrong
	} {
		if v := s.recentBackup(x.founded, x.now); v != x.want {
			t.Errorf("founded %s, now %s: %q, wanted %q", x.founded, x.now, v, x.want)
		}
	}
}

// A wait ends with its condition, or says what it waited for.
func TestUntil(t *testing.T) {
	n := 0
	if err := until(context.Background(), "three", func(context.Context) (string, error) {
		if n++; n < 3 {
			return "not yet", nil
		}
		return "", nil
	}); err != nil || n != 3 {
		t.Errorf("%v after %d", err, n)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 60*time.Millisecond)
	defer cancel()
	err := until(ctx, "the moon", func(context.Context) (string, error) { return "", errors.New("clouds") })
	if err == nil || !strings.Contains(err.Error(), "the moon: clouds") {
		t.Errorf("error is %v", err)
	}
}

// authorities for the benchmarks.
func authorities(b testing.TB) map[trust.Authority]*Authority {
	b.Helper()
	cas := map[trust.Authority]*Authority{}
	for _, a := range trust.Authorities {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			b.Fatal(err)
		}
		c, err := trust.NewAuthority(a, "tidewatch", 3650*24*time.Hour, k, time.Now(), Serial())
		if err != nil {
			b.Fatal(err)
		}
		cas[a] = &Authority{c, k}
	}
	return cas
}

func requests(c *topology.Cluster) []trust.Request {
	var rs []trust.Request
	for _, m := range c.Machines {
		rs = append(rs, trust.Requests(c, m)...)
	}
	return rs
}

// bare makes as many keys and certificates as there are requests, and nothing
// else: what issuing is compared with.
func bare(rs []trust.Request, cas map[trust.Authority]*Authority) error {
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
	cas, rs := authorities(b), requests(cluster(b, 997))
	var issuing, plain time.Duration
	for b.Loop() {
		began := time.Now()
		if err := bare(rs, cas); err != nil {
			b.Fatal(err)
		}
		between := time.Now()
		made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
		if err := Issue(rs, cas, time.Now(), made); err != nil {
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
	cas := authorities(b)
	var all, plain time.Duration
	for b.Loop() {
		began := time.Now()
		if err := bare(requests(cluster(b, 997)), cas); err != nil {
			b.Fatal(err)
		}
		between := time.Now()
		plain += between.Sub(began)
		c := cluster(b, 997)
		made := &store.Trust{Keys: map[string]store.Secret{}, Certs: map[string][]byte{}}
		if err := Issue(requests(c), cas, time.Now(), made); err != nil {
			b.Fatal(err)
		}
		made.Keys[trust.SecretsKey] = newSecretsKey()
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
		if err := RenderAll(c, made, func(_ topology.Machine, fs []Rendered) error {
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

// A machine that was there once, and is to be got anew, gets pairs that nobody had.
func TestForgetLost(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 1, 2, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	s := session(t)
	s.Decl = &declare.Declaration{Name: "tidewatch"}
	if err := s.EnsureTrust(c, time.Now()); err != nil {
		t.Fatal(err)
	}
	before, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	known := map[string]store.Machine{"tidewatch-control-1": {Hardware: "1"}, "tidewatch-gauges-1": {Hardware: "2"}, "tidewatch-gauges-2": {}}
	there := map[string]plan.MachineSeen{"tidewatch-control-1": {Exists: true}}
	r := &Run{Session: s, Cluster: c, View: &View{Seen: plan.Observed{Machines: there}}}
	if err := r.forgetLost(known); err != nil {
		t.Fatal(err)
	}
	if err := s.EnsureTrust(c, time.Now()); err != nil {
		t.Fatal(err)
	}
	after, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for id, k := range before.Keys {
		m, _, of := strings.Cut(id, "/")
		lost := of && m == "tidewatch-gauges-1"
		if n += map[bool]int{true: 1}[lost]; (string(k) != string(after.Keys[id])) != lost {
			t.Errorf("the key %s is another one: %v, wanted %v", id, !lost, lost)
		}
	}
	if asked, err := s.Store.Asked(); n == 0 || err != nil || len(asked) > 0 {
		t.Errorf("%d pairs of the lost machine; asked for are still %v, %v", n, asked, err)
	}
	// What is given back leaves nothing behind, nor what it had before.
	if err := s.Store.SaveTrust(&store.Trust{Keys: map[string]store.Secret{was("tidewatch-gauges-1/proxy"): store.Secret("x")}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Store.ForgetMachine("tidewatch-gauges-1"); err != nil {
		t.Fatal(err)
	}
	left, err := s.Store.Trust()
	if err != nil {
		t.Fatal(err)
	}
	for id := range left.Keys {
		if strings.Contains(id, "tidewatch-gauges-1/") {
			t.Errorf("%s is left of a machine that was given back", id)
		}
	}
}
