package proof

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"verbund/internal/core/words"
)

// Question is one thing that is asked of a node, or of the cluster.
type Question string

// What is asked of every node.
const (
	Ready Question = "ready" // it is Ready, on the version that it is to run
	Runs  Question = "runs"  // a pod that began on it answers that it is ready
	Port  Question = "port"  // from outside, its node port is answered by that pod
	Name  Question = "name"  // its pod finds the service by name, and is answered
	Near  Question = "near"  // its pod is answered by another one of the same node, through a service's address
	Zones Question = "zones" // its pod reaches a pod in every zone
	Logs  Question = "logs"  // what its pod wrote can be read through the API
)

// What is asked of the cluster.
const (
	Components Question = "components" // nothing ails
	Balancer   Question = "balancer"   // what the balancer publishes is answered
	Returns    Question = "returns"    // a pod that is deleted comes back, on another node where there is one
	Control    Question = "control"    // the API takes writes, and keeps them, while a control-plane machine has no power
)

// OfNodes are the questions of nodes, in the order in which one depends on another.
var OfNodes = []Question{Ready, Runs, Port, Name, Near, Zones, Logs}

// Quick says whether a question is part of a quick proof: what takes no longer than a pod
// needs to start.
func (q Question) Quick() bool {
	return q == Components || q == Balancer || q == Ready || q == Runs || q == Port
}

// State is what came of a question.
type State string

const (
	Holds   State = "holds"
	Fails   State = "fails"
	Unasked State = "unasked" // it could not be asked, since what it needs failed
)

// Answer is what one question came to.
type Answer struct {
	Node         string   `json:"node,omitempty"` // empty: of the cluster
	Question     Question `json:"question"`
	State        State    `json:"state"`
	Found        string   `json:"found"`
	Milliseconds int64    `json:"milliseconds"` // until it was answered; 0 when it was not
}

// Report is a whole proof.
type Report struct {
	Cluster    string    `json:"cluster"`
	Kubernetes string    `json:"kubernetes"`
	At         time.Time `json:"at"`
	Quick      bool      `json:"quick"`
	Took       int64     `json:"took"` // milliseconds
	Answers    []Answer  `json:"answers"`
}

// Of is the answer to one question; nil when it was not part of the proof.
func (r *Report) Of(node string, q Question) *Answer {
	i := slices.IndexFunc(r.Answers, func(a Answer) bool { return a.Node == node && a.Question == q })
	if i < 0 {
		return nil
	}
	return &r.Answers[i]
}

// Proven says whether every question was asked, and holds.
func (r *Report) Proven() bool {
	return len(r.Answers) > 0 && !slices.ContainsFunc(r.Answers, func(a Answer) bool { return a.State != Holds })
}

// Wanting are the answers that do not hold, those that failed before those that could not be
// asked.
func (r *Report) Wanting() []Answer {
	var out []Answer
	for _, s := range []State{Fails, Unasked} {
		for _, a := range r.Answers {
			if a.State == s {
				out = append(out, a)
			}
		}
	}
	return out
}

// String is the report in a line.
func (r *Report) String() string {
	all, wanting := words.Count(len(r.Answers), "question"), r.Wanting()
	if len(wanting) == 0 {
		return fmt.Sprintf("proven: %s answered in %s", all, words.Brief(time.Duration(r.Took)*time.Millisecond))
	}
	w := wanting[0]
	return fmt.Sprintf("not proven: %d of %s without a good answer; %s, %s: %s", len(wanting), all, cmp.Or(w.Node, "the cluster"), w.Question, w.Found)
}

// Place is a node with its zone.
type Place struct{ Node, Zone string }

// Partners says whom each node's witness asks: one node in every zone, another one than
// itself. Who is asked goes round, so that every way between two zones is taken in both
// directions, and no node is asked by all others where there are more. A node alone in its
// zone asks nobody there.
func Partners(nodes []Place) map[string][]Place {
	in := map[string][]Place{}
	var zones []string
	for _, n := range nodes {
		if in[n.Zone] == nil {
			zones = append(zones, n.Zone)
		}
		in[n.Zone] = append(in[n.Zone], n)
	}
	slices.Sort(zones)
	out := map[string][]Place{}
	for i, n := range nodes {
		for _, z := range zones {
			there := slices.DeleteFunc(slices.Clone(in[z]), func(p Place) bool { return p == n })
			if len(there) > 0 {
				out[n.Node] = append(out[n.Node], there[i%len(there)])
			}
		}
	}
	return out
}
