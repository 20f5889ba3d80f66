package nodeconf

import (
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

// Connection is one kind of connection of a cluster: who shows which
// certificate to whom, and with which authority each verifies the other. It is
// read from the rendered configuration, not from what that was made of.
type Connection struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Shows is the certificate that the client shows, by file name without
	// ending; empty when it shows none. Its authority is the one with which the
	// server verifies it.
	Shows         string `json:"shows,omitempty"`
	ShowsVerified string `json:"showsVerifiedWith,omitempty"`
	// Serves is the certificate that the server shows, and the authority with
	// which the client verifies it.
	Serves         string `json:"serves,omitempty"`
	ServesVerified string `json:"servesVerifiedWith,omitempty"`
	// On are the machines from which the connection is made; without any it is
	// made from the tool's computer, or a person's.
	On []string `json:"on,omitempty"`
}

// side is what one component shows and what it trusts, as its files say.
type side struct{ shows, trusts string }

// configured is what the rendered files of one machine say.
type configured struct {
	flags map[string]map[string]string // by unit
	trees map[string]map[string]any    // by file name
}

func read(files []File) configured {
	c := configured{map[string]map[string]string{}, map[string]map[string]any{}}
	for _, f := range files {
		switch {
		case strings.HasSuffix(f.Path, ".service"):
			flags := map[string]string{}
			for _, w := range strings.Fields(f.Content) {
				if name, value, ok := strings.Cut(strings.TrimPrefix(w, "--"), "="); ok && strings.HasPrefix(w, "--") {
					flags[name] = strings.TrimSuffix(value, "\\")
				}
			}
			c.flags[strings.TrimSuffix(path.Base(f.Path), ".service")] = flags
		case strings.HasSuffix(f.Path, ".yaml"), strings.HasSuffix(f.Path, ".kubeconfig"), strings.HasSuffix(f.Path, ".json"):
			var tree map[string]any
			if yaml.Unmarshal([]byte(f.Content), &tree) == nil {
				c.trees[path.Base(f.Path)] = tree
			}
		case strings.HasSuffix(f.Path, ".cfg"):
			for _, l := range strings.Split(f.Content, "\n") {
				if _, rest, ok := strings.Cut(l, "ca-file "); ok {
					c.trees[path.Base(f.Path)] = map[string]any{"ca-file": strings.Fields(rest)[0]}
				}
			}
		}
	}
	return c
}

// name is a trust file without folder and ending.
func name(file string) string {
	return strings.TrimSuffix(strings.TrimSuffix(path.Base(file), ".crt"), ".pem")
}

// at is a value in a tree; lists are entered at their first element.
func at(tree map[string]any, keys ...string) string {
	var v any = tree
	for _, k := range keys {
		if l, ok := v.([]any); ok && len(l) > 0 {
			v = l[0]
		}
		m, ok := v.(map[string]any)
		if !ok {
			return ""
		}
		v = m[k]
	}
	s, _ := v.(string)
	if s == "" {
		return ""
	}
	return name(s)
}

func (c configured) kubeconfig(file string) side {
	t := c.trees[file]
	if t == nil {
		return side{}
	}
	return side{at(t, "users", "user", "client-certificate"), at(t, "clusters", "cluster", "certificate-authority")}
}

func (c configured) flag(unit, flag string) string {
	if v := c.flags[unit][flag]; v != "" {
		return name(v)
	}
	return ""
}

// The names of what makes connections.
const (
	aAPI, aDatastore, aKubelet, aExtension = "API server", "datastore", "kubelet", "extension API servers"
)

