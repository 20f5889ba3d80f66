package write

import (
	"cmp"
	_ "embed"
	"fmt"
	"hash/fnv"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"text/template"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/converge"
	"verbund/internal/engine/session"
	"verbund/internal/engine/vouch"
	"verbund/internal/store"
	"verbund/internal/whole"
)

//go:embed draft/available.yaml
var draftAvailable string

//go:embed draft/small.yaml
var draftSmall string

//go:embed draft/site.yaml
var draftSite string

func DraftCmd(a *desk.App) *cobra.Command {
	var shape, siteName, version string
	c := &cobra.Command{
		Use: "draft NAME", Short: "Write a commented declaration and its site file",
		Long:    "Writes NAME.verbund.yaml, and the file of its site if there is none yet. Existing files are left alone.",
		Example: "  verbund draft tidewatch\n  verbund draft lampwright --shape small",
		Args:    term.ExactArgs(1, "the name of the cluster"),
		RunE: func(_ *cobra.Command, args []string) error {
			name := args[0]
			if !declare.IsName(name) {
				return term.Usage("%q is not a name for a cluster; begin with a small letter, then small letters, digits and hyphens, 30 at most", name)
			}
			text := map[string]string{"small": draftSmall, "available": draftAvailable}[shape]
			if text == "" {
				return term.Usage("there is no shape %q; choose small or available", shape)
			}
			if _, ok := versions.Shipped().Set(version); !ok {
				return term.Usage("Kubernetes %s is not in the catalogue; choose one of %s", version, strings.Join(versions.Shipped().Versions(), ", "))
			}
			// Editors find the schema by the comment line at the head of the draft.
			sch, err := declare.DeclarationSchema()
			if err != nil {
				return err
			}
			wrote := []string{}
			files := []struct{ path, text string }{{name + desk.DeclarationEnding, text}, {siteName + desk.SiteEnding, draftSite}}
			if err := os.MkdirAll(filepath.Join(a.Dir, store.Dir), 0o700); err != nil {
				return err
			}
			for i, f := range files {
				p := filepath.Join(a.Dir, f.path)
				if _, err := os.Lstat(p); err == nil {
					if i == 0 {
						return &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s is there already and was left alone", p)}
					}
					continue
				}
				abs, err := filepath.Abs(p)
				if err != nil {
					return err
				}
				var b strings.Builder
				t := template.Must(template.New("draft").Parse(f.text))
				if err := t.Execute(&b, map[string]any{"Name": name, "Site": siteName, "Kubernetes": version, "Addresses": blockFor(abs)}); err != nil {
					return err
				}
				if err := whole.Write(p, []byte(b.String()), 0o644); err != nil {
					return err
				}
				a.UI.Say("wrote %s", p)
				wrote = append(wrote, p)
			}
			if err := whole.Write(filepath.Join(a.Dir, desk.SchemaFile), sch, 0o644); err != nil {
				return err
			}
			if a.Output == "json" {
				return a.UI.JSON(WroteSaid{append(wrote, filepath.Join(a.Dir, desk.SchemaFile))})
			}
			a.UI.Say("read it, change it, then: verbund check; verbund converge")
			return nil
		},
	}
	vs := versions.Shipped().Versions()
	c.Flags().StringVar(&shape, "shape", "available", "small (one control, one worker) or available (three control behind a balancer)")
	c.Flags().StringVar(&siteName, "site", "estuary", "the site that supplies the machines")
	c.Flags().StringVar(&version, "kubernetes", vs[len(vs)-1], "a version of the catalogue")
	return c
}

// blockFor chooses an address block by the folder, so that sites in different
// folders do not meet.
func blockFor(path string) netip.Prefix {
	h := fnv.New32a()
	h.Write([]byte(path))
	v := h.Sum32()
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(64 + v>>8&63), byte(v), 0}), 24)
}

