package desk

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"verbund/internal/cli/term"
	"verbund/internal/core/plan"
	"verbund/internal/core/rollout"
	"verbund/internal/store"
)

// upgradeOf is the steps of an upgrade of so many machines, one after the other.
func upgradeOf(n int) []plan.Step {
	var out []plan.Step
	last := ""
	for i := range n {
		m := fmt.Sprintf("tidewatch-gauges-%d", i+1)
		step := func(k plan.Kind, needs ...string) string {
			out = append(out, plan.Step{ID: string(k) + "/" + m, Kind: k, Machine: m, Group: "gauges", Wave: i + 1, Text: string(k) + " it", Needs: needs})
			return string(k) + "/" + m
		}
		pulled := step(plan.Pull)
		out[len(out)-1].Group = ""
		out = append(out, plan.Step{ID: fmt.Sprintf("wave/gauges-%d", i+1), Kind: plan.Wave, Group: "gauges", Wave: i + 1, Text: fmt.Sprintf("begin wave %d", i+1), Needs: []string{last}})
		drained := step(plan.Drain, pulled, out[len(out)-1].ID)
		last = step(plan.Uncordon, step(plan.Ready, step(plan.Switch, drained)))
	}
	for i := range out {
		if len(out[i].Needs) == 1 && out[i].Needs[0] == "" {
			out[i].Needs = nil
		}
	}
	return out
}

// The table says where each machine is, in the order of the phases; what stands below it is
// how much is done, what is waited for, the watches and the last messages. When there are more
// machines than lines, groups fold, and no line is lost at the end.
func TestTableOfARollout(t *testing.T) {
	second := func(plan.Step) time.Duration { return time.Second }
	ui := &term.UI{}
	steps := upgradeOf(3)
	r := newRolling(steps, 4, second)
	at := time.Now()
	for i, s := range steps[:8] { // the first is well, the second was emptied
		for _, kind := range []string{store.StepBegan, store.StepDone} {
			r.entry(store.Entry{Time: at.Add(time.Duration(i) * time.Second), Kind: kind, Step: s.ID, Where: s.Machine, Watches: []rollout.Figures{{Name: "tidetable", Answers: 9}}}, s)
		}
	}
	r.entry(store.Entry{Time: at, Kind: store.StepBegan, Where: steps[9].Machine}, steps[9]) // and is switched
	r.message("begin wave 2")
	got := strings.Join(r.lines(ui, 40, 8, len(steps), " of round 2, 8.0 s so far", "since 3.0 s"), "\n")
	want := []string{
		"group                   waiting   prepared  out       changing  coming    well",
		"gauges                  1         .         .         1         .         1",
		"  tidewatch-gauges-1    .         .         .         .         .         well",
		"  tidewatch-gauges-2    .         .         .         changing",
		"  tidewatch-gauges-3    waiting",
		"8 of 18 steps of round 2, 8.0 s so far, about ",
		"since 3.0 s", "watch tidetable: 0 of 9 answers failed", "begin wave 2",
	}
	at0 := 0
	for _, w := range want {
		i := strings.Index(got[at0:], w)
		if i < 0 {
			t.Fatalf("wanted %q in that order:\n%s", w, got)
		}
		at0 += i
	}
	if left, all := r.left(), r.whole; left <= 0 || left >= all {
		t.Errorf("%s of %s are left", left, all)
	}
	// Of five hundred the table has one line.
	big := newRolling(upgradeOf(500), 4, second)
	lines := big.lines(ui, 24, 0, 3000, "", "")
	if len(lines) > 24 || !strings.HasPrefix(lines[0], "group") || !strings.HasPrefix(lines[1], "gauges") || !strings.Contains(lines[1], "500") {
		t.Errorf("%d lines:\n%s", len(lines), strings.Join(lines, "\n"))
	}
	if newRolling(steps[:1], 4, second) != nil {
		t.Error("what has no wave is no roll-out")
	}
}

// Into a pipe a line tells that a machine has come to another phase, and how long it was out
// of service, not each step; failures and what is of no machine are told.
func TestPhasesIntoAPipe(t *testing.T) {
	var log strings.Builder
	a := &App{UI: &term.UI{Out: &strings.Builder{}, Err: &log}, Parallel: 4}
	steps := upgradeOf(2)
	p := newProgress(a, nil, steps, func(plan.Step) time.Duration { return time.Second })
	at := time.Now()
	tell := func(i int, kind string, after time.Duration) {
		s := steps[i]
		p.Entry(store.Entry{Time: at.Add(after), Kind: kind, Step: s.ID, What: string(s.Kind), Where: s.Machine, Text: s.Text})
	}
	for i := range 6 {
		tell(i, store.StepBegan, time.Duration(i)*time.Second)
		tell(i, store.StepDone, time.Duration(i)*time.Second)
	}
	tell(8, store.StepBegan, 0)
	tell(8, store.StepFailed, 0)
	got := log.String()
	for _, want := range []string{"tidewatch-gauges-1      prepared", "cluster                 begin wave 1", "tidewatch-gauges-1      goes out of service", "tidewatch-gauges-1      changes", "tidewatch-gauges-1      comes up", "tidewatch-gauges-1      well again, out of service for 3.0 s", "failed  tidewatch-gauges-2"} {
		if !strings.Contains(got, want) {
			t.Errorf("it does not say %q:\n%s", want, got)
		}
	}
	if strings.Contains(got, "gauges-1      drain it") || strings.Contains(got, "uncordon it") {
		t.Errorf("steps are told one by one:\n%s", got)
	}
	log.Reset()
	a.Verbose = true
	p = newProgress(a, nil, steps, func(plan.Step) time.Duration { return time.Second })
	tell(2, store.StepBegan, 0)
	tell(2, store.StepDone, 0)
	if !strings.Contains(log.String(), "drain it") {
		t.Errorf("with --verbose steps are not told:\n%s", log.String())
	}
}
