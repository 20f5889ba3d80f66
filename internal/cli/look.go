package cli

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/words"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/site"
	"verbund/internal/site/simulated"

	"github.com/spf13/cobra"
	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/util/duration"

	"verbund/internal/store"
)

// view opens the cluster and looks.
func (a *app) view() (*session.Session, *look.View, error) {
	s, err := a.open(false)
	if err != nil {
		return nil, nil, err
	}
	v, err := look.Observe(a.soft, s)
	if err != nil {
		s.Close()
		return nil, nil, err
	}
	return s, v, nil
}

func (a *app) nodesCmd() *cobra.Command {
	return &cobra.Command{
		Use: "nodes", Short: "Show the machines that the cluster knows", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, v, err := a.view()
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
			if a.output == "json" {
				return a.ui.json(list(v.Nodes))
			}
			slices.SortFunc(v.Nodes, func(x, y corev1.Node) int { return place(v, x.Name) - place(v, y.Name) })
			var rows [][]cell
			for _, n := range v.Nodes {
				m, declared := v.Cluster.Machine(n.Name)
				seen := v.Seen.Nodes[n.Name]
				state := cell{"ready", "good"}
				if !seen.Ready {
					state = cell{"not ready", "bad"}
				}
				if n.Spec.Unschedulable {
					state = cell{state.text + ", cordoned", "attention"}
				}
				group := cmp.Or(m.Pool, string(m.Role))
				if !declared {
					group = "not declared"
				}
				ver := cell{text: seen.Version}
				if declared && seen.Version != m.Set.Kubernetes {
					ver.state = "attention"
				}
				rows = append(rows, []cell{plain(n.Name), state, ver, plain(group), plain(n.Labels["topology.kubernetes.io/zone"]), plain(m.Address.String()),
					plain(n.Spec.PodCIDR), plain(duration.HumanDuration(time.Since(n.CreationTimestamp.Time)))})
			}
			a.ui.table([]string{"node", "state", "version", "group", "zone", "address", "pods", "age"}, rows, "pods", "address", "age", "zone", "group")
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

func (a *app) machinesCmd() *cobra.Command {
	return &cobra.Command{
		Use: "machines", Short: "Show the site's machines of this cluster", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, v, err := a.view()
			if err != nil {
				return err
			}
			defer s.Close()
			if v.Inventory == nil {
				return fmt.Errorf("site %s was not seen: %w", s.Decl.Site, cmp.Or(look.Unseen(s, v), v.SiteError))
			}
			ms := slices.DeleteFunc(slices.Clone(v.Inventory.Machines), func(m site.Machine) bool { return m.Cluster != s.Decl.Name })
			if a.output == "json" {
				list := []machineSaid{}
				for _, m := range ms {
					seen := v.Seen.Machines[m.Name]
					list = append(list, machineSaid{m, seen.Reached, look.Runs(seen), seen.Active, seen.Units})
				}
				return a.ui.json(list)
			}
			slices.SortFunc(ms, func(x, y site.Machine) int { return place(v, x.Name) - place(v, y.Name) })
			var rows [][]cell
			for _, m := range ms {
				seen := v.Seen.Machines[m.Name]
				power := cell{m.Power, map[string]string{site.PowerOn: "good", site.PowerBooting: "attention"}[m.Power]}
				if power.state == "" {
					power.state = "bad"
				}
				set := cmp.Or(look.Runs(seen), "nothing installed")
				up, all := 0, 0
				for _, st := range seen.Units {
					if all++; st == "active" {
						up++
					}
				}
				units := cell{fmt.Sprintf("%d of %d", up, all), "good"}
				if up < all || all == 0 {
					units.state = "bad"
				}
				if !seen.Reached {
					set, units = "not reached", cell{"", ""}
				}
				rows = append(rows, []cell{plain(m.Name), power, plain(set), plain(cmp.Or(seen.Active, "-")), units, plain(m.Zone), plain(m.Size), plain(m.Address.String()), plain(fmt.Sprint(m.SSHPort)), plain(m.Hardware)})
			}
			a.ui.table([]string{"machine", "power", "runs", "slot", "services", "zone", "size", "address", "ssh", "hardware address"}, rows, "hardware address", "ssh", "size", "slot", "address", "zone")
			return nil
		},
	}
}

func (a *app) historyCmd() *cobra.Command {
	return &cobra.Command{
		Use: "history [RUN|last]", Short: "Show the journal: runs, or the steps of one run and where the time went",
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(false)
			if err != nil {
				return err
			}
			es, bad, err := s.Store.Entries()
			if err != nil {
				return err
			}
			if bad > 0 {
				a.ui.say("%s of the journal cannot be read and left out", words.Count(bad, "line"))
			}
			if len(args) > 1 {
				return usage("history takes one run")
			}
			if len(args) == 1 && args[0] == "last" {
				for _, e := range slices.Backward(es) {
					if e.Kind == store.RunBegan {
						return a.historyOf(es, e.Run)
					}
				}
				return fmt.Errorf("nothing was done yet in cluster %s", s.Decl.Name)
			}
			if len(args) == 1 {
				return a.historyOf(es, args[0])
			}
			return a.historyRuns(es)
		},
	}
}

