package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Trouble is something that does not work.
type Trouble struct {
	Machine string // empty: the cluster as a whole
	AddOn   bool   // an add-on that does not serve everywhere
	// Fronts are the machines of which one has to serve for the API, or its endpoint, to
	// answer, when that does not.
	Fronts []string
	Text   string
}

// Unseen says why parts of a cluster could not be looked at.
type Unseen struct {
	Site, API, Datastore error
	// Tokens say, by machine, why what it would enrol with lets it nowhere.
	Tokens map[string]string
}

// Ails lists everything that is not as it should be in a living cluster.
func Ails(c *topology.Cluster, o Observed, why Unseen, now time.Time) []Trouble {
	var out []Trouble
	at := ""
	add := func(format string, args ...any) {
		out = append(out, Trouble{Machine: at, Text: fmt.Sprintf(format, args...)})
	}
	if why.Site != nil {
		return []Trouble{{Text: fmt.Sprintf("the site was not seen: %v", why.Site)}}
	}
	if !o.API {
		out = append(out, Trouble{Fronts: servers(c), Text: fmt.Sprintf("the API does not answer: %v", why.API)})
	}
	if why.Datastore != nil {
		add("%v", why.Datastore)
	}
	for _, m := range c.Machines {
		at = m.Name
		s := o.Machines[m.Name]
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
				add("%s on %s is %s", u, m.Name, cmp.Or(s.Units[u], "not installed"))
			} else if r := s.Restarted[u]; loops(r, now) {
				add("%s", restarting(u, m.Name, r))
			}
		}
		if m.Is(versions.Member) && why.Datastore == nil {
			if mb, ok := o.Members[m.Name]; !ok {
				add("%s has no member of the datastore", m.Name)
			} else if mb.Learner || !mb.Healthy {
				add("the datastore member of %s is not well: %s", m.Name, cmp.Or(mb.Trouble, "it has no vote yet"))
			}
		}
		if n, ok := o.Nodes[m.Name]; m.IsNode() && o.API {
			if refused := why.Tokens[m.Name]; !ok && refused != "" {
				add("machine %s is not a node: %s", m.Name, refused)
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
	if o.API && !o.Endpoint {
		out = append(out, Trouble{Fronts: fronts(c), Text: fmt.Sprintf("the API does not answer at the endpoint %s", c.Endpoint.Addr())})
	}
	for _, name := range []string{versions.NetworkAddOn, versions.DNSAddOn} {
		text := ""
		if c.CopyOf != "" {
			break // what it holds is not told to anybody
		}
		if a := o.AddOns[name]; o.API && a.Version == "" {
			text = fmt.Sprintf("add-on %s is not installed", name)
		} else if o.API && !a.Ready {
			text = fmt.Sprintf("add-on %s does not serve everywhere yet: %s", name, a.State)
		}
		if text != "" {
			out = append(out, Trouble{AddOn: true, Text: text})
		}
	}
	return out
}

// Strays are nodes of the names that machines of the cluster have, which none has that is declared
// or at the site, and of which somebody reports that they are well. One that nobody reports is taken
// out by the next plan. A young one may be of a kubelet that registered while its machine went:
// until Kubernetes would have noticed that nobody reports it any more, nothing is known of it.
func Strays(c *topology.Cluster, o Observed, now time.Time) []string {
	const noticed = 2 * time.Minute // three times the grace that nodes have as a rule
	var out []string
	for _, name := range slices.Sorted(maps.Keys(o.Nodes)) {
		if _, declared := c.Machine(name); !declared && !o.Machines[name].Exists && o.Nodes[name].Ready && now.Sub(o.Nodes[name].Made) > noticed && c.CopyOf == "" && strings.HasPrefix(name, c.Name+"-") {
			out = append(out, name)
		}
	}
	return out
}

// fronts are the machines of which one has to serve for the endpoint to answer.
func fronts(c *topology.Cluster) []string {
	if c.Endpoint.By != topology.ByBalancer {
		return servers(c)
	}
	var out []string
	for _, m := range c.With(versions.Balances) {
		out = append(out, m.Name)
	}
	return out
}

// servers are the machines with an API server.
func servers(c *topology.Cluster) []string {
	var out []string
	for _, m := range c.With(versions.API) {
		out = append(out, m.Name)
	}
	return out
}

// Excused says whether it is no wonder while a run has machines out of service, by name.
func (t Trouble) Excused(out map[string]bool) bool {
	return t.AddOn || out[t.Machine] || len(t.Fronts) > 0 && !slices.ContainsFunc(t.Fronts, func(m string) bool { return !out[m] })
}

// loops says whether a unit is in the middle of failing and being started again,
// though it may run at the moment: that is not well, and no change is done with it.
func loops(r Restarted, now time.Time) bool {
	return r.Times >= manyRestarts && now.Sub(r.Last) < loopRecent
}

func restarting(unit, machine string, r Restarted) string {
	text := fmt.Sprintf("%s on %s keeps restarting, %d times so far", unit, machine, r.Times)
	if r.Why != "" {
		text += ": " + r.Why
	}
	return text
}

// Thresholds of what strains a machine; ClockOff is also what a survey lets pass.
const (
	diskNearlyFull = 90              // percent
	ClockOff       = 2 * time.Second // that a clock may be off
	manyRestarts   = 3               // since a unit was last started by somebody
	restartsRecent = 10 * time.Minute
	loopRecent     = 5 * time.Second // more than a unit's pause and a short life
)

// Strains lists what works and should be seen to: disks, clocks, cordoned nodes,
// units that keep restarting. Machines that a run has out of service are left out,
// and restarts after which a run found everything well: as a rule it was their cause.
func Strains(c *topology.Cluster, o Observed, out map[string]bool, now time.Time, foundWell func() time.Time) []string {
	var list []string
	add := func(format string, args ...any) { list = append(list, fmt.Sprintf(format, args...)) }
	for _, m := range c.Machines {
		s := o.Machines[m.Name]
		if !s.Reached || out[m.Name] {
			continue
		}
		if s.Disk > 0 && s.DiskUsed*100 >= s.Disk*diskNearlyFull {
			add("the disk of %s is %d%% full", m.Name, s.DiskUsed*100/s.Disk)
		}
		if off := s.ClockOff; off.Abs() > ClockOff {
			add("the clock of %s is %s %s", m.Name, off.Abs().Round(time.Second), map[bool]string{true: "ahead", false: "behind"}[off > 0])
		}
		for _, u := range slices.Sorted(maps.Keys(s.Restarted)) {
			if r := s.Restarted[u]; r.Times >= manyRestarts && now.Sub(r.Last) < restartsRecent && !loops(r, now) && r.Last.After(foundWell()) {
				add("%s", restarting(u, m.Name, r))
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(o.Nodes)) {
		_, declared := c.Machine(name)
		switch n := o.Nodes[name]; {
		case !n.Unschedulable || out[name]:
		case !declared && o.Machines[name].Exists:
			add("node %s is cordoned, and no longer declared; converge empties it and gives its machine back", name)
		case n.Cordoned:
			add("node %s is cordoned, by run %s of verbund; converge lets pods onto it again", name, n.By)
		default:
			add("node %s is cordoned, and not by verbund; kubectl uncordon %s lets pods onto it again", name, name)
		}
	}
	return list
}
