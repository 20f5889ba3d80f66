package cli

import (
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/util/duration"

	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine"
	"verbund/internal/site"
	siteproto "verbund/internal/site/protocol"
	"verbund/internal/store"
)

// view opens the cluster and looks.
func (a *app) view() (*engine.Session, *engine.View, error) {
	s, err := a.open(false)
	if err != nil {
		return nil, nil, err
	}
	v, err := s.Observe(a.soft)
	if err != nil {
		s.Close()
		return nil, nil, err
	}
	return s, v, nil
}

func (a *app) statusCmd() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "status", Short: "Is the cluster well? The exit code says so too", Args: noArgs,
		Long: "Exit code 0: as declared and well. 3: not well, a certificate that is not as it\nshould be, or changes are pending. With --all\nit looks at every cluster that is declared in this folder.",
		RunE: func(*cobra.Command, []string) error {
			if all {
				return a.statusAll()
			}
			s, v, err := a.view()
			if err != nil {
				return err
			}
			defer s.Close()
			return a.status(s, v)
		},
	}
	c.Flags().BoolVar(&all, "all", false, "every cluster that is declared in this folder")
	return c
}

// glance is one cluster in a list of clusters.
type glance struct {
	Cluster  string `json:"cluster"`
	File     string `json:"file"`
	State    string `json:"state"` // well, changes pending, not well, not raised, or has errors
	Declared string `json:"declared"`
	Running  string `json:"running"`
	Nodes    string `json:"nodes"`
	Trouble  string `json:"trouble,omitempty"`
}

// statusAll looks at every cluster of the folder.
func (a *app) statusAll() error {
	files, err := filepath.Glob(filepath.Join(a.dir, "*"+declarationEnding))
	if err != nil {
		return err
	}
	if len(files) == 0 {
		return usage("there is no declaration (NAME%s) in this folder", declarationEnding)
	}
	list := []glance{}
	for _, f := range files {
		list = append(list, a.glanceAt(f))
	}
	worst := 0
	if a.output == "json" {
		err = a.ui.json(list)
	}
	var rows [][]cell
	for _, g := range list {
		state := map[string]string{"well": "good", "changes pending": "attention", "not raised": "attention"}[g.State]
		if state == "" {
			state = "bad"
		}
		if g.State != "well" {
			worst = exitNotWell
		}
		rows = append(rows, []cell{plain(g.Cluster), {g.State, state}, plain(g.Declared), plain(cmp.Or(g.Running, "nothing")), plain(g.Nodes), {g.Trouble, "bad"}})
	}
	if a.output != "json" {
		a.ui.table([]string{"cluster", "state", "declared", "runs", "nodes", "trouble"}, rows)
	}
	if err == nil && worst != 0 {
		return &exit{code: worst}
	}
	return err
}

func (a *app) glanceAt(file string) glance {
	g := glance{Cluster: strings.TrimSuffix(filepath.Base(file), declarationEnding), File: file}
	r, err := a.read(file)
	if err != nil {
		g.State, g.Trouble = "has errors", err.Error()
		return g
	}
	g.Cluster, g.Declared = cmp.Or(r.Decl.Name, g.Cluster), r.Decl.Kubernetes
	if n := r.Findings.Errors(); n > 0 {
		g.State, g.Trouble = "has errors", fmt.Sprintf("%s in %s; verbund check shows them", count(n, "error"), file)
		return g
	}
	s, _, err := a.openPath(file, false)
	if err != nil {
		g.State, g.Trouble = "has errors", err.Error()
		return g
	}
	defer s.Close()
	v, err := s.Observe(a.soft)
	if err != nil {
		g.State, g.Trouble = "not well", err.Error()
		return g
	}
	ready := 0
	for _, n := range v.Seen.Nodes {
		if n.Ready {
			ready++
		}
	}
	g.Running, g.Nodes = plan.Version(v.Cluster, v.Seen), fmt.Sprintf("%d of %d ready", ready, len(v.Seen.Nodes))
	ailing := v.Ailing()
	wrong, _ := a.vouching(s, v)
	p, perr := s.PlanOf(v)
	switch {
	case !v.Seen.Founded:
		g.State = "not raised"
	case len(ailing) > 0:
		g.State, g.Trouble = "not well", andMore(ailing)
	case len(wrong) > 0:
		g.State, g.Trouble = "not well", andMore(wrong)
	case perr != nil:
		g.State, g.Trouble = "changes pending", perr.Error()
	case len(p.Steps) > 0:
		g.State = "changes pending"
	default:
		g.State = "well"
	}
	return g
}

