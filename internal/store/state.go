package store

import (
	"bytes"
	"errors"
	"maps"
	"slices"
	"strings"

	"verbund/internal/core/memory"
)

// seen is what was read last: as long as it is of that version, it need not be read again.
type seen struct {
	version string
	st      *memory.State
	es      memory.Entries
}

// Read reads all that is remembered, as it is at one moment; of a memory that does not exist,
// nothing.
func (s *Store) Read() (*memory.State, error) {
	st := memory.New()
	err := s.base.view(func(t *tx) error {
		is, err := s.see(t)
		if err == nil {
			st = is.st.Clone()
		}
		return err
	})
	return st, err
}

// Update changes what is remembered as f says, all or nothing.
func (s *Store) Update(f func(*memory.State) error) error { return s.UpdateWith(TrustChange{}, f) }

// UpdateWith does the same, together with keys and certificates.
func (s *Store) UpdateWith(c TrustChange, f func(*memory.State) error) error {
	s.changing.Lock() // here, instead of at the file
	defer s.changing.Unlock()
	err := s.sealed(c.Add != nil && len(c.Add.Keys) > 0, func(t *tx, key []byte) error {
		changed, err := s.change(t, f)
		if err == nil && !changed && c.Add == nil && c.Gone == nil {
			return errUnchanged
		}
		return errors.Join(err, putTrust(t, key, c))
	})
	if errors.Is(err, errUnchanged) {
		return nil // and nothing was written
	}
	return err
}

var errUnchanged = errors.New("nothing has changed")

// see is what is remembered by a transaction.
func (s *Store) see(t *tx) (*seen, error) {
	if was := s.last.Load(); was != nil && was.version == t.version && t.version != "" {
		return was, nil
	}
	is := &seen{version: t.version}
	var err error
	if is.st, is.es, err = t.state(); err != nil {
		return nil, err
	}
	s.last.Store(is)
	return is, nil
}

// state reads what is remembered, with the entries of which it is made.
func (t *tx) state() (*memory.State, memory.Entries, error) {
	es := memory.Entries{}
	for name := range memory.Tables() {
		if err := t.table(name).each(func(k string, v []byte) error {
			es[name+"/"+k] = bytes.Clone(v) // it is looked at when the file is closed
			return nil
		}); err != nil {
			return nil, nil, err
		}
	}
	st, err := memory.Of(es)
	var bad *memory.Unreadable
	if errors.As(err, &bad) {
		table, key, _ := strings.Cut(bad.Key, "/")
		err = t.table(table).spoilt([]byte(key), bad.Err.Error())
	}
	return st, es, err
}

// change changes what is remembered: only entries that are others than before are written.
func (s *Store) change(t *tx, f func(*memory.State) error) (changed bool, err error) {
	was, err := s.see(t)
	if err != nil {
		return false, err
	}
	st := was.st.Clone()
	if err := f(st); err != nil {
		return false, err
	}
	es, err := st.Entries()
	if err != nil {
		return false, err
	}
	changes := es.Changes(was.es)
	for _, key := range slices.Sorted(maps.Keys(changes)) {
		table, name, _ := strings.Cut(key, "/")
		if v := changes[key]; v == nil {
			err = t.table(table).delete(name)
		} else {
			err = t.table(table).put(name, v)
		}
		if err != nil {
			return false, err
		}
	}
	// What others are told is made from what was written, not from what f may still hold.
	is := &seen{st: was.st.Clone(), es: es}
	if err := is.st.Take(changes); err != nil {
		return false, err
	}
	t.onCommit(func(version string) {
		is.version = version
		s.last.Store(is)
	})
	return len(changes) > 0, nil
}
