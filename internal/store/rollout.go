package store

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/rollout"
)

// Held is a roll-out that a person's word is waited for.
type Held struct {
	Since time.Time `json:"since"`
	// By is who holds it: the declaration, or a person.
	By string `json:"by"`
	// Group is the group before which it holds; empty, everything.
	Group string `json:"group,omitempty"`
	Why   string `json:"why"`
}

// Who holds a roll-out.
const (
	ByDeclaration = "declaration"
	ByPerson      = "person"
)

// Spared is a machine that failed in a roll-out which went on without it.
type Spared struct {
	Since time.Time `json:"since"`
	Group string    `json:"group"`
	Why   string    `json:"why"`
}

// Keys of what is remembered of a roll-out: a wave by its group, a machine by its name.
const (
	keyOpen   = "open/"
	keySpared = "spared/"
	keyHeld   = "held"
	keyWas    = "was/"
)

// Numbers lists the numbers of a group's machines, by place, of those groups in which any
// machine has given way to another.
func (s *Store) Numbers() (map[string][]int, error) { return readAll[[]int](s, bucketNumbers) }

// SaveNumbers remembers the numbers of groups, all or none.
func (s *Store) SaveNumbers(numbers map[string][]int) error {
	if len(numbers) == 0 {
		return nil
	}
	return s.update(func(t *tx) error {
		for group, ns := range numbers {
			b, err := json.Marshal(ns)
			if err != nil {
				return err
			}
			if err := t.table(bucketNumbers).put(group, b); err != nil {
				return err
			}
		}
		return nil
	})
}

// OpenWaves lists the waves that have begun and are not over, by group.
func (s *Store) OpenWaves() (map[string]rollout.Open, error) {
	return rolloutOf[rollout.Open](s, keyOpen)
}

// SaveOpen remembers the wave of a group that has begun.
func (s *Store) SaveOpen(group string, o rollout.Open) error {
	return s.put(bucketRollout, keyOpen+group, o)
}

// Spared lists the machines that failed in the roll-out that is underway.
func (s *Store) Spared() (map[string]Spared, error) { return rolloutOf[Spared](s, keySpared) }

// SaveSpared remembers a machine that failed, without which the roll-out goes on; nil
// forgets it.
func (s *Store) SaveSpared(machine string, x *Spared) error {
	if x == nil {
		return s.update(func(t *tx) error { return t.table(bucketRollout).delete(keySpared + machine) })
	}
	return s.put(bucketRollout, keySpared+machine, x)
}

// Held is why a person's word is waited for; nil when none is.
func (s *Store) Held() (*Held, error) {
	all, err := rolloutOf[Held](s, keyHeld)
	h, ok := all[""]
	if !ok {
		return nil, err
	}
	return &h, err
}

// SaveHeld remembers that a person's word is waited for; nil, that it came: what the
// declaration held a wave for is not waited for a second time.
func (s *Store) SaveHeld(h *Held) error {
	if h != nil {
		return s.put(bucketRollout, keyHeld, h)
	}
	was, err := s.Held()
	if err != nil || was == nil {
		return err
	}
	open, err := s.OpenWaves()
	if err != nil {
		return err
	}
	return s.update(func(t *tx) error {
		if o, ok := open[was.Group]; ok && was.By == ByDeclaration {
			o.Held = true
			b, err := json.Marshal(o)
			if err != nil {
				return err
			}
			if err := t.table(bucketRollout).put(keyOpen+was.Group, b); err != nil {
				return err
			}
		}
		return t.table(bucketRollout).delete(keyHeld)
	})
}

// RolledOut forgets the roll-out that is over, of groups that are named or of all: its waves
// and the machines that it spared, but what the groups ran before.
func (s *Store) RolledOut(groups ...string) error {
	open, err := s.OpenWaves()
	if err != nil {
		return err
	}
	spared, err := s.Spared()
	if err != nil {
		return err
	}
	over := func(group string) bool { return len(groups) == 0 || slices.Contains(groups, group) }
	return s.update(func(t *tx) error {
		b := t.table(bucketRollout)
		if err := b.clear(func(k string) bool {
			group, wave := strings.CutPrefix(k, keyOpen)
			machine, failed := strings.CutPrefix(k, keySpared)
			return wave && over(group) || failed && over(spared[machine].Group)
		}); err != nil {
			return err
		}
		for group, o := range open {
			if !over(group) {
				continue
			}
			v, err := json.Marshal(o.Before)
			if err != nil {
				return err
			}
			if o.Before == "" {
				continue
			}
			if err := b.put(keyWas+group, v); err != nil {
				return err
			}
		}
		return nil
	})
}

// RanBefore lists what groups ran before the roll-out that is underway, or was the last.
func (s *Store) RanBefore() (map[string]string, error) {
	out, err := rolloutOf[string](s, keyWas)
	if err != nil {
		return nil, err
	}
	open, err := s.OpenWaves()
	for group, o := range open {
		if o.Before != "" {
			out[group] = o.Before
		}
	}
	return out, err
}

func rolloutOf[T any](s *Store, prefix string) (map[string]T, error) {
	out := map[string]T{}
	return out, s.view(func(t *tx) error {
		b := t.table(bucketRollout)
		return b.each(func(k string, v []byte) error {
			name, is := strings.CutPrefix(k, prefix)
			if !is {
				return nil
			}
			var x T
			if err := json.Unmarshal(v, &x); err != nil {
				return b.spoilt([]byte(k), err.Error())
			}
			out[name] = x
			return nil
		})
	})
}
