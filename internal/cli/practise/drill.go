package practise

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/drill"
	"verbund/internal/core/words"
	enginedrill "verbund/internal/engine/drill"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/whole"
)

// DrillListed is one drill of a list, as JSON.
type DrillListed struct {
	Name     string   `json:"name"`
	Supposes string   `json:"supposes"`
	Hits     string   `json:"hits"`
	Loses    string   `json:"loses,omitempty"`
	Steps    []string `json:"steps"`            // in words, with whom they hit; empty where it cannot be carried out
	Unable   string   `json:"unable,omitempty"` // why it cannot be carried out here
}

// DrillCmd is verbund drill.
func DrillCmd(a *desk.App) *cobra.Command {
	var all bool
	var file string
	c := &cobra.Command{
		Use: "drill [NAME…]", Short: "Disturb the cluster on purpose, and measure what has to hold",
		Long: `A drill disturbs a cluster and measures meanwhile whether the API takes writes, whether
everything that it acknowledged is kept, and whether the declared watches are answered.
It ends by putting everything right again, also when it is interrupted, and looks whether
the cluster is well, no node stayed cordoned, and nothing is there twice.

It refuses on a cluster that is not well, and faults that its site cannot make happen.
verbund drill list shows what there is; a declaration can have drills of its own.

Exit code 3 when something that was supposed does not hold.`,
		Example: "  verbund drill list\n  verbund drill leader-power zone-power\n  verbund drill --all --report drills.html --confirm tidewatch",
		RunE: func(_ *cobra.Command, args []string) error {
			if all == (len(args) > 0) {
				return term.Usage("name drills, or say --all; verbund drill list shows which there are")
			}
			if end := filepath.Ext(file); file != "" && end != ".html" && end != ".png" && end != ".svg" {
				return term.Usage("a report %s cannot be written; give a file that ends in .html, .png or .svg", file)
			}
			return drills(a, args, file)
		},
	}
	c.Flags().BoolVar(&all, "all", false, "all of them, one after the other; those that cannot be carried out here are named")
	c.Flags().StringVar(&file, "report", "", "write a report to this `FILE`: a page (.html), or a picture of a single drill (.png, .svg)")
	a.Asks(c)
	c.AddCommand(drillListCmd(a))
	return c
}

func drillListCmd(a *desk.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "Show which drills there are, and whom they would hit here", Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, f, err := facts(a)
			if err != nil {
				return err
			}
			defer s.Close()
			var list []DrillListed
			for _, d := range drill.All(f.Cluster.Endpoint, s.Decl.Drills) {
				x := DrillListed{Name: d.Name, Supposes: d.Supposes, Hits: d.Hits, Loses: d.Loses}
				script, err := f.Script(d)
				if err != nil {
					x.Unable = err.Error()
				}
				for _, st := range script {
					x.Steps = append(x.Steps, st.InWords())
				}
				list = append(list, x)
			}
			if a.Output == "json" {
				return a.UI.JSON(list)
			}
			var rows [][]term.Cell
			for _, x := range list {
				here := term.Cell{Text: "yes", State: "good"}
				text := x.Supposes
				if x.Unable != "" {
					here, text = term.Cell{Text: "no", State: "attention"}, "not here: "+x.Unable
				}
				rows = append(rows, []term.Cell{term.Plain(x.Name), here, term.Plain(text)})
			}
			a.UI.Table([]string{"drill", "here", "supposes"}, rows)
			return nil
		},
	}
}

// facts opens the cluster, and finds out what drills go by.
func facts(a *desk.App) (*session.Session, drill.Facts, error) {
	s, v, err := a.View()
	if err != nil {
		return nil, drill.Facts{}, err
	}
	var f drill.Facts
	site, err := desk.SimulatedSite(s)
	if err == nil {
		err = look.Acts(s, v)
	}
	if err == nil {
		f, err = enginedrill.Facts(a.Soft, s, v, site)
	}
	if err != nil {
		s.Close()
		return nil, f, err
	}
	return s, f, nil
}

