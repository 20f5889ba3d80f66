package store

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"

	"verbund/internal/core/memory"
)

// markBytes is how long the mark is that stands before every value.
const markBytes = 16

// table is a bucket of which every entry is under a check. By table, sums holds how many
// entries it has and the sum of their marks: an entry that is lost as a whole, with the page
// that it was on, is noticed by that.
type table struct {
	path    string // of the store
	name    string
	b, sums bucket
}

// mark is what an entry is checked by: its table, its key and its value.
func mark(table string, key, value []byte) []byte {
	h := sha256.New()
	for _, part := range [][]byte{[]byte(table), key} {
		h.Write(binary.BigEndian.AppendUint32(nil, uint32(len(part))))
		h.Write(part)
	}
	h.Write(value)
	return h.Sum(nil)[:markBytes]
}

// meanings say of each table what an entry of it is.
var meanings = func() map[string]string {
	out := memory.Tables()
	out[tableMeta], out[tableSecrets], out[tableCerts] = "what holds of the store itself,", "the private key", "the certificate"
	return out
}()

// spoilt is an entry that is not what was written.
func (t table) spoilt(key []byte, why string) error {
	return &Damage{t.path, fmt.Errorf("%s %s (%s/%s) %s", meanings[t.name], printable(key), t.name, printable(key), why)}
}

func printable(key []byte) string {
	const most = 60
	text := fmt.Sprintf("%q", key)
	text = text[1 : len(text)-1]
	return text[:min(len(text), most)]
}

func (t table) open(key, v []byte) ([]byte, error) {
	if len(v) < markBytes || !bytes.Equal(v[:markBytes], mark(t.name, key, v[markBytes:])) {
		return nil, t.spoilt(key, "is not as it was written")
	}
	return v[markBytes:], nil
}

// get reads one entry; nil if there is none.
func (t table) get(key string) ([]byte, error) {
	v := t.b.Get([]byte(key))
	if v == nil {
		return nil, nil
	}
	return t.open([]byte(key), v)
}

// each reads every entry, in the order of keys, and finds out whether any is lost.
func (t table) each(f func(key string, value []byte) error) error {
	have := sum{}
	err := t.b.ForEach(func(k, v []byte) error {
		if t.name == tableMeta && string(k) == keyFormat {
			return nil // it is under a check of its own
		}
		value, err := t.open(k, v)
		if err != nil {
			return err
		}
		have.add(v[:markBytes], 1)
		return f(string(k), value)
	})
	if err != nil {
		return err
	}
	want, err := t.sum()
	if err == nil && want != have {
		err = &Damage{t.path, fmt.Errorf("of table %s %d entries are there, and %d were written: what stood on a page that is damaged is lost", t.name, have.count, want.count)}
	}
	return err
}

func (t table) put(key string, value []byte) error {
	s, err := t.sum()
	if err != nil {
		return err
	}
	m := mark(t.name, []byte(key), value)
	if was := t.b.Get([]byte(key)); was != nil {
		s.add(was[:min(len(was), markBytes)], -1)
	}
	s.add(m, 1)
	return errors.Join(t.b.Put([]byte(key), append(m, value...)), t.keep(s))
}

func (t table) delete(key string) error {
	was := t.b.Get([]byte(key))
	if was == nil {
		return nil
	}
	s, err := t.sum()
	if err != nil {
		return err
	}
	s.add(was[:min(len(was), markBytes)], -1)
	return errors.Join(t.b.Delete([]byte(key)), t.keep(s))
}

// clear takes every entry away that is chosen.
func (t table) clear(chosen func(key string) bool) error {
	var keys []string
	err := t.b.ForEach(func(k, _ []byte) error {
		if chosen(string(k)) {
			keys = append(keys, string(k))
		}
		return nil
	})
	for _, k := range keys {
		err = errors.Join(err, t.delete(k))
	}
	return err
}

func (t table) sum() (sum, error) {
	v := t.sums.Get([]byte(t.name))
	if v == nil {
		return sum{}, nil
	}
	var s sum
	if len(v) != 8+2*markBytes || !bytes.Equal(v[8+markBytes:], mark(tableSums, []byte(t.name), v[:8+markBytes])) {
		return s, &Damage{t.path, fmt.Errorf("how many entries table %s has is not as it was written", t.name)}
	}
	s.count = int64(binary.BigEndian.Uint64(v))
	copy(s.marks[:], v[8:])
	return s, nil
}

// keep writes the sum, under a check of its own.
func (t table) keep(s sum) error {
	v := append(binary.BigEndian.AppendUint64(nil, uint64(s.count)), s.marks[:]...)
	return t.sums.Put([]byte(t.name), append(v, mark(tableSums, []byte(t.name), v)...))
}

// sum is how many entries there are, and their marks taken together.
type sum struct {
	count int64
	marks [markBytes]byte
}

func (s *sum) add(mark []byte, n int64) {
	s.count += n
	for i, b := range mark {
		s.marks[i] ^= b
	}
}
