package look

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"
	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/util/duration"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/engine/look"
)

// NodesCmd is verbund nodes.
func NodesCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "nodes", Short: "Show the machines that the cluster knows", Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			if !v.Seen.API {
				if err := look.Unseen(s, v); err != nil {
					return err
				}
				return fmt.Errorf("the API of cluster %s does not answer: %v; verbund status says more", s.Decl.Name, cmp.Or(v.APIError, errors.New("it has not been raised")))
			}
			if a.Output == "json" {
				return a.UI.JSON(term.List(v.Nodes))
			}
			slices.SortFunc(v.Nodes, func(x, y corev1.Node) int { return place(v, x.Name) - place(v, y.Name) })
			var rows [][]term.Cell
			for _, n := range v.Nodes {
				m, declared := v.Cluster.Machine(n.Name)
				seen := v.Seen.Nodes[n.Name]
				state := term.Cell{Text: "ready", State: "good"}
				if !seen.Ready {
					state = term.Cell{Text: "not ready", State: "bad"}
				}
				if n.Spec.Unschedulable {
					state = term.Cell{Text: state.Text + ", cordoned", State: "attention"}
				}
				group, at := cmp.Or(m.Pool, string(m.Role)), m.Address.String()
				if !declared {
					group, at = "not declared", addressOf(n)
				}
				ver := term.Cell{Text: seen.Version}
				if declared && seen.Version != m.Set.Kubernetes {
					ver.State = "attention"
				}
				rows = append(rows, []term.Cell{term.Plain(n.Name), state, ver, term.Plain(group), term.Plain(n.Labels["topology.kubernetes.io/zone"]), term.Plain(at),
					term.Plain(n.Spec.PodCIDR), term.Plain(duration.HumanDuration(time.Since(n.CreationTimestamp.Time)))})
			}
			a.UI.Table([]string{"node", "state", "version", "group", "zone", "address", "pods", "age"}, rows, "pods", "address", "age", "zone", "group")
			return nil
		},
	}
}

// addressOf is where a node says that it is.
func addressOf(n corev1.Node) string {
	for _, a := range n.Status.Addresses {
		if a.Type == corev1.NodeInternalIP {
			return a.Address
		}
	}
	return "not said"
}