// chosen are the drills of these names, or all of them.
func chosen(s *session.Session, f drill.Facts, names []string) ([]declare.Drill, error) {
	all := drill.All(f.Cluster.Endpoint, s.Decl.Drills)
	if len(names) == 0 {
		return all, nil
	}
	var known []string
	for _, d := range all {
		known = append(known, d.Name)
	}
	var out []declare.Drill
	for _, n := range names {
		i := slices.Index(known, n)
		if i < 0 {
			return nil, term.Usage("there is no drill %s; %s", n, cmp.Or(term.Suggestion(n, known), "verbund drill list shows which there are"))
		}
		out = append(out, all[i])
	}
	return out, nil
}

// drills carries drills out, one after the other.
func drills(a *desk.App, names []string, file string) error {
	s, f, err := facts(a)
	if err != nil {
		return err
	}
	defer s.Close()
	ds, err := chosen(s, f, names)
	if err != nil {
		return err
	}
	if len(ds) > 1 && file != "" && filepath.Ext(file) != ".html" {
		return term.Usage("a picture shows one drill; give a file that ends in .html for %d", len(ds))
	}
	if err := agree(a, s, f, ds); err != nil {
		return err
	}
	release, err := s.Store.Practise("drill")
	if err != nil {
		return err
	}
	defer release()
	site, err := desk.SimulatedSite(s)
	if err != nil {
		return err
	}
	var reports []*drill.Report
	for _, d := range ds {
		began := time.Now()
		a.UI.Say("drill %s: %s", d.Name, d.Supposes)
		open := func() (*session.Session, error) { return a.Open(false) }
		own, err := open() // it closes it
		if err != nil {
			return cutShort(err, finish(a, reports, file))
		}
		x := &enginedrill.Drill{Session: own, Site: site, Runner: &runner{a, s.Decl.Name}, Left: left(s.Store.Folder()), Reopen: open, Tell: func(text string) {
			a.UI.Say("%6.1f s  %s", time.Since(began).Seconds(), text)
		}}
		r, rerr := x.Run(a.Soft, a.Hard, d)
		if r != nil && (rerr == nil || len(r.Claims) > 0) {
			reports = append(reports, r)
			if a.Output != "json" {
				showDrill(a, r)
			}
		}
		if rerr != nil {
			return cutShort(rerr, finish(a, reports, file))
		}
	}
	return finish(a, reports, file)
}

// cutShort is the error that ended drills before their end: what those before it came to decides
// nothing any more.
func cutShort(err, finished error) error {
	var x *term.Exit
	if errors.As(finished, &x) {
		finished = nil
	}
	return errors.Join(err, finished)
}

// left is the file of what drills have disturbed and not put right yet, in a store's folder.
type left string

func (l left) file() string { return filepath.Join(string(l), "drill.json") }

// disturbed is one fault in it.
type disturbed struct {
	Fault    string   `json:"fault"`
	Machines []string `json:"machines,omitempty"`
	Zone     string   `json:"zone,omitempty"`
	Artefact string   `json:"artefact,omitempty"`
}

// Load reads it; one that is not there holds nothing.
func (l left) Load() (steps []drill.Step, err error) {
	b, err := whole.Read(l.file())
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var all []disturbed
	if err == nil {
		err = json.Unmarshal(b, &all)
	}
	for _, d := range all {
		steps = append(steps, drill.Step{DrillStep: declare.DrillStep{Fault: d.Fault}, Machines: d.Machines, Zone: d.Zone, Artefact: d.Artefact})
	}
	if err != nil {
		return nil, fmt.Errorf("what an earlier drill has left, %s: %w; look with verbund status and verbund machines what is disturbed, put it right, and remove that file", l.file(), err)
	}
	return steps, nil
}

