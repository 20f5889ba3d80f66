package declare

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"
)

var update = flag.Bool("update", false, "write docs/declaration.md")

func compile(t *testing.T, b []byte, err error) *jsonschema.Schema {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("s.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("s.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// valid says what a schema finds in YAML.
func valid(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	j, err := jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	return s.Validate(j)
}

// full uses every key of a declaration.
const full = `schema: verbund/1
name: lampwright
kubernetes: v1.37.2
site: estuary
endpoint: {name: api.lamps.test, port: 6443, also: [443], virtual: {address: 127.81.7.250}}
ranges: {pods: 10.172.0.0/15, services: 10.112.0.0/16, perNode: 512, machines: 127.81.7.0/24}
dns: {domain: lamps.test}
network: {plugin: fairway, settings: {mtu: "1450"}, proxy: {url: "http://proxy.seamark.test:3128", except: [.seamark.test]}, mirror: [images.seamark.test]}
control:
  count: 3
  size: small
  zones: [north, south]
  image: lean
  nodes: false
  names: [lamps.example, 192.0.2.9]
  datastore: {place: apart, count: 3, size: small, zones: [north, south]}
components:
  kube-apiserver: {flags: {audit-log-maxage: "30"}}
  kubelet: {config: {maxPods: 200}}
images: {lean: {system: skerry 2026.11, architecture: arm64, extras: [tcpdump]}}
system:
  timeZone: Etc/GMT-1
  people: [{name: maren, keys: ["` + sshKey + `"], rights: act}]
  addresses: {lampwright-control-1: 127.81.7.40}
trust: {authority: 3650d, leaf: 90d, renew: 20d, algorithm: ecdsa-p384, tokens: rsa-2048, keys: held, kubelets: {renew: own, life: 90d}, programs: [{name: lampbook, names: [lampbook.test], client: true, algorithm: ed25519}]}
addOns: {coredns: {version: v1.14.2, reason: slow answers}}
exceptions: [{rule: setting-unknown, reason: tried}]
watch: [{name: tidetable, url: 'http://api.tidewatch.test:8080/', status: 200, text: high, interval: 200ms, allow: 2, slow: 1s}]
rollout: {pools: together, window: {days: [mon, tue], from: '22:00', to: '05:30', timeZone: Etc/GMT-1}}
pools:
  - name: keepers
    count: 2-4
    size: small
    zones: [north]
    image: lean
    labels: {a: b}
    taints: [{key: a, value: b, effect: NoSchedule}]
    kubernetes: v1.36.3
    rollout: {way: replacement, batch: 50%, surge: 2, order: spread, trial: 1, soak: 2m, hold: after-trial, failures: 1, patience: 90s}
    enrolment: issued
    adopt: ["02:5e:00:00:00:01"]
`

// What one accepts the other accepts; an unknown key anywhere is refused by both.
func TestSchemaAndDecoderAgree(t *testing.T) {
	b, err := DeclarationSchema()
	s := compile(t, b, err)
	if strings.Contains(string(b), "$schema\": \"https://json-schema.org/draft/2020-12/schema") == false {
		t.Error("the schema does not name its draft")
	}
	for name, text := range map[string]string{"least": least, "full": full, "derived": derived} {
		if err := valid(t, s, text); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if fs := read(text, "coast/base.yaml", base).Findings; fs.Errors() > 0 {
			t.Errorf("%s: %v", name, fs)
		}
	}
	// Wherever a mapping with known keys stands, an unknown one is put into it.
	var root yaml.Node
	if err := yaml.Unmarshal([]byte(full), &root); err != nil {
		t.Fatal(err)
	}
	tried := 0
	var walk func(n *yaml.Node, t reflect.Type, path string)
	walk = func(n *yaml.Node, typ reflect.Type, path string) {
		if typ.Kind() == reflect.Pointer {
			typ = typ.Elem()
		}
		switch {
		case n.Kind == yaml.SequenceNode && typ.Kind() == reflect.Slice:
			for i, c := range n.Content {
				walk(c, typ.Elem(), fmt.Sprintf("%s[%d]", path, i))
			}
		case n.Kind == yaml.MappingNode && typ.Kind() == reflect.Map:
			for i := 0; i < len(n.Content); i += 2 {
				walk(n.Content[i+1], typ.Elem(), path+"."+n.Content[i].Value)
			}
		case n.Kind == yaml.MappingNode && typ.Kind() == reflect.Struct:
			kept := n.Content
			n.Content = append(append([]*yaml.Node{}, kept...), &yaml.Node{Kind: yaml.ScalarNode, Value: "surprise"}, &yaml.Node{Kind: yaml.ScalarNode, Value: "x"})
			text, err := yaml.Marshal(&root)
			n.Content = kept
			if err != nil {
				t.Fatal(err)
			}
			tried++
			if valid(t, s, string(text)) == nil {
				t.Errorf("an unknown key in %s is valid by the schema", path)
			}
			if !strings.Contains(fmt.Sprint(read(string(text)).Findings), "unknown-key") {
				t.Errorf("an unknown key in %s is taken by the decoder", path)
			}
			fields, _ := keysOf(typ)
			for i := 0; i < len(kept); i += 2 {
				walk(kept[i+1], typ.Field(fields[kept[i].Value]).Type, path+"."+kept[i].Value)
			}
		}
	}
	walk(root.Content[0], reflect.TypeFor[Declaration](), "")
	if tried < 15 {
		t.Errorf("only %d places were tried", tried)
	}
	for _, bad := range []string{strings.Replace(least, "v1.37.2", "1.37", 1), least + "control: {count: three}\n", least + "control:\n", strings.Replace(least, "name: lampwright\n", "", 1), pool("rollout: {patience: soon}"), pool("enrolment: magic")} {
		if valid(t, s, bad) == nil || read(bad).Findings.Errors() == 0 {
			t.Errorf("taken:\n%s", bad)
		}
	}
}

func TestSiteSchema(t *testing.T) {
	b, err := SiteFileSchema()
	s := compile(t, b, err)
	if err := valid(t, s, siteText); err != nil {
		t.Error(err)
	}
	if valid(t, s, siteText+"surprise: x\n") == nil {
		t.Error("an unknown key is valid")
	}
}

// Every key has a text, and the reference in docs is what the types say.
func TestReferenceIsCurrent(t *testing.T) {
	const file, from, to = "../../../docs/declaration.md", "<!-- keys: written by the test of core/declare with -update -->\n", "<!-- end of keys -->\n"
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	head, rest, ok := strings.Cut(string(b), from)
	_, tail, ok2 := strings.Cut(rest, to)
	if !ok || !ok2 {
		t.Fatal("docs/declaration.md has no place for the keys")
	}
	want := head + from + Reference() + to + tail
	if *update {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	} else if string(b) != want {
		t.Error("docs/declaration.md is not what the types say; run go test ./internal/core/declare -update")
	}
	var walk func(t2 reflect.Type)
	walk = func(typ reflect.Type) {
		for typ.Kind() == reflect.Pointer || typ.Kind() == reflect.Slice || typ.Kind() == reflect.Map {
			typ = typ.Elem()
		}
		if typ.Kind() != reflect.Struct || typ.PkgPath() != reflect.TypeFor[Declaration]().PkgPath() {
			return
		}
		for i := range typ.NumField() {
			f := typ.Field(i)
			if f.Tag.Get("yaml") == "" {
				return // a value that is written as text
			}
			if f.Tag.Get("doc") == "" {
				t.Errorf("%s.%s has no text", typ.Name(), f.Name)
			}
			walk(f.Type)
		}
	}
	walk(reflect.TypeFor[Declaration]())
	walk(reflect.TypeFor[Site]())
}
