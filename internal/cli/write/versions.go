package write

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/converge"
	"verbund/internal/whole"
)

// VersionsSaid lists the sets of a catalogue, as JSON.
type VersionsSaid struct {
	Sets   []versions.Set     `json:"sets"`
	Minors []versions.Support `json:"minors"`
	Fits   []versions.Fit     `json:"fits"`
	Real   []string           `json:"real,omitempty"` // artefacts, as NAME:VERSION, that are no stand-ins
}

// VersionsCmd is verbund versions.
func VersionsCmd(a *desk.App) *cobra.Command {
	var from, to, write string
	var refresh bool
	c := &cobra.Command{
		Use: "versions", Short: "Show the catalogue: what fits together, the way between versions, the pins", Args: term.NoArgs,
		Long: `Shows the sets of the catalogue: one Kubernetes version and everything that fits
it, and until when each minor is supported.

With --from and --to: the hops between two versions, the control plane minor by
minor, the workers in as few drains as the skew rules allow. With --refresh: how the
catalogue differs from this cluster's pins; --yes moves the pins.`,
		Example: "  verbund versions --from v1.35.3 --to v1.37.2\n  verbund versions --refresh\n  verbund versions --write coast.catalogue.yaml",
		RunE: func(*cobra.Command, []string) error {
			switch {
			case refresh:
				return refreshPins(a)
			case write != "":
				return writeCatalogue(a, write)
			case from != "" || to != "":
				return showRoad(a, from, to)
			}
			return showCatalogue(a)
		},
	}
	f := c.Flags()
	f.StringVar(&from, "from", "", "the version that runs; the declared one if not given")
	f.StringVar(&to, "to", "", "the version to go to; the newest if not given")
	f.BoolVar(&refresh, "refresh", false, "show how the catalogue differs from the pins")
	f.StringVar(&write, "write", "", "write the catalogue inside the program to a file, to start one of your own")
	f.BoolVarP(&a.Yes, "yes", "y", false, "with --refresh: move the pins")
	return c
}

// catalogue is the declared one, without pins; the one inside the program
// where there is no declaration.
func catalogue(a *desk.App) *versions.Catalogue {
	if p, err := a.FindDeclaration(); err == nil {
		if r, err := a.Read(p); err == nil {
			return r.Plain
		}
	}
	return versions.Shipped()
}

func showCatalogue(a *desk.App) error {
	cat := catalogue(a)
	if a.Output == "json" {
		return a.UI.JSON(VersionsSaid{cat.Sets, cat.Minors, cat.Fits, cat.Real})
	}
	var rows [][]term.Cell
	for _, s := range slices.Backward(cat.Sets) {
		until := term.Plain("")
		if day, ok := cat.Ends(s.Minor()); ok {
			until = term.Plain(day.Format(time.DateOnly))
			if time.Now().After(day) {
				until.State = "bad"
			}
		}
		rows = append(rows, []term.Cell{term.Plain(s.Kubernetes), until, term.Plain(s.Etcd), term.Plain(s.DNS), term.Plain(s.Fairway), term.Plain(s.Containerd), term.Plain(s.Image)})
	}
	a.UI.Table([]string{"kubernetes", "supported until", "etcd", "dns", "fairway", "containerd", "machine image"}, rows)
	for _, s := range slices.Backward(cat.Sets) {
		switch names, all := cat.RealOf(s); {
		case all:
			a.UI.Say("of %s everything is real, and no stand-in", s.Kubernetes)
		case len(names) > 0:
			a.UI.Say("of %s these are real, and no stand-ins: %s", s.Kubernetes, strings.Join(names, ", "))
		}
	}
	a.UI.Say("\nA control plane goes one minor at a time; workers may be up to %d minors behind it.\nverbund versions --from %s --to %s shows a way.", versions.KubeletSkew, cat.Sets[0].Kubernetes, cat.Sets[len(cat.Sets)-1].Kubernetes)
	return nil
}