// Save writes it; of nothing there is no file.
func (l left) Save(steps []drill.Step) error {
	if len(steps) == 0 {
		if err := os.Remove(l.file()); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	var all []disturbed
	for _, s := range steps {
		all = append(all, disturbed{s.Fault, s.Machines, s.Zone, s.Artefact})
	}
	b, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return whole.Write(l.file(), b, 0o600)
}

// agree says what drills would do, and asks.
func agree(a *desk.App, s *session.Session, f drill.Facts, ds []declare.Drill) error {
	var lose []string
	able := 0
	for _, d := range ds {
		script, err := f.Script(d)
		if err != nil {
			if len(ds) == 1 {
				return fmt.Errorf("drill %s cannot be carried out here: %w", d.Name, err)
			}
			continue
		}
		able++
		if d.Loses != "" {
			lose = append(lose, fmt.Sprintf("%s loses %s", d.Name, d.Loses))
		}
		if _, ok := term.IsTerminal(a.In); ok && !a.Yes && a.Confirm == "" {
			a.UI.Say("drill %s hits %s", d.Name, cmp.Or(d.Hits, "whoever its steps name"))
			for _, x := range script {
				a.UI.Say("  %s", x.InWords())
			}
		}
	}
	if len(lose) > 0 {
		return a.AskByName(s.Decl.Name, fmt.Sprintf("drills of cluster %s lose something for good: %s", s.Decl.Name, strings.Join(lose, "; ")))
	}
	if a.Confirm == s.Decl.Name {
		return nil
	}
	return a.Ask(fmt.Sprintf("Disturb cluster %s on purpose, %s?", s.Decl.Name, words.Count(able, "drill")))
}

// showDrill shows what a drill came to.
func showDrill(a *desk.App, r *drill.Report) {
	if r.Unable != "" {
		fmt.Fprintf(a.Out, "drill %s: not carried out, since %s\n\n", r.Drill, r.Unable)
		return
	}
	var rows [][]term.Cell
	for _, c := range r.Claims {
		rows = append(rows, []term.Cell{term.Plain(c.What), term.Plain(c.Limit), outcome(c.Holds), term.Plain(c.Measured)})
	}
	fmt.Fprintf(a.Out, "drill %s: %s\n", r.Drill, r.Measured)
	a.UI.Table([]string{"supposed", "limit", "outcome", "found"}, rows)
	fmt.Fprintln(a.Out)
}

func outcome(holds bool) term.Cell {
	if holds {
		return term.Cell{Text: "holds", State: "good"}
	}
	return term.Cell{Text: "DOES NOT HOLD", State: "bad"}
}

// finish tells what all drills came to, and writes the report.
func finish(a *desk.App, reports []*drill.Report, file string) error {
	held, unable := 0, 0
	for _, r := range reports {
		switch {
		case r.Unable != "":
			unable++
		case r.Holds():
			held++
		}
	}
	if a.Output == "json" {
		if err := a.UI.JSON(term.List(reports)); err != nil {
			return err
		}
	} else if len(reports) > 1 {
		text := fmt.Sprintf("%d of %s hold what they suppose", held, words.Count(len(reports)-unable, "drill"))
		if unable > 0 {
			text += fmt.Sprintf("; %d could not be carried out here", unable)
		}
		fmt.Fprintln(a.Out, text+".")
	}
	if file != "" && len(reports) > 0 {
		if err := writeReport(a, reports, file); err != nil {
			return err
		}
	}
	if held+unable < len(reports) || held == 0 {
		return &term.Exit{Code: term.ExitNotWell}
	}
	return nil
}

// writeReport writes a page of all drills, or a picture of the only one.
func writeReport(a *desk.App, reports []*drill.Report, file string) error {
	if filepath.Ext(file) != ".html" {
		return a.DrawTo(file, drillPicture(reports[0]))
	}
	var b bytes.Buffer
	if err := drillPage(reports).Write(&b); err != nil {
		return err
	}
	if err := whole.Write(file, b.Bytes(), 0o644); err != nil {
		return err
	}
	a.UI.Say("wrote %s", file)
	return nil
}
