package versions

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
	"k8s.io/apimachinery/pkg/util/version"
)

//go:embed catalogue.yaml
var shipped []byte

//go:embed digests.txt
var digests string

// CatalogueSchema names the version of the format of catalogues in files.
const CatalogueSchema = "verbund-catalogue/1"

// Set is one Kubernetes version and everything that fits it.
type Set struct {
	Kubernetes string `yaml:"kubernetes" json:"kubernetes"` // API server, controller manager, scheduler, kubelet, proxy
	Etcd       string `yaml:"etcd" json:"etcd"`
	DNS        string `yaml:"dns" json:"dns"`
	Fairway    string `yaml:"fairway" json:"fairway"` // network plugin
	Containerd string `yaml:"containerd" json:"containerd"`
	Image      string `yaml:"image" json:"image"` // operating system of the machines
	// Balancer is the version of HAProxy, where it is not the usual one.
	Balancer string `yaml:"balancer,omitempty" json:"balancer,omitempty"`
}

// The add-ons, as they are called in the cluster.
const (
	NetworkAddOn = "fairway"
	DNSAddOn     = "cluster-dns"
)

// Minor is the minor version of the set's Kubernetes: 36 for v1.36.2.
func (s Set) Minor() int { return Minor(s.Kubernetes) }

// Minor is the minor of a version: 36 for v1.36.2 and for v1.36; 0 for what is
// no version.
func Minor(v string) int {
	p, err := version.ParseGeneric(v)
	if err != nil {
		return 0
	}
	return int(p.Minor())
}

// Support says until when a minor of Kubernetes is supported.
type Support struct {
	Minor string `yaml:"minor" json:"minor"` // v1.36
	Ends  string `yaml:"ends" json:"ends"`   // 2027-06-28
}

// Fit says on which minors one version of an add-on works.
type Fit struct {
	Name    string `yaml:"name" json:"name"`
	Version string `yaml:"version" json:"version"`
	From    string `yaml:"from" json:"from"`
	To      string `yaml:"to" json:"to"`
}

// Catalogue holds all sets, oldest first, and what is known about them.
type Catalogue struct {
	Schema  string            `yaml:"schema,omitempty"`
	Sets    []Set             `yaml:"sets"`
	Minors  []Support         `yaml:"minors"`
	Fits    []Fit             `yaml:"fits"`
	Digests map[string]string `yaml:"digests,omitempty"` // of manifests, by NAME:VERSION
	// Real are the artefacts, as NAME:VERSION, that are programs of the component itself, and
	// no stand-ins.
	Real []string `yaml:"real,omitempty"`
	// Settings is what components can be told; the shipped table unless a test
	// brings another.
	Settings Settings `yaml:"-"`
}

// Shipped returns the catalogue inside the program.
func Shipped() *Catalogue {
	c := &Catalogue{Digests: map[string]string{}, Settings: shippedSettings()}
	if err := yaml.Unmarshal(shipped, c); err != nil {
		panic("the shipped catalogue is damaged: " + err.Error())
	}
	for line := range strings.Lines(digests) {
		if ref, digest, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			c.Digests[ref] = digest
		}
	}
	return c
}

// DigestOf is the digest under which a declaration pins a catalogue's file.
func DigestOf(data []byte) string {
	sum := sha256.Sum256(data)
	return "sha256:" + hex.EncodeToString(sum[:])
}

var (
	digestForm = regexp.MustCompile(`^sha256:[0-9a-f]{64}$`)
	minorForm  = regexp.MustCompile(`^v1\.\d{1,3}$`)
)

// readOne reads a file of one document, of known keys, with nothing behind it.
func readOne(data []byte, into any) error {
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(into); err != nil {
		return err
	}
	var more yaml.Node
	switch err := d.Decode(&more); {
	case err == nil:
		return fmt.Errorf("a second document begins on line %d", max(more.Line, 1))
	case !errors.Is(err, io.EOF):
		return err
	}
	return nil
}

