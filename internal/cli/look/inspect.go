package look

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/spf13/cobra"
	corev1 "k8s.io/api/core/v1"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/versions"
	"verbund/internal/engine/look"
	"verbund/internal/kube"
	"verbund/internal/site"
)

// Inspected is one machine, with its node and its member of the datastore.
type Inspected struct {
	Name     string                `json:"name"`
	Group    string                `json:"group"` // pool or role; empty: it is not declared
	Machine  *site.Machine         `json:"machine,omitempty"`
	Reached  bool                  `json:"reached"`
	Trouble  string                `json:"trouble,omitempty"`
	Slot     string                `json:"slot,omitempty"`
	Versions map[string]string     `json:"versions"` // by component
	Services map[string]string     `json:"services"` // state by unit
	Disk     int64                 `json:"disk,omitempty"`
	DiskUsed int64                 `json:"diskUsed,omitempty"`
	ClockOff float64               `json:"clockOff"` // seconds that it is ahead
	Differs  []string              `json:"differs"`  // files that are not as rendered
	Node     *corev1.Node          `json:"node,omitempty"`
	Member   *look.MemberHealth    `json:"member,omitempty"`
	Declared *inspectedDeclaration `json:"declared,omitempty"`
}

type inspectedDeclaration struct {
	Zone    string            `json:"zone"`
	Size    string            `json:"size"`
	Address netip.Addr        `json:"address"`
	Runs    string            `json:"runs"`
	Labels  map[string]string `json:"labels"`
}

// InspectCmd is verbund inspect.
func InspectCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "inspect NAME…", Short: "Show machines or nodes in full, side by side",
		Example: "  verbund inspect tidewatch-gauges-1 tidewatch-gauges-2",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return term.Usage("inspect needs at least one machine; machines lists them")
			}
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			if err := look.Unseen(s, v); err != nil {
				return err
			}
			list := []Inspected{}
			for _, name := range args {
				i, ok := inspect(v, name)
				if !ok {
					return term.Usage("cluster %s has no machine %s; %s", s.Decl.Name, name, cmp.Or(term.Suggestion(name, machineNames(v)), "machines lists them"))
				}
				list = append(list, i)
			}
			if a.Output == "json" {
				return a.UI.JSON(list)
			}
			showInspected(a, list)
			return nil
		},
	}
}

func machineNames(v *look.View) []string {
	var out []string
	for _, m := range v.Cluster.Machines {
		out = append(out, m.Name)
	}
	return append(out, slices.Sorted(maps.Keys(v.Seen.Machines))...)
}

// inspect gathers what was seen under one name.
func inspect(v *look.View, name string) (Inspected, bool) {
	m, declared := v.Cluster.Machine(name)
	seen, there := v.Seen.Machines[name]
	node := slices.IndexFunc(v.Nodes, func(n corev1.Node) bool { return n.Name == name })
	if !declared && !there && node < 0 {
		return Inspected{}, false
	}
	i := Inspected{Name: name, Reached: seen.Reached, Trouble: seen.Trouble, Slot: seen.Active, Versions: map[string]string{}, Services: map[string]string{}, Disk: seen.Disk, DiskUsed: seen.DiskUsed, ClockOff: seen.ClockOff.Seconds(), Differs: append([]string{}, seen.Differs...)}
	maps.Copy(i.Versions, seen.Versions)
	maps.Copy(i.Services, seen.Units)
	if declared {
		i.Group = cmp.Or(m.Pool, string(m.Role))
		i.Declared = &inspectedDeclaration{m.Zone, m.Size, m.Address, m.Carries(), map[string]string{}}
		maps.Copy(i.Declared.Labels, m.Labels)
	}
	if v.Inventory != nil {
		for _, x := range v.Inventory.Machines {
			if x.Name == name {
				i.Machine = &x
			}
		}
	}
	if node >= 0 {
		i.Node = &v.Nodes[node]
	}
	if mb, ok := v.Seen.Members[name]; ok && (m.Is(versions.Member) || !declared) {
		i.Member = &look.MemberHealth{Name: name, Healthy: mb.Healthy, Learner: mb.Learner, Leads: mb.Leads, Trouble: mb.Trouble}
	}
	return i, true
}

