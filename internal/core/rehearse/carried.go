package rehearse

import (
	"maps"

	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Copy is what was observed, so that it can be changed without the original: no map of it is nil.
func Copy(o plan.Observed) plan.Observed {
	o.Machines, o.Nodes, o.Members, o.AddOns = own(o.Machines), own(o.Nodes), own(o.Members), own(o.AddOns)
	o.Open, o.Resting = own(o.Open), own(o.Resting)
	return o
}

func own[V any](m map[string]V) map[string]V {
	out := make(map[string]V, len(m))
	maps.Copy(out, m)
	return out
}

// Carried changes what is observed as a step does when it ends well.
func Carried(o *plan.Observed, c *topology.Cluster, p *plan.Plan, s plan.Step) {
	m, declared := c.Machine(s.Machine)
	set := c.Set
	if s.As != nil {
		m, set = *s.As, s.As.Set
	}
	seen := o.Machines[s.Machine]
	switch s.Kind {
	case plan.Get:
		if seen.Exists {
			seen.Reached, seen.Power = true, "on"
		} else {
			seen = plan.MachineSeen{Exists: true, Reached: true, Power: "on", Role: m.Role, Size: m.Size, Zone: m.Zone, Image: &m.Image}
		}
		o.Machines[s.Machine] = seen
	case plan.Pull:
		seen.Idle = held(m)
		o.Machines[s.Machine] = seen
	case plan.Switch:
		seen.Versions, seen.Idle, seen.Differs, seen.Restarts = held(m), seen.Versions, nil, nil
		o.Machines[s.Machine] = seen
	case plan.Write:
		if seen.Active == "" {
			seen.Active, seen.Versions, seen.Owner = "a", held(m), c.Name
		}
		seen.Differs, seen.Restarts, seen.Enrols = nil, nil, false
		if len(s.Files) == 0 {
			seen.Units = running(m)
		}
		o.Machines[s.Machine] = seen
	case plan.Node, plan.Control, plan.Carry, plan.Balance:
		seen.Units = running(m)
		o.Machines[s.Machine] = seen
	case plan.Entrust:
		seen.Rest = o.Rest
		o.Machines[s.Machine] = seen
	case plan.Member:
		o.Members[s.Machine] = plan.MemberSeen{ID: uint64(len(o.Members) + 1<<20), Healthy: true}
	case plan.Label:
		n := o.Nodes[s.Machine]
		n.Differs = nil
		o.Nodes[s.Machine] = n
	case plan.Ready:
		if declared && m.IsNode() {
			n := o.Nodes[s.Machine]
			n.Ready, n.Version = true, m.Set.Kubernetes
			o.Nodes[s.Machine] = n
		}
	case plan.Leave, plan.Drop:
		delete(o.Members, s.Machine)
	case plan.Unnode:
		delete(o.Nodes, s.Machine)
	case plan.Release:
		delete(o.Machines, s.Machine)
	case plan.Network:
		o.AddOns[versions.NetworkAddOn] = addOn(o.AddOns[versions.NetworkAddOn], set.Fairway, o.TrustMark)
	case plan.DNS:
		o.AddOns[versions.DNSAddOn] = addOn(o.AddOns[versions.DNSAddOn], set.DNS, o.TrustMark)
	case plan.Backup:
		o.Backup = p.From
	case plan.Wave:
		if s.Opens != nil {
			o.Open[s.Group] = *s.Opens
		}
	case plan.Soak, plan.Pause:
		w := o.Open[s.Group]
		w.Soaked, w.Held = w.Soaked || s.Kind == plan.Soak, w.Held || s.Kind == plan.Pause
		o.Open[s.Group] = w
	}
}

func addOn(was plan.AddOnSeen, version, trust string) plan.AddOnSeen {
	was.Version, was.Ready, was.Trust = version, true, trust
	return was
}

// held is what a machine's slot holds when its set was fetched.
func held(m topology.Machine) map[string]string {
	out := map[string]string{}
	for _, k := range m.Components() {
		out[k.Name] = k.Version
	}
	return out
}

func running(m topology.Machine) map[string]string {
	out := map[string]string{}
	for _, u := range nodeconf.Units(m) {
		out[u] = "active"
	}
	return out
}
