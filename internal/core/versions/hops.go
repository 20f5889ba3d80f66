package versions

import (
	"fmt"

	"k8s.io/apimachinery/pkg/util/version"
)

// Refusal says why a version cannot be reached directly, and what can be done.
type Refusal struct{ What, Todo string }

func (r *Refusal) Error() string { return r.What + "; " + r.Todo }

// KubeletSkew is how many minors a kubelet may be older than the API servers
// (Kubernetes version skew policy).
const KubeletSkew = 3

// newestOf is the newest version of a minor in the catalogue, or nothing.
func (c *Catalogue) newestOf(minor int) string {
	newest := ""
	for _, s := range c.Sets { // oldest first
		if s.Minor() == minor {
			newest = s.Kubernetes
		}
	}
	return newest
}

// Hop checks one move of a whole cluster. The control plane goes one minor at
// a time and never back (Kubernetes version skew policy).
func (c *Catalogue) Hop(from, to string) error {
	if Compare(to, from) < 0 && c.GoesBack(from, to) {
		return &Refusal{fmt.Sprintf("%s is lower than %s, which runs now, and no upgrade", to, from), "within a minor a cluster goes back: verbund rollout back, or declare " + to + " and converge"}
	}
	if Compare(to, from) < 0 {
		return &Refusal{fmt.Sprintf("%s is lower than %s, which runs now, and a datastore that a newer API server wrote is not read by an older one", to, from), "declare " + from + " or higher; the way back is a backup from before: verbund backup list, verbund backup restore"}
	}
	f, err1 := version.ParseSemantic(from)
	t, err2 := version.ParseSemantic(to)
	if err1 != nil || err2 != nil {
		return fmt.Errorf("versions %q and %q cannot be compared", from, to)
	}
	if t.Minor() <= f.Minor()+1 {
		return nil
	}
	return &Refusal{fmt.Sprintf("from %s to %s are %d minors, and the control plane goes one at a time", from, to, t.Minor()-f.Minor()),
		"declare " + c.newestOf(int(f.Minor())+1) + " first, converge, then " + to}
}

// GoesBack says whether a whole cluster can go back from one version to another: within a
// minor of Kubernetes, and without a minor of etcd, whose members do not go back.
func (c *Catalogue) GoesBack(from, to string) bool {
	f, known := c.Set(from)
	t, there := c.Set(to)
	return known && there && f.Minor() == t.Minor() && Minor(f.Etcd) == Minor(t.Etcd)
}

// Leg is one part of the road from one version to another.
type Leg struct {
	Who     string `json:"who"` // control, or workers
	From    string `json:"from"`
	To      string `json:"to"`
	Because string `json:"because"`
}

// Road is the way from one version to another: the control plane minor by
// minor, the workers in as few drains as the skew rules allow.
type Road struct {
	From   string `json:"from"`
	To     string `json:"to"`
	Legs   []Leg  `json:"legs"`
	Hops   int    `json:"hops"`   // of the control plane
	Drains int    `json:"drains"` // of each worker
	// Saved is how many drains of each worker the road saves against moving the
	// workers with every hop.
	Saved int `json:"saved"`
	// Gone lists settings of components that are known at the beginning of the
	// road and not at its end.
	Gone []string `json:"gone"`
}

// Road plans the way between two versions of the catalogue.
func (c *Catalogue) Road(from, to string) (*Road, error) {
	for _, v := range []string{from, to} {
		if _, err := version.ParseSemantic(v); err != nil {
			return nil, &Refusal{fmt.Sprintf("%q is not a version", v), "write one such as " + c.Sets[len(c.Sets)-1].Kubernetes}
		}
	}
	if _, ok := c.Set(to); !ok {
		return nil, &Refusal{fmt.Sprintf("Kubernetes %s is not in the catalogue", to), "choose one that versions lists"}
	}
	if Compare(to, from) < 0 {
		return nil, c.Hop(from, to)
	}
	r := &Road{From: from, To: to, Legs: []Leg{}, Gone: c.Settings.Gone(Minor(from), Minor(to))}
	if from == to {
		return r, nil
	}
	control, workers := from, from
	drain := func(to, because string) {
		r.Legs = append(r.Legs, Leg{"workers", workers, to, because})
		r.Drains++
		workers = to
	}
	for control != to {
		next := to
		if m := Minor(control) + 1; m < Minor(to) {
			if next = c.newestOf(m); next == "" {
				return nil, &Refusal{fmt.Sprintf("the road from %s to %s leads through v1.%d, of which the catalogue has no version", from, to, m), "use a catalogue that has it"}
			}
		}
		if Minor(next)-Minor(workers) > KubeletSkew {
			drain(control, fmt.Sprintf("a kubelet may be at most %d minors older than its API server", KubeletSkew))
		}
		because := "the control plane goes one minor at a time"
		if Minor(next) == Minor(control) {
			because = "a patch of the same minor"
		}
		r.Legs = append(r.Legs, Leg{"control", control, next, because})
		r.Hops++
		control = next
	}
	drain(to, "workers come last, and once")
	r.Saved = r.Hops - r.Drains
	return r, nil
}
