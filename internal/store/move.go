package store

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"time"
)

// Where it stands, in the table of what holds of a store itself, how often it was moved, and that
// it is only arriving: nobody has been told yet that it lies there.
const (
	keyMoves    = "moves"
	keyArriving = "arriving"
)

// gone says of a place that a memory lay there, and where it went.
type gone struct {
	To    string    `json:"to"`
	Who   string    `json:"who"`
	At    time.Time `json:"at"`
	Moves int       `json:"moves"` // with the one that took it away
}

func (g gone) String() string {
	return fmt.Sprintf("%s moved it to %s at %s", g.Who, g.To, g.At.Local().Format("2006-01-02 15:04"))
}

// Went is a memory that is in another place by now.
type Went struct {
	Where string
	to    gone
}

func (g *Went) Error() string {
	return fmt.Sprintf("the memory is not at %s any more: %s; take the files beside the declaration from there, or, if that move was cut off here, say it again", g.Where, g.to)
}

// Another is a memory in a place that is not the one that is to go there.
type Another struct {
	Where string
	Why   string
}

func (a *Another) Error() string {
	return fmt.Sprintf("there is a memory of a cluster of this name at %s already: %s; nothing was changed", a.Where, a.Why)
}

// Move takes all that is remembered to another place: the journal as well, and what opens the
// backups, closed as it is. told has everybody look there from then on. Where others may look on, a
// note is left first of where it went, so that nobody takes what was here for it; a folder, which
// can leave none, is cleared when everybody was told. Cut off anywhere, the same again goes on.
// Whoever calls it holds the lock; that of the other place is taken.
func (s *Store) Move(to *Store, told func() error) error {
	if err := to.folder(); err != nil {
		return err
	}
	m, err := s.marks()
	if went := (*Went)(nil); errors.As(err, &went) {
		return to.arrive(went, told)
	}
	if err != nil {
		return err
	}
	if m.id == "" {
		return fmt.Errorf("there is no store at %s", s.Where())
	}
	if err := to.base.welcome(m.moves); err != nil {
		return err
	}
	release, err := to.base.lock(lockCluster, "store move")
	if err != nil {
		return err
	}
	defer release()
	at, err := to.marks()
	if err != nil {
		return err
	}
	switch {
	case at.id == "":
	case at.id != m.id:
		return &Another{to.Where(), "it is of " + at.id + ", and this one of " + m.id}
	case !at.arriving && at.moves > m.moves:
		return &Another{to.Where(), "it is the same one, and newer than the one here, which was left behind when it was moved; take the files beside the declaration from whoever moved it"}
	}
	if err := to.base.clear(nil); err != nil {
		return err
	}
	if err := s.copyTo(to, m.moves+1); err != nil {
		return err
	}
	went := &gone{To: to.Where(), Who: cmp.Or(to.base.who(), s.base.who()), At: time.Now().UTC(), Moves: m.moves + 1}
	if s.base.who() != "" {
		if err := s.base.clear(went); err != nil {
			return err
		}
		return to.arrived(told)
	}
	if err := told(); err != nil {
		return errors.Join(err, to.base.clear(nil))
	}
	return errors.Join(to.arrived(nil), s.base.clear(went))
}

// arrive ends a move that was cut off when it had gone from where it was, if it was to here.
func (s *Store) arrive(went *Went, told func() error) error {
	at, err := s.marks()
	if err != nil {
		return err
	}
	if !at.arriving || at.moves != went.to.Moves {
		return went
	}
	return s.arrived(told)
}

// arrived has everybody told, if they are to be yet, and notes that they were.
func (s *Store) arrived(told func() error) error {
	if told != nil {
		if err := told(); err != nil {
			return err
		}
	}
	return s.base.update(func(t *tx) error { return t.table(tableMeta).delete(keyArriving) })
}

// Finish takes away what an interrupted move has left of a memory in the place from which it came:
// it lies here by now.
func (s *Store) Finish(from *Store) error {
	here, err := s.marks()
	if err != nil {
		return err
	}
	left, err := from.marks()
	if err != nil {
		return err
	}
	if here.arriving {
		if err := s.arrived(nil); err != nil {
			return err
		}
	}
	if left.id != here.id || left.moves >= here.moves {
		return nil
	}
	return from.base.clear(&gone{To: s.Where(), Who: s.base.who(), At: time.Now().UTC(), Moves: here.moves})
}

// marks are what a memory says of itself.
type marks struct {
	id       string // empty: there is none
	moves    int
	arriving bool
}

func (s *Store) marks() (m marks, err error) {
	err = s.base.view(func(t *tx) error {
		p, err := protectionOf(t)
		if err != nil {
			return err
		}
		m.id = p.ID
		moves, err := t.table(tableMeta).get(keyMoves)
		if err == nil && moves != nil {
			m.moves, err = strconv.Atoi(string(moves))
		}
		if err != nil {
			return err
		}
		arriving, err := t.table(tableMeta).get(keyArriving)
		m.arriving = arriving != nil
		return err
	})
	return m, err
}

// copyTo writes all that is remembered into a place where nothing is.
func (s *Store) copyTo(to *Store, moves int) error {
	if err := s.base.view(func(from *tx) error {
		made, err := to.base.found(func(t *tx) error {
			meta := t.table(tableMeta)
			return errors.Join(renew(from, t, nil), meta.put(keyMoves, []byte(strconv.Itoa(moves))), meta.put(keyArriving, []byte("1")))
		})
		if err == nil && !made {
			err = &Another{to.Where(), "somebody has made one meanwhile"}
		}
		return err
	}); err != nil {
		return err
	}
	es, _, err := s.base.entries()
	if err != nil {
		return err
	}
	opener, err := s.base.opener()
	if err == nil && opener != nil {
		if err = os.MkdirAll(to.backupDir(), 0o700); err == nil {
			err = to.base.keepOpener(opener)
		}
	}
	return errors.Join(err, to.base.append(es))
}

func (d *inFolder) welcome(int) error { return nil }

func (d *inFolder) who() string { return "" }

func (d *inFolder) clear(*gone) error {
	err := ignoreMissing(os.Remove(d.file()))
	for _, name := range Journals {
		err = errors.Join(err, ignoreMissing(os.Remove(filepath.Join(d.dir, name))))
	}
	return err
}

func (d *inFolder) append(es []Entry) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	for _, e := range es {
		if err := enc.Encode(e); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(d.journalFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("journal: %w", err)
	}
	_, err = f.Write(b.Bytes())
	return errors.Join(err, f.Sync(), f.Close())
}