// vouching says what is wrong with certificates and keys, or else which of
// them ends first.
func (a *app) vouching(s *engine.Session, v *engine.View) (wrong []string, said string) {
	if !v.Seen.Founded || v.Inventory == nil {
		return []string{}, "cannot be looked at"
	}
	r, err := s.Inspect(a.soft, v, time.Now())
	if err != nil {
		return []string{fmt.Sprintf("certificates could not be looked at: %v", err)}, ""
	}
	if wrong = r.Wrong(); len(wrong) > 0 {
		return wrong, fmt.Sprintf("%s wrong: %s; verbund trust list shows them", count(len(wrong), "thing"), andMore(wrong))
	}
	said = "nothing wrong with " + count(len(r.Entries), "certificate")
	if e, ok := r.FirstToEnd(); ok {
		said += fmt.Sprintf("; %s ends first, in %s", e.ID, duration.HumanDuration(time.Until(e.Expires)))
	}
	return wrong, said
}

// andMore is the first of several, and how many there are besides.
func andMore(list []string) string {
	if len(list) == 1 {
		return list[0]
	}
	return fmt.Sprintf("%s; and %d more", list[0], len(list)-1)
}

func (a *app) status(s *engine.Session, v *engine.View) error {
	ailing := v.Ailing()
	if !v.Seen.Founded {
		ailing = []string{"the cluster has not been raised yet; verbund converge does it"}
	}
	pending, perr := 0, ""
	if p, err := plan.Make(v.Cluster, v.Seen, s.Cat); err != nil {
		perr = err.Error()
	} else {
		pending = len(p.Steps)
	}
	running := plan.Version(v.Cluster, v.Seen)
	wrong, vouching := a.vouching(s, v)
	well := len(ailing) == 0 && len(wrong) == 0
	waiting, werr := a.waiting(s, v)
	if a.output == "json" {
		err := a.ui.json(map[string]any{"cluster": s.Decl.Name, "well": well, "ailing": append([]string{}, ailing...), "trust": wrong, "waiting": waiting, "pending": pending, "refused": perr, "declared": s.Decl.Kubernetes, "running": running, "accepted": accepted(s)})
		if err == nil && (!well || pending > 0 || perr != "") {
			return &exit{code: exitNotWell}
		}
		return err
	}
	title, state := "well", "good"
	if !well {
		title, state = "not well", "bad"
	}
	ready := 0
	for _, n := range v.Seen.Nodes {
		if n.Ready {
			ready++
		}
	}
	voters, healthy := 0, 0
	for _, m := range v.Seen.Members {
		if !m.Learner {
			if voters++; m.Healthy {
				healthy++
			}
		}
	}
	data := cell{fmt.Sprintf("%d of %d members healthy; survives the loss of %d", healthy, voters, max(healthy-(voters/2+1), 0)), ""}
	switch {
	case voters == 0:
		data = cell{"does not answer", "bad"}
	case healthy <= voters/2:
		data = cell{fmt.Sprintf("%d of %d members healthy: no quorum, nothing can be changed", healthy, voters), "bad"}
	}
	api := cell{"answers at " + v.Cluster.Server() + " (" + v.Cluster.Endpoint.Address.String() + ")", "good"}
	if !v.Seen.API {
		api = cell{"does not answer", "bad"}
	}
	nodes := plain(fmt.Sprintf("%d of %d Ready", ready, len(v.Seen.Nodes)))
	if !v.Seen.API {
		nodes = plain("not known while the API does not answer")
	}
	runs := cmp.Or(running, "nothing") + " runs"
	if running == "" && v.Seen.Founded && !v.Seen.API {
		runs = "what runs is not known"
	}
	rows := [][]cell{
		{plain("cluster"), {s.Decl.Name + ": " + title, state}},
		{plain("api"), api},
		{plain("kubernetes"), plain(fmt.Sprintf("%s, %s is declared", runs, s.Decl.Kubernetes))},
		{plain("datastore"), data},
		{plain("nodes"), nodes},
		{plain("trust"), {vouching, map[bool]string{true: "bad"}[len(wrong) > 0]}},
	}
	switch {
	case werr != nil:
		rows = append(rows, []cell{plain("requests"), {fmt.Sprintf("cannot be listed: %v", werr), "attention"}})
	case waiting > 0:
		rows = append(rows, []cell{plain("requests"), {count(waiting, "certificate request") + " for a person to decide; verbund requests list says why", "attention"}})
	}
	if !v.Cluster.Nodes {
		rows = append(rows, []cell{plain("control"), plain(fmt.Sprintf("its %s declared not to be nodes (control.nodes: false): verbund machines shows them", isAre(len(v.Cluster.With(versions.API)), "machine")))})
	}
	if v.Cluster.Apart {
		rows = append(rows, []cell{plain("members"), plain(fmt.Sprintf("the datastore stands apart, on %s", count(len(v.Cluster.With(versions.Member)), "machine")))})
	}
	if held := heldBack(v.Cluster); held != "" {
		rows = append(rows, []cell{plain("held back"), {held, "attention"}})
	}
	for _, x := range accepted(s) {
		rows = append(rows, []cell{plain("exception"), {x, "attention"}})
	}
	for _, l := range ailing {
		rows = append(rows, []cell{plain("trouble"), {l, "bad"}})
	}
	switch {
	case perr != "":
		rows = append(rows, []cell{plain("refused"), {perr, "bad"}})
	case pending > 0:
		rows = append(rows, []cell{plain("pending"), {count(pending, "step") + " to what is declared; verbund plan shows them", "attention"}})
	}
	for _, r := range rows {
		fmt.Fprintf(a.out, "%-11s %s\n", r[0].text, func() string {
			if a.ui.outColour {
				return a.ui.paint(r[1], r[1].text)
			}
			return r[1].text
		}())
	}
	if !well || pending > 0 || perr != "" {
		return &exit{code: exitNotWell}
	}
	return nil
}

