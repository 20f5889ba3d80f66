package store

import (
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"
	"verbund/internal/whole"
)

// patience is how long a command waits for another one's transaction on the
// store, which takes moments.
const patience = 10 * time.Second

// Damage is a store that cannot be read, or of which something is not what was
// written.
type Damage struct {
	Path string
	Err  error
}

func (d *Damage) Error() string {
	return fmt.Sprintf("the store %s is damaged: %v; nothing is planned from it and nothing was changed. If the disk is well, bring the store back from version control or from your own backup of this folder; verbund store show --check says what of it can be read", d.Path, d.Err)
}

func (d *Damage) Unwrap() error { return d.Err }

// keyFormat is where the format stands, in plain, under a check of its own.
const keyFormat = "format"

// create makes the database whole under another name, closed as the keeper says: whoever looks
// meanwhile finds no store, or a complete one. Who comes second takes the first one's.
func (s *Store) create() (err error) {
	if s.keeper == nil {
		return errors.New("making the store: nobody says how it is to be closed")
	}
	id := make([]byte, 4)
	rand.Read(id)
	p, err := s.keeper.New(fmt.Sprintf("%x", id), filepath.Base(s.Path))
	if err != nil {
		return err
	}
	made := false
	defer func() {
		if !made {
			err = errors.Join(err, s.keeper.Forget(p))
		}
	}()
	key, err := s.newKey(&p)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(s.Path, "store.db.*.new")
	if err != nil {
		return fmt.Errorf("making the store: %w", err)
	}
	defer os.Remove(f.Name())
	if err := f.Close(); err != nil {
		return err
	}
	db, err := bbolt.Open(f.Name(), 0o600, nil)
	if err != nil {
		return fmt.Errorf("making the store: %w", err)
	}
	err = db.Update(func(bt *bbolt.Tx) error { return furnish(&tx{bt, s.file()}, p) })
	if err := errors.Join(err, db.Close()); err != nil {
		return fmt.Errorf("making the store: %w", err)
	}
	if err := os.Link(f.Name(), s.file()); errors.Is(err, os.ErrExist) {
		return nil
	} else if err != nil {
		return fmt.Errorf("making the store: %w", err)
	}
	made = true
	s.opened(key, p)
	return nil
}

// furnish makes the tables of an empty database, which is closed as p says.
func furnish(t *tx, p Protection) error {
	for _, name := range append(slices.Clone(tables), tableSums) {
		if _, err := t.CreateBucket([]byte(name)); err != nil {
			return err
		}
	}
	how, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return errors.Join(t.Bucket([]byte(tableMeta)).Put([]byte(keyFormat), formatText(Format)), t.table(tableMeta).put(keyProtection, how))
}

// formatText says the format so that a changed bit of it is noticed.
func formatText(n int) []byte {
	return fmt.Appendf(nil, "%d %x", n, mark(tableMeta, []byte(keyFormat), fmt.Append(nil, n)))
}

// open opens the database, which has to be there. One that another process puts a new one
// in the place of meanwhile (store protect does) is opened again: the old one is wiped.
func (s *Store) open(write bool) (*bbolt.DB, error) {
	for began := time.Now(); ; {
		// It is held meanwhile: a file system gives the number of a file that is gone to
		// the next one, which would be taken for the same.
		held, herr := whole.Open(s.file())
		db, err := s.openOnce(write)
		if herr != nil {
			// One that is made at this moment may be closed anew at once, too.
			var d *Damage
			if errors.As(err, &d) && errors.Is(herr, os.ErrNotExist) {
				continue
			}
			return db, err
		}
		same, serr := s.stillThere(held)
		if herr := held.Close(); serr != nil || same {
			return db, errors.Join(err, herr)
		}
		if db != nil {
			db.Close()
		}
		if time.Since(began) > patience {
			return nil, fmt.Errorf("the store %s has been closed anew again and again for %s; try again", s.file(), patience)
		}
	}
}

// stillThere says whether the store is the file that is held.
func (s *Store) stillThere(held *os.File) (bool, error) {
	was, err := held.Stat()
	if err != nil {
		return false, err
	}
	is, err := os.Stat(s.file())
	return err == nil && os.SameFile(was, is), err
}

// mostAnew is how often a store may have been closed anew while its key was opened.
const mostAnew = 20

func (s *Store) openOnce(write bool) (db *bbolt.DB, err error) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		// bbolt panics on some kinds of damage, and follows pointers that lead nowhere.
		if r := recover(); r != nil {
			db, err = nil, &Damage{s.file(), fmt.Errorf("%v", r)}
		}
	}()
	if err := s.heads(); err != nil {
		return nil, err
	}
	db, err = bbolt.Open(s.file(), 0o600, &bbolt.Options{Timeout: patience, ReadOnly: !write})
	switch {
	case err == nil, errors.Is(err, os.ErrNotExist):
		return db, err
	case errors.Is(err, bolterrors.ErrTimeout):
		return nil, fmt.Errorf("the store %s has been in use by another process for %s; try again", s.file(), patience)
	case errors.Is(err, os.ErrPermission), errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.EROFS):
		return nil, fmt.Errorf("opening the store: %w", err)
	}
	return nil, &Damage{s.file(), err}
}

