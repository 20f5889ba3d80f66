package look

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"k8s.io/apimachinery/pkg/util/duration"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/act"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

// StatusCmd is verbund status.
func StatusCmd(a *desk.App) *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "status", Short: "Is the cluster well? The exit code says so too", Args: term.NoArgs,
		Long: `Exit code 0: as declared and well. 3: anything else, also when nothing can be known
because the site was not seen. Well means that everything works, that versions are
as declared, that every workload has the pods that it wants (--machines-only leaves
that out), and that no disk is nearly full, no clock is off, no node is cordoned,
no service keeps restarting and no replacement was left half done. What a run that
is under way has taken out of service is not called trouble. With --all it looks at
every cluster that is declared in this folder.`,
		RunE: func(*cobra.Command, []string) error {
			if all {
				return statusAll(a)
			}
			s, v, err := a.View()
			if err != nil {
				return err
			}
			defer s.Close()
			return status(a, s, v)
		},
	}
	c.Flags().BoolVar(&a.MachinesOnly, "machines-only", false, "well is what the machines are; workloads are not asked about")
	c.Flags().BoolVar(&all, "all", false, "every cluster that is declared in this folder")
	return c
}

// Glance is one cluster in a list of clusters.
type Glance struct {
	Cluster  string `json:"cluster"`
	File     string `json:"file"`
	State    string `json:"state"` // as of status, or has errors
	Declared string `json:"declared"`
	Running  string `json:"running"`
	Nodes    string `json:"nodes"`
	Trouble  string `json:"trouble,omitempty"`
}

// tones say how states count.
var tones = map[look.HealthState]string{look.IsWell: "good", look.IsPending: "attention", look.IsChanged: "attention", look.NotRaised: "attention", look.NotKnown: "attention", look.NotWell: "bad"}

// statusAll looks at every cluster of the folder.
func statusAll(a *desk.App) error {
	files := whole.Named(a.Dir, declare.Ending)
	if len(files) == 0 {
		return term.Usage("there is no declaration (NAME%s) in this folder", declare.Ending)
	}
	list := []Glance{}
	for _, f := range files {
		list = append(list, glanceAt(a, f))
	}
	worst := 0
	var err error
	if a.Output == "json" {
		err = a.UI.JSON(list)
	}
	var rows [][]term.Cell
	for _, g := range list {
		if g.State != string(look.IsWell) {
			worst = term.ExitNotWell
		}
		rows = append(rows, []term.Cell{term.Plain(g.Cluster), {Text: g.State, State: cmp.Or(tones[look.HealthState(g.State)], "bad")}, term.Plain(g.Declared), term.Plain(cmp.Or(g.Running, "-")), term.Plain(g.Nodes), {Text: g.Trouble, State: "bad"}})
	}
	if a.Output != "json" {
		a.UI.Table([]string{"cluster", "state", "declared", "runs", "nodes", "trouble"}, rows, "declared", "runs")
	}
	if err == nil && worst != 0 {
		return &term.Exit{Code: worst}
	}
	return err
}

func glanceAt(a *desk.App, file string) Glance {
	g := Glance{Cluster: strings.TrimSuffix(filepath.Base(file), declare.Ending), File: file}
	r, err := a.Read(file)
	if err != nil {
		g.State, g.Trouble = "has errors", err.Error()
		return g
	}
	g.Cluster, g.Declared = cmp.Or(r.Decl.Name, g.Cluster), r.Decl.Kubernetes
	if n := r.Findings.Errors(); n > 0 {
		g.State, g.Trouble = "has errors", fmt.Sprintf("%s in %s; verbund check shows them", words.Count(n, "error"), file)
		return g
	}
	s, _, err := a.OpenPath(file, false)
	if err != nil {
		g.State, g.Trouble = "has errors", err.Error()
		return g
	}
	defer s.Close()
	h, err := health(a, s, nil)
	if err != nil {
		g.State, g.Trouble = string(look.NotWell), err.Error()
		return g
	}
	g.State, g.Running, g.Nodes = string(h.State), h.Running, "not known"
	if h.Nodes.Known {
		g.Nodes = fmt.Sprintf("%d of %d ready", h.Nodes.Ready, h.Nodes.Total)
	}
	wrong := slices.Concat(h.Ailing, h.Strained, h.Trust)
	for _, n := range h.Strays {
		wrong = append(wrong, "node "+n+" belongs to no machine")
	}
	for _, w := range h.Wanting {
		wrong = append(wrong, w.String())
	}
	if len(wrong) > 0 {
		g.Trouble = andMore(wrong)
	} else {
		g.Trouble = cmp.Or(h.Why, h.Refused)
	}
	return g
}

// health judges a cluster, looked at already or not.
func health(a *desk.App, s *session.Session, v *look.View) (*look.Health, error) {
	var err error
	if v == nil {
		if v, err = look.Observe(a.Soft, s); err != nil {
			return nil, err
		}
	}
	h, err := look.HealthOf(a.Soft, s, v, time.Now(), !a.MachinesOnly)
	if err != nil {
		return nil, err
	}
	h.Accepted = desk.Accepted(s)
	if h.Waiting, err = a.Waiting(s, v); err != nil && h.Well {
		h.State, h.Well = look.NotWell, false
		h.Strained = append(h.Strained, fmt.Sprintf("certificate requests cannot be listed: %v", err))
	}
	return h, nil
}

