package balancer

import (
	"strings"
	"testing"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// What the tool renders is understood, down to the weight of a resting machine.
func TestRenderedConfiguration(t *testing.T) {
	c, err := coretest.Cluster("v1.37.2", 3, 2, topology.Memory{})
	if err != nil {
		t.Fatal(err)
	}
	b := c.Of(versions.Balancer)[0]
	text := ""
	for _, f := range nodeconf.Render(c, b, nodeconf.Options{Resting: map[string]bool{"tidewatch-control-2": true}}) {
		if strings.HasSuffix(f.Path, "haproxy.cfg") {
			text = f.Content
		}
	}
	cfg, err := parse(text, "haproxy.cfg")
	if err != nil {
		t.Fatal(err)
	}
	api := cfg.backends["api"]
	if len(api.servers) != 3 || api.servers[1].weight != 0 || api.servers[2].weight != 100 || !api.tls || api.verifyHost != "kubernetes.default.svc" || api.path != "/readyz" || api.inter != 2*time.Second || api.fast != 500*time.Millisecond || api.down != 500*time.Millisecond {
		t.Errorf("api is %+v", api)
	}
	if p := cfg.backends["port-8080"]; len(p.servers) != 2 || p.checkPort != "10256" || p.servers[0].addr != c.Of(versions.Worker)[0].Address.String()+":30080" {
		t.Errorf("port-8080 is %+v", p)
	}
	if f := cfg.fronts["api"]; f.bind != b.Address.String()+":6443" || f.backend != "api" {
		t.Errorf("front is %+v", f)
	}
}

func TestRefusesWhatItDoesNotKnow(t *testing.T) {
	for _, x := range []struct{ text, want string }{
		{"frontend a\n  bind 127.0.0.1:1\n  default_backend b\n", "has no bind or no backend"},
		{"backend b\n  balnce roundrobin\n", "b.cfg:2"},
		{"backend b\n  server s 127.0.0.1:1 wieght 3\n", `option "wieght" is not known here`},
		{"backend b\n  server s 127.0.0.1:1 weight heavy\n", "invalid syntax"},
		{"defaults\n  timeout connect soon\n", "b.cfg:2"},
	} {
		if _, err := parse(x.text, "b.cfg"); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%q: %v, wanted %q", x.text, err, x.want)
		}
	}
}

// At which tries another server is chosen follows from the option, as HAProxy's manual has it.
func TestRedispatch(t *testing.T) {
	for option, want := range map[string]string{"": "x...", "    option redispatch\n": "x..x", "    option redispatch 1\n": "xxxx", "    option redispatch 2\n": "x.x."} {
		c, err := parse("defaults\n    retries 3\n"+option+"\nfrontend f\n    bind 127.0.0.1:1\n    default_backend b\n\nbackend b\n    server s 127.0.0.1:2\n", "f")
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for try := range 4 {
			got += map[bool]string{true: "x", false: "."}[c.backends["b"].chooses(try)]
		}
		if got != want {
			t.Errorf("%q: %s, wanted %s", option, got, want)
		}
	}
	if _, err := parse("defaults\n    option nonsense\n", "f"); err == nil {
		t.Error("an option that nobody knows is taken")
	}
}
