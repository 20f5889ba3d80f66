package drill

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/declare"
	"verbund/internal/core/drill"
	"verbund/internal/datastore"
	"verbund/internal/engine/enginetest"
	"verbund/internal/engine/look"
	"verbund/internal/site"
)

// disturber notes what it is to do, and refuses what it is told to.
type disturber struct {
	did    []string
	refuse string
}

func (d *disturber) Possible(context.Context) ([]string, error) {
	return []string{"cut-network", "full-disk"}, nil
}

func (d *disturber) Fault(_ context.Context, kind, name string) error {
	if kind == d.refuse {
		return errors.New("the site will not")
	}
	d.did = append(d.did, kind+" "+name)
	return nil
}

// kept is what a drill has left, in memory.
type kept struct{ steps []drill.Step }

func (k *kept) Load() ([]drill.Step, error) { return k.steps, nil }

func (k *kept) Save(s []drill.Step) error {
	k.steps = slices.Clone(s)
	return nil
}

// A cluster that is not well, or not raised, is not disturbed.
func TestMayBeDisturbed(t *testing.T) {
	w := enginetest.New(t, 2)
	v := &look.View{Cluster: w.Cluster}
	if err := mayBeDisturbed(v); err == nil || errors.Is(err, ErrNotWell) || !strings.Contains(err.Error(), "is not raised") {
		t.Errorf("not raised: %v", err)
	}
	v.Seen.Founded, v.APIError = true, errors.New("nobody answers")
	if err := mayBeDisturbed(v); !errors.Is(err, ErrNotWell) || !strings.Contains(err.Error(), "nobody answers") {
		t.Errorf("without an API: %v", err)
	}
}

// Whatever no step has mended is mended at the end, the last first; what a step has mended is
// not once more; what cannot be mended is said, and the rest is mended all the same.
func TestMend(t *testing.T) {
	w := enginetest.New(t, 2)
	site := &disturber{}
	u := &underway{Drill: &Drill{Session: w.Session, Site: site, Left: &kept{}, Tell: func(string) {}}, r: &drill.Report{}, began: time.Now()}
	step := func(fault, zone string, machines ...string) drill.Step {
		return drill.Step{DrillStep: declare.DrillStep{Fault: fault}, Zone: zone, Machines: machines}
	}
	for _, s := range []drill.Step{
		step("cut-network", "north", "a"), step("full-disk", "", "a"), step("full-disk", "", "b"), step("lost-machine", "", "c"),
		step("mended-network", "north", "a"), step("cut-network", "south", "d"),
	} {
		if err := u.do(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	site.did = nil
	if left := u.mend(t.Context()); len(left) > 0 {
		t.Errorf("left: %q", left)
	}
	if want := []string{"mended-network south", "mended-disk b", "mended-disk a"}; !slices.Equal(site.did, want) {
		t.Errorf("it did %q, wanted %q", site.did, want)
	}
	if left, _ := u.Left.Load(); len(left) > 0 {
		t.Errorf("kept as left: %+v", left)
	}
	for _, s := range []drill.Step{step("full-disk", "", "a"), step("full-disk", "", "b"), step("cut-network", "south", "d")} {
		if err := u.do(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	if left, _ := u.Left.Load(); len(left) != 3 {
		t.Errorf("kept as left: %+v", left)
	}
	site.did, site.refuse = nil, "mended-disk"
	left := u.mend(t.Context())
	if len(left) != 2 || !strings.Contains(left[0], "the site will not") || !strings.Contains(left[0], "site fault mended-disk") {
		t.Errorf("left: %q", left)
	}
	if want := []string{"mended-network south"}; !slices.Equal(site.did, want) {
		t.Errorf("it did %q, wanted %q", site.did, want)
	}
	for _, s := range u.r.Steps {
		if !s.Mends {
			t.Errorf("%+v does not count as mending", s)
		}
	}
}

// What is there twice, or was never declared, is named; what belongs to others is not.
func TestSurplus(t *testing.T) {
	w := enginetest.New(t, 2)
	one := w.Cluster.Machines[0].Name
	machine := func(name, cluster string) site.Machine { return site.Machine{Name: name, Cluster: cluster} }
	node := func(name string) corev1.Node { return corev1.Node{ObjectMeta: metav1.ObjectMeta{Name: name}} }
	v := &look.View{Cluster: w.Cluster, Inventory: &site.Inventory{Machines: []site.Machine{machine(one, w.Cluster.Name), machine("other-1", "other")}},
		Nodes: []corev1.Node{node(one)}, Members: []datastore.Member{{Name: one}}}
	if got := surplus(v); len(got) > 0 {
		t.Errorf("all is as declared: %q", got)
	}
	v.Inventory.Machines = append(v.Inventory.Machines, machine(one, w.Cluster.Name), machine("stray", w.Cluster.Name))
	v.Nodes = append(v.Nodes, node("stray"))
	v.Members = append(v.Members, datastore.Member{Name: w.Cluster.Machines[len(w.Cluster.Machines)-1].Name})
	got := strings.Join(surplus(v), "; ")
	for _, want := range []string{"machine " + one + " is there 2 times", "machine stray is not declared", "node stray is not declared", "member "} {
		if !strings.Contains(got, want) {
			t.Errorf("%q does not say %q", got, want)
		}
	}
}
