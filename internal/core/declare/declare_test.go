package declare

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"verbund/internal/core/versions"
)

const siteText = `schema: verbund-site/1
name: estuary
kind: simulated
addresses: 127.81.7.0/24
zones: [{name: north, machines: 8}, {name: south, machines: 8}]
sizes:
  small: {cpus: 2, memory: 4GiB, disk: 20GiB}
  large: {cpus: 8, memory: 16GiB, disk: 80GiB}
bare: [{hardware: '02:5e:00:00:00:01', zone: north, size: small}]
`

const least = `schema: verbund/1
name: lampwright
kubernetes: v1.37.2
site: estuary
`

// files is a folder with the text as the declaration, the site, and what else
// is given as name and content.
func files(text string, more ...string) fstest.MapFS {
	fsys := fstest.MapFS{"l.verbund.yaml": {Data: []byte(text)}, "estuary.site.yaml": {Data: []byte(siteText)}}
	for i := 0; i+1 < len(more); i += 2 {
		fsys[more[i]] = &fstest.MapFile{Data: []byte(more[i+1])}
	}
	return fsys
}

func read(text string, more ...string) *Result {
	r, err := Read(Input{Files: files(text, more...), File: "l.verbund.yaml", Shipped: versions.Shipped(), Now: today})
	if err != nil {
		panic(err)
	}
	return r
}

var today = time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)

func TestDefaults(t *testing.T) {
	r := read(least + "pools: [{name: keepers, count: 2}]\n")
	if len(r.Findings) > 0 {
		t.Fatalf("findings: %v", r.Findings)
	}
	d := r.Decl
	p := d.Pools[0]
	for _, x := range []struct {
		what      string
		got, want any
	}{
		{"endpoint", d.Endpoint.Name, "api.lampwright.internal"}, {"port", d.Endpoint.Port, 6443}, {"pods", d.Ranges.Pods.String(), "10.172.0.0/15"},
		{"per node", d.Ranges.PerNode, 256}, {"machines", d.Ranges.Machines.String(), "127.81.7.0/24"}, {"as nodes", d.Control.AsNodes(), true},
		{"control", d.Control.Count, 1}, {"size", d.Control.Size, "small"}, {"zones", fmt.Sprint(d.Control.Zones), "[north south]"},
		{"batch", p.Rollout.Batch.String(), "1"}, {"patience", p.Rollout.Patience.String(), "2m"}, {"enrolment", p.Enrolment, "issued"},
		{"pool's version", p.Kubernetes, "v1.37.2"}, {"leaf", d.Trust.Leaf.String(), "365d"}, {"time zone", d.System.TimeZone, "UTC"},
	} {
		if x.got != x.want {
			t.Errorf("%s is %v, wanted %v", x.what, x.got, x.want)
		}
	}
}

func TestAmountsOfMachines(t *testing.T) {
	for text, want := range map[string]string{"3": "3", "2-6": "2-6", "0": "0", "six": "", "2-": "", "1.5": ""} {
		var c Count
		if err := c.UnmarshalText([]byte(text)); (err == nil) != (want != "") || err == nil && c.String() != want {
			t.Errorf("count %s: %v, %v", text, c, err)
		}
	}
	for text, want := range map[string]int{"2": 2, "25%": 2, "1%": 1, "100%": 9, "0": 0} {
		var s Share
		if err := s.UnmarshalText([]byte(text)); err != nil || s.Of(9) != want {
			t.Errorf("share %s of 9: %d, %v", text, s.Of(9), err)
		}
	}
}

func TestNearest(t *testing.T) {
	known := []string{"count", "size", "zones"}
	for word, want := range map[string]string{"siez": "size", "zone": "zones", "Count": "count", "x": "", "labels": ""} {
		if got := Nearest(word, known); got != want {
			t.Errorf("%s: %q, wanted %q", word, got, want)
		}
	}
}

