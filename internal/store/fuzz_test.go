package store

import (
	"bytes"
	"os"
	"testing"
)

// FuzzJournal reads journals that something has been at: every line counts once, and
// what is written after it is read.
func FuzzJournal(f *testing.F) {
	f.Add([]byte("{\"kind\":\"run-began\"}\n{\"kind\":\"step-do"))
	f.Add([]byte("\n\n\x00\n"))
	f.Add([]byte("null\n[]\n\"x\"\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		dir := t.TempDir()
		s := &Store{Path: dir, base: &inFolder{dir: dir}}
		if err := os.WriteFile(s.base.(*inFolder).journalFile(), b, 0o600); err != nil {
			t.Fatal(err)
		}
		lines := bytes.Count(b, []byte("\n"))
		if len(b) > 0 && b[len(b)-1] != '\n' {
			lines++
		}
		es, bad, err := s.Entries()
		if err != nil || len(es)+bad != lines {
			t.Errorf("%d read and %d not, of %d lines: %v", len(es), bad, lines, err)
		}
		j, err := s.Journal()
		if err != nil {
			t.Fatal(err)
		}
		defer j.Close()
		if err := j.Append(Entry{Kind: Note, Text: "after"}); err != nil {
			t.Fatal(err)
		}
		if es, _, err := s.Entries(); err != nil || len(es) == 0 || es[len(es)-1].Text != "after" {
			t.Errorf("what came after is not read: %v", err)
		}
		CutOff(es)
	})
}