// heldBack lists the pools that are declared on another version.
func heldBack(c *topology.Cluster) string {
	var out []string
	for _, m := range c.Machines {
		if m.Role == versions.Worker && m.Set.Kubernetes != c.Set.Kubernetes {
			if t := fmt.Sprintf("pool %s on %s", m.Pool, m.Set.Kubernetes); !slices.Contains(out, t) {
				out = append(out, t)
			}
		}
	}
	return strings.Join(out, ", ")
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
				return fmt.Errorf("the API of cluster %s does not answer: %v; verbund status says more", s.Decl.Name, cmp.Or(v.APIError, errors.New("it has not been raised, or its site is not running")))
			}
			if a.output == "json" {
				return a.ui.json(v.Nodes)
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
			a.ui.table([]string{"node", "state", "version", "group", "zone", "address", "pods", "age"}, rows)
			return nil
		},
	}
}

// place orders machines as they are declared.
func place(v *engine.View, name string) int {
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
				return fmt.Errorf("site %s is not running; start it with: verbund site start", s.Decl.Site)
			}
			ms := slices.DeleteFunc(slices.Clone(v.Inventory.Machines), func(m siteproto.Machine) bool { return m.Cluster != s.Decl.Name })
			if a.output == "json" {
				return a.ui.json(ms)
			}
			slices.SortFunc(ms, func(x, y siteproto.Machine) int { return place(v, x.Name) - place(v, y.Name) })
			var rows [][]cell
			for _, m := range ms {
				seen := v.Seen.Machines[m.Name]
				power := cell{m.Power, map[string]string{siteproto.PowerOn: "good", siteproto.PowerBooting: "attention"}[m.Power]}
				if power.state == "" {
					power.state = "bad"
				}
				set := runs(seen)
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
			a.ui.table([]string{"machine", "power", "runs", "slot", "services", "zone", "size", "address", "ssh", "hardware address"}, rows)
			return nil
		},
	}
}

