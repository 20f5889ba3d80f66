package saved

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"verbund/internal/core/plan"
)

// Schema is the version of the format.
const Schema = "verbund-plan/1"

// Namespace is for what a plan is signed, in OpenSSH's format for signatures.
const Namespace = "verbund-plan"

// Plan is a plan in a file. Its bytes are signed as they are.
type Plan struct {
	Schema  string    `json:"schema"`
	Cluster string    `json:"cluster"`
	Made    time.Time `json:"made"`
	Until   time.Time `json:"until"` // it is not carried out later
	Only    string    `json:"only,omitempty"`
	From    Sources   `json:"from"`
	// Steps are carried out, and nothing else.
	Steps []plan.Step `json:"steps"`
	// Removes and Endangers are what goes for good, and what could be lost, in words.
	Removes   []string `json:"removes"`
	Endangers []string `json:"endangers"`
	// More says that something is to be done after it, which is planned anew.
	More bool `json:"more,omitempty"`
}

// Sources are what a plan was computed from. Digests are SHA-256, as sha256:HEX.
type Sources struct {
	// Declaration holds that of each file in which the cluster is declared, by its name.
	Declaration map[string]string `json:"declaration"`
	Catalogue   string            `json:"catalogue"`
	// Machines are the hardware addresses of those that are concerned and that were there.
	Machines map[string]string `json:"machines"`
}

// Digest is the SHA-256 of something, as it stands in Sources.
func Digest(b []byte) string { return fmt.Sprintf("sha256:%x", sha256.Sum256(b)) }

// Of is a plan as it is saved. hardware is that of the machines that the site has, by name.
func Of(cluster, only string, p *plan.Plan, papers map[string][]byte, catalogue []byte, hardware map[string]string, made time.Time, within time.Duration) *Plan {
	out := &Plan{Schema: Schema, Cluster: cluster, Made: made.UTC().Truncate(time.Second), Only: only, Steps: p.Steps, Removes: []string{}, Endangers: append([]string{}, p.Endangers...), More: p.More,
		From: Sources{Declaration: map[string]string{}, Catalogue: Digest(catalogue), Machines: map[string]string{}}}
	out.Until = out.Made.Add(within)
	for _, r := range p.Removes {
		out.Removes = append(out.Removes, r.Text)
	}
	for name, b := range papers {
		out.From.Declaration[name] = Digest(b)
	}
	for _, s := range p.Steps {
		if h := hardware[s.Machine]; h != "" {
			out.From.Machines[s.Machine] = h
		}
	}
	return out
}

// Encode is the plan as it stands in its file.
func (p *Plan) Encode() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	err := e.Encode(p)
	return b.Bytes(), err
}

// Read reads a plan from its file.
func Read(b []byte) (*Plan, error) {
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	p := &Plan{}
	if err := d.Decode(p); err != nil {
		return nil, fmt.Errorf("it is no plan that was saved: %w", err)
	}
	if p.Schema != Schema {
		return nil, fmt.Errorf("its schema is %q, and %s is known; use the Verbund that saved it", p.Schema, Schema)
	}
	if p.Cluster == "" || len(p.Steps) == 0 {
		return nil, fmt.Errorf("it is no plan that was saved: it names no cluster, or no step")
	}
	return p, nil
}

// Final lists the steps that cannot be undone.
func (p *Plan) Final() []plan.Step {
	return slices.DeleteFunc(slices.Clone(p.Steps), func(s plan.Step) bool { return !s.Final })
}

// Differs says what is different by now, of which the plan that is made now is what would be done;
// nil when the same is to be done for the same reasons.
func (p *Plan) Differs(now *Plan, at time.Time) []string {
	var out []string
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if p.Cluster != now.Cluster {
		return []string{fmt.Sprintf("it is of cluster %s, and this one is %s", p.Cluster, now.Cluster)}
	}
	if at.After(p.Until) {
		add("it was to be carried out until %s", p.Until.Local().Format("2006-01-02 15:04"))
	}
	for _, name := range slices.Sorted(maps.Keys(p.From.Declaration)) {
		switch is, there := now.From.Declaration[name]; {
		case !there:
			add("%s is not here", name)
		case is != p.From.Declaration[name]:
			add("%s is another one", name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(now.From.Declaration)) {
		if _, there := p.From.Declaration[name]; !there {
			add("%s is new", name)
		}
	}
	if p.From.Catalogue != now.From.Catalogue {
		add("the catalogue of versions is another one")
	}
	for _, name := range slices.Sorted(maps.Keys(p.From.Machines)) {
		if is := now.From.Machines[name]; is != "" && is != p.From.Machines[name] {
			add("machine %s is another one: %s instead of %s", name, is, p.From.Machines[name])
		}
	}
	return append(out, p.steps(now)...)
}

// fields are those of a step as they stand in a file, each as JSON.
func fields(s plan.Step) map[string]string {
	b, err := json.Marshal(s)
	raw := map[string]json.RawMessage{}
	if err == nil {
		err = json.Unmarshal(b, &raw)
	}
	if err != nil {
		return map[string]string{"what can be read": err.Error()}
	}
	out := map[string]string{}
	for k, v := range raw {
		out[k] = string(v)
	}
	return out
}

func merged(a, b map[string]string) map[string]string {
	out := maps.Clone(a)
	maps.Copy(out, b)
	return out
}

// steps says which steps are others.
func (p *Plan) steps(now *Plan) []string {
	var out []string
	is := map[string]plan.Step{}
	for _, s := range now.Steps {
		is[s.ID] = s
	}
	was := map[string]bool{}
	for _, s := range p.Steps {
		was[s.ID] = true
		n, there := is[s.ID]
		if !there {
			out = append(out, fmt.Sprintf("step %s (%s) is not to be done any more", s.ID, s.Text))
			continue
		}
		old, now := fields(s), fields(n)
		for _, f := range slices.Sorted(maps.Keys(merged(old, now))) {
			if old[f] != now[f] {
				out = append(out, fmt.Sprintf("%s of step %s is %s, and was %s", f, s.ID, cmp.Or(now[f], "nothing"), cmp.Or(old[f], "nothing")))
			}
		}
	}
	for _, s := range now.Steps {
		if !was[s.ID] {
			out = append(out, fmt.Sprintf("step %s (%s) is new", s.ID, s.Text))
		}
	}
	if len(out) == 0 && !slices.EqualFunc(p.Steps, now.Steps, func(a, b plan.Step) bool { return a.ID == b.ID }) {
		out = append(out, "the same steps stand in another order")
	}
	return out
}
