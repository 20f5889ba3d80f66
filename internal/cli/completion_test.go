package cli_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// What can stand at a place is offered there and nothing else, from the
// declaration alone; with a damaged one nothing is offered, and nothing said.
func TestCompletion(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "available", "v1.36.3")
	const taken = "20270102-030405-v1.36.3.backup.age"
	if err := os.MkdirAll(w.path(".verbund/tidewatch/backups"), 0o700); err != nil {
		t.Fatal(err)
	}
	w.rewrite(".verbund/tidewatch/backups/"+taken, "")
	offered := func(args ...string) []string {
		var out []string
		for l := range strings.Lines(w.ok(append([]string{"__complete"}, args...)...)) {
			if l = strings.TrimSpace(l); l != "" && !strings.HasPrefix(l, ":") {
				word, _, _ := strings.Cut(l, "\t")
				out = append(out, word)
			}
		}
		return out
	}
	for _, x := range []struct {
		args      []string
		have, not string
	}{
		{[]string{"scale", ""}, "gauges", "control"},
		{[]string{"plan", "--only", ""}, "control", "tidewatch-gauges-1"},
		{[]string{"backup", "show", ""}, "newest", "gauges"},
		{[]string{"backup", "drop", ""}, taken, "identity.age"},
		{[]string{"history", ""}, "last", "gauges"},
		{[]string{"logs", "--unit", ""}, "kubelet", "kubelet.service"},
		{[]string{"upgrade", ""}, "v1.37.2", "v1.36.3"},
		{[]string{"backup", "show", taken, ""}, "", taken},
		{[]string{"plan", "--to", ""}, "v1.37.2", "v1.36.3"},
		{[]string{"inspect", "tidewatch-gauges-1", ""}, "tidewatch-forecast-2", "gauges"},
		{[]string{"site", "fault", ""}, "full-disk", "tidewatch-gauges-1"},
		{[]string{"site", "power", "tidewatch-gauges-1", ""}, "cut", "tidewatch-gauges-1"},
		{[]string{"drill", "zone-cut", ""}, "leader-power", "zone-cut"},
		{[]string{"trust", "renew", ""}, "tidewatch-control-1/api-server", "full-disk"},
		{[]string{"draft", "x", "--shape", ""}, "small", "gauges"},
	} {
		if got := offered(x.args...); x.have != "" && !slices.Contains(got, x.have) || slices.Contains(got, x.not) {
			t.Errorf("after %q: %q", x.args, got)
		}
	}
	w.rewrite("tidewatch.verbund.yaml", "pools: [")
	if got := offered("scale", ""); len(got) > 0 {
		t.Errorf("of a damaged declaration: %q", got)
	}
	if _, err := os.Stat(w.path(".verbund/tidewatch/store.db")); err == nil {
		t.Error("completing wrote a store")
	}
}

// Every command has a page, and the same program writes the same pages.
func TestManualPages(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	read := func(folder string) map[string]string {
		out := map[string]string{}
		files, err := filepath.Glob(w.path(folder) + "/*.1")
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			out[filepath.Base(f)] = string(b)
		}
		return out
	}
	w.ok("man", "pages")
	w.ok("man", "again")
	pages, again := read("pages"), read("again")
	for _, p := range []string{"verbund.1", "verbund-converge.1", "verbund-trust-replace.1", "verbund-site-fault.1"} {
		if !strings.HasPrefix(pages[p], ".nh\n.TH") || pages[p] != again[p] {
			t.Errorf("%s is %.60q, then %.60q", p, pages[p], again[p])
		}
	}
	if c := pages["verbund-converge.1"]; !strings.Contains(c, "may-lose") {
		t.Errorf("the page of converge lacks an option:\n%s", c)
	}
	w.fails(2, []string{"a folder"}, "man")
}

// Help fits a terminal: no line of any command is wider, but for what is to be copied whole.
func TestHelpFits(t *testing.T) {
	t.Parallel()
	w := newWorld(t, "small", "v1.37.2")
	for _, command := range []string{"", "plan", "site fault", "trust", "backup restore", "access", "drill"} {
		cmd := w.command(append(strings.Fields(command), "--help")...)
		cmd.Env = append(cmd.Env, "COLUMNS=60")
		text, err := cmd.Output()
		if err != nil || !strings.Contains(string(text), "Usage:") {
			t.Errorf("%s: %v\n%s", command, err, text)
		}
		for l := range strings.Lines(string(text)) {
			if l = strings.TrimRight(l, "\n"); len([]rune(l)) > 60 && !strings.HasPrefix(l, "  verbund") {
				t.Errorf("%s: %q", command, l)
			}
		}
	}
}
