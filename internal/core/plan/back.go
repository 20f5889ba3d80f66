package plan

import (
	"fmt"
	"maps"
	"slices"

	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// WayBack is how a roll-out is taken back: what is to be declared then.
type WayBack struct {
	Kubernetes string            // of the control plane; empty, it stays
	Pools      map[string]string // version, by pool
	Groups     []string          // all that go back
	// Stays says why the control plane does not go back, where it has moved.
	Stays string
}

// BackOf is the way back to what groups ran before, of all or of those that are named:
// workers go back as far as the skew rules allow, the control plane within a minor. It is a
// Refusal when nothing can.
func BackOf(c *topology.Cluster, o Observed, before map[string]string, only []string, cat *versions.Catalogue) (*WayBack, error) {
	for _, name := range only {
		if !slices.Contains(c.Groups(), name) {
			return nil, &Misnamed{fmt.Sprintf("cluster %s has no group of machines %q", c.Name, name), near(name, c.Groups(), "choose among "+enumerate(c.Groups()))}
		}
	}
	meant := func(name string) bool { return len(only) == 0 || slices.Contains(only, name) }
	b := &WayBack{Pools: map[string]string{}}
	now := Version(c, o)
	var why []string
	for _, name := range slices.Sorted(maps.Keys(before)) {
		was := before[name]
		high := ""
		for _, m := range c.OfGroup(name) {
			if v := o.Machines[m.Name].Running(); v != "" && (high == "" || versions.Compare(v, high) > 0) {
				high = v
			}
		}
		if !meant(name) || high == "" || versions.Compare(high, was) <= 0 {
			continue
		}
		if _, ok := cat.Set(was); !ok {
			why = append(why, fmt.Sprintf("%s ran %s, which the catalogue does not have", topology.GroupInWords(name), was))
			continue
		}
		switch {
		case !topology.IsPool(name) && cat.GoesBack(high, was):
			b.Kubernetes, b.Groups = was, append(b.Groups, name)
		case !topology.IsPool(name):
			b.Stays = fmt.Sprintf("%s has moved from %s to %s, and a minor does not go back, neither its own nor its datastore's: a datastore that a newer API server wrote is not read by an older one", topology.GroupInWords(name), was, high)
		case versions.Minor(now)-versions.Minor(was) > versions.KubeletSkew:
			why = append(why, fmt.Sprintf("%s ran %s, more than %d minors older than its API servers", topology.GroupInWords(name), was, versions.KubeletSkew))
		default:
			b.Pools[name], b.Groups = was, append(b.Groups, name)
		}
	}
	if b.Kubernetes != "" {
		// Nothing is newer than its API servers.
		for name, v := range b.Pools {
			if versions.Compare(v, b.Kubernetes) >= 0 {
				delete(b.Pools, name) // it follows the cluster
			}
		}
	}
	if b.Kubernetes == "" && len(b.Pools) == 0 {
		if b.Stays != "" {
			why = append(why, b.Stays)
		}
		if len(why) == 0 {
			why = []string{"no machine runs anything newer than before its last roll-out"}
		}
		return nil, &Refusal{"there is nothing to take back: " + enumerate(why), "verbund rollout shows where it stands"}
	}
	return b, nil
}