// showInspected puts machines side by side: a row for each property that any of them has.
// It is long because it is a list, one row after the other.
func showInspected(a *desk.App, list []Inspected) {
	head := []string{""}
	for _, i := range list {
		head = append(head, i.Name)
	}
	var rows [][]term.Cell
	add := func(name string, of func(i Inspected) string) {
		row := []term.Cell{term.Plain(name)}
		any := false
		for _, i := range list {
			t := of(i)
			any = any || t != ""
			row = append(row, term.Plain(cmp.Or(t, "-")))
		}
		if any {
			rows = append(rows, row)
		}
	}
	there := func(f func(m *site.Machine) string) func(Inspected) string {
		return func(i Inspected) string {
			if i.Machine == nil {
				return ""
			}
			return f(i.Machine)
		}
	}
	add("group", func(i Inspected) string { return cmp.Or(i.Group, "not declared") })
	add("power", there(func(m *site.Machine) string { return m.Power }))
	add("trouble", func(i Inspected) string { return i.Trouble })
	add("zone", there(func(m *site.Machine) string { return m.Zone }))
	add("size", there(func(m *site.Machine) string { return m.Size }))
	add("address", there(func(m *site.Machine) string { return m.Address.String() }))
	add("ssh port", there(func(m *site.Machine) string { return fmt.Sprint(m.SSHPort) }))
	add("hardware", there(func(m *site.Machine) string { return m.Hardware }))
	add("disk", func(i Inspected) string {
		if i.Disk == 0 {
			return ""
		}
		return fmt.Sprintf("%d%% of %d GiB", i.DiskUsed*100/i.Disk, i.Disk>>30)
	})
	add("clock", func(i Inspected) string {
		if i.ClockOff == 0 {
			return ""
		}
		return fmt.Sprintf("%+.0f s", i.ClockOff)
	})
	add("slot", func(i Inspected) string { return i.Slot })
	for _, c := range keysOf(list, func(i Inspected) map[string]string { return i.Versions }) {
		add("version of "+c, func(i Inspected) string { return i.Versions[c] })
	}
	for _, u := range keysOf(list, func(i Inspected) map[string]string { return i.Services }) {
		add("service "+strings.TrimSuffix(u, ".service"), func(i Inspected) string { return i.Services[u] })
	}
	add("datastore", func(i Inspected) string {
		switch m := i.Member; {
		case m == nil:
			return ""
		case !m.Healthy:
			return "not well: " + m.Trouble
		case m.Learner:
			return "has no vote yet"
		case m.Leads:
			return "healthy, leads"
		default:
			return "healthy"
		}
	})
	node := func(f func(n *corev1.Node) string) func(Inspected) string {
		return func(i Inspected) string {
			if i.Node == nil {
				return ""
			}
			return f(i.Node)
		}
	}
	add("node", node(func(n *corev1.Node) string {
		state := "Ready"
		if ready, why := kube.Ready(n); !ready {
			state = "not Ready: " + why
		}
		if n.Spec.Unschedulable {
			state += ", cordoned"
		}
		return state
	}))
	add("node runs", node(func(n *corev1.Node) string { return n.Status.NodeInfo.KubeletVersion }))
	add("pods", node(func(n *corev1.Node) string { return n.Spec.PodCIDR }))
	add("node since", node(func(n *corev1.Node) string { return n.CreationTimestamp.Local().Format(time.DateTime) }))
	for _, l := range keysOf(list, func(i Inspected) map[string]string {
		if i.Node == nil {
			return nil
		}
		return i.Node.Labels
	}) {
		add("label "+l, node(func(n *corev1.Node) string { return n.Labels[l] }))
	}
	add("taints", node(func(n *corev1.Node) string {
		var out []string
		for _, t := range n.Spec.Taints {
			out = append(out, t.ToString())
		}
		return strings.Join(out, " ")
	}))
	add("differs", func(i Inspected) string { return strings.Join(i.Differs, " ") })
	a.UI.Table(head, rows)
}

// keysOf lists the keys that any of them has, sorted.
func keysOf(list []Inspected, of func(Inspected) map[string]string) []string {
	all := map[string]bool{}
	for _, i := range list {
		for k := range of(i) {
			all[k] = true
		}
	}
	out := slices.Collect(maps.Keys(all))
	sort.Strings(out)
	return out
}
