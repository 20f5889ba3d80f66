package store

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// The kinds of journal entries.
const (
	RunBegan    = "run-began"
	StepBegan   = "step-began"
	StepDone    = "step-done"
	StepFailed  = "step-failed"
	Note        = "note"
	RunEnded    = "run-ended"
	OutcomeDone = "done"
)

// Entry is one line of the journal, and of --output json.
type Entry struct {
	Time    time.Time `json:"time"`
	Run     string    `json:"run"`
	Kind    string    `json:"kind"`
	Step    string    `json:"step,omitempty"` // identifier: what/where
	What    string    `json:"what,omitempty"` // the step's kind
	Where   string    `json:"where,omitempty"`
	Text    string    `json:"text,omitempty"`
	Seconds float64   `json:"seconds,omitempty"` // how long it took
	Outcome string    `json:"outcome,omitempty"` // of a run: done, failed, interrupted
	Error   string    `json:"error,omitempty"`
	Unit    string    `json:"unit,omitempty"`
	Exit    int       `json:"exit,omitempty"`
	Log     []string  `json:"log,omitempty"`
	Todo    string    `json:"todo,omitempty"`
}

// Journal appends entries.
type Journal struct {
	mu sync.Mutex
	f  *os.File
}

// JournalFile is the journal's path.
func (s *Store) JournalFile() string { return filepath.Join(s.Path, "journal.jsonl") }

// Journal opens the journal for appending.
func (s *Store) Journal() (*Journal, error) {
	f, err := os.OpenFile(s.JournalFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	return &Journal{f: f}, nil
}

// Append writes one entry as one line in one write.
func (j *Journal) Append(e Entry) error {
	b, err := json.Marshal(e)
	if err != nil {
		return err
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	_, err = j.f.Write(append(b, '\n'))
	return err
}

// Close closes the journal.
func (j *Journal) Close() error { return j.f.Close() }

// Entries reads the journal. A last line that was cut off by a crash is left
// out; other lines that cannot be read are counted.
func (s *Store) Entries() (entries []Entry, unreadable int, err error) {
	f, err := os.Open(s.JournalFile())
	if errors.Is(err, os.ErrNotExist) {
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	sc := bufio.NewScanner(f)
	sc.Buffer(nil, 1<<22)
	for sc.Scan() {
		var e Entry
		if json.Unmarshal(sc.Bytes(), &e) != nil {
			unreadable++
			continue
		}
		entries = append(entries, e)
	}
	return entries, unreadable, sc.Err()
}

// CutOff says whether the last run was cut off: it began, and never ended.
func (s *Store) CutOff() (bool, error) {
	es, _, err := s.Entries()
	cut := ""
	for _, e := range es {
		switch {
		case e.Kind == RunBegan:
			cut = e.Run
		case e.Kind == RunEnded && e.Run == cut:
			cut = ""
		}
	}
	return cut != "", err
}
