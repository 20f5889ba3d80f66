package store

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"verbund/internal/core/rollout"
	"verbund/internal/whole"
)

// The kinds of journal entries.
const (
	RunBegan    = "run-began"
	StepBegan   = "step-began"
	StepDone    = "step-done"
	StepFailed  = "step-failed"
	StepHeld    = "step-held" // it waits for a person, or for its hour, and the run ends
	Note        = "note"
	RunEnded    = "run-ended"
	OutcomeDone = "done"
)

// Entry is one line of the journal, and of --output json.
type Entry struct {
	Time    time.Time `json:"time"`
	Run     string    `json:"run"`
	Who     string    `json:"who,omitempty"` // did it, where others share the memory
	Kind    string    `json:"kind"`
	Step    string    `json:"step,omitempty"` // identifier: what/where
	What    string    `json:"what,omitempty"` // the step's kind
	Where   string    `json:"where,omitempty"`
	Group   string    `json:"group,omitempty"` // of a roll-out, of which the step is part
	Wave    int       `json:"wave,omitempty"`
	Text    string    `json:"text,omitempty"`
	Seconds float64   `json:"seconds,omitempty"` // how long it took
	// Predicted is how many seconds a run was reckoned to take when it began.
	Predicted float64  `json:"predicted,omitempty"`
	Outcome   string   `json:"outcome,omitempty"` // of a run: done, failed, interrupted, held
	Error     string   `json:"error,omitempty"`
	Unit      string   `json:"unit,omitempty"`
	Exit      int      `json:"exit,omitempty"`
	Log       []string `json:"log,omitempty"`
	Todo      string   `json:"todo,omitempty"`
	// Watches are the figures of the applications that were asked meanwhile, so far.
	Watches []rollout.Figures `json:"watches,omitempty"`
}

// Journal takes entries, one after the other: what it has taken is there after a crash.
type Journal interface {
	Append(e Entry) error
	Close() error
}

// journal is one in a file.
type journal struct {
	mu sync.Mutex
	f  *os.File
}

// mostJournal is how large the journal may be when a run begins, in bytes: some thousand runs.
// A larger one becomes the earlier one, in the place of the one before that.
const mostJournal = 8 << 20

// Journals are the names of the files of a journal: the earlier one, and that which is written.
var Journals = [2]string{"journal-earlier.jsonl", "journal.jsonl"}

// Journal opens the journal for appending.
func (s *Store) Journal() (Journal, error) { return s.base.journal() }

// Entries reads the journal, with the earlier one. Lines that cannot be read, as one that was
// cut off by a crash, are left out and counted. What was read before is not read again.
func (s *Store) Entries() (entries []Entry, unreadable int, err error) { return s.base.entries() }

// JournalFiles are the lines of the journal, by the names of the files in which they lie where
// they lie in files.
func (s *Store) JournalFiles() (map[string][]byte, error) { return s.base.journals() }

// journalFile is the path of the one that is written.
func (d *inFolder) journalFile() string { return filepath.Join(d.dir, Journals[1]) }

func (d *inFolder) journals() (map[string][]byte, error) {
	out := map[string][]byte{}
	for _, name := range Journals {
		b, err := whole.Read(filepath.Join(d.dir, name))
		if err == nil {
			out[name] = b
		} else if !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	return out, nil
}

func (d *inFolder) journal() (Journal, error) {
	f, err := os.OpenFile(d.journalFile(), os.O_CREATE|os.O_APPEND|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	i, err := f.Stat()
	if err == nil && i.Size() > mostJournal {
		if err = d.setAside(f, i); err == nil {
			f.Close()
			return d.journal()
		}
	}
	if err == nil {
		err = endLine(f)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("journal: %w", err), f.Close())
	}
	return &journal{f: f}, nil
}

// setAside makes a journal the earlier one, once: whoever has it open writes on into it.
func (d *inFolder) setAside(f *os.File, i os.FileInfo) error {
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX); err != nil {
		return err
	}
	if now, err := os.Stat(d.journalFile()); err != nil || !os.SameFile(i, now) {
		return nil // somebody else was first
	}
	return os.Rename(d.journalFile(), filepath.Join(d.dir, Journals[0]))
}