func TestAmounts(t *testing.T) {
	for text, want := range map[string]string{"8GiB": "8GiB", "1024MiB": "1GiB", "512MiB": "512MiB", "8GB": "", "-1GiB": "", "1.5GiB": "", "GiB": ""} {
		var b Bytes
		err := b.UnmarshalText([]byte(text))
		if (err == nil) != (want != "") || err == nil && b.String() != want {
			t.Errorf("%s: %v, %v", text, b, err)
		}
	}
}

// A declaration of 200 pools, read and checked.
func BenchmarkRead200Pools(b *testing.B) {
	var s strings.Builder
	s.WriteString(strings.Replace(least, "site:", "ranges: {pods: 10.128.0.0/9}\nsite:", 1) + "pools:\n")
	for i := range 200 {
		fmt.Fprintf(&s, "  - name: pool-%d\n    count: 3\n    size: small\n    zones: [north, south]\n    labels: {work: intake, number: \"%d\"}\n    taints: [{key: work, value: p%d, effect: NoSchedule}]\n    rollout: {way: in-place, batch: 2, patience: 2m}\n", i, i, i)
	}
	fsys := files(s.String())
	fsys["estuary.site.yaml"].Data = []byte(strings.ReplaceAll(siteText, "machines: 8", "machines: 400"))
	for b.Loop() {
		r, err := Read(Input{Files: fsys, File: "l.verbund.yaml", Shipped: versions.Shipped(), Now: today})
		if err != nil || r.Findings.Errors() > 0 {
			b.Fatal(err, r.Findings)
		}
	}
}

// The declaration of a copy has nothing that acts, and keeps what its API server and datastore
// went by; it can be read, and nothing is found wrong with it.
func TestAside(t *testing.T) {
	text := strings.Replace(least, "name: lampwright", "# Ours.\nname: lampwright", 1) + `endpoint: {name: api.coast.test, port: 7443, balancer: {}}
ranges: {pods: 10.20.0.0/16, services: 10.30.0.0/16} # as on the coast
control: {count: 3, size: large, names: [api.coast.example]}
components:
  # Longer than usual.
  kube-apiserver: {flags: {audit-log-maxage: '30'}}
pools: [{name: keepers, count: 2}]
backup: {every: 6h}
prove: after-change
watch: [{name: tidetable, url: 'http://api.coast.test:8080/'}]
`
	r := read(text)
	if r.Findings.Errors() > 0 {
		t.Fatal(r.Findings)
	}
	out, err := Aside([]byte(text), r.Decl, "lampwright-then", "A copy of it.")
	if err != nil {
		t.Fatal(err)
	}
	c := read(string(out))
	if len(c.Findings) > 0 {
		t.Errorf("%v in\n%s", c.Findings, out)
	}
	d := c.Decl
	if d.Name != "lampwright-then" || d.CopyOf != "lampwright" || CopyOf(out) != "lampwright" || CopyOf([]byte(text)) != "" || d.Control.Count != 1 || d.Control.Size != "large" || len(d.Pools) > 0 {
		t.Errorf("it declares %+v", d)
	}
	if d.Endpoint.Name != "lampwright-then.api.coast.test" || d.Endpoint.Port != 7443 || d.DNS.Domain != r.Decl.DNS.Domain || d.Ranges != r.Decl.Ranges || d.Components["kube-apiserver"].Flags["audit-log-maxage"] != "30" || d.Kubernetes != r.Decl.Kubernetes {
		t.Errorf("it declares %+v", d)
	}
	r.Decl.Endpoint.Name = "192.0.2.4"
	if out, err := Aside([]byte(text), r.Decl, "lampwright-then", "A copy of it."); err != nil || !strings.Contains(string(out), "endpoint: {name: lampwright-then.lampwright.internal,") {
		t.Errorf("%v\n%s", err, out)
	}
	if strings.Contains(string(out), "coast\n") || strings.Contains(string(out), "Longer") {
		t.Errorf("it holds remarks of the other:\n%s", out)
	}
}
