package declare

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"

	"verbund/internal/core/versions"
)

const base = `schema: verbund/1
kubernetes: v1.36.2
site: estuary
endpoint:
  balancer: {size: small}
control: {count: 3}
pools:
  - name: gauges
    count: 3
    labels: {work: intake}
    rollout: {batch: 2}
  - {name: forecast, count: 2}
`

const derived = `extends: coast/base.yaml
name: lampwright
# the trial cluster is newer and smaller
kubernetes: v1.37.2
pools:
  - name: gauges
    count: 2
    labels: {trial: "yes"}
    rollout: {batch: 1}
  - name: keepers
    count: 1
`

func TestExtends(t *testing.T) {
	r := read(derived, "coast/base.yaml", base)
	if r.Findings.Errors() != 0 {
		t.Fatal(r.Findings)
	}
	var got []string
	for _, p := range r.Decl.Pools {
		got = append(got, fmt.Sprint(p.Name, p.Count, p.Labels, p.Rollout.Batch))
	}
	want := "[gauges2 map[trial:yes work:intake] 1 forecast2 map[] 1 keepers1 map[] 1]"
	if fmt.Sprint(got) != want || r.Decl.Kubernetes != "v1.37.2" || r.Decl.Control.Count != 3 {
		t.Errorf("%v on %s, wanted %s", got, r.Decl.Kubernetes, want)
	}
	for _, x := range []struct {
		at, file string
		line     int
	}{{"kubernetes", "l.verbund.yaml", 4}, {"site", "coast/base.yaml", 3}, {"pools[gauges].count", "l.verbund.yaml", 7}, {"pools[forecast].count", "coast/base.yaml", 12}} {
		if file, line, ok := r.Where(x.at); !ok || file != x.file || line != x.line {
			t.Errorf("%s stands in %s:%d, wanted %s:%d", x.at, file, line, x.file, x.line)
		}
	}
	// A finding names the file in which the value stands.
	if fs := fmt.Sprint(r.Findings); !strings.Contains(fs, "coast/base.yaml:5:13: warning: the balancer is one machine") {
		t.Error(fs)
	}
	m, err := r.Merged()
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(m, "extends") {
		t.Errorf("what is merged extends something:\n%s", m)
	}
	for _, line := range []string{"kubernetes: v1.37.2 # l.verbund.yaml:4", "count: 2 # l.verbund.yaml:7", "work: intake # base.yaml:10", `trial: "yes" # l.verbund.yaml:8`, "site: estuary # base.yaml:3"} {
		if !strings.Contains(strings.Join(strings.Fields(m), " "), line) {
			t.Errorf("%q is not in\n%s", line, m)
		}
	}
	var back yaml.Node
	if err := yaml.Unmarshal([]byte(m), &back); err != nil {
		t.Errorf("the merged declaration is no YAML: %v", err)
	}
}

// What is extended twice over is merged in order.
// A file that is extended and is a list, or a word, is none that one extends.
func TestExtendsNoMapping(t *testing.T) {
	for _, text := range []string{"- a\n- b\n", "word\n"} {
		r := read(derived, "coast/base.yaml", text)
		if s := fmt.Sprint(r.Findings); !strings.Contains(s, "holds no keys with their values") || !strings.Contains(s, "extends-missing") {
			t.Errorf("%q: %s", text, s)
		}
	}
}

func TestExtendsChain(t *testing.T) {
	r := read("extends: b.yaml\nname: lampwright\n", "b.yaml", "extends: a.yaml\nkubernetes: v1.37.1\n", "a.yaml", "schema: verbund/1\nkubernetes: v1.35.3\nsite: estuary\n")
	if r.Findings.Errors() != 0 || r.Decl.Kubernetes != "v1.37.1" || r.Decl.Site != "estuary" {
		t.Errorf("%+v %v", r.Decl, r.Findings)
	}
}

