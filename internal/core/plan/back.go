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
	Follow     []string          // pools that go back with the control plane, since nothing is newer than it
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
		high := highest(c, o, name)
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
		for _, name := range c.Groups() {
			if high := highest(c, o, name); !topology.IsPool(name) || high == "" || versions.Compare(high, b.Kubernetes) <= 0 {
				continue
			}
			if v, own := b.Pools[name]; own && versions.Compare(v, b.Kubernetes) < 0 {
				continue // it goes back further
			}
			delete(b.Pools, name)
			b.Follow = append(b.Follow, name)
			if !slices.Contains(b.Groups, name) {
				b.Groups = append(b.Groups, name)
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

// highest is the newest version that machines of a group run; empty where none is known.
func highest(c *topology.Cluster, o Observed, group string) string {
	high := ""
	for _, m := range c.OfGroup(group) {
		if v := o.Machines[m.Name].Running(); v != "" && (high == "" || versions.Compare(v, high) > 0) {
			high = v
		}
	}
	return high
}
