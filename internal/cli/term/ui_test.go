package term

import (
	"bytes"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"
)

// pipe is what a program sees that reads us, and has nothing to say.
func pipe() (*UI, *bytes.Buffer, *bytes.Buffer) {
	var out, errs bytes.Buffer
	u := &UI{In: strings.NewReader(""), Out: &out, Err: &errs, Output: "text"}
	u.Style()
	return u, &out, &errs
}

// Tables align, whatever is in them, and carry no colour into a pipe.
func TestTable(t *testing.T) {
	a, out, _ := pipe()
	a.Table([]string{"name", "state", "note"}, [][]Cell{
		{Plain("a"), {"ready", "good"}, Plain("x")},
		{Plain("länger"), {"not ready", "bad"}, Plain("")},
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
		if got := Fold(text, room); !slices.Equal(got, want) {
			t.Errorf("in %d: %q", room, got)
		}
	}
}

// A text goes on below where it began, and no word of it is broken.
func TestHang(t *testing.T) {
	for _, x := range []struct {
		head, text string
		width      int
		want       string
	}{
		{"  plan      ", "what would be done, and why", 80, "  plan      what would be done, and why"},
		{"  plan      ", "what would be done, and why", 38, "  plan      what would be done, and\n            why"},
		{"  plan      ", "what would be done, and why", 0, "  plan      what would be done, and why"},
		{"a head that leaves little  ", "what would be done, and why", 40, "a head that leaves little\n        what would be done, and why"},
	} {
		if got := Hang(x.head, x.text, x.width); got != x.want {
			t.Errorf("in %d:\n%s\nwanted\n%s", x.width, got, x.want)
		}
	}
}

func TestSeconds(t *testing.T) {
	for d, want := range map[time.Duration]string{1340 * time.Millisecond: "1.3 s", 42 * time.Second: "42 s", 119 * time.Second: "119 s", 2 * time.Minute: "2 min", 150 * time.Second: "2 min 30 s"} {
		if got := Seconds(d); got != want {
			t.Errorf("%v is %q, wanted %q", d, got, want)
		}
	}
}

// Where there is nobody to ask, nothing is done.
func TestAsking(t *testing.T) {
	a, _, _ := pipe()
	if err := a.Ask("Really?"); err == nil || !strings.Contains(err.Error(), "--yes") {
		t.Errorf("without a terminal: %v", err)
	}
	if err := a.AskByName("tidewatch", "data is lost"); err == nil || !strings.Contains(err.Error(), "--confirm tidewatch") {
		t.Errorf("without a terminal: %v", err)
	}
	a.Yes, a.Confirm = true, "tidewatch"
	if err := errors.Join(a.Ask("Really?"), a.AskByName("tidewatch", "")); err != nil {
		t.Error(err)
	}
	if err := a.AskByName("lampwright", ""); err == nil {
		t.Error("another cluster's name was taken")
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
		if got := Visible(x.in); got != x.want {
			t.Errorf("%q is shown as %q, wanted %q", x.in, got, x.want)
		}
	}
	a, out, errs := pipe()
	a.Quiet = false
	a.Say("%s", "\x1b[2J")
	a.Problem("\x1b[2J", 1)
	a.Table([]string{"x", "y"}, [][]Cell{Cells("\x1b[2J", "z")})
	a.Fields([]Field{{"x", Plain("\x1b[2J")}})
	if all := out.String() + errs.String(); strings.Contains(all, "\x1b") || strings.Count(all, `\x1b[2J`) != 4 {
		t.Errorf("shown is %q", all)
	}
}

// Who reads JSON gets it from every command, and of what went wrong, too; what was printed is
// not followed by anything.
func TestTold(t *testing.T) {
	a, out, errs := pipe()
	a.Output = "json"
	a.Tell()
	a.Say("packed into %s", "x")
	a.Problem("later: there is no y", 0)
	a.Problem("there is no x", 5)
	if err := a.ToldAll(); err != nil || strings.Join(strings.Fields(out.String()), " ") != `{ "done": true, "said": [ "packed into x" ] }` {
		t.Errorf("%v: %s", err, out)
	}
	if want := `{"error":"later: there is no y"}` + "\n" + `{"error":"there is no x","exit":5}` + "\n"; errs.String() != want {
		t.Errorf("standard error has %s, wanted %s", errs, want)
	}
	a, out, _ = pipe()
	a.Output = "json"
	a.Tell()
	a.Say("one more")
	if err := errors.Join(a.JSON([]int{1}), a.ToldAll()); err != nil || strings.Join(strings.Fields(out.String()), " ") != "[ 1 ]" {
		t.Errorf("%v: %s", err, out)
	}
}
