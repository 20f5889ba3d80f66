package look

import (
	"fmt"
	"strings"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/versions"
	"verbund/internal/kube"
)

// Trouble is something that does not work.
type Trouble struct {
	Machine string // empty: the cluster as a whole
	AddOn   bool   // an add-on that does not serve everywhere
	Text    string
}

// Ailing lists, in words, everything that does not work in a living cluster.
func (v *View) Ailing() []string {
	var out []string
	for _, t := range v.Ails() {
		out = append(out, t.Text)
	}
	return out
}

// Ails lists everything that is not as it should be in a living cluster.
func (v *View) Ails() []Trouble {
	var out []Trouble
	now := time.Now()
	at := ""
	add := func(format string, args ...any) {
		out = append(out, Trouble{Machine: at, Text: fmt.Sprintf(format, args...)})
	}
	if v.Inventory == nil {
		return []Trouble{{Text: fmt.Sprintf("the site was not seen: %v", v.SiteError)}}
	}
	if !v.Seen.API {
		add("the API does not answer: %v", v.APIError)
	}
	if v.DatastoreError != nil {
		add("%v", v.DatastoreError)
	}
	for _, m := range v.Cluster.Machines {
		at = m.Name
		s := v.Seen.Machines[m.Name]
		if !s.Exists {
			add("machine %s is missing", m.Name)
			continue
		}
		if !s.Reached {
			add("machine %s cannot be reached: %s", m.Name, strings.TrimPrefix(s.Trouble, m.Name+": "))
			continue
		}
		for _, u := range nodeconf.Units(m) {
			if s.Units[u] != "active" {
				add("%s on %s is %s", u, m.Name, orText(s.Units[u], "not installed"))
			} else if r := s.Restarted[u]; loops(r, now) {
				add("%s", restarting(u, m.Name, r))
			}
		}
		if m.Is(versions.Member) && v.DatastoreError == nil {
			if mb, ok := v.Seen.Members[m.Name]; !ok {
				add("%s has no member of the datastore", m.Name)
			} else if mb.Learner || !mb.Healthy {
				add("the datastore member of %s is not well: %s", m.Name, orText(mb.Trouble, "it has no vote yet"))
			}
		}
		if n, ok := v.Seen.Nodes[m.Name]; m.IsNode() && v.Seen.API {
			if why := v.Refused[m.Name]; !ok && why != "" {
				add("machine %s is not a node: %s", m.Name, why)
			} else if !ok {
				add("machine %s is not a node", m.Name)
			} else if !n.Ready {
				add("node %s is not Ready: %s", m.Name, n.Trouble)
			} else if s.Unsigned != "" {
				add("the kubelet of %s has no certificate to serve with: %s", m.Name, s.Unsigned)
			}
		}
	}
	at = ""
	if v.Seen.API && !v.Seen.Endpoint {
		add("the API does not answer at the endpoint %s", v.Cluster.Endpoint.Addr())
	}
	for _, name := range []string{kube.Network, kube.DNS} {
		text := ""
		if a := v.Seen.AddOns[name]; v.Seen.API && a.Version == "" {
			text = fmt.Sprintf("add-on %s is not installed", name)
		} else if v.Seen.API && !a.Ready {
			text = fmt.Sprintf("add-on %s does not serve everywhere yet: %s", name, a.State)
		}
		if text != "" {
			out = append(out, Trouble{AddOn: true, Text: text})
		}
	}
	return out
}

func orText(s, def string) string {
	if s == "" {
		return def
	}
	return s
}