// endLine ends a line that a crash has cut off, so that the next one is not lost with it.
func endLine(f *os.File) error {
	i, err := f.Stat()
	if err != nil || i.Size() == 0 {
		return err
	}
	last := make([]byte, 1)
	if _, err := f.ReadAt(last, i.Size()-1); err != nil || last[0] == '\n' {
		return err
	}
	_, err = f.Write([]byte("\n"))
	return err
}

// Append writes one entry as one line in one write.
func (j *journal) Append(e Entry) error {
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
func (j *journal) Close() error { return j.f.Close() }

func (d *inFolder) entries() (entries []Entry, unreadable int, err error) {
	d.reading.Lock()
	defer d.reading.Unlock()
	for i, name := range Journals {
		es, n, err := d.read[i].goOn(filepath.Join(d.dir, name))
		entries, unreadable = append(entries, es...), unreadable+n
		if err != nil {
			return entries, unreadable, fmt.Errorf("journal: %w", err)
		}
	}
	return entries, unreadable, nil
}

// readSoFar is what was read of a file to which lines are appended.
type readSoFar struct {
	file       os.FileInfo
	at         int64 // behind the last line that has an end
	entries    []Entry
	unreadable int
}

// goOn reads what has come since. A last line without an end is one of what it returns, and is
// read again the next time.
func (r *readSoFar) goOn(path string) (entries []Entry, unreadable int, err error) {
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		*r = readSoFar{}
		return nil, 0, nil
	}
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	i, err := f.Stat()
	if err != nil {
		return nil, 0, err
	}
	if r.file == nil || !os.SameFile(r.file, i) || i.Size() < r.at {
		*r = readSoFar{}
	}
	r.file = i
	if _, err := f.Seek(r.at, io.SeekStart); err != nil {
		return nil, 0, err
	}
	b := bufio.NewReaderSize(f, 64<<10)
	for {
		line, n, err := readLine(b)
		if err != nil && !errors.Is(err, io.EOF) {
			return r.entries, r.unreadable, err
		}
		var e Entry
		bad := len(line) == 0 || json.Unmarshal(line, &e) != nil
		switch {
		case err != nil && n == 0:
			return r.entries, r.unreadable, nil
		case err != nil && bad:
			return r.entries, r.unreadable + 1, nil
		case err != nil:
			return append(slices.Clip(r.entries), e), r.unreadable, nil
		case bad:
			r.unreadable++
		default:
			r.entries = append(r.entries, e)
		}
		r.at += n
	}
}

// longestLine is how long an entry may be that is read, in bytes: no entry of ours comes
// near it, and what somebody else put there must not keep the rest from being read.
const longestLine = 4 << 20

// readLine reads a line without its end, n bytes with it; one that is too long is nil.
func readLine(r *bufio.Reader) (line []byte, n int64, err error) {
	for {
		part, err := r.ReadSlice('\n')
		if n += int64(len(part)); n <= longestLine {
			line = append(line, part...)
		} else {
			line = nil
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return bytes.TrimSuffix(line, []byte("\n")), n, err
		}
	}
}

// CutOff says whether a run was cut off, and none with steps has ended since: it began, and
// never ended. What only wrote something down, as giving out access does, looks at nothing
// and explains nothing.
func CutOff(es []Entry) bool {
	open, steps := map[string]bool{}, map[string]bool{}
	for _, e := range es {
		switch e.Kind {
		case RunBegan:
			open[e.Run] = true
		case StepBegan:
			steps[e.Run] = true
		case RunEnded:
			if delete(open, e.Run); steps[e.Run] {
				clear(open)
			}
		}
	}
	return len(open) > 0
}
