package declare

import (
	"bytes"
	"fmt"
	"net/netip"

	"go.yaml.in/yaml/v3"
)

// Aside writes the declaration of a copy of a cluster beside it, for looking at: one
// control-plane machine and nothing else. What the API server and the datastore go by stays as
// it was declared, since what the backup holds was written under it. d is the declaration that
// text holds, with its defaults; as is the copy's name; why says in one line where it comes from.
func Aside(text []byte, d *Declaration, as, why string) ([]byte, error) {
	root, err := edited(text)
	if err != nil || root.Kind != yaml.MappingNode {
		return nil, errByHand
	}
	scalar := func(s string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Value: s} }
	pairs := func(kv ...string) *yaml.Node {
		n := &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
		for i := 0; i < len(kv); i += 2 {
			var v yaml.Node
			if err := yaml.Unmarshal([]byte(kv[i+1]), &v); err != nil || len(v.Content) == 0 {
				v = yaml.Node{Content: []*yaml.Node{scalar(kv[i+1])}}
			}
			n.Content = append(n.Content, scalar(kv[i]), v.Content[0])
		}
		return n
	}
	at := as + "." + d.Endpoint.Name
	if _, err := netip.ParseAddr(d.Endpoint.Name); err == nil {
		at = as + "." + d.DNS.Domain // an address is the other one's
	}
	control := []string{"count", "1", "size", d.Control.Size, "nodes", "false"}
	if d.Control.Image != "" {
		control = append(control, "image", d.Control.Image)
	}
	out := &yaml.Node{Kind: yaml.MappingNode}
	put := func(key string, v *yaml.Node) { out.Content = append(out.Content, scalar(key), v) }
	put("schema", scalar(Schema))
	put("name", scalar(as))
	put("copyOf", scalar(d.Name))
	put("kubernetes", scalar(d.Kubernetes))
	put("site", scalar(d.Site))
	put("endpoint", pairs("name", at, "port", fmt.Sprint(d.Endpoint.Port)))
	put("dns", pairs("domain", d.DNS.Domain))
	put("control", pairs(control...))
	put("trust", pairs("algorithm", d.Trust.Algorithm))
	for _, key := range []string{"catalogue", "ranges", "network", "components", "images", "exceptions"} {
		if _, v := child(root, key); v != nil {
			put(key, bare(v))
		}
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "# %s\n# Nothing acts in it, and nobody but you knows of it. It goes with: verbund teardown --file %s\n", why, as)
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(out); err != nil {
		return nil, err
	}
	return b.Bytes(), e.Close()
}

// bare is a value without what its writer remarked, which is of another cluster.
func bare(n *yaml.Node) *yaml.Node {
	n.HeadComment, n.LineComment, n.FootComment = "", "", ""
	for _, c := range n.Content {
		bare(c)
	}
	return n
}

// CopyOf says of which cluster a declaration declares a copy; empty if of none, or if that
// cannot be read.
func CopyOf(text []byte) string {
	root, err := edited(text)
	if err != nil {
		return ""
	}
	if _, v := child(root, "copyOf"); v != nil {
		return v.Value
	}
	return ""
}

// copies judges a copy: whatever acts in it would act on what is not its own.
func (k *checker) copies() {
	c := k.c
	if c.CopyOf == "" {
		return
	}
	k.name("copyOf", c.CopyOf)
	if c.CopyOf == c.Name {
		k.add("copyOf", "bad-copy", fmt.Sprintf("cluster %s would be a copy of itself", c.Name), "give the copy another name")
	}
	for _, x := range []struct {
		at   string
		has  bool
		what string
	}{
		{"pools", len(c.Pools) > 0, "workers"},
		{"control.count", c.Control.Count != 1, "another number of control-plane machines than one"},
		{"control.nodes", c.Control.AsNodes(), "a control-plane machine that is a node"},
		{"control.datastore.place", c.Control.Datastore.Place == "apart", "a datastore apart"},
		{"endpoint", c.Endpoint.Balancer != nil || c.Endpoint.Existing != nil || c.Endpoint.Virtual != nil, "something that answers for it"},
		{"backup.every", c.Backup.Every > 0, "backups of its own"},
		{"prove", c.Prove != ProveNever, "proofs of its own"},
		{"drills", len(c.Drills) > 0, "drills of its own"},
		{"watch", len(c.Watch) > 0, "watches of its own"},
	} {
		if x.has {
			k.add(x.at, "bad-copy", "a copy has "+x.what+", and is to be looked at alone", "take it out, or copyOf")
		}
	}
}