func TestEdits(t *testing.T) {
	count := func(n int) func([]byte) ([]byte, error) {
		return func(b []byte) ([]byte, error) { return SetCount(b, "gauges", n) }
	}
	key := func(b []byte) ([]byte, error) {
		return SetHostKey(b, netip.MustParseAddr("10.81.7.21"), "SHA256:a+b/c")
	}
	version := func(b []byte) ([]byte, error) { return SetKubernetes(b, "v1.37.2") }
	for _, x := range []struct {
		name, text, old, new string
		edit                 func([]byte) ([]byte, error)
	}{
		{"plain", "# one\r\npools:\r\n  - name: gauges   # the gauges\r\n    count:  3 # three\r\n\r\n", "3 #", "5 #", count(5)},
		{"quotes", "kubernetes: 'v1.36.2'\n\n\n", "v1.36.2", "v1.37.2", version},
		{"double quotes", "{kubernetes: \"v1.36.2\", name: x}", "v1.36.2", "v1.37.2", version},
		{"flow", "pools: [{name: forecast, count: 2}, {name: gauges, count: 2}]", "gauges, count: 2", "gauges, count: 10", count(10)},
		{"other scripts before it", "pools: [{labels: {é: ü}, name: \"gauges\", count: 2}]", "count: 2", "count: 4", count(4)},
		{"no count, block", "pools:\n  - name: gauges # ours\n    size: small\n", "# ours\n", "# ours\n    count: 4\n", count(4)},
		{"no count, flow", "pools: [{name: gauges, size: small}]", "gauges,", "gauges, count: 4,", count(4)},
		{"no count, end", "pools:\n- name: gauges", "gauges", "gauges\n  count: 4\n", count(4)},
		{"host key, flow", "machines: [{zone: north, address: 10.81.7.20}, {zone: north, address: 10.81.7.21, size: small}]", "7.21,", "7.21, hostKey: \"SHA256:a+b/c\",", key},
		{"host key, block", "machines:\n- zone: north # here\n  address: 10.81.7.21 # this\n", "this\n", "this\n  hostKey: \"SHA256:a+b/c\"\n", key},
		{"count before name", "pools:\n- count: 1\n  name: gauges\n- count: 1\n  name: b\n", "1\n  name: gauges", "4\n  name: gauges", count(4)},
	} {
		got, err := x.edit([]byte(x.text))
		if want := strings.Replace(x.text, x.old, x.new, 1); err != nil || string(got) != want {
			t.Errorf("%s: %v\n%q, wanted\n%q", x.name, err, got, want)
		}
	}
	for _, text := range []string{"machines: [{address: 10.81.7.22}]", "machines: {}", "a: b", "machines: [{address: 10.81.7.21, hostKey: x}]"} {
		if got, err := key([]byte(text)); err == nil {
			t.Errorf("%s was edited to %q", text, got)
		}
	}
	for _, x := range []struct{ name, text string }{
		{"elsewhere", "extends: a.yaml\nname: x\n"},
		{"tagged", "kubernetes: !!str v1.36.2\n"},
		{"folded", "kubernetes: >-\n  v1.36.2\n"},
		{"anchored", "kubernetes: &v v1.36.2\n"},
		{"not a mapping", "- a\n"},
		{"escaped", "kubernetes: \"v1.36\\u002e2\"\n"},
	} {
		if got, err := SetKubernetes([]byte(x.text), "v1.37.2"); err == nil {
			t.Errorf("%s was edited to %q", x.name, got)
		}
	}
}

// Whatever comes in, there is an answer and no panic; what has no error names
// a version that exists; and an edit changes what it says, or nothing.
func FuzzRead(f *testing.F) {
	f.Add([]byte(least), []byte(base))
	f.Add([]byte(derived), []byte(base))
	f.Add([]byte("a: &b [*b]"), []byte("a"))
	f.Add([]byte("a: &a [x,x]\nb: &b [*a,*a]\nc: &c [*b,*b]"), []byte(""))
	f.Add([]byte("? [x]: y"), []byte("{}"))
	f.Add([]byte("a: "+strings.Repeat("[", 2000)), []byte("\xff\xfe"))
	f.Add([]byte("pools: [{name: 1, count: 99999999999999999999}]"), []byte("pools: {a: b}"))
	f.Add([]byte(least+"components: {kubelet: {config: {a: {1: 2, <<: {b: c}}}}}"), []byte("extends: base.yaml"))
	f.Fuzz(func(t *testing.T, data, under []byte) {
		r, err := Read(Input{Files: files(string(data), "base.yaml", string(under), "coast/base.yaml", string(under)), File: "l.verbund.yaml", Shipped: versions.Shipped(), Now: today})
		if err != nil {
			t.Fatal(err)
		}
		if r.Findings.Errors() == 0 {
			if _, ok := r.Catalogue.Set(r.Decl.Kubernetes); !ok {
				t.Errorf("no error, and version %q", r.Decl.Kubernetes)
			}
		}
		if _, err := r.Merged(); err != nil && r.Findings.Errors() == 0 {
			t.Errorf("merging: %v", err)
		}
		if out, err := SetCount(data, "gauges", 7); err == nil {
			if got := read(string(out)); len(got.Decl.Pools) == 0 {
				t.Errorf("%q became %q", data, out)
			}
		}
	})
}

func FuzzSite(f *testing.F) {
	f.Add([]byte(siteText))
	f.Add([]byte("bare: [{hardware: 1}]"))
	f.Add([]byte("{}0"))
	f.Add([]byte("{}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, fs := ReadSite("s", data); fs.Errors() == 0 && len(s.Zones) == 0 {
			t.Error("a site without zones was taken")
		}
	})
}