// The layout of a database's two heads, as bbolt writes them: behind the header
// of a page, a record that ends with a checksum (FNV-1a).
const (
	headAt    = 16
	headBytes = 56
	headPages = 40 // of the record: how many pages the file has
)

// heads looks at the two heads of the file before it is mapped into memory:
// reading a page that is not there would end the program. With one head damaged
// the database would silently be what it was one change before.
func (s *Store) heads() error {
	f, err := whole.Open(s.file())
	if err != nil {
		return err
	}
	defer f.Close()
	// Whoever writes has the file to himself, so that nothing half written is seen.
	for began := time.Now(); ; <-time.After(5 * time.Millisecond) {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB)
		if err == nil {
			break
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) && !errors.Is(err, syscall.EINTR) {
			return fmt.Errorf("the store %s: %w", s.file(), err)
		}
		if time.Since(began) > patience {
			return fmt.Errorf("the store %s has been in use by another process for %s; try again", s.file(), patience)
		}
	}
	i, err := f.Stat()
	if err != nil {
		return err
	}
	size := os.Getpagesize()
	b := make([]byte, size+headAt+headBytes+8)
	if _, err := f.ReadAt(b, 0); err != nil {
		return &Damage{s.file(), fmt.Errorf("it has %d bytes, which is less than its head", i.Size())}
	}
	// A database that was made on a computer with other pages says so itself.
	if told := int(binary.NativeEndian.Uint32(b[headAt+8:])); told != size && told >= 512 && told <= 1<<16 {
		size = told
		b = make([]byte, size+headAt+headBytes+8)
		if _, err := f.ReadAt(b, 0); err != nil {
			return &Damage{s.file(), fmt.Errorf("it has %d bytes, which is less than its head", i.Size())}
		}
	}
	for n := range 2 {
		r := b[n*size+headAt:]
		h := fnv.New64a()
		h.Write(r[:headBytes])
		if h.Sum64() != binary.NativeEndian.Uint64(r[headBytes:]) {
			return &Damage{s.file(), fmt.Errorf("head %d of 2 is not as it was written, so that the last change may be missing", n+1)}
		}
		if want := int64(binary.NativeEndian.Uint64(r[headPages:])) * int64(size); i.Size() < want {
			return &Damage{s.file(), fmt.Errorf("it has %d bytes, and %d were written: it was cut off", i.Size(), want)}
		}
	}
	return nil
}

// tx is one transaction on the tables.
type tx struct {
	*bbolt.Tx
	path string
}

func (t *tx) table(name string) table {
	return table{path: t.path, name: name, b: t.Bucket([]byte(name)), sums: t.Bucket([]byte(tableSums))}
}

// begin looks whether a database is one that this program knows.
func (s *Store) begin(t *bbolt.Tx) (*tx, error) {
	m := t.Bucket([]byte(tableMeta))
	if m == nil {
		return nil, &Damage{s.file(), errors.New("the table of what holds of the store itself is missing")}
	}
	text := string(m.Get([]byte(keyFormat)))
	number, _, _ := strings.Cut(text, " ")
	n, err := strconv.Atoi(number)
	switch {
	case err != nil || n <= Format && text != string(formatText(n)):
		return nil, &Damage{s.file(), fmt.Errorf("its format, %s, is not as it was written", printable([]byte(text)))}
	case n != Format:
		return nil, fmt.Errorf("the store has format %d, and this program knows %d; use the %s version of Verbund that wrote it, nothing was changed", n, Format, map[bool]string{true: "newer", false: "older"}[n > Format])
	}
	for _, name := range append(slices.Clone(tables), tableSums) {
		if t.Bucket([]byte(name)) == nil {
			return nil, &Damage{s.file(), fmt.Errorf("the table %s is missing", name)}
		}
	}
	return &tx{t, s.file()}, nil
}

// end closes the database. That its pages make no sense shows as a panic of the library,
// also where a pointer leads nowhere: it is an error here.
func (s *Store) end(db *bbolt.DB, err *error) {
	if r := recover(); r != nil {
		*err = &Damage{s.file(), fmt.Errorf("%v", r)}
	}
	*err = errors.Join(*err, db.Close())
}

// update changes the store, which has to be there, in one transaction: all of it or nothing.
func (s *Store) update(f func(*tx) error) (err error) {
	db, err := s.open(true)
	if err != nil {
		return err
	}
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer s.end(db, &err)
	return db.Update(func(bt *bbolt.Tx) error {
		t, err := s.begin(bt)
		if err != nil {
			return err
		}
		return f(t)
	})
}

// renew writes every entry of one database into another, changed as f says.
func renew(from, to *tx, f func(table, key string, v []byte) ([]byte, error)) error {
	for _, name := range tables {
		if err := from.table(name).each(func(k string, v []byte) error {
			v, err := f(name, k, v)
			if err != nil {
				return err
			}
			return to.table(name).put(k, v)
		}); err != nil {
			return err
		}
	}
	return nil
}

// view reads the store in one transaction; of one that does not exist it reads
// nothing.
func (s *Store) view(f func(*tx) error) (err error) {
	db, err := s.open(false)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer s.end(db, &err)
	return db.View(func(bt *bbolt.Tx) error {
		t, err := s.begin(bt)
		if err != nil {
			return err
		}
		return f(t)
	})
}

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
	err := s.view(func(t *tx) error {
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
		for err := range t.Check() {
			note(fmt.Errorf("its pages: %w", err))
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
