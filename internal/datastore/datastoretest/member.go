package datastoretest

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"go.etcd.io/etcd/server/v3/embed"
)

// ready is how long a member may take to be ready on a computer that has much else to do.
const ready = time.Minute

// Address is a URL on this computer at which nobody listens. At 127.0.0.1 another process may take
// the port for a connection of its own before a member listens there.
func Address(t testing.TB, scheme string) url.URL {
	t.Helper()
	pid := os.Getpid()
	l, err := net.Listen("tcp", fmt.Sprintf("127.98.%d.%d:0", pid>>8&0xff, pid&0xff|1))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return url.URL{Scheme: scheme, Host: l.Addr().String()}
}

// Config is that of a member that founds a datastore of its own, whose name is a.
func Config(t testing.TB) *embed.Config {
	t.Helper()
	cfg := embed.NewConfig()
	cfg.Name, cfg.Dir, cfg.LogLevel = "a", t.TempDir(), "panic"
	client, peer := Address(t, "http"), Address(t, "http")
	cfg.ListenClientUrls, cfg.AdvertiseClientUrls = []url.URL{client}, []url.URL{client}
	cfg.ListenPeerUrls, cfg.AdvertisePeerUrls = []url.URL{peer}, []url.URL{peer}
	cfg.InitialCluster = cfg.InitialClusterFromName(cfg.Name)
	return cfg
}

// Start starts a member, which ends with the test if nobody ends it before.
func Start(t testing.TB, cfg *embed.Config) *embed.Etcd {
	t.Helper()
	return StartAll(t, cfg)[0]
}

// Alone starts a member, and returns where it is asked.
func Alone(t testing.TB) (endpoint string) {
	t.Helper()
	return Endpoint(Start(t, Config(t)).Config())
}

// Endpoint is where a member is asked.
func Endpoint(cfg embed.Config) string { return cfg.AdvertiseClientUrls[0].String() }

// Three are the configurations of three members that found a datastore together.
func Three(t testing.TB) []*embed.Config {
	t.Helper()
	var out []*embed.Config
	var all []string
	for _, name := range []string{"a", "b", "c"} {
		cfg := Config(t)
		cfg.Name = name
		all = append(all, name+"="+cfg.AdvertisePeerUrls[0].String())
		out = append(out, cfg)
	}
	for _, cfg := range out {
		cfg.InitialCluster = strings.Join(all, ",")
	}
	return out
}

// StartAll starts members that wait for one another.
func StartAll(t testing.TB, cfgs ...*embed.Config) []*embed.Etcd {
	t.Helper()
	var out []*embed.Etcd
	for _, cfg := range cfgs {
		e, err := embed.StartEtcd(cfg)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			select {
			case <-e.Server.StopNotify(): // somebody has ended it already
			default:
				e.Close()
			}
		})
		out = append(out, e)
	}
	late := time.After(ready)
	for _, e := range out {
		select {
		case <-e.Server.ReadyNotify():
		case <-late:
			t.Fatalf("member %s is not ready after %s", e.Config().Name, ready)
		}
	}
	return out
}
