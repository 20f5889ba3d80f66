package store

import (
	"crypto"
	"errors"
	"fmt"
	"maps"
	"slices"

	"verbund/internal/core/trust"
)

// Check walks the whole store from outside: its file, its pages, every entry, and then
// whether what it holds fits together. It returns what is not as it was written, or does
// not fit, and nil when all is well.
func (s *Store) Check() []error {
	var out []error
	note := func(err error) {
		var d *Damage
		if errors.As(err, &d) {
			err = d.Err
		}
		out = append(out, err)
	}
	var p *Protection
	sealed := map[string][]byte{}
	err := s.base.view(func(t *tx) error {
		var err error
		if p, err = protectionOf(t); err != nil {
			note(err)
		}
		for _, name := range tables {
			b := t.table(name)
			whole := true
			err := b.b.ForEach(func(k, v []byte) error {
				if name == tableMeta && string(k) == keyFormat {
					return nil
				}
				plain, err := b.open(k, v)
				if err != nil {
					whole = false
					note(err)
				} else if name == tableSecrets {
					sealed[string(k)] = append([]byte{}, plain...)
				}
				return nil
			})
			if err != nil {
				note(err)
			} else if whole {
				if err := b.each(func(string, []byte) error { return nil }); err != nil {
					note(err)
				}
			}
		}
		if len(out) > 0 {
			return nil
		}
		// The library walks its pages beside us, where what it cannot follow would end the
		// program: only when all that it leads to could be read.
		if t.pages != nil {
			for err := range t.pages() {
				note(fmt.Errorf("its pages: %w", err))
			}
		}
		return nil
	})
	if err != nil {
		note(err)
	}
	if len(out) > 0 {
		return out
	}
	if p != nil {
		key, err := s.unlock(p)
		if err != nil {
			return s.agree() // that it is closed is said elsewhere
		}
		for id, v := range sealed {
			if _, err := open(key, id, v); err != nil {
				note(err)
			}
		}
	}
	if len(out) > 0 {
		return out
	}
	return s.agree()
}

// agree looks whether what the store holds fits together: what was written in one
// transaction is there as a whole, and nothing speaks of what there cannot be. It returns
// what does not.
func (s *Store) agree() []error {
	var out []error
	t, err := s.Trust()
	var closed *Closed
	switch {
	case err == nil:
		out = t.agree()
	case !errors.As(err, &closed): // that it is closed is said elsewhere
		return []error{err}
	}
	st, err := s.Read()
	if err != nil {
		return append(out, err)
	}
	out = append(out, st.Agree()...)
	return append(out, s.agreeJournal()...)
}

// agree looks whether every certificate can be read and is of the key that is kept with it.
func (t *Trust) agree() []error {
	var out []error
	for _, id := range slices.Sorted(maps.Keys(t.Certs)) {
		cert, err := trust.DecodeCert(t.Certs[id])
		if err != nil {
			out = append(out, fmt.Errorf("certificate %s: %w", id, err))
			continue
		}
		if t.Keys[id] == nil {
			continue // its key may be elsewhere
		}
		key, err := trust.DecodeKey(t.Keys[id])
		if err != nil {
			out = append(out, fmt.Errorf("the key of certificate %s: %w", id, err))
			continue
		}
		public, ok := key.Public().(interface{ Equal(crypto.PublicKey) bool })
		if !ok || !public.Equal(cert.PublicKey) {
			out = append(out, fmt.Errorf("certificate %s is not of the key that is kept with it", id))
		}
	}
	return out
}

// agreeJournal looks whether steps ended that began, and runs ended once.
func (s *Store) agreeJournal() []error {
	es, torn, err := s.Entries()
	if torn > 0 {
		return nil // what is missing may be in them
	}
	if err != nil {
		return []error{fmt.Errorf("the journal: %w", err)}
	}
	var out []error
	began, ended := map[string]bool{}, map[string]bool{}
	for _, e := range es {
		step := e.Run + "/" + e.Step
		switch e.Kind {
		case RunBegan, StepBegan:
			began[step] = true
		case StepDone, StepFailed, StepHeld:
			if !began[step] {
				out = append(out, fmt.Errorf("in the journal step %s of run %s ended and had not begun", e.Step, e.Run))
			}
		case RunEnded:
			if ended[e.Run] {
				out = append(out, fmt.Errorf("in the journal run %s ended twice", e.Run))
			}
			ended[e.Run] = true
		}
	}
	return out
}