func (a *app) logsCmd() *cobra.Command {
	var unit string
	var lines int
	c := &cobra.Command{
		Use: "logs MACHINE…", Short: "Show what machines or their services wrote",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("logs needs at least one machine; machines lists them")
			}
			s, err := a.open(false)
			if err != nil {
				return err
			}
			defer s.Close()
			if unit != "" && !strings.HasSuffix(unit, ".service") {
				unit += ".service"
			}
			for _, name := range args {
				m, err := s.Machine(a.soft, name, 0)
				if errors.Is(err, site.ErrNotRunning) {
					return fmt.Errorf("site %s is not running; start it with: verbund site start", s.Decl.Site)
				}
				if err != nil {
					return err
				}
				ls, err := m.Logs(a.soft, unit, lines)
				if err != nil {
					return err
				}
				for _, l := range ls {
					if len(args) > 1 {
						l = name + "  " + l
					}
					fmt.Fprintln(a.out, l)
				}
			}
			return nil
		},
	}
	c.Flags().StringVarP(&unit, "unit", "u", "", "a service, such as kubelet; the console if not given")
	c.Flags().IntVarP(&lines, "lines", "n", 50, "how many lines, 0 for all")
	return c
}

func (a *app) historyCmd() *cobra.Command {
	return &cobra.Command{
		Use: "history [RUN]", Short: "Show the journal: runs, or the steps of one run and where the time went",
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
				a.ui.say("%s of the journal cannot be read and left out", count(bad, "line"))
			}
			if len(args) > 1 {
				return usage("history takes one run")
			}
			if len(args) == 1 {
				return a.historyOf(es, args[0])
			}
			return a.historyRuns(es)
		},
	}
}

func (a *app) historyRuns(es []store.Entry) error {
	type summary struct {
		Run     string    `json:"run"`
		Command string    `json:"command"`
		Began   time.Time `json:"began"`
		Seconds float64   `json:"seconds"`
		Steps   int       `json:"steps"`
		Outcome string    `json:"outcome"`
		Error   string    `json:"error,omitempty"`
	}
	runs := []*summary{}
	by := map[string]*summary{}
	for _, e := range es {
		r := by[e.Run]
		if r == nil {
			r = &summary{Run: e.Run, Began: e.Time, Outcome: "cut off, or still running"}
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
	return &cobra.Command{
		Use:   "fault KIND NAME",
		Short: "Make something go wrong: full-disk, mended-disk, wrong-clock, mended-clock, lesser-rights, full-rights, new-host-key, new-lease, lost-machine (of a machine), damaged-blob, mended-blob (of an artefact), lost-zone",
		Args:  exactArgs(2, "a kind of fault and the name of a machine, artefact or zone"),
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := a.open(false)
			if err != nil {
				return err
			}
			f := siteproto.Fault{Kind: args[0]}
			switch {
			case args[0] == "lost-machine":
				return s.Site.Release(a.hard, args[1])
			case strings.HasSuffix(args[0], "-blob"):
				f.Artefact = args[1]
			case args[0] == "lost-zone":
				f.Zone = args[1]
			default:
				f.Machine = args[1]
			}
			return s.Site.Fault(a.hard, f)
		},
	}
}

// runs is what a machine is there for, with its version.
func runs(seen plan.MachineSeen) string {
	if v := cmp.Or(seen.Versions["kubelet"], seen.Versions["kube-apiserver"]); v != "" {
		return v
	}
	for _, c := range []string{"haproxy", "etcd"} {
		if v := seen.Versions[c]; v != "" {
			return c + " " + v
		}
	}
	return "nothing installed"
}
