package node

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/dns/dnsmessage"
	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/types"
	"k8s.io/client-go/tools/cache"

	"verbund/internal/sim/host"
)

// resolve asks one question over TCP.
func resolve(t *testing.T, svcs cache.SharedIndexInformer, name string) *dnsmessage.Message {
	t.Helper()
	a, b := net.Pipe()
	defer a.Close()
	go func() {
		defer b.Close()
		answerDNS(b, "tidewatch.test", svcs)
	}()
	q := dnsmessage.Message{Header: dnsmessage.Header{ID: 7}, Questions: []dnsmessage.Question{{Name: dnsmessage.MustNewName(name), Type: dnsmessage.TypeA, Class: dnsmessage.ClassINET}}}
	raw, err := q.Pack()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.Write(append([]byte{byte(len(raw) >> 8), byte(len(raw))}, raw...)); err != nil {
		t.Fatal(err)
	}
	got, err := io.ReadAll(a)
	if err != nil || len(got) < 3 {
		t.Fatalf("%v after %d bytes", err, len(got))
	}
	var m dnsmessage.Message
	if err := m.Unpack(got[2:]); err != nil {
		t.Fatal(err)
	}
	return &m
}

func TestDNS(t *testing.T) {
	svcs := cache.NewSharedIndexInformer(nil, &corev1.Service{}, 0, cache.Indexers{})
	if err := svcs.GetStore().Add(&corev1.Service{ObjectMeta: metav1.ObjectMeta{Name: "tidetable", Namespace: "default"}, Spec: corev1.ServiceSpec{ClusterIP: "10.112.0.77"}}); err != nil {
		t.Fatal(err)
	}
	m := resolve(t, svcs, "tidetable.default.svc.tidewatch.test.")
	if m.ID != 7 || len(m.Answers) != 1 || m.Answers[0].Body.(*dnsmessage.AResource).A != [4]byte{10, 112, 0, 77} {
		t.Errorf("answer is %+v", m)
	}
	for _, name := range []string{"nothing.default.svc.tidewatch.test.", "tidetable.default.svc.other.test.", "tidetable.svc.tidewatch.test."} {
		if m := resolve(t, svcs, name); m.RCode != dnsmessage.RCodeNameError || len(m.Answers) > 0 {
			t.Errorf("%s: %+v", name, m)
		}
	}
}

// A configuration that the real runtime would not take is not taken here.
func TestContainerdConfiguration(t *testing.T) {
	const good = "version = 3\nroot = \"/r\"\nstate = \"/s\"\n[grpc]\naddress = \"/run/c.sock\"\n[plugins.\"io.containerd.cri.v1.images\".registry]\nconfig_path = \"/certs\"\n"
	for _, x := range []struct{ name, text, want string }{
		{"good", good, ""},
		{"unknown key", strings.Replace(good, "root =", "rooot =", 1), "rooot"},
		{"old version", strings.Replace(good, "version = 3", "version = 1", 1), "version 1 is not supported"},
		{"not TOML", "version = = 3", "config.toml"},
	} {
		root := t.TempDir()
		h := &host.Host{Spec: host.Spec{Root: root}}
		for p, text := range map[string]string{"config.toml": x.text, "certs/_default/hosts.toml": "server = \"http://r:5000\"\n"} {
			if err := errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(root, p)), 0o755), os.WriteFile(filepath.Join(root, p), []byte(text), 0o644)); err != nil {
				t.Fatal(err)
			}
		}
		var cfg containerdConfig
		err := cfg.read(h, "/config.toml")
		if (err == nil) != (x.want == "") || err != nil && !strings.Contains(err.Error(), x.want) {
			t.Errorf("%s: %v, wanted %q", x.name, err, x.want)
		}
	}
}

// Told to end, the application answers as long as somebody comes, and then ends.
func TestApplicationLosesNothing(t *testing.T) {
	h := &host.Host{Spec: host.Spec{Name: "m"}}
	net1 := host.NewNet(h)
	ip := netip.MustParseAddr("10.172.0.2")
	pod := &corev1.Pod{ObjectMeta: metav1.ObjectMeta{Name: "p"}, Spec: corev1.PodSpec{Containers: []corev1.Container{{Name: "tidetable"}}}}
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		ended <- webApp(ctx, &PodEnv{Host: h, Net: net1.AddPod(ip), IP: ip, Version: "1.0", Pod: pod, Log: io.Discard, Ready: func() { close(ready) }})
	}()
	<-ready
	c := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return net1.DialPod(ctx, netip.AddrPortFrom(ip, 8080))
	}}}
	get := func() error {
		resp, err := c.Get("http://pod/")
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err == nil && !strings.Contains(string(b), "tidetable 1.0 answers from p on m") {
			err = errors.New(string(b))
		}
		return err
	}
	if err := get(); err != nil {
		t.Fatal(err)
	}
	cancel()
	for range 20 {
		if err := get(); err != nil {
			t.Fatalf("a request after the end was asked for: %v", err)
		}
	}
	select {
	case err := <-ended:
		if err != nil {
			t.Error(err)
		}
	case <-time.After(10 * time.Second):
		t.Fatal("it never ends")
	}
	if err := get(); err == nil {
		t.Error("it answers after its end")
	}
}

