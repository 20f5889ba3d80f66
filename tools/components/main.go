// Command components builds real programs of Kubernetes, of what it stands on, and of our own
// add-ons, each from its published module, and lays them down as OCI artefacts with a
// catalogue that pins their digests:
//
//	cd tools/components && go run . -to ../../components
//
// A site of kind linux serves the folder (stock: in its file), and a declaration uses the
// catalogue. What was built once is kept, so that it goes on where it was cut off; from nothing
// it takes 15 to 25 minutes of two processors for two minors.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// set is one of the catalogue's, as far as it says what is built.
type set struct {
	Kubernetes string `yaml:"kubernetes"`
	Etcd       string `yaml:"etcd"`
	DNS        string `yaml:"dns"`
	Fairway    string `yaml:"fairway"`
	Containerd string `yaml:"containerd"`
	Image      string `yaml:"image"`
	Balancer   string `yaml:"balancer,omitempty"`
}

// catalogue is the shipped one, and the one that is written.
type catalogue struct {
	Schema  string              `yaml:"schema"`
	Sets    []set               `yaml:"sets"`
	Minors  []map[string]string `yaml:"minors"`
	Fits    []map[string]string `yaml:"fits"`
	Digests map[string]string   `yaml:"digests"`
	Real    []string            `yaml:"real"`
}

// light are the components that simulated machines run as they are.
var light = []string{"kube-apiserver", "kube-controller-manager", "kube-scheduler"}

// writeLight writes the catalogue for simulated machines with a real control plane: everything
// else in it is the stand-in that the program ships.
func writeLight(root, to string, built, shipped catalogue) error {
	b, err := os.ReadFile(filepath.Join(root, "internal/core/versions/digests.txt"))
	if err != nil {
		return err
	}
	out := catalogue{Schema: built.Schema, Minors: built.Minors, Fits: built.Fits, Digests: map[string]string{}}
	for line := range strings.Lines(string(b)) {
		if ref, digest, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			out.Digests[ref] = digest
		}
	}
	for _, s := range built.Sets {
		i := slices.IndexFunc(shipped.Sets, func(x set) bool { return x.Kubernetes == s.Kubernetes })
		out.Sets = append(out.Sets, shipped.Sets[i])
		for _, n := range light {
			ref := n + ":" + s.Kubernetes
			out.Digests[ref] = built.Digests[ref]
			out.Real = append(out.Real, ref)
		}
	}
	slices.Sort(out.Real)
	if b, err = yaml.Marshal(out); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(to, "catalogue-light.yaml"), append([]byte("# A real control plane, and the shipped stand-ins of everything else.\n"), b...), 0o644)
}

// machineImage is what machines of kind linux boot.
const machineImage = "debian 12"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	to := flag.String("to", "components", "folder for the artefacts and the catalogue")
	sets := flag.String("sets", "v1.36.3,v1.37.2", "versions of Kubernetes, of the shipped catalogue")
	keep := flag.String("keep", "", "folder for what was built (as a rule in your cache folder)")
	flag.Parse()
	if err := all(ctx, *to, strings.Split(*sets, ","), *keep); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func all(ctx context.Context, to string, versions []string, keep string) error {
	if runtime.GOOS != "linux" {
		return errors.New("the components are programs for Linux; run this there")
	}
	root, err := filepath.Abs("../..")
	if err != nil {
		return err
	}
	b, err := os.ReadFile(filepath.Join(root, "internal/core/versions/catalogue.yaml"))
	if err != nil {
		return fmt.Errorf("%w; run this in the folder tools/components", err)
	}
	var shipped catalogue
	if err := yaml.Unmarshal(b, &shipped); err != nil {
		return err
	}
	if keep == "" {
		if keep, err = os.UserCacheDir(); err != nil {
			return fmt.Errorf("%w; name a folder with -keep", err)
		}
		keep = filepath.Join(keep, "verbund", "components")
	}
	w := workshop{keep: keep, root: root}
	out := catalogue{Schema: "verbund-catalogue/1", Minors: shipped.Minors, Fits: shipped.Fits, Digests: map[string]string{}}
	shelf, err := openShelf(to)
	if err != nil {
		return err
	}
	start := time.Now()
	for _, v := range versions {
		i := slices.IndexFunc(shipped.Sets, func(s set) bool { return s.Kubernetes == v })
		if i < 0 {
			return fmt.Errorf("the shipped catalogue has no set of Kubernetes %s", v)
		}
		s := shipped.Sets[i]
		s.Image = machineImage
		for _, p := range products(&s) {
			ref := p.name + ":" + p.version
			if out.Digests[ref] != "" {
				continue
			}
			began := time.Now()
			files, err := w.make(ctx, p)
			if err != nil {
				return fmt.Errorf("%s: %w", ref, err)
			}
			if p.found != nil {
				// What Debian packed has the version that it has.
				if p.version, err = p.found(ctx); err != nil {
					return fmt.Errorf("%s: %w", p.name, err)
				}
				ref = p.name + ":" + p.version
				s.Balancer = p.version
			}
			if out.Digests[ref], err = shelf.put(p.name, p.version, files); err != nil {
				return fmt.Errorf("%s: %w", ref, err)
			}
			fmt.Printf("%-36s %5.0f s\n", ref, time.Since(began).Seconds())
		}
		out.Sets = append(out.Sets, s)
	}
	slices.SortFunc(out.Sets, func(a, b set) int { return strings.Compare(a.Kubernetes, b.Kubernetes) })
	out.Real = slices.Sorted(maps.Keys(out.Digests))
	b, err = yaml.Marshal(out)
	if err != nil {
		return err
	}
	if err := writeLight(root, to, out, shipped); err != nil {
		return err
	}
	// The catalogue comes last: a folder that has one has everything that it pins.
	if err := os.WriteFile(filepath.Join(to, "catalogue.yaml"), append([]byte("# Real components, built from their published modules.\n"), b...), 0o644); err != nil {
		return err
	}
	fmt.Printf("%s has %d artefacts and catalogue.yaml; it took %.0f s\n", to, len(out.Digests), time.Since(start).Seconds())
	return nil
}