func CheckCmd(a *desk.App) *cobra.Command {
	var rules, merged, strict bool
	var schema string
	c := &cobra.Command{
		Use: "check [FILE…]", Short: "Check declarations: findings with file, line and column",
		Long: `Reads declarations with everything that they name (the files that they extend,
their site, catalogue and pins) and prints every finding at once: the place, what is
wrong, what to do, and the rule. Exit code 2 when one is an error.`,
		Example: "  verbund check\n  verbund check --strict --output json\n  verbund check --merged\n  verbund check --schema > declaration.schema.json",
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case rules:
				return showRules(a)
			case schema != "":
				return showSchema(a, schema)
			}
			if len(args) == 0 {
				p, err := a.FindDeclaration()
				if err != nil {
					return err
				}
				args = []string{p}
			}
			if merged {
				return showMerged(a, args)
			}
			all := declare.Findings{}
			for _, p := range args {
				r, err := a.Read(p)
				if err != nil {
					return err
				}
				all = append(all, r.Findings...)
			}
			if strict {
				for i := range all {
					// What an exception accepts stays accepted.
					if all[i].Reason == "" {
						all[i].Severity = declare.Error
					}
				}
			}
			if a.Output == "json" {
				if err := a.UI.JSON(all); err != nil {
					return err
				}
			} else {
				a.PrintFindings(all)
				a.UI.Say("%s: %s, %s", strings.Join(args, ", "), words.Count(all.Errors(), "error"), words.Count(len(all)-all.Errors(), "warning"))
			}
			if all.Errors() > 0 {
				return &term.Exit{Code: term.ExitUsage}
			}
			return nil
		},
	}
	f := c.Flags()
	f.BoolVar(&rules, "rules", false, "list every rule that is checked")
	f.BoolVar(&merged, "merged", false, "print the declaration as it stands after extending, and where each value came from")
	f.BoolVar(&strict, "strict", false, "take warnings for errors")
	f.StringVar(&schema, "schema", "", "print the JSON Schema of declarations, or with =site that of site files")
	f.Lookup("schema").NoOptDefVal = "declaration"
	return c
}

func showRules(a *desk.App) error {
	if a.Output == "json" {
		return a.UI.JSON(declare.Rules)
	}
	var rows [][]term.Cell
	for _, r := range declare.Rules {
		state := ""
		if r.Severity == declare.Error {
			state = "bad"
		} else {
			state = "attention"
		}
		open := ""
		if r.Open {
			open = "yes"
		}
		rows = append(rows, []term.Cell{term.Plain(r.ID), {Text: string(r.Severity), State: state}, term.Plain(open), term.Plain(r.What)})
	}
	a.UI.Table([]string{"rule", "severity", "exceptions", "found when"}, rows)
	return nil
}

func showSchema(a *desk.App, of string) error {
	make, ok := map[string]func() ([]byte, error){"declaration": declare.DeclarationSchema, "site": declare.SiteFileSchema}[of]
	if !ok {
		return term.Usage("there is no schema of %q; choose declaration or site", of)
	}
	b, err := make()
	if err != nil {
		return err
	}
	_, err = a.Out.Write(b)
	return err
}

func showMerged(a *desk.App, files []string) error {
	for _, p := range files {
		r, err := a.Read(p)
		if err != nil {
			return err
		}
		text, err := r.Merged()
		if err != nil {
			return err
		}
		if a.Output == "json" {
			if err := a.UI.JSON(MergedSaid{text}); err != nil {
				return err
			}
		} else {
			fmt.Fprint(a.Out, text)
		}
		if n := r.Findings.Errors(); n > 0 {
			a.PrintFindings(r.Findings)
			return &term.Exit{Code: term.ExitUsage}
		}
	}
	return nil
}

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
		return a.UI.JSON(VersionsSaid{cat.Sets, cat.Minors, cat.Fits})
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

const renderedMark = ".verbund-rendered"