// A connection that was let in before the end is handed out all the same; after it
// nobody is let in.
func TestLetInIsAnswered(t *testing.T) {
	net1 := host.NewNet(&host.Host{Spec: host.Spec{Name: "m"}})
	ip := netip.MustParseAddr("10.172.0.2")
	l := listenPod(&PodEnv{Net: net1.AddPod(ip), IP: ip}, 8080)
	at := netip.AddrPortFrom(ip, 8080)
	c, err := net1.DialPod(t.Context(), at)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	l.Close()
	if _, err := net1.DialPod(t.Context(), at); !errors.Is(err, host.ErrRefused) {
		t.Errorf("let in after the end: %v", err)
	}
	s, err := l.Accept()
	if err != nil {
		t.Fatalf("who was let in is turned away: %v", err)
	}
	s.Close()
	if _, err := l.Accept(); !errors.Is(err, net.ErrClosed) {
		t.Errorf("after the end: %v", err)
	}
}

// Of a node only what leads to its pods is kept, shared by those who know the same of it: not
// by who knows it as it was, though its revision is counted anew.
func TestWayTo(t *testing.T) {
	node := func(name, revision, pods string, at ...string) *corev1.Node {
		n := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: name, UID: types.UID("uid of " + name), ResourceVersion: revision, Labels: map[string]string{"work": "tides"}}, Spec: corev1.NodeSpec{PodCIDR: pods}}
		for _, a := range at {
			n.Status.Addresses = append(n.Status.Addresses, corev1.NodeAddress{Type: corev1.NodeInternalIP, Address: a})
		}
		return n
	}
	kept := func(n *corev1.Node) *corev1.Node {
		t.Helper()
		o, err := wayTo(n)
		if err != nil {
			t.Fatal(err)
		}
		return o.(*corev1.Node)
	}
	one := kept(node("gauges-1", "7", "10.172.2.0/24", "127.81.7.10"))
	if len(one.Labels) > 0 || one.Name != "gauges-1" || one.ResourceVersion != "7" {
		t.Errorf("kept is %+v", one)
	}
	if kept(node("gauges-1", "7", "10.172.2.0/24", "127.81.7.10")) != one {
		t.Error("two who know the same keep two")
	}
	again := kept(node("gauges-1", "7", "10.172.3.0/24", "127.81.7.10"))
	if again == one || again.Spec.PodCIDR != "10.172.3.0/24" {
		t.Errorf("counted anew, it is kept as %+v", again.Spec)
	}
	here := netip.MustParseAddr("127.81.7.9")
	for _, x := range []struct {
		n     *corev1.Node
		leads bool
	}{{one, true}, {node("gauges-2", "8", "", "127.81.7.11"), false}, {node("gauges-2", "9", "10.172.4.0/24"), false},
		{node("gauges-2", "10", "10.172.4.0/24", "tides"), false}, {node("gauges-2", "11", "10.172.4.0/24", "127.81.7.9"), false}} {
		if w := leadsTo(x.n); w.leads(here) != x.leads {
			t.Errorf("%s with %s at %v leads to %+v", x.n.Name, x.n.Spec.PodCIDR, x.n.Status.Addresses, w)
		}
	}
	if w := leadsTo(one); w.to != netip.MustParsePrefix("10.172.2.0/24") || w.by != netip.MustParseAddr("127.81.7.10") {
		t.Errorf("it leads to %+v", w)
	}
}

// Nodes that have changed are taken once, whatever has become of them.
func TestNames(t *testing.T) {
	n := &names{more: make(chan struct{}, 1)}
	node := &corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: "gauges-1"}}
	n.add(node)
	n.add(node)
	n.add(cache.DeletedFinalStateUnknown{Key: "gauges-2", Obj: node})
	n.add(7)
	<-n.more
	if got := slices.Sorted(slices.Values(n.take())); !slices.Equal(got, []string{"gauges-1", "gauges-2"}) || len(n.take()) > 0 {
		t.Errorf("changed are %q", got)
	}
}
