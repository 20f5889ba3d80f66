package plan_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/core/plan"
)

// Scripts of testdata/flow are read line by line: "step ID after ID…" declares one, "next"
// asks for one that may begin, "done ID" says that it ended well; a line with > is the
// answer that is expected. One behaviour a file.
func TestFlowScripts(t *testing.T) {
	scripts, err := filepath.Glob("testdata/flow/*.txt")
	if err != nil || len(scripts) < 5 {
		t.Fatalf("%d scripts, %v", len(scripts), err)
	}
	for _, file := range scripts {
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var out strings.Builder
		var steps []plan.Step
		var f *plan.Flow
		flow := func() *plan.Flow {
			if f == nil {
				f = plan.NewFlow(steps)
			}
			return f
		}
		for line := range strings.Lines(string(b)) {
			w := strings.Fields(line)
			if len(w) > 0 && w[0] == ">" {
				continue // said anew
			}
			out.WriteString(line)
			if len(w) == 0 || w[0] == "#" {
				continue
			}
			switch w[0] {
			case "step":
				s := plan.Step{ID: w[1]}
				if len(w) > 3 {
					s.Needs = w[3:]
				}
				steps = append(steps, s)
			case "next":
				s, ok := flow().Next()
				if !ok {
					s.ID = "nothing for now"
				}
				fmt.Fprintf(&out, "> %s\n", s.ID)
			case "done":
				flow().Done(w[1])
			case "undone":
				fmt.Fprintf(&out, "> %d\n", flow().Undone())
			default:
				t.Fatalf("%s: %q is no word of a script", file, w[0])
			}
		}
		if *update {
			if err := os.WriteFile(file, []byte(out.String()), 0o644); err != nil {
				t.Fatal(err)
			}
		} else if out.String() != string(b) {
			t.Errorf("%s: it goes\n%s", file, out.String())
		}
	}
}

// Everything is known of every kind of step, and in one place.
func TestKindsAreComplete(t *testing.T) {
	seen := map[plan.Kind]bool{}
	for _, k := range plan.Kinds {
		if k.Kind == "" || k.Does == "" || k.Usual <= 0 || k.Worry <= k.Usual || k.Effect == 0 || k.Service == 0 || k.Awaits == 0 || k.Part == 0 {
			t.Errorf("something is missing: %+v", k)
		}
		if seen[k.Kind] {
			t.Errorf("%s is there twice", k.Kind)
		}
		seen[k.Kind] = true
		if k.Kind.About() != k {
			t.Errorf("of %s something else is known", k.Kind)
		}
	}
	if a := plan.Kind("another").About(); a != (plan.About{}) {
		t.Errorf("of a kind that there is not: %+v", a)
	}
	// Whatever is planned is of a kind that there is.
	for name, f := range scenarios(t) {
		for _, s := range planFor(t, first(f()), second(f())).Steps {
			if !seen[s.Kind] {
				t.Errorf("%s plans a step of kind %s", name, s.Kind)
			}
		}
	}
}

func first[A, B any](a A, _ B) A  { return a }
func second[A, B any](_ A, b B) B { return b }

// chain is many steps, each of which needs a few before it.
func chain(n int) []plan.Step {
	steps := make([]plan.Step, n)
	for i := range steps {
		steps[i].ID = fmt.Sprint(i)
		for _, back := range []int{1, 7, 50} {
			if i >= back && i%back == 0 {
				steps[i].Needs = append(steps[i].Needs, fmt.Sprint(i-back))
			}
		}
	}
	return steps
}

// However many steps there are, each is begun once and after what it needs.
func TestFlowHoldsItsOrder(t *testing.T) {
	steps := chain(3000)
	f := plan.NewFlow(steps)
	done := map[string]bool{}
	var running []plan.Step
	for f.Undone() > 0 {
		for len(running) < 16 {
			s, ok := f.Next()
			if !ok {
				break
			}
			for _, n := range s.Needs {
				if !done[n] {
					t.Fatalf("%s began before %s was done", s.ID, n)
				}
			}
			running = append(running, s)
		}
		if len(running) == 0 {
			t.Fatalf("%d are left, and none may begin", f.Undone())
		}
		// The last that began ends first, as slow ones do.
		s := running[len(running)-1]
		running = running[:len(running)-1]
		if done[s.ID] {
			t.Fatalf("%s began twice", s.ID)
		}
		f.Done(s.ID)
		f.Done(s.ID) // said twice, it counts once
		done[s.ID] = true
	}
	if _, ok := f.Next(); ok || len(done) != len(steps) {
		t.Errorf("%d of %d were done", len(done), len(steps))
	}
}

// What cannot begin is left out of the estimate.
func TestScheduleOfWhatCannotBegin(t *testing.T) {
	p := &plan.Plan{Steps: []plan.Step{{ID: "a"}, {ID: "b", Needs: []string{"none"}}}}
	slots, total := p.Schedule(2, func(plan.Step) time.Duration { return time.Second })
	if total != time.Second || slots[0].To != time.Second || slots[1].To != 0 {
		t.Errorf("%+v, %s", slots, total)
	}
	ids := []string{}
	for _, s := range p.Steps {
		ids = append(ids, s.ID)
	}
	if !slices.Equal(ids, []string{"a", "b"}) {
		t.Errorf("the plan was changed: %v", ids)
	}
}

func BenchmarkFlow(b *testing.B) {
	for _, n := range []int{1000, 4000, 16000} {
		steps := chain(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				f := plan.NewFlow(steps)
				for {
					s, ok := f.Next()
					if !ok {
						break
					}
					f.Done(s.ID)
				}
				if f.Undone() > 0 {
					b.Fatal("some are left")
				}
			}
		})
	}
}
