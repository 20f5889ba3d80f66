package write

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func files(t *testing.T, folder string, want map[string]string) {
	t.Helper()
	for name, text := range want {
		b, err := os.ReadFile(filepath.Join(folder, name))
		if text == "" && err == nil || text != "" && string(b) != text {
			t.Errorf("%s: %q, %v", name, b, err)
		}
	}
}

// A rendering replaces what the one before wrote, and nothing else: neither a repository nor notes
// beside it, nor what a link leads to. Where a file of somebody else's is in the way, nothing is
// written.
func TestRenderingLeavesOthersAlone(t *testing.T) {
	to, outside := t.TempDir(), t.TempDir()
	put := func(folder, name, text string) {
		t.Helper()
		p := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put(to, ".git/HEAD", "ref")
	put(to, "m-1/notes.txt", "mine")
	put(outside, "hosts", "not ours")
	first := rendering{"m-1/etc/hosts": {[]byte("one"), 0o644}, "m-2/etc/hosts": {[]byte("two"), 0o600}}
	if err := first.write(to); err != nil {
		t.Fatal(err)
	}
	if i, err := os.Stat(filepath.Join(to, "m-2/etc/hosts")); err != nil || i.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", i, err)
	}
	if err := (rendering{"m-1/etc/hosts": {[]byte("other"), 0o644}}).write(to); err != nil {
		t.Fatal(err)
	}
	files(t, to, map[string]string{".git/HEAD": "ref", "m-1/notes.txt": "mine", "m-1/etc/hosts": "other", "m-2/etc/hosts": ""})
	if _, err := os.Stat(filepath.Join(to, "m-2")); err == nil {
		t.Error("an empty folder of the rendering before is left")
	}
	err := (rendering{"m-1/etc/hosts": {[]byte("lost"), 0o644}, "m-1/notes.txt": {[]byte("lost"), 0o644}}).write(to)
	if err == nil || !strings.Contains(err.Error(), "1 file that verbund render did not write") || !strings.Contains(err.Error(), "m-1/notes.txt") {
		t.Errorf("over a file of somebody else's: %v", err)
	}
	files(t, to, map[string]string{"m-1/notes.txt": "mine", "m-1/etc/hosts": "other"})
	// Neither a link nor a list that somebody has changed leads out of the folder.
	if err := os.Symlink(outside, filepath.Join(to, "m-3")); err != nil {
		t.Fatal(err)
	}
	if err := (rendering{"m-3/hosts": {[]byte("lost"), 0o644}}).write(to); err == nil {
		t.Error("a link was followed out of the folder")
	}
	put(to, renderedMark, "../"+filepath.Base(outside)+"/hosts\n")
	if err := (rendering{"m-4/hosts": {[]byte("x"), 0o644}}).write(to); err == nil {
		t.Error("a path was followed out of the folder")
	}
	files(t, outside, map[string]string{"hosts": "not ours"})
}
