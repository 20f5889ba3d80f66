package store

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// base is where a memory lies: tables that change as a whole or not at all, a lock, and a
// journal.
type base interface {
	// where names it, for a person.
	where() string
	// exists says whether it is there, or may be: what cannot be looked at is not gone.
	exists() bool
	// found makes it with what first writes into it; one that is there already stays.
	found(first func(*tx) error) (made bool, err error)
	// view reads it as it is at one moment. Of one that does not exist nothing is read.
	view(f func(*tx) error) error
	// update changes it, which has to be there: all of it, or nothing. f may be called again,
	// if somebody else was faster.
	update(f func(*tx) error) error
	// anew puts what f writes into a new one in the place of what it read, and has nothing of
	// what was there before be found.
	anew(f func(from, to *tx) error) error
	// remove takes it away, but for the journal.
	remove() error
	// opener is what opens the backups, closed; nil where there is none. keepOpener keeps it, or
	// takes it away.
	opener() ([]byte, error)
	keepOpener(closed []byte) error

	lock(name, command string) (release func(), err error)
	// holds says who holds the cluster's lock; nil when nobody does.
	holds() (*Holder, error)

	journal() (Journal, error)
	entries() (entries []Entry, unreadable int, err error)
	// journals are the lines of the journal, in files of these names.
	journals() (map[string][]byte, error)

	// welcome has a memory come back that went from here before it was moved so often; clear takes
	// all away, with the journal and what opens the backups, and says where it went, if that is told.
	welcome(moves int) error
	clear(to *gone) error
	append(es []Entry) error // to the journal, as they are
	// who is whoever works with it, as others see it; empty where nobody else does.
	who() string

	close() error
}

// bucket is one table as its base has it, without a check.
type bucket interface {
	Get(key []byte) []byte
	Put(key, value []byte) error
	Delete(key []byte) error
	ForEach(f func(key, value []byte) error) error
}

// tx is one transaction on the tables.
type tx struct {
	path   string // where they lie, for a person
	bucket func(name string) bucket
	// version is that of what is there: as long as it is the same, so is all the rest.
	version string
	// onCommit is called with the version that is there when all was written.
	onCommit func(f func(version string))
	// pages are what is wrong with how the tables lie on a disk; nil where that is not ours.
	pages func() <-chan error
}

func (t *tx) table(name string) table {
	return table{path: t.path, name: name, b: t.bucket(name), sums: t.bucket(tableSums)}
}

// keyFormat is where the format stands, in plain, under a check of its own.
const keyFormat = "format"

// formatText says the format so that a changed bit of it is noticed.
func formatText(n int) []byte {
	return fmt.Appendf(nil, "%d %x", n, mark(tableMeta, []byte(keyFormat), fmt.Append(nil, n)))
}

// known looks whether tables are such as this program knows.
func (t *tx) known() error {
	text := string(t.bucket(tableMeta).Get([]byte(keyFormat)))
	number, _, _ := strings.Cut(text, " ")
	n, err := strconv.Atoi(number)
	switch {
	case err != nil || n <= Format && text != string(formatText(n)):
		return &Damage{t.path, fmt.Errorf("its format, %s, is not as it was written", printable([]byte(text)))}
	case n != Format:
		return fmt.Errorf("the store has format %d, and this program knows %d; use the %s version of Verbund that wrote it, nothing was changed", n, Format, map[bool]string{true: "newer", false: "older"}[n > Format])
	}
	return nil
}

// furnish says in empty tables which format they have.
func (t *tx) furnish() error { return t.bucket(tableMeta).Put([]byte(keyFormat), formatText(Format)) }

// renew writes every entry of one memory into another, changed as f says; nil: as it is.
func renew(from, to *tx, f func(table, key string, v []byte) ([]byte, error)) error {
	for _, name := range tables {
		if err := from.table(name).each(func(k string, v []byte) error {
			if f != nil {
				var err error
				if v, err = f(name, k, v); err != nil {
					return err
				}
			}
			return to.table(name).put(k, slices.Clone(v))
		}); err != nil {
			return err
		}
	}
	return nil
}

// Damage is a store that cannot be read, or of which something is not what was
// written.
type Damage struct {
	Path string
	Err  error
}

func (d *Damage) Error() string {
	back := "If the disk is well, bring the store back from version control or from your own backup of this folder"
	if strings.HasPrefix(d.Path, etcdScheme) {
		back = "Bring what lies there back from that etcd's own backup"
	}
	return fmt.Sprintf("the store %s is damaged: %v; nothing is planned from it and nothing was changed. %s; verbund store show --check says what of it can be read", d.Path, d.Err, back)
}

func (d *Damage) Unwrap() error { return d.Err }
