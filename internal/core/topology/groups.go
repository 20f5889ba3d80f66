package topology

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/rollout"
	"verbund/internal/core/versions"
)

// numbers are those of a group's machines, by place: what is remembered, and for the rest
// the lowest that are free. Places go from the last one on when there are fewer.
func (mem Memory) numbers(group string, count int) []int {
	out := slices.Clone(mem.Numbers[group])
	out = out[:min(len(out), max(count, 0))]
	for n := 1; len(out) < count; n++ {
		if !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out
}

// zone is where a machine stands: where it is, if that is still declared, so that neither
// another zone in the list nor another pool before its own moves it; else the zone in turn.
func (mem Memory) zone(machine string, zones []string, turn int) string {
	if is := mem.Zones[machine]; slices.Contains(zones, is) {
		return is
	}
	return zones[turn%len(zones)]
}

// policies works out how changes reach the groups that are no pools, and when.
func (c *Cluster) policies(d *declare.Declaration) {
	r := d.Control.Rollout
	careful := rollout.Careful(rollout.Way(r.Way), time.Duration(r.Soak), rollout.Hold(r.Hold))
	c.Policies = map[string]rollout.Policy{groupControl: careful, groupDatastore: careful}
	c.Together, c.Prefetch = d.Rollout.Pools == "together", d.Rollout.Prefetch
	w := d.Rollout.Window
	if w == nil {
		return
	}
	zone, err := time.LoadLocation(w.TimeZone)
	if err != nil {
		zone = time.UTC // check has refused it
	}
	c.Window = &rollout.Window{From: clock(w.From), To: clock(w.To), Zone: zone}
	for i := range c.Window.Days {
		// Weeks begin on a Monday there, and on a Sunday here.
		c.Window.Days[i] = slices.Contains(w.Days, declare.Weekdays[(i+6)%7])
	}
}

// clock reads a time of day, as a span since midnight.
func clock(text string) time.Duration {
	h, m, _ := strings.Cut(text, ":")
	hours, _ := strconv.Atoi(h)
	minutes, _ := strconv.Atoi(m)
	return time.Duration(hours)*time.Hour + time.Duration(minutes)*time.Minute
}

// Group names the machines among which a machine is rolled out: its pool, or its role.
func (m Machine) Group() string {
	switch m.Role {
	case versions.Control:
		return groupControl
	case versions.Datastore:
		return groupDatastore
	case versions.Balancer:
		return groupBalancer
	}
	return m.Pool
}

// Groups are the groups of machines with a policy, in the order in which changes reach
// them: the datastore's, the control plane, and pools as they are declared.
func (c *Cluster) Groups() []string {
	var out []string
	for _, m := range c.Machines {
		if g := m.Group(); g != groupBalancer && !slices.Contains(out, g) {
			out = append(out, g)
		}
	}
	slices.SortStableFunc(out, func(a, b string) int { return cmp.Compare(before(a), before(b)) })
	return out
}

func before(group string) int {
	if i := slices.Index([]string{groupDatastore, groupControl}, group); i >= 0 {
		return i
	}
	return 2
}

// OfGroup are the machines of a group, by place.
func (c *Cluster) OfGroup(group string) []Machine {
	return slices.DeleteFunc(slices.Clone(c.Machines), func(m Machine) bool { return m.Group() != group })
}

// GroupOf is the group of a machine, by its name where it is not declared any more, and
// the number at the end of its name; empty when it is of none.
func (c *Cluster) GroupOf(machine string) (group string, number int) {
	rest, ours := strings.CutPrefix(machine, c.Name+"-")
	i := strings.LastIndex(rest, "-")
	if !ours || i < 1 {
		return "", 0
	}
	number, err := strconv.Atoi(rest[i+1:])
	if err != nil || number < 1 || strconv.Itoa(number) != rest[i+1:] {
		return "", 0
	}
	return rest[:i], number
}

// IsPool says whether a group is a pool, and not the cluster's own machines.
func IsPool(group string) bool {
	return group != groupControl && group != groupDatastore && group != groupBalancer
}

// GroupInWords is a group as a sentence names it.
func GroupInWords(group string) string {
	switch group {
	case groupControl:
		return "the control plane"
	case groupDatastore:
		return "the datastore's machines"
	case groupBalancer:
		return "the balancer"
	}
	return fmt.Sprintf("pool %s", group)
}
