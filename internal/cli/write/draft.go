package write

import (
	_ "embed"
	"fmt"
	"hash/fnv"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/template"

	"github.com/spf13/cobra"

	"verbund/internal/cli/desk"
	"verbund/internal/cli/term"
	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/store"
	"verbund/internal/whole"
)

// WroteSaid lists the files that were written, as JSON.
type WroteSaid struct {
	Files []string `json:"files"`
}

//go:embed draft/available.yaml
var draftAvailable string

//go:embed draft/small.yaml
var draftSmall string

//go:embed draft/wide.yaml
var draftWide string

// shape is what a draft can be of: its text, the names that pools have if nobody gives others,
// and for how many machines there is room in each zone of a site that is drafted with it.
type shape struct {
	text  string
	pools []string
	room  int
}

var shapes = map[string]shape{"small": {draftSmall, []string{"general"}, 12}, "available": {draftAvailable, []string{"general", "dedicated"}, 12}, "wide": {draftWide, []string{"general", "dedicated"}, 400}}

//go:embed draft/site.yaml
var draftSite string

//go:embed draft/site-linux.yaml
var draftLinux string

//go:embed draft/site-listed.yaml
var draftListed string

// DraftCmd is verbund draft.
func DraftCmd(a *desk.App) *cobra.Command {
	var shapeName, siteName, version, components, listed, control string
	var pools []string
	c := &cobra.Command{
		Use: "draft NAME", Short: "Write a commented declaration and its site file",
		Long:    "Writes NAME.verbund.yaml, and the file of its site if there is none yet. Existing files are left alone.",
		Example: "  verbund draft tidewatch\n  verbund draft lampwright --shape small\n  verbund draft tidewatch --pools gauges,forecast\n  verbund draft tidewatch --linux components\n  verbund draft tidewatch --listed components",
		Args:    term.ExactArgs(1, "the name of the cluster"),
		RunE: func(_ *cobra.Command, args []string) error {
			name := args[0]
			if !declare.IsName(name) {
				return term.Usage("%q is not a name for a cluster; begin with a small letter, then small letters, digits and hyphens, 30 at most", name)
			}
			of, pools, err := shaped(shapeName, pools)
			if err != nil {
				return err
			}
			if shapeName == "wide" && components+listed+control != "" {
				return term.Usage("shape wide is of simulated machines: of real ones so many fit on no computer")
			}
			at, cat, site := map[string]any{"Name": name, "Site": siteName, "Pools": pools, "Room": of.room}, versions.Shipped(), draftSite
			for _, kind := range []struct {
				from, catalogue, site string
				oldGroups             bool
			}{{components, desk.FullCatalogue, draftLinux, oldGroups()}, {listed, desk.FullCatalogue, draftListed, false}, {control, desk.LightCatalogue, draftSite, false}} {
				if kind.from == "" {
					continue
				}
				if at["Stock"] != nil {
					return term.Usage("machines are real ones of this computer, those of a list, or simulated with a real control plane: choose one of --linux, --listed and --real-control")
				}
				if cat, err = real(a.Dir, kind.from, kind.catalogue, at); err != nil {
					return err
				}
				at["OldGroups"], site = kind.oldGroups, kind.site
			}
			if version == "" {
				vs := cat.Versions()
				version = vs[len(vs)-1]
			}
			if _, ok := cat.Set(version); !ok {
				return term.Usage("Kubernetes %s is not in the catalogue; choose one of %s", version, strings.Join(cat.Versions(), ", "))
			}
			at["Kubernetes"] = version
			wrote, err := drafted(a, at, components != "", [2]string{name + declare.Ending, of.text}, [2]string{siteName + declare.SiteEnding, site})
			if err != nil {
				return err
			}
			// Editors find the schemas by the comment line at the head of each file.
			for file, of := range map[string]func() ([]byte, error){desk.SchemaFile: declare.DeclarationSchema, desk.SiteSchemaFile: declare.SiteFileSchema} {
				schema, err := of()
				if err == nil {
					err = whole.Write(filepath.Join(a.Dir, file), schema, 0o644)
				}
				if err != nil {
					return err
				}
				wrote = append(wrote, filepath.Join(a.Dir, file))
			}
			if a.Output == "json" {
				slices.Sort(wrote)
				return a.UI.JSON(WroteSaid{wrote})
			}
			then := "verbund check; verbund converge"
			if listed != "" {
				then = "verbund check; verbund site meet; verbund converge"
			}
			a.UI.Say("read it, change it, then: %s", then)
			return nil
		},
	}
	c.Flags().StringVar(&shapeName, "shape", "available", "small (one control, one worker), available (three control behind a balancer), or wide (the same with a thousand workers)")
	c.Flags().StringSliceVar(&pools, "pools", nil, "`NAMES` of the shape's pools (as a rule general, and dedicated)")
	c.Flags().StringVar(&siteName, "site", "estuary", "the site that supplies the machines")
	c.Flags().StringVar(&version, "kubernetes", "", "a version of the catalogue (as a rule the newest)")
	c.Flags().StringVar(&control, "real-control", "", "simulated machines with a real control plane, with the components in a `FOLDER`; needs root")
	c.Flags().StringVar(&listed, "listed", "", "machines that there are already, from a list, with the components in a `FOLDER`")
	c.Flags().StringVar(&components, "linux", "", "real Linux machines on this computer, with the components in a `FOLDER` that tools/components built")
	return c
}

