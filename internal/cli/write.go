package cli

import (
	_ "embed"
	"errors"
	"fmt"
	"hash/fnv"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"text/template"
	"time"

	"github.com/spf13/cobra"

	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/versions"
	"verbund/internal/engine"
	"verbund/internal/store"
)

//go:embed draft/available.yaml
var draftAvailable string

//go:embed draft/small.yaml
var draftSmall string

//go:embed draft/site.yaml
var draftSite string

var clusterName = regexp.MustCompile(`^[a-z]([a-z0-9-]*[a-z0-9])?$`)

func (a *app) draftCmd() *cobra.Command {
	var shape, siteName, version string
	c := &cobra.Command{
		Use: "draft NAME", Short: "Write a commented declaration and its site file",
		Long:    "Writes NAME.verbund.yaml, and the file of its site if there is none yet. Existing files are left alone.",
		Example: "  verbund draft tidewatch\n  verbund draft lampwright --shape small",
		Args:    exactArgs(1, "the name of the cluster"),
		RunE: func(_ *cobra.Command, args []string) error {
			name := args[0]
			if !clusterName.MatchString(name) || len(name) > 30 {
				return usage("%q is not a name for a cluster; begin with a small letter, then small letters, digits and hyphens, 30 at most", name)
			}
			text := map[string]string{"small": draftSmall, "available": draftAvailable}[shape]
			if text == "" {
				return usage("there is no shape %q; choose small or available", shape)
			}
			if _, ok := versions.Shipped().Set(version); !ok {
				return usage("Kubernetes %s is not in the catalogue; choose one of %s", version, strings.Join(versions.Shipped().Versions(), ", "))
			}
			files := []struct{ path, text string }{{name + declarationEnding, text}, {siteName + siteEnding, draftSite}}
			for i, f := range files {
				p := filepath.Join(a.dir, f.path)
				if _, err := os.Lstat(p); err == nil {
					if i == 0 {
						return &exit{exitFailed, fmt.Errorf("%s is there already and was left alone", p)}
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
				if err := writeWhole(p, []byte(b.String()), 0o644); err != nil {
					return err
				}
				a.ui.say("wrote %s", p)
			}
			a.ui.say("read it, change it, then: verbund check; verbund converge")
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

// writeWhole writes a file under its name only when all of it is on disk.
func writeWhole(path string, b []byte, mode os.FileMode) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".verbund-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return os.Rename(f.Name(), path)
}

func (a *app) checkCmd() *cobra.Command {
	return &cobra.Command{
		Use: "check [FILE…]", Short: "Check declarations: findings with file, line and column",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				p, err := a.findDeclaration()
				if err != nil {
					return err
				}
				args = []string{p}
			}
			all := declare.Findings{}
			for _, p := range args {
				_, _, _, fs, err := a.read(p)
				if err != nil {
					return err
				}
				all = append(all, fs...)
			}
			if a.output == "json" {
				if err := a.ui.json(all); err != nil {
					return err
				}
			} else {
				a.printFindings(all)
				a.ui.say("%s: %s, %s", strings.Join(args, ", "), count(all.Errors(), "error"), count(len(all)-all.Errors(), "warning"))
			}
			if all.Errors() > 0 {
				return &exit{code: exitUsage}
			}
			return nil
		},
	}
}

func (a *app) versionsCmd() *cobra.Command {
	return &cobra.Command{
		Use: "versions", Short: "Show the catalogue: what fits together", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			cat := versions.Shipped()
			if a.output == "json" {
				return a.ui.json(cat.Sets)
			}
			var rows [][]cell
			for i := len(cat.Sets) - 1; i >= 0; i-- {
				s := cat.Sets[i]
				rows = append(rows, cells(s.Kubernetes, s.Etcd, s.DNS, s.Fairway, s.Containerd, s.Image))
			}
			a.ui.table([]string{"kubernetes", "etcd", "dns", "fairway", "containerd", "machine image"}, rows)
			a.ui.say("\nA control plane goes one minor at a time. API server, controller manager, scheduler, kubelet and proxy carry the Kubernetes version.")
			return nil
		},
	}
}

const renderedMark = ".verbund-rendered"

func (a *app) renderCmd() *cobra.Command {
	var to string
	var keys bool
	c := &cobra.Command{
		Use: "render", Short: "Write every machine's files into a folder, for reading and version control",
		Long: `Writes the files of every machine into a folder: systemd units, component
configuration, kubeconfigs, certificates, names, and the balancer's
configuration. Private keys stay in the tool's store unless --with-keys; then
an ignore file keeps them out of version control.`,
		Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			s, err := a.open(true)
			if err != nil {
				return err
			}
			if s.Store, err = store.Open(filepath.Dir(filepath.Dir(s.Store.Path)), s.Decl.Name); err != nil {
				return err
			}
			if to == "" {
				to = filepath.Join(a.dir, s.Decl.Name+".rendered")
			}
			n, err := render(s, to, keys)
			if err != nil {
				return err
			}
			a.ui.say("wrote %s of %s to %s", count(n, "file"), s.Decl.Name, to)
			return nil
		},
	}
	c.Flags().StringVar(&to, "to", "", "the folder; NAME.rendered if not given")
	c.Flags().BoolVar(&keys, "with-keys", false, "also private keys, and an ignore file")
	return c
}

// render writes into a new folder beside to and puts it in to's place.
func render(s *engine.Session, to string, keys bool) (int, error) {
	if es, err := os.ReadDir(to); err == nil && len(es) > 0 {
		if _, err := os.Stat(filepath.Join(to, renderedMark)); err != nil {
			return 0, usage("%s holds other files, which would be lost; choose another folder with --to", to)
		}
	}
	c, err := s.Topology()
	if err != nil {
		return 0, err
	}
	if err := s.EnsureTrust(c, time.Now()); err != nil {
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
	n := 0
	for _, m := range c.Machines {
		for _, f := range nodeconf.Render(c, m, nodeconf.Options{}) {
			if f.Kind == nodeconf.Key && !keys {
				continue
			}
			b, err := engine.Content(f, t)
			if err != nil {
				return 0, err
			}
			p := filepath.Join(tmp, m.Name, f.Path)
			if err := errors.Join(os.MkdirAll(filepath.Dir(p), 0o755), os.WriteFile(p, b, f.Mode)); err != nil {
				return 0, err
			}
			n++
		}
	}
	if err := os.WriteFile(filepath.Join(tmp, renderedMark), []byte("written by verbund render; the whole folder is replaced each time\n"), 0o644); err != nil {
		return 0, err
	}
	if keys {
		if err := os.WriteFile(filepath.Join(tmp, ".gitignore"), []byte("# private keys do not belong in version control\n*.key\n"), 0o644); err != nil {
			return 0, err
		}
	}
	return n, errors.Join(os.RemoveAll(to), os.Rename(tmp, to))
}
