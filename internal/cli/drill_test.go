package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/declare"
	"verbund/internal/site/simulated"
)

// drilled is what a drill says in JSON.
type drilled struct {
	Drill, Unable string
	Steps         []struct {
		What, Trouble string
		Mends         bool
	}
	Measured struct {
		Writes   int
		Pause    time.Duration
		Lost     []string
		ReadBack bool
	}
	Claims []struct {
		What, Measured string
		Holds          bool
	}
}

// drills carries drills out, which have to end with a code, or with any of a negative one.
func (w *world) drills(code int, args ...string) []drilled {
	w.Helper()
	o, e, got := w.run(append([]string{"drill", "-o", "json", "--confirm", "tidewatch"}, args...)...)
	if code >= 0 && got != code {
		w.Fatalf("drill %v: exit code %d, wanted %d\n%s%s", args, got, code, o, e)
	}
	var ds []drilled
	if err := json.Unmarshal([]byte(o), &ds); err != nil {
		w.Fatalf("%v\n%s", err, o)
	}
	return ds
}

// broken are the claims of a drill that do not hold.
func (d drilled) broken() (out []string) {
	for _, c := range d.Claims {
		if !c.Holds {
			out = append(out, c.What+": "+c.Measured)
		}
	}
	return out
}

// The words for faults that a declaration may use are those that a site knows.
func TestDrillFaults(t *testing.T) {
	known := map[string]bool{"cut-power": true, "power": true}
	machines, artefacts, zones := simulated.Faults()
	for _, l := range [][]string{machines, artefacts, zones} {
		for _, f := range l {
			known[f] = true
		}
	}
	for f, m := range declare.DrillFaults {
		if !known[f] || m != "" && !known[m] {
			t.Errorf("no site makes %s happen, or %s", f, m)
		}
		delete(known, f)
	}
	for _, m := range declare.DrillFaults {
		delete(known, m)
	}
	if len(known) > 0 {
		t.Errorf("no drill can use %v", known)
	}
}

// The API goes on without the machine that leads, without a zone, and with a zone that is cut
// off; nothing that it acknowledged is lost, and all is well afterwards.
func TestDrills(t *testing.T) {
	t.Parallel()
	w, k, _ := raisedWorld(t, "v1.37.2")
	page := w.path("drills.html")
	// How long a pause is depends on what else the computer does: what is claimed of it is held
	// where claims are judged, and every other claim here.
	slow := 0
	for _, d := range w.drills(-1, "--report", page, "leader-power", "zone-power", "majority-power", "zone-cut", "zone-one-way", "disk-full", "disk-lost", "clock-wrong") {
		b := slices.DeleteFunc(d.broken(), func(c string) bool { return strings.HasPrefix(c, "the API takes writes: longest pause ") })
		if len(b) < len(d.broken()) {
			slow++
		}
		if len(b) > 0 || d.Unable != "" || len(d.Claims) == 0 {
			t.Errorf("drill %s: %v %s", d.Drill, b, d.Unable)
		}
		t.Logf("%s: %d writes, the longest pause %s", d.Drill, d.Measured.Writes, d.Measured.Pause.Round(10*time.Millisecond))
	}
	b, err := os.ReadFile(page)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"<!DOCTYPE html>", fmt.Sprintf("%d of 8 drills hold", 8-slow), "cut-network of zone", "<svg", "no write lost"} {
		if !strings.Contains(string(b), want) {
			t.Errorf("the page has no %q", want)
		}
	}
	if strings.Contains(string(b), "<script") || strings.Contains(string(b), "src=") {
		t.Error("the page needs something else than itself")
	}
	w.well("v1.37.2")
	if _, err := k.CoreV1().Namespaces().Get(t.Context(), "verbund-drill", metav1.GetOptions{}); !apierrors.IsNotFound(err) {
		t.Errorf("the drills' namespace: %v", err)
	}
}

// The tool's own work, while writes are counted: a killed roll-out is gone on with, a damaged
// artefact is not installed, the datastore is restored.
func TestDrillsOfRuns(t *testing.T) {
	t.Parallel()
	w, _, _ := raisedWorld(t, "v1.37.2")
	for _, d := range w.drills(0, "tool-killed", "certificate-ends", "artefact-damaged", "datastore-restored", "worker-lost") {
		if b := d.broken(); len(b) > 0 {
			t.Errorf("drill %s: %v", d.Drill, b)
		}
	}
	w.well("v1.37.2")
}