func showRoad(a *desk.App, from, to string) error {
	cat := catalogue(a)
	if from == "" {
		p, err := a.FindDeclaration()
		if err != nil {
			return term.Usage("say from which version with --from: %v", err)
		}
		r, err := a.Read(p)
		if err != nil {
			return err
		}
		from = r.Decl.Kubernetes
	}
	if to == "" {
		to = cat.Sets[len(cat.Sets)-1].Kubernetes
	}
	road, err := cat.Road(from, to)
	if err != nil {
		return term.Usage("%v", err)
	}
	if a.Output == "json" {
		return a.UI.JSON(road)
	}
	if len(road.Legs) == 0 {
		fmt.Fprintf(a.Out, "%s it is already.\n", to)
		return nil
	}
	var rows [][]term.Cell
	for i, l := range road.Legs {
		rows = append(rows, term.Cells(fmt.Sprint(i+1), l.Who, l.From, l.To, l.Because))
	}
	a.UI.Table([]string{"", "who", "from", "to", "because"}, rows)
	fmt.Fprintf(a.Out, "\n%s of the control plane, %s of each worker", words.Count(road.Hops, "hop"), words.Count(road.Drains, "drain"))
	if road.Saved > 0 {
		fmt.Fprintf(a.Out, " instead of %d.\nTo hold workers back meanwhile, give their pools kubernetes: %s", road.Hops, road.Legs[0].From)
	}
	fmt.Fprintln(a.Out, ".")
	switch {
	case versions.Minor(from) == versions.Minor(to):
	case len(road.Gone) == 0:
		fmt.Fprintln(a.Out, "No setting of a component goes away on the way.")
	default:
		fmt.Fprintf(a.Out, "Settings that go away on the way: %s.\n", strings.Join(road.Gone, ", "))
	}
	return nil
}

func writeCatalogue(a *desk.App, file string) error {
	b, err := versions.Shipped().Encode()
	if err != nil {
		return err
	}
	if _, err := os.Lstat(file); err == nil {
		return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s is there already and was left alone", file)}
	}
	if err := whole.Write(file, b, 0o644); err != nil {
		return err
	}
	a.UI.Say("wrote %s\nto use it, add to the declaration:\n\ncatalogue:\n  file: %s\n  digest: %s", file, filepath.Base(file), versions.DigestOf(b))
	return nil
}

// refreshPins shows how the catalogue differs from the pins, and moves them
// when told.
func refreshPins(a *desk.App) error {
	_, r, err := a.OpenFile(false)
	if err != nil {
		return err
	}
	if r.Pins == nil {
		return term.Usage("cluster %s has no pins yet; the first converge writes them", r.Decl.Name)
	}
	changes := r.Pins.Changes(r.Plain)
	if a.Output == "json" {
		if err := a.UI.JSON(term.List(changes)); err != nil {
			return err
		}
	} else {
		if len(changes) == 0 {
			fmt.Fprintf(a.Out, "The pins of %s are what the catalogue says.\n", r.Decl.Name)
			return nil
		}
		var rows [][]term.Cell
		for _, c := range changes {
			rows = append(rows, term.Cells(cmp.Or(c.Kubernetes, "-"), c.What, term.ShortDigest(c.Pinned), cmp.Or(term.ShortDigest(c.Now), "not there any more")))
		}
		a.UI.Table([]string{"set", "what", "pinned", "catalogue"}, rows)
	}
	if len(changes) == 0 {
		return nil
	}
	if !a.Yes {
		a.UI.Say("\nThe pins were not moved: verbund versions --refresh --yes does it; then converge.")
		return nil
	}
	var sets []versions.Set
	for _, set := range r.Pins.Sets {
		if now, ok := r.Plain.Set(set.Kubernetes); ok {
			sets = append(sets, now)
		}
	}
	return converge.WritePins(r, a.UI.Say, sets, r.Plain)
}