// Read reads a catalogue from a file. It is refused as a whole when a set is
// incomplete, out of order, or holds an artefact without a digest.
func Read(data []byte) (*Catalogue, error) {
	c := &Catalogue{}
	if err := readOne(data, c); err != nil {
		return nil, fmt.Errorf("it cannot be read: %s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	c.Settings = shippedSettings()
	if c.Schema != CatalogueSchema {
		return nil, fmt.Errorf("its schema is %q, not %s", c.Schema, CatalogueSchema)
	}
	if len(c.Sets) == 0 {
		return nil, errors.New("it holds no sets")
	}
	last := ""
	for _, s := range c.Sets {
		if _, err := version.ParseSemantic(s.Kubernetes); err != nil || !strings.HasPrefix(s.Kubernetes, "v1.") {
			return nil, fmt.Errorf("%q is not a version of Kubernetes", s.Kubernetes)
		}
		if last != "" && Compare(s.Kubernetes, last) <= 0 {
			return nil, fmt.Errorf("the set of %s does not come after that of %s", s.Kubernetes, last)
		}
		last = s.Kubernetes
		if s.Image == "" {
			return nil, fmt.Errorf("the set of %s names no machine image", s.Kubernetes)
		}
		for _, k := range s.artefacts() {
			if !digestForm.MatchString(c.Digests[k.Ref()]) {
				return nil, fmt.Errorf("the set of %s needs %s, which has no digest", s.Kubernetes, k.Ref())
			}
		}
	}
	for _, f := range c.Fits {
		if !minorForm.MatchString(f.From) || !minorForm.MatchString(f.To) {
			return nil, fmt.Errorf("%s %s fits from %q to %q, which are not minors such as v1.36", f.Name, f.Version, f.From, f.To)
		}
	}
	for _, m := range c.Minors {
		if _, err := time.Parse(time.DateOnly, m.Ends); err != nil || !minorForm.MatchString(m.Minor) {
			return nil, fmt.Errorf("support of %q ends on %q, which is not a minor with a day", m.Minor, m.Ends)
		}
	}
	return c, nil
}

// RealOf names what of a set is no stand-in, and says whether that is everything.
func (c *Catalogue) RealOf(s Set) (names []string, all bool) {
	all = true
	for _, k := range s.artefacts() {
		if slices.Contains(c.Real, k.Ref()) {
			names = append(names, k.Name)
		} else {
			all = false
		}
	}
	return names, all
}

// Encode writes a catalogue as a file that Read reads.
func (c *Catalogue) Encode() ([]byte, error) {
	w := *c
	w.Schema = CatalogueSchema
	return yaml.Marshal(&w)
}

// Versions lists the Kubernetes versions, oldest first.
func (c *Catalogue) Versions() []string {
	var vs []string
	for _, s := range c.Sets {
		vs = append(vs, s.Kubernetes)
	}
	return vs
}

// Set finds the set of a Kubernetes version.
func (c *Catalogue) Set(kubernetes string) (Set, bool) {
	i := slices.IndexFunc(c.Sets, func(s Set) bool { return s.Kubernetes == kubernetes })
	if i < 0 {
		return Set{}, false
	}
	return c.Sets[i], true
}

// Digest is the pinned digest of an artefact's manifest, such as that of
// kubelet:v1.36.2; empty when the catalogue does not have the artefact.
func (c *Catalogue) Digest(artefact string) string { return c.Digests[artefact] }

// Ends is the day on which the support of a minor ends; ok is false when the
// catalogue does not say.
func (c *Catalogue) Ends(minor int) (day time.Time, ok bool) {
	for _, m := range c.Minors {
		if Minor(m.Minor) == minor {
			day, err := time.Parse(time.DateOnly, m.Ends)
			return day, err == nil
		}
	}
	return time.Time{}, false
}

// Fitting lists the versions of an add-on that work on a minor, oldest first.
func (c *Catalogue) Fitting(name string, minor int) []string {
	var out []string
	for _, f := range c.Fits {
		if f.Name == name && Minor(f.From) <= minor && minor <= Minor(f.To) {
			out = append(out, f.Version)
		}
	}
	return out
}

// AddOnVersions lists every known version of an add-on, oldest first.
func (c *Catalogue) AddOnVersions(name string) []string {
	var out []string
	for _, f := range c.Fits {
		if f.Name == name {
			out = append(out, f.Version)
		}
	}
	return out
}

// Component is one artefact that a machine needs.
type Component struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// Ref is the component's name and tag in a registry.
func (c Component) Ref() string { return c.Name + ":" + c.Version }

// Witness is the image of the proof's application, which the site's registry has beside what
// clusters are made of: it answers HTTP on port 8080, and at /ask?name=NAME with what another
// one answers that it finds by that name.
var Witness = Component{"witness", "1.0"}

// Role is what a machine is for.
type Role string

// The roles of machines.
const (
	Control   Role = "control"
	Worker    Role = "worker"
	Balancer  Role = "balancer"
	Datastore Role = "datastore" // a member of the datastore and nothing else
)

// Part is something that a machine does; one machine may have several.
type Part string

// The parts, in the order in which they start on a machine.
const (
	Member   Part = "member"   // of the datastore
	API      Part = "api"      // API server
	Acting   Part = "acting"   // controller manager, scheduler: they act on what the API holds
	Carrier  Part = "carrier"  // of the endpoint's virtual address
	Approver Part = "approver" // of what kubelets ask to be signed
	Keeper   Part = "keeper"   // of backups, which it takes by itself
	Node     Part = "node"     // container runtime, kubelet, proxy
	Balances Part = "balances" // the endpoint's balancer
)

// Versions of what belongs to no Kubernetes version: HAProxy on balancers, our own carrier of
// a virtual address, our own approver of certificate requests, our own keeper of backups, and
// our own holder of a pod's namespaces.
const (
	BalancerVersion = "v3.2.4"
	CarrierVersion  = "v1.0.0"
	ApproverVersion = "v1.0.0"
	KeeperVersion   = "v1.0.0"
	PauseVersion    = "v1.0.0"
)

// Components lists what a machine with certain parts runs, in the order of
// starting.
func (s Set) Components(parts []Part) []Component {
	var out []Component
	for _, p := range parts {
		switch p {
		case Member:
			out = append(out, Component{"etcd", s.Etcd})
		case API:
			out = append(out, Component{"kube-apiserver", s.Kubernetes})
		case Acting:
			out = append(out, Component{"kube-controller-manager", s.Kubernetes}, Component{"kube-scheduler", s.Kubernetes})
		case Carrier:
			out = append(out, Component{"endpoint-carrier", CarrierVersion})
		case Approver:
			out = append(out, Component{"request-approver", ApproverVersion})
		case Keeper:
			out = append(out, Component{"backup-keeper", KeeperVersion})
		case Node:
			out = append(out, Component{"containerd", s.Containerd}, Component{"kubelet", s.Kubernetes}, Component{"kube-proxy", s.Kubernetes})
		case Balances:
			out = append(out, Component{"haproxy", cmp.Or(s.Balancer, BalancerVersion)})
		}
	}
	return out
}

// AllParts is every part that there is.
var AllParts = []Part{Member, API, Acting, Carrier, Approver, Keeper, Node, Balances}

// Images lists the container images that the set's add-ons use, and that every pod needs.
func (s Set) Images() []Component {
	return []Component{s.NetworkImage(), s.DNSImage(), s.PauseImage()}
}

// NetworkImage is what the network plugin's pods run.
func (s Set) NetworkImage() Component { return Component{"fairway", s.Fairway} }

// DNSImage is what the cluster DNS's pods run.
func (s Set) DNSImage() Component { return Component{"coredns", s.DNS} }

// PauseImage is what holds the namespaces of every pod.
func (s Set) PauseImage() Component { return Component{"pause", PauseVersion} }

func (s Set) artefacts() []Component { return append(s.Components(AllParts), s.Images()...) }

// Compare orders two versions; unparsable ones are oldest.
func Compare(a, b string) int {
	if a == b {
		return 0 // most are, in a plan for thousands of machines
	}
	va, ea := version.ParseSemantic(a)
	vb, eb := version.ParseSemantic(b)
	switch {
	case ea != nil && eb != nil:
		return strings.Compare(a, b)
	case ea != nil:
		return -1
	case eb != nil:
		return 1
	case va.LessThan(vb):
		return -1
	case vb.LessThan(va):
		return 1
	}
	return 0
}

// With returns a copy of the catalogue in which sets and digests are replaced
// by those given, as pins do.
func (c *Catalogue) With(sets []Set, digests map[string]string) *Catalogue {
	out := *c
	out.Sets = slices.Clone(c.Sets)
	out.Digests = maps.Clone(c.Digests)
	maps.Copy(out.Digests, digests)
	for _, s := range sets {
		if i := slices.IndexFunc(out.Sets, func(o Set) bool { return o.Kubernetes == s.Kubernetes }); i >= 0 {
			out.Sets[i] = s
		} else {
			out.Sets = append(out.Sets, s)
		}
	}
	slices.SortFunc(out.Sets, func(a, b Set) int { return Compare(a.Kubernetes, b.Kubernetes) })
	return &out
}
