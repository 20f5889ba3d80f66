package trust_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"math/big"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func key(t *testing.T) *ecdsa.PrivateKey {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

func authorities(t *testing.T) map[trust.Authority]authority {
	t.Helper()
	out := map[trust.Authority]authority{}
	for i, a := range trust.Authorities {
		k := key(t)
		c, err := trust.NewAuthority(a, "tidewatch", 3650*24*time.Hour, k, now, big.NewInt(int64(i+1)))
		if err != nil {
			t.Fatal(err)
		}
		out[a] = authority{c, k}
	}
	return out
}

func cluster(t *testing.T) *topology.Cluster {
	t.Helper()
	c, err := coretest.Cluster("v1.37.2", 3, 1, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// The certificate table: every certificate, its authority, usage and names.
func TestTable(t *testing.T) {
	c, cas := cluster(t), authorities(t)
	control := c.Of(versions.Control)[1]
	type row struct {
		authority      trust.Authority
		subject        string
		server, client bool
		names          string
	}
	own := control.Name
	want := map[string]row{
		"api-server":           {trust.Cluster, "verbund:api-server", true, false, own + " kubernetes kubernetes.default kubernetes.default.svc kubernetes.default.svc.tidewatch.test localhost api.tidewatch.test 127.80.0.11 10.112.0.1 127.0.0.1"},
		"api-server-kubelet":   {trust.Cluster, "verbund:api-server-to-kubelet", false, true, ""},
		"api-server-datastore": {trust.Datastore, "verbund:api-server-to-datastore", false, true, "client.datastore.tidewatch"},
		"front-proxy":          {trust.FrontProxy, "verbund:front-proxy", false, true, ""},
		"datastore-member":     {trust.Datastore, own, true, true, own + " localhost client.datastore.tidewatch 127.80.0.11 127.0.0.1"},
		"datastore-peer":       {trust.Datastore, own, true, true, own + " localhost peer.datastore.tidewatch 127.80.0.11 127.0.0.1"},
		"controller-manager":   {trust.Cluster, "system:kube-controller-manager", false, true, ""},
		"scheduler":            {trust.Cluster, "system:kube-scheduler", false, true, ""},
		"proxy":                {trust.Cluster, "system:kube-proxy", false, true, ""},
		"kubelet-client":       {trust.Cluster, "system:node:" + own + " system:nodes", false, true, ""},
		"request-approver":     {trust.Cluster, "verbund:request-approver", false, true, ""},
	}
	rs := trust.Requests(c, control)
	if len(rs) != len(want) {
		t.Errorf("%d certificates, wanted %d", len(rs), len(want))
	}
	for _, r := range rs {
		w, ok := want[r.Name]
		if !ok {
			t.Errorf("%s is not in the table", r.Name)
			continue
		}
		ca := cas[r.Authority]
		cert, err := trust.Sign(r, key(t).Public(), ca.cert, ca.key, now, big.NewInt(77))
		if err != nil {
			t.Fatal(err)
		}
		subject := strings.TrimSpace(cert.Subject.CommonName + " " + strings.Join(cert.Subject.Organization, " "))
		names := slices.Clone(cert.DNSNames)
		for _, ip := range cert.IPAddresses {
			names = append(names, ip.String())
		}
		got := row{r.Authority, subject, slices.Contains(cert.ExtKeyUsage, x509.ExtKeyUsageServerAuth), slices.Contains(cert.ExtKeyUsage, x509.ExtKeyUsageClientAuth), strings.Join(names, " ")}
		if got != w {
			t.Errorf("%s is\n %+v, wanted\n %+v", r.Name, got, w)
		}
		if cert.IsCA || cert.KeyUsage != x509.KeyUsageDigitalSignature || cert.NotAfter.Sub(now) > 366*24*time.Hour || !cert.NotBefore.Before(now) {
			t.Errorf("%s: authority %v, usage %v, from %s to %s", r.Name, cert.IsCA, cert.KeyUsage, cert.NotBefore, cert.NotAfter)
		}
		for a, other := range cas {
			pool := x509.NewCertPool()
			pool.AddCert(other.cert)
			_, err := cert.Verify(x509.VerifyOptions{Roots: pool, CurrentTime: now, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
			if (err == nil) != (a == w.authority) {
				t.Errorf("%s under %s: %v", r.Name, a, err)
			}
		}
	}
	for _, r := range trust.Requests(c, c.Of(versions.Worker)[0]) {
		if !slices.Contains([]string{"proxy", "kubelet-client"}, r.Name) {
			t.Errorf("a worker holds %s", r.Name)
		}
	}
	if rs := trust.Requests(c, c.Of(versions.Balancer)[0]); len(rs) > 0 {
		t.Errorf("the balancer holds %v", rs)
	}
	if ids := trust.Keys(c, c.Of(versions.Worker)[0]); len(ids) > 0 {
		t.Errorf("a worker holds the keys %v", ids)
	}
}

// With key, time and serial given a certificate is the same byte for byte.
func TestReproducible(t *testing.T) {
	c, cas := cluster(t), authorities(t)
	r := trust.Requests(c, c.Machines[0])[0]
	k := key(t)
	ca := cas[r.Authority]
	a, err := trust.Sign(r, k.Public(), ca.cert, ca.key, now, big.NewInt(5))
	if err != nil {
		t.Fatal(err)
	}
	b, err := trust.Sign(r, k.Public(), ca.cert, ca.key, now, big.NewInt(5))
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(a.Raw, b.Raw) {
		t.Error("two signings differ")
	}
}

func TestStale(t *testing.T) {
	c, cas := cluster(t), authorities(t)
	r := trust.Requests(c, c.Machines[0])[0]
	ca := cas[r.Authority]
	cert, err := trust.Sign(r, key(t).Public(), ca.cert, ca.key, now, big.NewInt(5))
	if err != nil {
		t.Fatal(err)
	}
	renamed, moved, fewer := r, r, r
	fewer.DNS = r.DNS[1:]
	renamed.DNS = append(slices.Clone(r.DNS), "api.other.test")
	moved.CommonName = "somebody"
	for _, x := range []struct {
		name string
		r    trust.Request
		ca   *x509.Certificate
		at   time.Time
		want string
	}{
		{"fresh", r, ca.cert, now, ""},
		{"new name", renamed, ca.cert, now, "lacks the name api.other.test"},
		{"name too many", fewer, ca.cert, now, "which it should not have"},
		{"other subject", moved, ca.cert, now, "it is for CN="},
		{"other authority", r, cas[trust.Datastore].cert, now, "another authority signed it"},
		{"ends soon", r, ca.cert, now.Add(340 * 24 * time.Hour), "it ends on"},
	} {
		if got := trust.Stale(cert, x.r, x.ca, x.at); (x.want == "") != (got == "") || !strings.Contains(got, x.want) {
			t.Errorf("%s: %q, wanted %q", x.name, got, x.want)
		}
	}
}

func TestOutlivesAuthority(t *testing.T) {
	c, cas := cluster(t), authorities(t)
	r := trust.Requests(c, c.Machines[0])[0]
	ca := cas[r.Authority]
	_, err := trust.Sign(r, key(t).Public(), ca.cert, ca.key, now.Add(3650*24*time.Hour-time.Hour), big.NewInt(5))
	if err == nil || !strings.Contains(err.Error(), "would outlive its authority") {
		t.Errorf("error is %v", err)
	}
}

// Key encipherment is for RSA keys only.
func TestRSALeaf(t *testing.T) {
	c, cas := cluster(t), authorities(t)
	r := trust.Requests(c, c.Machines[0])[0]
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	ca := cas[r.Authority]
	cert, err := trust.Sign(r, k.Public(), ca.cert, ca.key, now, big.NewInt(5))
	if err != nil {
		t.Fatal(err)
	}
	if cert.KeyUsage != x509.KeyUsageDigitalSignature|x509.KeyUsageKeyEncipherment {
		t.Errorf("usage is %v", cert.KeyUsage)
	}
}

func TestPEM(t *testing.T) {
	k := key(t)
	b, err := trust.EncodeKey(k)
	if err != nil {
		t.Fatal(err)
	}
	back, err := trust.DecodeKey(b)
	if err != nil || !k.Equal(back) {
		t.Errorf("the key came back as %v: %v", back, err)
	}
	for _, bad := range []string{"", "-----BEGIN CERTIFICATE-----\nAA==\n-----END CERTIFICATE-----\n", "junk"} {
		if _, err := trust.DecodeKey([]byte(bad)); err == nil {
			t.Errorf("%q is taken for a key", bad)
		}
		if _, err := trust.DecodeCert([]byte(bad)); err == nil {
			t.Errorf("%q is taken for a certificate", bad)
		}
	}
}

// What lies where follows from the parts of a machine.
func TestTrustFollowsTheParts(t *testing.T) {
	c, err := coretest.Declare(`schema: verbund/1
name: tidewatch
kubernetes: v1.37.2
site: estuary
endpoint: {name: api.tidewatch.test, virtual: {address: 127.80.0.250}}
control: {nodes: false, names: [api.tidewatch.example, 192.0.2.9], datastore: {place: apart, count: 1}}
trust: {leaf: 90d, renew: 20d, authority: 730d, kubelets: {renew: tool}}
pools: [{name: gauges}]
`, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	for role, want := range map[versions.Role]string{
		versions.Control:   "api-server api-server-kubelet api-server-datastore front-proxy controller-manager scheduler endpoint-carrier",
		versions.Datastore: "datastore-member datastore-peer",
		versions.Worker:    "proxy kubelet-client kubelet-serving",
	} {
		var got []string
		for _, r := range trust.Requests(c, c.Of(role)[0]) {
			got = append(got, r.Name)
			if r.Life != 90*24*time.Hour || r.Renew != 20*24*time.Hour {
				t.Errorf("%s lives %s and is renewed %s before", r.ID, r.Life, r.Renew)
			}
		}
		if g := strings.Join(got, " "); g != want {
			t.Errorf("%s holds %s, wanted %s", role, g, want)
		}
	}
	api := trust.Requests(c, c.Of(versions.Control)[0])[0]
	for _, n := range []string{"api.tidewatch.example", "api.tidewatch.test"} {
		if !slices.Contains(api.DNS, n) {
			t.Errorf("the API server's certificate lacks %s", n)
		}
	}
	var ips []string
	for _, a := range api.IPs {
		ips = append(ips, a.String())
	}
	if !slices.Contains(ips, "192.0.2.9") || slices.Contains(ips, "127.80.0.250") {
		t.Errorf("the API server's certificate has the addresses %v", ips)
	}
	for role, want := range map[versions.Role]int{versions.Control: 3, versions.Datastore: 1, versions.Worker: 1} {
		as := trust.AuthoritiesOn(c.Of(role)[0])
		if len(as) != want || role == versions.Datastore && as[0] != trust.Datastore {
			t.Errorf("%s trusts %v", role, as)
		}
	}
	if ids := trust.Keys(c, c.Of(versions.Datastore)[0]); len(ids) > 0 {
		t.Errorf("a datastore machine holds the keys %v", ids)
	}
}

// A certificate is of its machine, as is the one before it; of another machine, or of the tool, it
// is not.
func TestIsOf(t *testing.T) {
	for id, is := range map[string]bool{"a/proxy": true, trust.WasID("a/proxy"): true, "ab/proxy": false, "a": false, "tool/a/proxy": false, trust.WasID(trust.WasID("a/proxy")): false} {
		if trust.IsOf("a", id) != is {
			t.Errorf("%s: %v", id, !is)
		}
	}
}