// Connections lists the connections of a cluster, by what they lead to.
func Connections(c *topology.Cluster) []Connection {
	servers := map[string]side{}
	type half struct {
		from, to string
		side
		on string
	}
	var halves []half
	for _, m := range c.Machines {
		r := read(Render(c, m, Options{}))
		add := func(from, to string, s side) {
			if s.shows != "" || s.trusts != "" {
				halves = append(halves, half{from, to, s, m.Name})
			}
		}
		if m.Is(versions.Member) {
			etcd := r.trees["etcd.yaml"]
			servers[aDatastore] = side{at(etcd, "client-transport-security", "cert-file"), at(etcd, "client-transport-security", "trusted-ca-file")}
			peer := side{at(etcd, "peer-transport-security", "cert-file"), at(etcd, "peer-transport-security", "trusted-ca-file")}
			servers["other members"] = peer
			add("datastore member", "other members", peer)
		}
		if m.Is(versions.API) {
			servers[aAPI] = side{r.flag("kube-apiserver", "tls-cert-file"), r.flag("kube-apiserver", "client-ca-file")}
			servers[aExtension] = side{"", r.flag("kube-apiserver", "requestheader-client-ca-file")}
			add(aAPI, aDatastore, side{r.flag("kube-apiserver", "etcd-certfile"), r.flag("kube-apiserver", "etcd-cafile")})
			add(aAPI, aKubelet, side{r.flag("kube-apiserver", "kubelet-client-certificate"), r.flag("kube-apiserver", "kubelet-certificate-authority")})
			add(aAPI, aExtension, side{r.flag("kube-apiserver", "proxy-client-cert-file"), ""})
			add("controller manager", aAPI, r.kubeconfig("controller-manager.kubeconfig"))
			add("scheduler", aAPI, r.kubeconfig("scheduler.kubeconfig"))
			add("request approver", aAPI, r.kubeconfig("request-approver.kubeconfig"))
			if t := r.trees["endpoint-carrier.json"]; t != nil {
				add("endpoint carrier", aDatastore, side{at(t, "certificate"), at(t, "datastoreAuthority")})
				add("endpoint carrier", aAPI, side{"", at(t, "authority")})
			}
			if t := r.trees["backup-keeper.json"]; t != nil {
				add("backup keeper", aDatastore, side{at(t, "certificate"), at(t, "datastoreAuthority")})
			}
		}
		if m.IsNode() {
			kubelet := r.trees["kubelet.yaml"]
			serves := at(kubelet, "tlsCertFile")
			if own, _ := kubelet["serverTLSBootstrap"].(bool); own {
				serves = "kubelet-serving"
			}
			servers[aKubelet] = side{serves, at(kubelet, "authentication", "x509", "clientCAFile")}
			client := r.kubeconfig("kubelet-client.kubeconfig")
			if r.flags["kubelet"]["bootstrap-kubeconfig"] != "" {
				client = side{"kubelet-client", r.kubeconfig("proxy.kubeconfig").trusts}
			}
			add(aKubelet, aAPI, client)
			add("proxy", aAPI, r.kubeconfig("proxy.kubeconfig"))
		}
		if m.Is(versions.Balances) {
			add("balancer", aAPI, side{"", at(r.trees["haproxy.cfg"], "ca-file")})
		}
	}
	for _, q := range trust.ToolRequests(c) {
		to := map[trust.Authority]string{trust.Cluster: aAPI, trust.Datastore: aDatastore}[q.Authority]
		halves = append(halves, half{"Verbund", to, side{q.Name, servers[to].trusts}, ""})
	}
	halves = append(halves, half{"people", aAPI, side{"their own", servers[aAPI].trusts}, ""})
	var out []Connection
	for _, h := range halves {
		i := slices.IndexFunc(out, func(x Connection) bool { return x.From == h.from && x.To == h.to })
		if i < 0 {
			n := Connection{From: h.from, To: h.to, Shows: h.shows, Serves: servers[h.to].shows, ServesVerified: h.trusts}
			if h.shows != "" {
				n.ShowsVerified = servers[h.to].trusts
			}
			out, i = append(out, n), len(out)
		}
		if h.on != "" {
			out[i].On = append(out[i].On, h.on)
		}
	}
	order := []string{aAPI, aKubelet, aExtension, aDatastore, "other members"}
	slices.SortStableFunc(out, func(a, b Connection) int { return slices.Index(order, a.To) - slices.Index(order, b.To) })
	return out
}