// shaped is a shape, with the names of its pools.
func shaped(name string, pools []string) (shape, []string, error) {
	of, ok := shapes[name]
	if !ok {
		return of, nil, term.Usage("there is no shape %q; choose small, available or wide", name)
	}
	if len(pools) == 0 {
		pools = of.pools
	}
	if wrong := slices.IndexFunc(pools, func(p string) bool { return !declare.IsName(p) }); wrong >= 0 {
		return of, nil, term.Usage("%q is not a name for a pool; begin with a small letter, then small letters, digits and hyphens, 30 at most", pools[wrong])
	}
	if len(pools) != len(of.pools) {
		return of, nil, term.Usage("%s named, and shape %s has %d; name as many, and add others to what was written", words.Are(len(pools), "pool"), name, len(of.pools))
	}
	return of, pools, nil
}

// drafted writes a declaration and its site's file from their templates; a site's file that is
// there already is left alone.
func drafted(a *desk.App, at map[string]any, real bool, declaration, site [2]string) ([]string, error) {
	wrote := []string{}
	if err := os.MkdirAll(filepath.Join(a.Dir, store.Dir), 0o700); err != nil {
		return nil, err
	}
	for i, f := range [][2]string{declaration, site} {
		p := filepath.Join(a.Dir, f[0])
		if _, err := os.Lstat(p); err == nil {
			if i == 0 {
				return nil, &term.Exit{Code: term.ExitFailed, Err: fmt.Errorf("%s is there already and was left alone", p)}
			}
			continue
		}
		abs, err := filepath.Abs(p)
		if err != nil {
			return nil, err
		}
		at["Addresses"] = blockFor(abs, real, at["Room"].(int))
		var b strings.Builder
		if err := template.Must(template.New("draft").Parse(f[1])).Execute(&b, at); err != nil {
			return nil, err
		}
		if err := whole.Write(p, []byte(b.String()), 0o644); err != nil {
			return nil, err
		}
		a.UI.Say("wrote %s", p)
		wrote = append(wrote, p)
	}
	return wrote, nil
}

// oldGroups says whether this computer has its cgroups in version 1.
func oldGroups() bool {
	_, err := os.Stat("/sys/fs/cgroup/cgroup.controllers")
	return err != nil
}

// real reads a catalogue of a folder of real components, and adds what a draft says of it.
func real(dir, components, file string, at map[string]any) (*versions.Catalogue, error) {
	folder := components
	if !filepath.IsAbs(folder) {
		folder = filepath.Join(dir, folder)
	}
	cat, b, err := desk.Components(components, folder, file)
	if err != nil {
		return nil, err
	}
	// Both files name it as it lies beside them, so that they can be moved together.
	from, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if folder, err = filepath.Abs(folder); err != nil {
		return nil, err
	}
	if at["Stock"], err = filepath.Rel(from, folder); err != nil {
		return nil, err
	}
	at["Digest"], at["Catalogue"] = versions.DigestOf(b), file
	return cat, nil
}

// blockFor chooses an address block by the folder, so that sites in different folders do not
// meet: of the loopback range, or where machines are real a private one that lies before the
// ranges of services and pods that a declaration has without a word. A zone with room for
// hundreds has 65536 addresses with its like, where no narrow block is.
func blockFor(path string, real bool, room int) netip.Prefix {
	h := fnv.New32a()
	h.Write([]byte(path))
	v := h.Sum32()
	if real {
		return netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(64 + v>>8%48), byte(v), 0}), 24)
	}
	if room > 100 {
		return netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(128 + v>>8&63)}), 16)
	}
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(64 + v>>8&63), byte(v), 0}), 24)
}
