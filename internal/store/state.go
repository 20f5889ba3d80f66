package store

import (
	"bytes"
	"errors"
	"maps"
	"slices"
	"strings"

	"verbund/internal/core/memory"
)

// Read reads all that is remembered, as it is at one moment; of a memory that does not exist,
// nothing.
func (s *Store) Read() (*memory.State, error) {
	st := memory.New()
	err := s.view(func(t *tx) (err error) {
		st, _, err = t.state()
		return err
	})
	return st, err
}

// Update changes what is remembered as f says, all or nothing.
func (s *Store) Update(f func(*memory.State) error) error { return s.UpdateWith(TrustChange{}, f) }

// UpdateWith does the same, together with keys and certificates.
func (s *Store) UpdateWith(c TrustChange, f func(*memory.State) error) error {
	return s.sealed(c.Add != nil && len(c.Add.Keys) > 0, func(t *tx, key []byte) error {
		return errors.Join(t.change(f), putTrust(t, key, c))
	})
}

// state reads what is remembered, with the entries of which it is made.
func (t *tx) state() (*memory.State, memory.Entries, error) {
	es := memory.Entries{}
	for name := range memory.Tables() {
		if err := t.table(name).each(func(k string, v []byte) error {
			es[name+"/"+k] = bytes.Clone(v) // the file may be mapped elsewhere before the change ends
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
func (t *tx) change(f func(*memory.State) error) error {
	st, was, err := t.state()
	if err != nil {
		return err
	}
	if err := f(st); err != nil {
		return err
	}
	is, err := st.Entries()
	if err != nil {
		return err
	}
	for _, key := range slices.Sorted(maps.Keys(is)) {
		if old, there := was[key]; there && bytes.Equal(old, is[key]) {
			continue
		}
		table, name, _ := strings.Cut(key, "/")
		if err := t.table(table).put(name, is[key]); err != nil {
			return err
		}
	}
	for key := range was {
		if _, there := is[key]; !there {
			table, name, _ := strings.Cut(key, "/")
			if err := t.table(table).delete(name); err != nil {
				return err
			}
		}
	}
	return nil
}
