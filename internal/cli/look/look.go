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
	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/site"
	"verbund/internal/store"
)

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
				group := cmp.Or(m.Pool, string(m.Role))
				if !declared {
					group = "not declared"
				}
				ver := term.Cell{Text: seen.Version}
				if declared && seen.Version != m.Set.Kubernetes {
					ver.State = "attention"
				}
				rows = append(rows, []term.Cell{term.Plain(n.Name), state, ver, term.Plain(group), term.Plain(n.Labels["topology.kubernetes.io/zone"]), term.Plain(m.Address.String()),
					term.Plain(n.Spec.PodCIDR), term.Plain(duration.HumanDuration(time.Since(n.CreationTimestamp.Time)))})
			}
			a.UI.Table([]string{"node", "state", "version", "group", "zone", "address", "pods", "age"}, rows, "pods", "address", "age", "zone", "group")
			return nil
		},
	}
}

// place orders machines as they are declared.
func place(v *look.View, name string) int {
	for i, m := range v.Cluster.Machines {
		if m.Name == name {
			return i
		}
	}
	return len(v.Cluster.Machines)
}

func MachinesCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "machines", Short: "Show the site's machines of this cluster", Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			if v.Inventory == nil {
				return fmt.Errorf("site %s was not seen: %w", s.Decl.Site, cmp.Or(look.Unseen(s, v), v.SiteError))
			}
			ms := slices.DeleteFunc(slices.Clone(v.Inventory.Machines), func(m site.Machine) bool { return m.Cluster != s.Decl.Name })
			if a.Output == "json" {
				list := []MachineSaid{}
				for _, m := range ms {
					seen := v.Seen.Machines[m.Name]
					list = append(list, MachineSaid{m, seen.Reached, look.Runs(seen), seen.Active, seen.Units})
				}
				return a.UI.JSON(list)
			}
			slices.SortFunc(ms, func(x, y site.Machine) int { return place(v, x.Name) - place(v, y.Name) })
			var rows [][]term.Cell
			for _, m := range ms {
				seen := v.Seen.Machines[m.Name]
				power := term.Cell{Text: m.Power, State: map[string]string{site.PowerOn: "good", site.PowerBooting: "attention"}[m.Power]}
				if power.State == "" {
					power.State = "bad"
				}
				set := cmp.Or(look.Runs(seen), "nothing installed")
				up, all := 0, 0
				for _, st := range seen.Units {
					if all++; st == "active" {
						up++
					}
				}
				units := term.Cell{Text: fmt.Sprintf("%d of %d", up, all), State: "good"}
				if up < all || all == 0 {
					units.State = "bad"
				}
				if !seen.Reached {
					set, units = "not reached", term.Cell{Text: "", State: ""}
				}
				rows = append(rows, []term.Cell{term.Plain(m.Name), power, term.Plain(set), term.Plain(cmp.Or(seen.Active, "-")), units, term.Plain(m.Zone), term.Plain(m.Size), term.Plain(m.Address.String()), term.Plain(fmt.Sprint(m.SSHPort)), term.Plain(m.Hardware)})
			}
			a.UI.Table([]string{"machine", "power", "runs", "slot", "services", "zone", "size", "address", "ssh", "hardware address"}, rows, "hardware address", "ssh", "size", "slot", "address", "zone")
			return nil
		},
	}
}

func HistoryCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "history [RUN|last]", Short: "Show the journal: runs, or the steps of one run and where the time went",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.Open(false)
			if err != nil {
				return err
			}
			es, bad, err := s.Store.Entries()
			if err != nil {
				return err
			}
			if bad > 0 {
				a.UI.Say("%s of the journal cannot be read and left out", words.Count(bad, "line"))
			}
			if len(args) > 1 {
				return term.Usage("history takes one run")
			}
			if len(args) == 1 && args[0] == "last" {
				for _, e := range slices.Backward(es) {
					if e.Kind == store.RunBegan {
						return historyOf(a, es, e.Run)
					}
				}
				return fmt.Errorf("nothing was done yet in cluster %s", s.Decl.Name)
			}
			if len(args) == 1 {
				return historyOf(a, es, args[0])
			}
			return historyRuns(a, es)
		},
	}
}

func historyRuns(a *desk.App, es []store.Entry) error {
	runs := []*RunSaid{}
	by := map[string]*RunSaid{}
	for _, e := range es {
		r := by[e.Run]
		if r == nil {
			r = &RunSaid{Run: e.Run, Began: e.Time, Outcome: "cut off, or still running"}
			by[e.Run] = r
			runs = append(runs, r)
		}
		r.Seconds = e.Time.Sub(r.Began).Seconds()
		switch e.Kind {
		case store.RunBegan:
			r.Command = e.Text
		case store.StepDone:
			r.Steps++
		case store.StepFailed:
			r.Error = e.Step
		case store.RunEnded:
			r.Outcome = e.Outcome
		}
	}
	if a.Output == "json" {
		return a.UI.JSON(runs)
	}
	var rows [][]term.Cell
	for _, r := range slices.Backward(runs) {
		out := term.Cell{Text: r.Outcome, State: map[string]string{"done": "good", "failed": "bad"}[r.Outcome]}
		if out.State == "" {
			out.State = "attention"
		}
		if r.Error != "" {
			out.Text += " at " + r.Error
		}
		rows = append(rows, []term.Cell{term.Plain(r.Run), term.Plain(r.Command), term.Plain(r.Began.Local().Format("2006-01-02 15:04:05")), term.Plain(term.Seconds(time.Duration(r.Seconds * 1e9))), term.Plain(fmt.Sprint(r.Steps)), out})
	}
	a.UI.Table([]string{"run", "command", "began", "took", "steps", "outcome"}, rows)
	return nil
}

func historyOf(a *desk.App, es []store.Entry, run string) error {
	es = slices.DeleteFunc(es, func(e store.Entry) bool { return e.Run != run })
	if len(es) == 0 {
		return fmt.Errorf("there is no run %s; history lists them", run)
	}
	if a.Output == "json" {
		return a.UI.JSON(es)
	}
	began := es[0].Time
	var rows [][]term.Cell
	total := 0.0
	for _, e := range es {
		switch e.Kind {
		case store.StepDone, store.StepFailed:
			total += e.Seconds
			st := term.Cell{Text: e.Text, State: map[string]string{store.StepFailed: "bad"}[e.Kind]}
			start := e.Time.Sub(began).Seconds() - e.Seconds
			rows = append(rows, []term.Cell{term.Plain(fmt.Sprintf("%6.1f", max(start, 0))), term.Plain(fmt.Sprintf("%5.1f s", e.Seconds)), term.Plain(cmp.Or(e.Where, "cluster")), st})
			if e.Error != "" {
				rows = append(rows, []term.Cell{term.Plain(""), term.Plain(""), term.Plain(""), {Text: "  " + e.Error, State: "bad"}})
			}
			for _, l := range e.Log {
				rows = append(rows, term.Cells("", "", "", "  "+l))
			}
		case store.Note:
			rows = append(rows, term.Cells(fmt.Sprintf("%6.1f", e.Time.Sub(began).Seconds()), "", cmp.Or(e.Where, "cluster"), e.Text))
		}
	}
	a.UI.Table([]string{"second", "took", "where", "what"}, rows)
	wall := es[len(es)-1].Time.Sub(began).Seconds()
	fmt.Fprintf(a.Out, "\n%.1f seconds, in which steps of together %.1f seconds ran beside each other.\n", wall, total)
	return nil
}
