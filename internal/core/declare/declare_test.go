package declare

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/versions"
)

const siteText = `schema: verbund-site/1
name: estuary
kind: simulated
addresses: 127.81.7.0/24
zones: [{name: north, machines: 4}, {name: south, machines: 4}]
sizes:
  small: {cpus: 2, memory: 4GiB, disk: 20GiB}
  large: {cpus: 8, memory: 16GiB, disk: 80GiB}
`

const least = `schema: verbund/1
name: lampwright
kubernetes: v1.37.2
site: estuary
`

func read(text string) (*Declaration, Findings) {
	d, _, fs := Read("l.verbund.yaml", []byte(text), "estuary.site.yaml", []byte(siteText), versions.Shipped())
	return d, fs
}

func TestDefaults(t *testing.T) {
	d, fs := read(least + "pools: [{name: keepers}]\n")
	if len(fs) > 0 {
		t.Fatalf("findings: %v", fs)
	}
	p := d.Pools[0]
	for _, x := range []struct {
		what      string
		got, want any
	}{
		{"endpoint", d.Endpoint.Name, "api.lampwright.internal"}, {"port", d.Endpoint.Port, 6443}, {"pods", d.Ranges.Pods.String(), "10.172.0.0/15"},
		{"control", d.Control.Count, 1}, {"size", d.Control.Size, "small"}, {"zones", fmt.Sprint(d.Control.Zones), "[north south]"},
		{"pool count", p.Count, 1}, {"batch", p.Rollout.Batch, 1}, {"patience", time.Duration(p.Rollout.Patience), 2 * time.Minute}, {"enrolment", p.Enrolment, "issued"},
	} {
		if x.got != x.want {
			t.Errorf("%s is %v, wanted %v", x.what, x.got, x.want)
		}
	}
}

// Every rule: what is written, and the finding with its place.
func TestFindings(t *testing.T) {
	pool := func(s string) string { return least + "pools:\n  - {name: keepers, " + s + "}\n" }
	for _, x := range []struct{ rule, text, want string }{
		{"schema", strings.Replace(least, "verbund/1", "verbund/9", 1), `1:9: error: schema is "verbund/9"`},
		{"missing", strings.Replace(least, "name: lampwright\n", "", 1), "1:1: error: name is missing"},
		{"bad-name", strings.Replace(least, "lampwright", "-lamp", 1), `2:7: error: name "-lamp" is not a name`},
		{"unknown-version", strings.Replace(least, "v1.37.2", "v1.37.9", 1), "3:13: error: Kubernetes v1.37.9"},
		{"wrong-type", strings.Replace(least, "v1.37.2", "1.37", 1), "3:13: error: kubernetes is the number 1.37"},
		{"site-name", strings.Replace(least, "site: estuary", "site: lagoon", 1), "4:7: error: the file of site lagoon says that its name is estuary"},
		{"key-twice", least + "name: again\n", `5:1: error: key "name" stands twice in the document, first on line 2`},
		{"no-value", least + "control:\n", "5:9: error: control has no value"},
		{"unknown-key", least + "dns: {domian: a.test}\n", `5:7: error: unknown key "domian" in dns; did you mean domain?`},
		{"bad-value", least + "ranges: {pods: ten}\n", "5:16: error: ranges.pods:"},
		{"range-host-bits", least + "ranges: {pods: 10.172.0.1/15}\n", "write 10.172.0.0/15"},
		{"range-family", least + "ranges: {pods: 'fd00::/48'}\n", "is not an IPv4 range"},
		{"range-loopback", least + "ranges: {pods: 127.64.0.0/16}\n", "lies in the loopback range"},
		{"ranges-overlap", least + "ranges: {services: 10.173.0.0/16}\n", "5:20: error: ranges.services 10.173.0.0/16 and ranges.pods 10.172.0.0/15 overlap"},
		{"range-size", least + "ranges: {pods: 10.0.0.0/26}\n", "has not enough room for 1 nodes"},
		{"bad-port", least + "endpoint: {port: 70000}\n", "endpoint.port 70000 is not a port"},
		{"balancer-missing", least + "control: {count: 3}\n", "3 control-plane machines need something that answers for them"},
		{"balancer-single", least + "endpoint: {balancer: {size: small}}\n", "5:22: warning: the balancer is one machine"},
		{"bad-node-port", least + "endpoint: {balancer: {forward: [{port: 80, to: 80}]}}\n", "80 is not a node port"},
		{"port-twice", least + "endpoint: {balancer: {forward: [{port: 6443, to: 30080}]}}\n", "port 6443 of the balancer is used twice"},
		{"endpoint-address", least + "endpoint: {name: 192.0.2.7}\n", "warning: the endpoint 192.0.2.7 is an address"},
		{"control-none", least + "control: {count: 0}\n", "5:18: error: control.count is 0"},
		{"control-many", least + "control: {count: 11}\nendpoint: {balancer: {}}\n", "control.count is 11"},
		{"control-even", least + "control: {count: 2}\nendpoint: {balancer: {}}\n", "5:18: warning: 2 control-plane machines survive the loss of 0, as 1 would"},
		{"control-one-zone", least + "control: {count: 3, zones: [north]}\nendpoint: {balancer: {}}\n", "warning: all control-plane machines stand in one zone"},
		{"unknown-size", pool("size: smal"), `site estuary has no size "smal"; did you mean small?`},
		{"unknown-zone", pool("zones: [west]"), `site estuary has no zone "west"`},
		{"name-twice", pool("zones: [north, north]"), "zone north is listed twice"},
		{"name-reserved", strings.Replace(pool("count: 1"), "keepers", "control", 1), "could not be told from the cluster's own"},
		{"bad-count", pool("count: -1"), "pool keepers cannot have -1 machines"},
		{"bad-label", pool("labels: {'a b': c}"), "a b: c is not a label"},
		{"label-reserved", pool("labels: {kubernetes.io/x: y}"), "label kubernetes.io/x belongs to Kubernetes"},
		{"bad-taint", pool("taints: [{key: a, effect: NoSchedul}]"), `taint effect "NoSchedul" is not known; did you mean NoSchedule?`},
		{"unknown-way", pool("rollout: {way: blue-green}"), `roll-out way "blue-green" is not known`},
		{"bad-batch", pool("rollout: {batch: 0}"), "a batch of 0 machines never ends"},
		{"batch-whole-pool", pool("count: 2, rollout: {batch: 2}"), "warning: a batch of 2 takes the whole pool keepers down at once"},
		{"unknown-enrolment", pool("enrolment: tokn"), `enrolment "tokn" is not known; did you mean token?`},
		{"enrolment-not-yet", pool("enrolment: token"), "enrolment by token cannot be done yet"},
		{"bad-value", pool("rollout: {patience: soon}"), `pools[0].rollout.patience: "soon" is not a time span; write it like 2m or 90s`},
		{"unknown-plugin", least + "network: {plugin: other}\n", `network plugin "other" is not in the catalogue`},
	} {
		t.Run(x.rule, func(t *testing.T) {
			_, fs := read(x.text)
			for _, f := range fs {
				if f.Rule == x.rule && strings.Contains(f.String(), x.want) {
					return
				}
			}
			t.Errorf("wanted %s with %q in %v", x.rule, x.want, fs)
		})
	}
}

