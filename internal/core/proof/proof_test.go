package proof

import (
	"fmt"
	"slices"
	"testing"
)

// Every way between two zones is taken, nobody asks itself, and who is alone in a zone asks
// nobody there.
func TestPartners(t *testing.T) {
	nodes := []Place{{"a", "north"}, {"b", "north"}, {"c", "south"}, {"d", "south"}, {"e", "island"}}
	got := Partners(nodes)
	zone := map[string]string{}
	for _, n := range nodes {
		zone[n.Node] = n.Zone
	}
	ways := map[string]bool{}
	for from, tos := range got {
		for _, to := range tos {
			if to.Node == from {
				t.Errorf("%s asks itself", from)
			}
			ways[zone[from]+">"+to.Zone] = true
		}
		want := 3
		if from == "e" {
			want = 2
		}
		if len(tos) != want {
			t.Errorf("%s asks %v", from, tos)
		}
	}
	for _, a := range []string{"north", "south", "island"} {
		for _, b := range []string{"north", "south", "island"} {
			if a != b && !ways[a+">"+b] {
				t.Errorf("nobody goes from %s to %s", a, b)
			}
		}
	}
	if one := Partners(nodes[:1]); len(one["a"]) != 0 {
		t.Errorf("a node alone asks %v", one)
	}
	var many []Place
	for i := range 40 {
		many = append(many, Place{fmt.Sprint(i), "north"})
	}
	asked := map[string]int{}
	for _, tos := range Partners(many) {
		for _, to := range tos {
			asked[to.Node]++
		}
	}
	for n, k := range asked {
		if k > 4 {
			t.Errorf("node %s is asked by %d of 40", n, k)
		}
	}
}

// A proof without an answer proves nothing, nor does one with a question that could not be
// asked; what failed stands before that.
func TestProven(t *testing.T) {
	r := &Report{}
	if r.Proven() {
		t.Error("nothing was asked, and it counts as proven")
	}
	r.Answers = []Answer{{Node: "a", Question: Ready, State: Holds}}
	if !r.Proven() || r.Of("a", Ready) == nil || r.Of("a", Port) != nil {
		t.Errorf("%+v", r)
	}
	r.Answers = append(r.Answers, Answer{Node: "a", Question: Port, State: Unasked})
	if r.Proven() {
		t.Error("a question that could not be asked counts as proven")
	}
	r.Answers = append(r.Answers, Answer{Question: Components, State: Fails})
	got := r.Wanting()
	if !slices.Equal([]Question{got[0].Question, got[1].Question}, []Question{Components, Port}) {
		t.Errorf("wanting: %+v", got)
	}
	for _, q := range []Question{Name, Zones, Logs, Returns, Control} {
		if q.Quick() {
			t.Errorf("%s is part of a quick proof", q)
		}
	}
}