func RenderCmd(a *desk.App) *cobra.Command {
	var to string
	var keys, told bool
	c := &cobra.Command{
		Use: "render", Short: "Write every machine's files into a folder, for reading and version control",
		Long: `Writes the files of every machine into a folder: systemd units, component
configuration, kubeconfigs, certificates, names, and the balancer's
configuration. Private keys stay in the tool's store unless --with-keys; then
an ignore file keeps them out of version control.`,
		Args: term.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.Open(true)
			if err != nil {
				return err
			}
			if err = s.Store.Make(); err != nil {
				return err
			}
			if to == "" {
				to = filepath.Join(a.Dir, s.Decl.Name+".rendered")
			}
			if tree := desk.WorkTree(to); keys && tree != "" && !told {
				return term.Usage("%s lies in a git work tree (%s), and private keys do not belong there; choose another folder with --to, or say --in-work-tree if that is meant", to, tree)
			}
			n, err := render(s, to, keys)
			if err != nil {
				return err
			}
			if a.Output == "json" {
				return a.UI.JSON(RenderSaid{s.Decl.Name, to, n})
			}
			a.UI.Say("wrote %s of %s to %s", words.Count(n, "file"), s.Decl.Name, to)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the folder; NAME.rendered if not given")
	c.Flags().BoolVar(&keys, "with-keys", false, "also private keys, and an ignore file")
	c.Flags().BoolVar(&told, "in-work-tree", false, "with --with-keys: also inside a git work tree")
	return c
}

// render writes into a new folder beside to and puts it in to's place.
func render(s *session.Session, to string, keys bool) (int, error) {
	if es, err := os.ReadDir(to); err == nil && len(es) > 0 {
		if _, err := os.Stat(filepath.Join(to, renderedMark)); err != nil {
			return 0, term.Usage("%s holds other files, which would be lost; choose another folder with --to", to)
		}
	}
	c, err := s.Topology()
	if err != nil {
		return 0, err
	}
	// What is yet to be made is made once, whoever comes first.
	due, err := vouch.Lacking(s, c, time.Now())
	if err != nil {
		return 0, err
	}
	if due {
		release, err := desk.Held(s, "render")
		if err != nil {
			return 0, err
		}
		defer release()
	}
	if err := vouch.Ensure(s, c, time.Now()); err != nil {
		return 0, err
	}
	t, err := s.Trust()
	if err != nil {
		return 0, err
	}
	if err := os.MkdirAll(filepath.Dir(filepath.Clean(to)), 0o755); err != nil {
		return 0, err
	}
	tmp, err := os.MkdirTemp(filepath.Dir(filepath.Clean(to)), ".rendering-*")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(tmp)
	mode := os.FileMode(0o755)
	if keys {
		mode = 0o700
	}
	if err := os.Chmod(tmp, mode); err != nil {
		return 0, err
	}
	var n atomic.Int64
	err = session.RenderAll(c, t, func(m topology.Machine, files []session.Rendered) error {
		for _, f := range files {
			if (f.Kind == nodeconf.Key || f.Kind == nodeconf.SecretsConfig) && !keys {
				continue
			}
			p := filepath.Join(tmp, m.Name, f.Path)
			if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(p, f.Bytes, f.Mode); err != nil {
				return err
			}
			n.Add(1)
		}
		return nil
	})
	if err != nil {
		return 0, err
	}
	if err := os.WriteFile(filepath.Join(tmp, renderedMark), []byte("written by verbund render; the whole folder is replaced each time\n"), 0o644); err != nil {
		return 0, err
	}
	if keys {
		if err := os.WriteFile(filepath.Join(tmp, ".gitignore"), []byte("# private keys do not belong in version control\n*.key\nsecrets-encryption.yaml\n"), 0o644); err != nil {
			return 0, err
		}
	}
	if err := os.RemoveAll(to); err != nil {
		return 0, fmt.Errorf("the folder of the rendering before: %w", err)
	}
	return int(n.Load()), os.Rename(tmp, to)
}
