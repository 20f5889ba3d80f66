package versions

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// PinsSchema names the version of the format of pins files.
const PinsSchema = "verbund-pins/1"

// Pins fix what a declaration was resolved to: every component's version and
// digest. With them the same declaration gives the same cluster on another
// computer and with a newer Verbund.
type Pins struct {
	Schema    string            `yaml:"schema"`
	Cluster   string            `yaml:"cluster"`
	Sets      []Set             `yaml:"sets"`
	Artefacts map[string]string `yaml:"artefacts"` // digests of manifests, by NAME:VERSION
	// Seal is a checksum of the rest: a file that was changed by hand, or by a
	// merge, is noticed. It is no protection against intent.
	Seal string `yaml:"seal"`
}

const pinsHead = "# What this cluster was resolved to. Written by Verbund at converge; keep it in\n# version control. To move to what the catalogue says now: verbund versions --refresh\n"

// NewPins fixes sets as the catalogue has them.
func NewPins(cluster string, sets []Set, cat *Catalogue) (*Pins, error) {
	p := &Pins{Schema: PinsSchema, Cluster: cluster, Artefacts: map[string]string{}}
	for _, s := range sets {
		if slices.ContainsFunc(p.Sets, func(o Set) bool { return o.Kubernetes == s.Kubernetes }) {
			continue
		}
		p.Sets = append(p.Sets, s)
		for _, k := range s.artefacts() {
			d := cat.Digest(k.Ref())
			if d == "" {
				return nil, fmt.Errorf("the catalogue pins no digest of %s", k.Ref())
			}
			p.Artefacts[k.Ref()] = d
		}
	}
	slices.SortFunc(p.Sets, func(a, b Set) int { return Compare(a.Kubernetes, b.Kubernetes) })
	return p, nil
}

func (p *Pins) body() ([]byte, error) {
	c := *p
	c.Seal = ""
	return yaml.Marshal(&c)
}

// Encode writes the pins with their seal.
func (p *Pins) Encode() ([]byte, error) {
	b, err := p.body()
	if err != nil {
		return nil, err
	}
	c := *p
	c.Seal = DigestOf(b)
	b, err = yaml.Marshal(&c)
	return append([]byte(pinsHead), b...), err
}

// PinsTrouble is why a pins file is not used.
type PinsTrouble struct{ Rule, What, Todo string }

func (t *PinsTrouble) Error() string { return t.What + "; " + t.Todo }

// ReadPins reads a pins file and refuses one that was edited or belongs to
// another cluster.
func ReadPins(data []byte, cluster string) (*Pins, error) {
	p := &Pins{}
	if err := readOne(data, p); err != nil {
		return nil, &PinsTrouble{"pins-damaged", "the pins file cannot be read: " + strings.TrimPrefix(err.Error(), "yaml: "), "take it from version control; without it the versions would be chosen anew"}
	}
	if p.Schema != PinsSchema {
		return nil, &PinsTrouble{"pins-damaged", fmt.Sprintf("the schema of the pins file is %q, not %s", p.Schema, PinsSchema), "take it from version control, or use the Verbund that wrote it"}
	}
	if p.Cluster != cluster {
		return nil, &PinsTrouble{"pins-other-cluster", fmt.Sprintf("the pins file belongs to cluster %s, not to %s", p.Cluster, cluster), "bring the right file back, or move this one away to choose versions anew"}
	}
	b, err := p.body()
	if err != nil {
		return nil, err
	}
	if p.Seal != DigestOf(b) {
		return nil, &PinsTrouble{"pins-edited", "the pins file was changed by something other than Verbund: its seal does not fit", "take it from version control; to move the pins, use verbund versions --refresh"}
	}
	return p, nil
}

// PinChange is one difference between pins and a catalogue.
type PinChange struct {
	Kubernetes string `json:"kubernetes"` // of the set
	What       string `json:"what"`       // component
	Pinned     string `json:"pinned"`
	Now        string `json:"now"` // in the catalogue; empty when it has no such set
}

// Changes lists how a catalogue differs from the pins, version for version and
// digest for digest.
func (p *Pins) Changes(cat *Catalogue) []PinChange {
	var out []PinChange
	for _, s := range p.Sets {
		now, ok := cat.Set(s.Kubernetes)
		if !ok {
			out = append(out, PinChange{s.Kubernetes, "the whole set", "pinned", ""})
			continue
		}
		for _, x := range []struct{ what, was, is string }{{"etcd", s.Etcd, now.Etcd}, {"dns", s.DNS, now.DNS}, {"fairway", s.Fairway, now.Fairway}, {"containerd", s.Containerd, now.Containerd}, {"image", s.Image, now.Image}, {"haproxy", s.Balancer, now.Balancer}} {
			if x.was != x.is {
				out = append(out, PinChange{s.Kubernetes, x.what, x.was, x.is})
			}
		}
	}
	for _, ref := range slices.Sorted(maps.Keys(p.Artefacts)) {
		if now := cat.Digest(ref); now != p.Artefacts[ref] && now != "" {
			out = append(out, PinChange{"", ref, p.Artefacts[ref], now})
		}
	}
	return out
}