func (a *app) historyRuns(es []store.Entry) error {
	runs := []*runSaid{}
	by := map[string]*runSaid{}
	for _, e := range es {
		r := by[e.Run]
		if r == nil {
			r = &runSaid{Run: e.Run, Began: e.Time, Outcome: "cut off, or still running"}
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
	if a.output == "json" {
		return a.ui.json(runs)
	}
	var rows [][]cell
	for _, r := range slices.Backward(runs) {
		out := cell{r.Outcome, map[string]string{"done": "good", "failed": "bad"}[r.Outcome]}
		if out.state == "" {
			out.state = "attention"
		}
		if r.Error != "" {
			out.text += " at " + r.Error
		}
		rows = append(rows, []cell{plain(r.Run), plain(r.Command), plain(r.Began.Local().Format("2006-01-02 15:04:05")), plain(seconds(time.Duration(r.Seconds * 1e9))), plain(fmt.Sprint(r.Steps)), out})
	}
	a.ui.table([]string{"run", "command", "began", "took", "steps", "outcome"}, rows)
	return nil
}

func (a *app) historyOf(es []store.Entry, run string) error {
	es = slices.DeleteFunc(es, func(e store.Entry) bool { return e.Run != run })
	if len(es) == 0 {
		return fmt.Errorf("there is no run %s; history lists them", run)
	}
	if a.output == "json" {
		return a.ui.json(es)
	}
	began := es[0].Time
	var rows [][]cell
	total := 0.0
	for _, e := range es {
		switch e.Kind {
		case store.StepDone, store.StepFailed:
			total += e.Seconds
			st := cell{e.Text, map[string]string{store.StepFailed: "bad"}[e.Kind]}
			start := e.Time.Sub(began).Seconds() - e.Seconds
			rows = append(rows, []cell{plain(fmt.Sprintf("%6.1f", max(start, 0))), plain(fmt.Sprintf("%5.1f s", e.Seconds)), plain(cmp.Or(e.Where, "cluster")), st})
			if e.Error != "" {
				rows = append(rows, []cell{plain(""), plain(""), plain(""), {"  " + e.Error, "bad"}})
			}
			for _, l := range e.Log {
				rows = append(rows, cells("", "", "", "  "+l))
			}
		case store.Note:
			rows = append(rows, cells(fmt.Sprintf("%6.1f", e.Time.Sub(began).Seconds()), "", cmp.Or(e.Where, "cluster"), e.Text))
		}
	}
	a.ui.table([]string{"second", "took", "where", "what"}, rows)
	wall := es[len(es)-1].Time.Sub(began).Seconds()
	fmt.Fprintf(a.out, "\n%.1f seconds, in which steps of together %.1f seconds ran beside each other.\n", wall, total)
	return nil
}

func (a *app) faultCmd() *cobra.Command {
	machines, artefacts, zones := simulated.Faults()
	return &cobra.Command{
		Use:   "fault KIND NAME",
		Short: "Make something go wrong",
		Long:  "Of a machine: " + strings.Join(machines, ", ") + ".\nOf an artefact, as NAME:VERSION: " + strings.Join(artefacts, ", ") + ". Of a zone: " + strings.Join(zones, ", ") + ".",
		Args:  exactArgs(2, "a kind of fault and the name of a machine, artefact or zone"),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(false)
			if err != nil {
				return err
			}
			c, err := simulatedSite(s)
			if err != nil {
				return err
			}
			return siteError(s, c.Fault(a.hard, args[0], args[1]))
		},
	}
}