// andMore is the first of several, and how many there are besides.
func andMore(list []string) string {
	if len(list) == 1 {
		return list[0]
	}
	return fmt.Sprintf("%s; and %d more", list[0], len(list)-1)
}

func status(a *desk.App, s *session.Session, v *look.View) error {
	h, err := health(a, s, v)
	if err != nil {
		return err
	}
	if a.Output == "json" {
		err = a.UI.JSON(h)
	} else {
		rows := statusRows(h, v)
		if a.Quiet {
			rows = rows[:1]
		}
		a.UI.Fields(rows)
	}
	if err == nil && h.State != look.IsWell {
		return &term.Exit{Code: term.ExitNotWell}
	}
	return err
}

// statusRows tells a cluster's health, the most important first. It is long because it is a
// list, one row after the other.
func statusRows(h *look.Health, v *look.View) []term.Field {
	rows := []term.Field{{Name: "cluster", Cell: term.Cell{Text: h.Cluster + ": " + string(h.State), State: tones[h.State]}}}
	add := func(name, state, format string, args ...any) {
		rows = append(rows, term.Field{Name: name, Cell: term.Cell{Text: fmt.Sprintf(format, args...), State: state}})
	}
	if r := h.Run; r != nil {
		add("run", "attention", "verbund %s, since %s, %s", r.Command, r.Since.Local().Format("15:04:05"), r.By)
		for _, st := range r.Steps {
			add("", "", "%s: %s, for %s", cmp.Or(st.Where, "cluster"), st.Text, term.Seconds(time.Since(st.Time)))
		}
		if len(r.Out) > 0 {
			add("", "", "out of service meanwhile: %s", strings.Join(r.Out, ", "))
		}
	}
	if h.Why != "" {
		add("why", "attention", "%s", h.Why)
	}
	backup := func() {
		if v.Cluster != nil && v.Cluster.CopyOf != "" {
			return // it has none of its own
		}
		if h.Due != nil && h.State != look.NotRaised {
			since := "since " + h.Due.Local().Format("2006-01-02 15:04")
			if h.Due.IsZero() {
				since = "none is there that can be used"
			}
			add("backup", "attention", "another one is due, as declared: %s; verbund backup take --due takes it", since)
		}
		if b := h.Backup; b != nil {
			state, verified, copies := "", "never verified", "no copy elsewhere"
			if b.Verified != nil {
				verified = "verified " + duration.HumanDuration(time.Since(*b.Verified)) + " ago"
			} else {
				state = "attention"
			}
			if b.Copies > 0 {
				copies = words.Count(b.Copies, "place") + " beside this one"
			}
			add("backup", state, "the newest is %s old, of %s, %s, %s: %s", duration.HumanDuration(time.Since(b.Taken)), b.Version, verified, copies, filepath.Base(b.File))
		} else if h.Unopened > 0 {
			add("backup", "attention", "none of this cluster that can be opened with what is here; %s there", words.Are(h.Unopened, "file"))
		} else if h.State != look.NotRaised && len(h.Kept) == 0 && h.Away == nil {
			add("backup", "", "none was taken yet")
		}
		if w := h.Away; w != nil && h.Backup == nil {
			at := "on the computer on which it was taken"
			if len(w.At) > 0 {
				at = "at " + strings.Join(w.At, ", ")
			}
			add("backup", "attention", "none is on this computer, and %s; the newest, %s, lies %s", words.Are(w.Count, "other")+" remembered", keep.Short(w.Newest), at)
		}
		if k := h.Kept; len(k) > 0 && k[0].Taken != nil && (h.Backup == nil || h.Backup.File != k[0].File) {
			sent := ""
			if n := len(k[0].Sent); n > 0 {
				sent = ", sent to " + words.Count(n, "place")
			}
			add("backup", "", "taken by itself %s ago, on %s%s: %s; verbund backup gather fetches it", duration.HumanDuration(time.Since(*k[0].Taken)), k[0].Machine, sent, keep.Short(k[0].File))
		}
		for _, k := range h.Kept {
			if k.Trouble != "" {
				add("backup", "attention", "%s said %s ago: %s", k.Machine, duration.HumanDuration(time.Since(*k.At)), k.Trouble)
			}
		}
	}
	switch h.State {
	case look.NotKnown:
		backup()
		return rows
	case look.NotRaised:
		if h.Refused != "" {
			add("refused", "bad", "%s", h.Refused)
		} else {
			add("pending", "attention", "%s to what is declared; verbund plan shows them", words.Count(h.Pending, "step"))
		}
		return rows
	}
	if v.Cluster != nil {
		kind := declare.SimulatedSite
		switch {
		case v.Cluster.Listed:
			kind = declare.ListedSite
		case v.Cluster.Real:
			kind = declare.LinuxSite
		}
		if what := whatIsReal(kind, v); what != "" {
			add("site", "", "%s: %s", v.Cluster.Site, what)
		}
	}
	if h.Endpoint.Answers {
		add("api", "good", "answers at %s (%s)", h.Endpoint.Server, h.Endpoint.Address)
	} else if v.Seen.API {
		add("api", "bad", "answers, but not at %s (%s)", h.Endpoint.Server, h.Endpoint.Address)
	} else {
		add("api", "bad", "does not answer")
	}
	for i, text := range versionsText(h) {
		add(map[bool]string{true: "kubernetes"}[i == 0], map[bool]string{true: "attention"}[unlike(h.Groups)], "%s", text)
	}
	d := h.Datastore
	switch {
	case d.Voters == 0:
		add("datastore", "bad", "does not answer")
	case d.Healthy <= d.Voters/2:
		add("datastore", "bad", "%d of %d members healthy: no quorum, nothing can be changed", d.Healthy, d.Voters)
	default:
		add("datastore", "", "%d of %d members healthy; survives the loss of %d", d.Healthy, d.Voters, d.Survives)
	}
	switch {
	case h.Nodes.Known && v.Cluster.CopyOf != "":
		add("nodes", "", "%d in what the backup held, none of which is here", h.Nodes.Total)
	case h.Nodes.Known:
		add("nodes", "", "%d of %d Ready", h.Nodes.Ready, h.Nodes.Total)
	default:
		add("nodes", "attention", "not known while the API does not answer")
	}
	if h.TrustSaid != "" {
		add("trust", map[bool]string{true: "bad"}[len(h.Trust) > 0], "%s", h.TrustSaid)
	}
	backup()
	if h.Waiting > 0 {
		add("requests", "attention", "%s for a person to decide; verbund requests list says why", words.Count(h.Waiting, "certificate request"))
	}
	for _, r := range h.Replacing {
		if r.Waits {
			add("replacing", "attention", "%s: pass %d of 3 is done everywhere; verbund trust replace %s goes on with the next", r.What, r.Pass, r.What)
		}
	}
	if of := v.Cluster.CopyOf; of != "" {
		add("copy", "", "of cluster %s, for looking at: without controllers, scheduler and nodes, so that what the API holds is as the backup had it", of)
	} else if !v.Cluster.Nodes {
		add("control", "", "its %s declared not to be nodes (control.nodes: false): verbund machines shows them", words.Are(len(v.Cluster.With(versions.API)), "machine"))
	}
	if v.Cluster.Apart {
		add("members", "", "the datastore stands apart, on %s", words.Count(len(v.Cluster.With(versions.Member)), "machine"))
	}
	if held := look.HeldBack(v.Cluster); len(held) > 0 {
		add("held back", "attention", "%s", strings.Join(held, ", "))
	}
	for _, x := range h.Accepted {
		add("exception", "attention", "%s", x)
	}
	for _, l := range h.Ailing {
		add("trouble", "bad", "%s", l)
	}
	for _, n := range h.Strays {
		add("trouble", "bad", "node %s belongs to no machine that is declared or at the site, and somebody reports that it is well: whoever has the certificate of a machine that was removed can do so; find out who, then kubectl delete node %s; verbund trust replace cluster-authority shuts its certificate out", n, n)
	}
	for i, w := range h.Wanting {
		if i == mostWanting && len(h.Wanting) > mostWanting+1 {
			add("workloads", "attention", "and %d more", len(h.Wanting)-i)
			break
		}
		add("workloads", "attention", "%s", w)
	}
	for _, l := range h.Strained {
		add("see to", "attention", "%s", l)
	}
	if h.Held != nil {
		add("roll-out", "attention", "%s; verbund rollout shows where it stands", act.HeldBy(h.Held).Why)
	}
	switch {
	case h.Refused != "":
		add("refused", "bad", "%s", h.Refused)
	case h.Pending > 0 && h.Run != nil:
		add("pending", "attention", "%s to what is declared, those of the run among them", words.Count(h.Pending, "step"))
	case h.Pending > 0:
		add("pending", "attention", "%s to what is declared; verbund plan shows them", words.Count(h.Pending, "step"))
	}
	return rows
}

// mostWanting is how many workloads are named that do not have what they want.
const mostWanting = 8

// unlike says whether any machine runs something else than it should.
func unlike(gs []look.Group) bool {
	for _, g := range gs {
		if g.Version != g.Declared {
			return true
		}
	}
	return false
}

// versionsText says which version runs, group by group where they are not alike.
func versionsText(h *look.Health) []string {
	if !unlike(h.Groups) {
		return []string{fmt.Sprintf("%s runs everywhere, as declared", h.Declared)}
	}
	var parts []string
	for _, g := range h.Groups {
		switch {
		case g.Version != g.Declared:
			parts = append(parts, fmt.Sprintf("%s on %s: %s, %s is declared", g.Name, words.Count(g.Machines, "machine"), cmp.Or(g.Version, "not known"), g.Declared))
		case g.Nodes:
			parts = append(parts, fmt.Sprintf("%s on %s: %s", g.Name, words.Count(g.Machines, "machine"), g.Version))
		}
	}
	return parts
}