// A drill of one's own may suppose too much, and then says so; whatever it has disturbed is put
// right, also when its steps do not mend it, when one of them fails, and when it is
// interrupted.
func TestDrillsOfOnesOwn(t *testing.T) {
	t.Parallel()
	w, _, _ := raisedWorld(t, "v1.37.2")
	w.declare(`\npools:`, `
drills:
  - name: too-bold
    supposes: nothing is noticed of two dark machines
    steps: [{fault: cut-power, at: majority}, {wait: 3s}]
    holds: {pause: 1s}
  - name: impatient
    supposes: a fault is noticed that is none
    steps: [{fault: wrong-clock, at: worker}, {until: no-writes, within: 3s}]
  - name: long
    supposes: it takes long
    steps: [{fault: cut-network, at: zone}, {wait: 10m}]

pools:`)
	d := w.drills(3, "too-bold")[0]
	if b := d.broken(); len(b) != 1 || !strings.HasPrefix(b[0], "the API takes writes") {
		t.Errorf("broken are %q", b)
	}
	mended := false
	for _, s := range d.Steps {
		mended = mended || s.Mends && strings.HasPrefix(s.What, "power of")
	}
	if !mended {
		t.Errorf("nobody gave the power back: %+v", d.Steps)
	}
	w.well("v1.37.2")
	d = w.drills(3, "impatient")[0]
	if b := d.broken(); len(b) != 1 || !strings.Contains(b[0], "every step could be carried out") {
		t.Errorf("broken are %q", b)
	}
	w.soonWell("v1.37.2")

	cmd, _, log := w.start("drill", "long", "--yes")
	cut := func() bool {
		_, said, _ := w.run("machines")
		return strings.Contains(said, "mended-network")
	}
	w.until(time.Minute, "the network to be cut", func() (bool, string) { return cut(), log.String() })
	w.fails(4, []string{"verbund drill"}, "drill", "leader-power", "--yes")
	if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	if code := cmd.ProcessState.ExitCode(); code != 130 {
		t.Errorf("an interrupted drill ends with %d:\n%s", code, log)
	}
	if cut() {
		t.Errorf("the network is still cut:\n%s", log)
	}
	w.soonWell("v1.37.2")

	// One that is killed leaves what it has disturbed; the next one puts it right first.
	cmd, _, log = w.start("drill", "long", "--yes")
	w.until(time.Minute, "the network to be cut", func() (bool, string) { return cut(), log.String() })
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	cmd.Wait()
	if !cut() {
		t.Fatal("it was to be killed in the middle")
	}
	if _, said, code := w.run("drill", "clock-wrong", "--yes"); code != 0 || !strings.Contains(said, "putting right what a drill has left that was killed") {
		t.Errorf("exit code %d\n%s", code, said)
	}
	if cut() {
		t.Error("the network is still cut")
	}

	// What cannot be is said before anything is disturbed.
	w.fails(2, []string{"there is no drill leader-powr; did you mean leader-power?"}, "drill", "leader-powr", "--yes")
	w.fails(1, []string{"cannot be carried out here", "no virtual address"}, "drill", "holder-power", "--yes")
	w.fails(2, []string{"name drills, or say --all"}, "drill")
	w.fails(2, []string{"--yes"}, "drill", "leader-power")
	w.fails(2, []string{"--confirm tidewatch", "loses what is written"}, "drill", "datastore-restored", "--yes")
	w.fails(2, []string{"ends in .html, .png or .svg"}, "drill", "leader-power", "--yes", "--report", "drill.pdf")
	w.fails(2, []string{"a picture shows one drill"}, "drill", "leader-power", "zone-cut", "--yes", "--report", "drill.png")
	w.ok("site", "power", "tidewatch-gauges-1", "cut")
	w.fails(1, []string{"a cluster that is not well is not disturbed", "gauges-1"}, "drill", "leader-power", "--yes")
	w.ok("converge", "--yes")
	w.soonWell("v1.37.2")
	if out := w.ok("drill", "list"); !strings.Contains(out, "too-bold") || !strings.Contains(out, "not here: cluster tidewatch has no virtual address") {
		t.Errorf("the list:\n%s", out)
	}
}
