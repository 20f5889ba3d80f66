package datastore

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	"go.etcd.io/etcd/server/v3/embed"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"

	"verbund/internal/datastore/datastoretest"
)

func address(t *testing.T) url.URL { return datastoretest.Address(t, "http") }

// member starts a real member; it joins if initial names more than itself.
func member(t *testing.T, name, initial string, client, peer url.URL) *embed.Etcd {
	t.Helper()
	cfg := datastoretest.Config(t)
	cfg.Name = name
	cfg.ListenClientUrls, cfg.AdvertiseClientUrls = []url.URL{client}, []url.URL{client}
	cfg.ListenPeerUrls, cfg.AdvertisePeerUrls = []url.URL{peer}, []url.URL{peer}
	if cfg.InitialCluster = name + "=" + peer.String(); initial != "" {
		cfg.InitialCluster, cfg.ClusterState = initial+","+cfg.InitialCluster, embed.ClusterStateFlagExisting
	}
	return datastoretest.Start(t, cfg)
}

// A member joins as a learner, is promoted, and leaves again; every step may be
// done twice.
func TestMembership(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c1, p1, c2, p2 := address(t), address(t), address(t), address(t)
	one := member(t, "one", "", c1, p1)
	defer one.Close()
	d := New([]string{c1.String()}, nil)
	for range 2 {
		if err := d.AddLearner(ctx, p2.String()); err != nil {
			t.Fatal(err)
		}
	}
	ms, err := d.Members(ctx, map[string]Member{p2.String(): {Name: "two"}})
	if err != nil || len(ms) != 2 {
		t.Fatalf("%+v, %v", ms, err)
	}
	for _, m := range ms {
		if m.Name == "two" && (!m.Learner || m.Healthy || m.Trouble == "") || m.Name == "one" && !m.Healthy {
			t.Errorf("%+v", m)
		}
	}
	two := member(t, "two", "one="+p1.String(), c2, p2)
	defer two.Close()
	for range 2 {
		if err := d.Promote(ctx, p2.String()); err != nil {
			t.Fatal(err)
		}
	}
	if err := d.Health(ctx, c2.String()); err != nil {
		t.Error(err)
	}
	began := time.Now()
	if err := d.Health(ctx, "http://127.0.0.1:1"); err == nil || !strings.Contains(err.Error(), "refused") || time.Since(began) > reachTimeout {
		t.Errorf("where nobody listens: %v after %s", err, time.Since(began))
	}
	if err := d.Promote(ctx, "http://127.0.0.1:1"); err == nil {
		t.Error("a member that does not exist was promoted")
	}
	id := uint64(two.Server.MemberID())
	for range 2 {
		if err := d.Remove(ctx, id); err != nil {
			t.Fatal(err)
		}
	}
	if ms, err = d.Members(ctx, nil); err != nil || len(ms) != 1 {
		t.Errorf("%+v, %v", ms, err)
	}
	var b []byte
	var n int64
	if err := New([]string{"http://127.0.0.1:1", c1.String()}, nil).Snapshot(ctx, func(size int64, r io.Reader) (err error) {
		n = size
		b, err = io.ReadAll(r)
		return err
	}); err != nil || n < 1000 || int64(len(b)) != n {
		t.Fatalf("snapshot of %d bytes, %d read: %v", n, len(b), err)
	}
	if sum := sha256.Sum256(b[:n-sha256.Size]); !bytes.Equal(sum[:], b[n-sha256.Size:]) {
		t.Error("it does not end with its sum")
	}
}

// When the quorum is lost, the member that is left still tells who the members
// are, and that none of them is well; nothing may be changed by that list.
func TestQuorumLost(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	c1, p1, c2, p2 := address(t), address(t), address(t), address(t)
	one := member(t, "one", "", c1, p1)
	defer one.Close()
	d := New([]string{c1.String()}, nil)
	if err := d.AddLearner(ctx, p2.String()); err != nil {
		t.Fatal(err)
	}
	two := member(t, "two", "one="+p1.String(), c2, p2)
	if err := d.Promote(ctx, p2.String()); err != nil {
		t.Fatal(err)
	}
	two.Close()
	if ms, err := d.Members(ctx, nil); !errors.Is(err, ErrNoQuorum) {
		t.Errorf("a list that counts, without a quorum: %+v, %v", ms, err)
	}
	ms, err := d.Recalled(ctx, nil)
	if err != nil || len(ms) != 2 {
		t.Fatalf("recalled %+v, %v", ms, err)
	}
	for _, m := range ms {
		if m.Healthy || m.Learner || m.Trouble == "" || m.Name != "one" && m.Name != "two" {
			t.Errorf("recalled %+v", m)
		}
	}
}

func TestNoQuorum(t *testing.T) {
	d := New([]string{"http://127.0.0.1:1"}, nil)
	if ms, err := d.Recalled(context.Background(), nil); err == nil {
		t.Errorf("nobody recalled %+v", ms)
	}
	if _, err := d.Members(context.Background(), nil); !errors.Is(err, ErrNoQuorum) {
		t.Errorf("error is %v", err)
	}
	if err := d.Snapshot(context.Background(), func(int64, io.Reader) error { return nil }); err == nil {
		t.Error("a snapshot from nobody")
	}
}

