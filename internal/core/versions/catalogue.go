package versions

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
	"k8s.io/apimachinery/pkg/util/version"
)

//go:embed catalogue.yaml
var shipped []byte

//go:embed digests.txt
var digests string

// Set is one Kubernetes version and everything that fits it.
type Set struct {
	Kubernetes string `yaml:"kubernetes" json:"kubernetes"` // API server, controller manager, scheduler, kubelet, proxy
	Etcd       string `yaml:"etcd" json:"etcd"`
	DNS        string `yaml:"dns" json:"dns"`
	Fairway    string `yaml:"fairway" json:"fairway"` // network plugin
	Containerd string `yaml:"containerd" json:"containerd"`
	Image      string `yaml:"image" json:"image"` // operating system of the machines
}

// Minor is the minor version of the set's Kubernetes: 36 for v1.36.2.
func (s Set) Minor() int { return int(version.MustParseSemantic(s.Kubernetes).Minor()) }

// Catalogue holds all sets, oldest first.
type Catalogue struct {
	Sets    []Set `yaml:"sets"`
	digests map[string]string
}

// Shipped returns the catalogue inside the program.
func Shipped() *Catalogue {
	c := &Catalogue{digests: map[string]string{}}
	if err := yaml.Unmarshal(shipped, c); err != nil {
		panic("the shipped catalogue is damaged: " + err.Error())
	}
	for line := range strings.Lines(digests) {
		if ref, digest, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			c.digests[ref] = digest
		}
	}
	return c
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
func (c *Catalogue) Digest(artefact string) string { return c.digests[artefact] }

// Component is one artefact that a machine needs.
type Component struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// Ref is the component's name and tag in a registry.
func (c Component) Ref() string { return c.Name + ":" + c.Version }

// Role is what a machine is for.
type Role string

// The roles of machines.
const (
	Control  Role = "control"
	Worker   Role = "worker"
	Balancer Role = "balancer"
)

// BalancerVersion is the version of HAProxy that balancers run. It belongs to
// no Kubernetes version.
const BalancerVersion = "v3.2.4"

// Components lists what a machine of a role runs, in the order of starting.
func (s Set) Components(role Role) []Component {
	node := []Component{{"containerd", s.Containerd}, {"kubelet", s.Kubernetes}, {"kube-proxy", s.Kubernetes}}
	switch role {
	case Balancer:
		return []Component{{"haproxy", BalancerVersion}}
	case Control:
		return append([]Component{
			{"etcd", s.Etcd}, {"kube-apiserver", s.Kubernetes},
			{"kube-controller-manager", s.Kubernetes}, {"kube-scheduler", s.Kubernetes},
		}, node...)
	}
	return node
}

// Images lists the container images that the set's add-ons use.
func (s Set) Images() []Component {
	return []Component{{"fairway", s.Fairway}, {"coredns", s.DNS}}
}

// Compare orders two versions; unparsable ones are oldest.
func Compare(a, b string) int {
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

// Refusal says why a version cannot be reached directly, and what can be done.
type Refusal struct{ What, Todo string }

func (r *Refusal) Error() string { return r.What + "; " + r.Todo }

// Hop checks one move of a whole cluster. The control plane goes one minor at
// a time and never back (Kubernetes version skew policy).
func (c *Catalogue) Hop(from, to string) error {
	if Compare(to, from) < 0 {
		return &Refusal{fmt.Sprintf("%s is lower than %s, which runs now, and a datastore that a newer API server wrote is not read by an older one", to, from), "declare " + from + " or higher; the way back is a restored backup"}
	}
	f, err1 := version.ParseSemantic(from)
	t, err2 := version.ParseSemantic(to)
	if err1 != nil || err2 != nil {
		return fmt.Errorf("versions %q and %q cannot be compared", from, to)
	}
	if t.Minor() <= f.Minor()+1 {
		return nil
	}
	next := ""
	for _, s := range c.Sets { // oldest first, so the last match is the newest patch
		if v := version.MustParseSemantic(s.Kubernetes); v.Minor() == f.Minor()+1 {
			next = s.Kubernetes
		}
	}
	return &Refusal{fmt.Sprintf("from %s to %s are %d minors, and the control plane goes one at a time", from, to, t.Minor()-f.Minor()), "declare " + next + " first, converge, then " + to}
}