func TestSiteFindings(t *testing.T) {
	for _, x := range []struct{ old, new, want string }{
		{"127.81.7.0/24", "10.0.0.0/24", "a simulated site cannot use 10.0.0.0/24"},
		{"127.81.7.0/24", "127.0.0.0/16", "holds 127.0.0.1"},
		{"127.81.7.0/24", "127.81.7.9/24", "write 127.81.7.0/24"},
		{"simulated", "real", `site kind "real" is not known`},
		{"machines: 4}, {", "machines: 0}, {", "zone north has no room"},
		{"name: south", "name: north", "zone north is listed twice"},
		{"disk: 20GiB", "disk: 20", "sizes.small.disk"},
		{", disk: 20GiB", "", "size small lacks cpus, memory or disk"},
		{"kind: simulated", "kind: simulated\npace: 0", "pace 0 is out of range"},
	} {
		_, fs := ReadSite("estuary.site.yaml", []byte(strings.Replace(siteText, x.old, x.new, 1)))
		if fs.Errors() == 0 || !strings.Contains(fmt.Sprint(fs), x.want) {
			t.Errorf("%s: %v, wanted %q", x.new, fs, x.want)
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

// Whatever comes in, there is an answer and no panic; and what has no error
// names a version that exists.
func FuzzRead(f *testing.F) {
	f.Add([]byte(least))
	f.Add([]byte("a: &b [*b]"))
	f.Add([]byte("? [x]: y"))
	f.Add([]byte("pools: [{name: 1, count: 99999999999999999999}]"))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, _, fs := Read("f", data, "s", []byte(siteText), versions.Shipped())
		if fs.Errors() == 0 {
			if _, ok := versions.Shipped().Set(d.Kubernetes); !ok {
				t.Errorf("no error, and version %q", d.Kubernetes)
			}
		}
	})
}