// signed is a new authority, and a pair that it has signed, for both sides of a connection.
func signed(t *testing.T) (authority *x509.CertPool, pair tls.Certificate) {
	t.Helper()
	make := func(c, by *x509.Certificate, key, signer *ecdsa.PrivateKey) *x509.Certificate {
		c.SerialNumber, c.NotAfter, c.BasicConstraintsValid = big.NewInt(1), time.Now().Add(time.Hour), true
		b, err := x509.CreateCertificate(rand.Reader, c, by, &key.PublicKey, signer)
		if err != nil {
			t.Fatal(err)
		}
		out, err := x509.ParseCertificate(b)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	var keys [2]*ecdsa.PrivateKey
	for i := range keys {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		keys[i] = k
	}
	root := &x509.Certificate{IsCA: true, KeyUsage: x509.KeyUsageCertSign}
	ca := make(root, root, keys[0], keys[0])
	leaf := make(&x509.Certificate{IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}, ca, keys[1], keys[0])
	authority = x509.NewCertPool()
	authority.AddCert(ca)
	return authority, tls.Certificate{Certificate: [][]byte{leaf.Raw}, PrivateKey: keys[1]}
}

// That one side does not accept the other says nothing of the quorum. Who is let in, and gets no
// answer, has met members that cannot decide; who meets nobody, as well.
func TestNoTrust(t *testing.T) {
	ours, own := signed(t)
	theirs, other := signed(t)
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{own}, ClientCAs: ours, ClientAuth: tls.RequireAndVerifyClientCert, NextProtos: []string{"h2"}})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() { // it lets in whom it accepts, and says nothing that a client of etcd waits for
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				c.Write(make([]byte, 9))
				io.Copy(io.Discard, c)
			}()
		}
	}()
	var wg sync.WaitGroup
	there, nobody := "https://"+l.Addr().String(), "https://127.0.0.1:1"
	for what, x := range map[string]struct {
		tls       *tls.Config
		endpoints []string
		want      error
	}{
		"its authority is not ours":      {&tls.Config{RootCAs: theirs, Certificates: []tls.Certificate{own}}, []string{there}, ErrNoTrust},
		"ours is not its":                {&tls.Config{RootCAs: ours, Certificates: []tls.Certificate{other}}, []string{nobody, there}, ErrNoTrust},
		"we show nothing":                {&tls.Config{RootCAs: ours}, []string{there}, ErrNoTrust},
		"it lets us in, and says little": {&tls.Config{RootCAs: ours, Certificates: []tls.Certificate{own}}, []string{there}, ErrNoQuorum},
		"nobody is there":                {&tls.Config{RootCAs: ours, Certificates: []tls.Certificate{own}}, []string{nobody}, ErrNoQuorum},
	} {
		d := New(x.endpoints, x.tls)
		for _, ask := range []func() error{func() error { _, err := d.Members(t.Context(), nil); return err }, func() error { _, _, err := d.Conditions(t.Context()); return err }} {
			wg.Go(func() {
				if err := ask(); !errors.Is(err, x.want) || errors.Is(err, ErrNoTrust) && errors.Is(err, ErrNoQuorum) {
					t.Errorf("%s: %v", what, err)
				}
			})
		}
	}
	wg.Wait()
	// Whoever stops asking has learnt nothing.
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := New([]string{nobody}, &tls.Config{}).Members(ctx, nil); err == nil || errors.Is(err, ErrNoQuorum) {
		t.Errorf("not asked to the end: %v", err)
	}
}

// A change is asked for again when the member that was asked went away before
// it answered; what etcd refuses is not.
func TestSteady(t *testing.T) {
	for _, x := range []struct {
		answers []error
		asked   int
		want    error
	}{
		{[]error{rpctypes.ErrStopped, status.Error(codes.Unavailable, "error reading from server: EOF"), rpctypes.ErrUnhealthy, nil}, 4, nil},
		{[]error{rpctypes.ErrMemberNotEnoughStarted, nil}, 1, rpctypes.ErrMemberNotEnoughStarted},
		{[]error{rpctypes.ErrNoLeader, nil}, 1, rpctypes.ErrNoLeader},
	} {
		n := 0
		err := steady(t.Context(), func() error { n++; return x.answers[n-1] })
		if n != x.asked || !errors.Is(err, x.want) {
			t.Errorf("%v: asked %d times, then %v", x.answers, n, err)
		}
	}
	ctx, cancel := context.WithTimeout(t.Context(), 250*time.Millisecond)
	defer cancel()
	if err := steady(ctx, func() error { return rpctypes.ErrStopped }); !errors.Is(err, rpctypes.ErrStopped) {
		t.Errorf("when nobody comes back: %v", err)
	}
}

// A member that is full raises an alarm, and says how much it may have.
func TestConditions(t *testing.T) {
	cfg := datastoretest.Config(t)
	cfg.QuotaBackendBytes = 256 << 10
	client := datastoretest.Endpoint(datastoretest.Start(t, cfg).Config())
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	c := New([]string{client}, nil)
	cs, silent, err := c.Conditions(ctx)
	if err != nil || len(silent) > 0 || len(cs) != 1 || len(cs[0].Alarms) > 0 || cs[0].Quota != 256<<10 || cs[0].Size == 0 {
		t.Fatalf("%+v, %v, %v", cs, silent, err)
	}
	cl, err := c.open(ctx, client)
	if err != nil {
		t.Fatal(err)
	}
	defer cl.Close()
	for i := 0; err == nil && i < 1000; i++ {
		_, err = cl.Put(ctx, fmt.Sprint(i), strings.Repeat("x", 32<<10))
	}
	if !errors.Is(err, rpctypes.ErrNoSpace) {
		t.Fatalf("it takes everything: %v", err)
	}
	if cs, _, err = c.Conditions(ctx); err != nil || len(cs) != 1 || len(cs[0].Alarms) != 1 || cs[0].Alarms[0] != "NOSPACE" {
		t.Errorf("%+v, %v", cs, err)
	}
}
