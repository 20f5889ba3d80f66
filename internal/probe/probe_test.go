package probe

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// site answers as it is told at the moment.
func site(t *testing.T) (at *url.URL, say func(status int, text string, after time.Duration)) {
	t.Helper()
	type answer struct {
		status int
		text   string
		after  time.Duration
	}
	var now atomic.Pointer[answer]
	now.Store(&answer{200, "high water", 0})
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a := now.Load()
		select {
		case <-time.After(a.after):
		case <-r.Context().Done():
		}
		w.WriteHeader(a.status)
		fmt.Fprint(w, a.text)
	}))
	t.Cleanup(s.Close)
	at, err := url.Parse(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	return at, func(status int, text string, after time.Duration) { now.Store(&answer{status, text, after}) }
}

func until(t *testing.T, what string, ok func() bool) {
	t.Helper()
	tick := time.NewTicker(2 * time.Millisecond)
	defer tick.Stop()
	end := time.After(10 * time.Second)
	for !ok() {
		select {
		case <-end:
			t.Fatalf("waited for %s", what)
		case <-tick.C:
		}
	}
}

// Whatever is not the right answer is a failure, and says what it was; a limit that was
// broken stays broken. Names go where they are said to be.
func TestWhatIsWrong(t *testing.T) {
	for _, x := range []struct {
		name, want string
		status     int
		text       string
		after      time.Duration
	}{
		{"another status", "it answered 503 Service Unavailable, and 200 is right", 503, "high water", 0},
		{"a redirect", "it answered 302 Found, and 200 is right", 302, "high water", 0},
		{"another text", `the answer does not hold "water"`, 200, "closed", 0},
		{"too late", "no answer within 100ms", 200, "high water", 300 * time.Millisecond},
	} {
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			at, say := site(t)
			p := Start(context.Background(), []Watch{{Name: "tidetable", URL: "http://tidetable.tidewatch.test:" + at.Port() + "/", Status: 200, Text: "water", Interval: 5 * time.Millisecond, Slow: 100 * time.Millisecond}},
				func(host string) string { return map[string]string{"tidetable.tidewatch.test": at.Hostname()}[host] })
			defer p.Stop()
			until(t, "answers", func() bool { return p.Figures()[0].Answers > 5 })
			if f := p.Figures()[0]; f.Failed > 0 || p.Broken() != nil || f.Slowest <= 0 {
				t.Fatalf("all is well, and it says %v", f)
			}
			say(x.status, x.text, x.after)
			until(t, "a failure", func() bool { return p.Broken() != nil })
			if b := p.Broken(); !strings.Contains(b.Broke, x.want) || !strings.Contains(b.Broke, "and of a hundred 0 may") {
				t.Errorf("it says %q, wanted %q", b.Broke, x.want)
			}
			say(200, "high water", 0)
			n := p.Figures()[0].Answers
			until(t, "more answers", func() bool { return p.Figures()[0].Answers > n+3 })
			if p.Broken() == nil {
				t.Error("a limit that was broken holds again")
			}
		})
	}
}

// A share is one of the last answers, and of a hundred at least: what went wrong long ago is
// forgotten, and one of the first few breaks no limit of one in a hundred.
func TestShare(t *testing.T) {
	bad := errors.New("away")
	for _, x := range []struct {
		name    string
		allow   int
		answers string // x repeats: g good, b bad, with how many
		broken  bool
	}{
		{"none may, one does", 0, "1b", true},
		{"one of a hundred may, the first does", 1, "1b", false},
		{"two of the first few", 1, "2b", true},
		{"five of five hundred", 1, "495g 5b", false},
		{"six of five hundred", 1, "494g 6b", true},
		{"six, but five hundred apart", 1, "3b 600g 3b", true}, // the first three are over the limit already
		{"long ago", 2, "2b 600g 10b", false},
		{"eleven of five hundred", 2, "2b 600g 11b", true},
	} {
		a := &asked{Watch: Watch{Allow: x.allow}}
		for _, w := range strings.Fields(x.answers) {
			n := 0
			var kind rune
			if _, err := fmt.Sscanf(w, "%d%c", &n, &kind); err != nil {
				t.Fatal(err)
			}
			for range n {
				if kind == 'b' {
					a.count(bad, 0)
				} else {
					a.count(nil, time.Millisecond)
				}
			}
		}
		if (a.Broke != "") != x.broken {
			t.Errorf("%s: %q", x.name, a.Broke)
		}
	}
}

// What is cut off by the end of the watching is no failure, and nobody asks after it.
func TestStop(t *testing.T) {
	at, say := site(t)
	say(200, "", 50*time.Millisecond)
	p := Start(context.Background(), []Watch{{Name: "a", URL: at.String(), Status: 200, Interval: time.Millisecond, Slow: time.Second}, {Name: "b", URL: at.String(), Status: 200, Interval: time.Millisecond, Slow: time.Second}}, func(string) string { return "" })
	until(t, "answers of both", func() bool { fs := p.Figures(); return fs[0].Answers > 0 && fs[1].Answers > 0 })
	p.Stop()
	before := p.Figures()
	if before[0].Failed+before[1].Failed > 0 {
		t.Errorf("the end counts as a failure: %v", before)
	}
	var none *Probes
	none.Stop()
	if none.Broken() != nil || none.Figures() != nil {
		t.Error("without a watch there is something to say")
	}
}
