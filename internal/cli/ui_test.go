package cli

import (
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"verbund/internal/engine/look"

	"verbund/internal/core/plan"
	"verbund/internal/store"
)

// pipe is what a program sees that reads us, and has nothing to say.
func pipe() (*ui, *bytes.Buffer, *bytes.Buffer) {
	var out, errs bytes.Buffer
	u := &ui{in: strings.NewReader(""), out: &out, err: &errs, output: "text"}
	u.style()
	return u, &out, &errs
}

// Tables align, whatever is in them, and carry no colour into a pipe.
func TestTable(t *testing.T) {
	a, out, _ := pipe()
	a.table([]string{"name", "state", "note"}, [][]cell{
		{plain("a"), {"ready", "good"}, plain("x")},
		{plain("länger"), {"not ready", "bad"}, plain("")},
	})
	want := "name    state      note\na       ready      x\nlänger  not ready\n"
	if out.String() != want {
		t.Errorf("table is\n%q, wanted\n%q", out.String(), want)
	}
}

// What does not fit into the last column goes on below: a reason is never cut.
func TestFold(t *testing.T) {
	text := "its key is not the one that machine tidewatch-forecast-2 shows: somebody else asks"
	for room, want := range map[int][]string{
		200: {text}, 40: {"its key is not the one that machine", "tidewatch-forecast-2 shows: somebody", "else asks"},
		18: {"its key is not the", "one that machine", "tidewatch-forecast-2", "shows: somebody", "else asks"}, 5: {text},
	} {
		if got := fold(text, room); !slices.Equal(got, want) {
			t.Errorf("in %d: %q", room, got)
		}
	}
}

func TestSeconds(t *testing.T) {
	for d, want := range map[time.Duration]string{1340 * time.Millisecond: "1.3 s", 42 * time.Second: "42 s", 119 * time.Second: "119 s", 2 * time.Minute: "2 min", 150 * time.Second: "2 min 30 s"} {
		if got := seconds(d); got != want {
			t.Errorf("%v is %q, wanted %q", d, got, want)
		}
	}
}

// Into a pipe go finished steps as plain lines: when, what state, where, what,
// how long.
func TestProgressIntoAPipe(t *testing.T) {
	var errs bytes.Buffer
	a := &app{ui: &ui{in: strings.NewReader(""), out: &errs, err: &errs, output: "text"}}
	a.style()
	p := newProgress(a, look.Durations{"ready": 400 * time.Millisecond}, make([]plan.Step, 2))
	p.Start()
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.Local)
	p.Entry(store.Entry{Kind: store.RunBegan, Time: at})
	p.Entry(store.Entry{Kind: store.StepBegan, Time: at, Step: "ready/m", What: "ready", Where: "m", Text: "wait"})
	p.tick()
	p.tick()
	p.Entry(store.Entry{Kind: store.StepDone, Time: at, Step: "ready/m", What: "ready", Where: "m", Text: "wait", Seconds: 0.5})
	p.Entry(store.Entry{Kind: store.StepFailed, Time: at, Step: "roles", What: "roles", Text: "bind", Seconds: 61})
	p.Stop()
	p.Finish("r1", errors.New("x"))
	text := errs.String()
	for _, want := range []string{"08:00:00  ok      m                       wait  0.5 s\n", "08:00:00  failed  cluster                 bind  61 s\n", "stopped after 2 steps", "verbund history r1"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
	// It began long ago, so the wait is told, once.
	if n := strings.Count(text, "usually 0.4 s, worry from 3 min; NotReady is normal"); n != 1 {
		t.Errorf("the wait is told %d times:\n%s", n, text)
	}
	if strings.ContainsRune(text, 0x1b) {
		t.Errorf("control characters go into a pipe: %q", text)
	}
}

// Where there is nobody to ask, nothing is done.
func TestAsking(t *testing.T) {
	a, _, _ := pipe()
	if err := a.ask("Really?"); err == nil || !strings.Contains(err.Error(), "--yes") {
		t.Errorf("without a terminal: %v", err)
	}
	if err := a.askByName("tidewatch", "data is lost"); err == nil || !strings.Contains(err.Error(), "--confirm tidewatch") {
		t.Errorf("without a terminal: %v", err)
	}
	a.yes, a.confirm = true, "tidewatch"
	if err := errors.Join(a.ask("Really?"), a.askByName("tidewatch", "")); err != nil {
		t.Error(err)
	}
	if err := a.askByName("lampwright", ""); err == nil {
		t.Error("another cluster's name was taken")
	}
}

// Two folders get different blocks, and one folder always the same.
func TestBlockFor(t *testing.T) {
	a, b := blockFor("/a/estuary.site.yaml"), blockFor("/b/estuary.site.yaml")
	if a == b || a != blockFor("/a/estuary.site.yaml") || !a.Addr().IsLoopback() || a.Bits() != 24 {
		t.Errorf("%s and %s", a, b)
	}
}

// A request of the demonstration that nobody answers ends, and its error says
// how far it came; one that is answered late, but in time, is answered.
func TestPatience(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	err = answers(t.Context(), silent.Addr().String(), "tide")
	if !errors.Is(err, errPatience) || !strings.Contains(err.Error(), "sent after") {
		t.Errorf("nobody answers: %v", err)
	}
	gone, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	gone.Close()
	if err = answers(t.Context(), gone.Addr().String(), "tide"); err == nil || errors.Is(err, errPatience) || !strings.Contains(err.Error(), "began to connect") {
		t.Errorf("nobody listens: %v", err)
	}
	late := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-time.After(400 * time.Millisecond):
		case <-r.Context().Done():
		}
		io.WriteString(w, "tide")
	}))
	defer late.Close()
	if err = answers(t.Context(), late.Listener.Addr().String(), "tide"); err != nil {
		t.Errorf("answered late: %v", err)
	}
	if err = answers(t.Context(), late.Listener.Addr().String(), "lamp"); err == nil {
		t.Error("another page was taken for the right one")
	}
}

// What machines and pods say moves no cursor of who reads it.
func TestVisible(t *testing.T) {
	for _, x := range []struct{ in, want string }{
		{"plain, with ümläuts\tand\nlines", "plain, with ümläuts\tand\nlines"},
		{"\x1b[2J\x1b]0;title\x07gone", `\x1b[2J\x1b]0;title\x07gone`},
		{"back\rover", `back\x0dover`},
		{"\u009b31m \u202ereversed", `\x9b31m \x202ereversed`},
	} {
		if got := visible(x.in); got != x.want {
			t.Errorf("%q is shown as %q, wanted %q", x.in, got, x.want)
		}
	}
	a, out, errs := pipe()
	a.quiet = false
	a.say("%s", "\x1b[2J")
	a.problem("\x1b[2J")
	a.table([]string{"x", "y"}, [][]cell{cells("\x1b[2J", "z")})
	a.fields([]field{{"x", plain("\x1b[2J")}})
	if all := out.String() + errs.String(); strings.Contains(all, "\x1b") || strings.Count(all, `\x1b[2J`) != 4 {
		t.Errorf("shown is %q", all)
	}
}
