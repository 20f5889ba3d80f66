package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"os"
	"runtime/debug"
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

// create makes the database whole under another name: whoever looks meanwhile
// finds no store, or a complete one. Who comes second takes the first one's.
func (s *Store) create() error {
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
	err = db.Update(func(tx *bbolt.Tx) error { return furnish(tx) })
	if err := errors.Join(err, db.Close()); err != nil {
		return fmt.Errorf("making the store: %w", err)
	}
	if err := os.Link(f.Name(), s.file()); err != nil && !errors.Is(err, os.ErrExist) {
		return fmt.Errorf("making the store: %w", err)
	}
	return nil
}

// furnish makes the tables of an empty database.
func furnish(tx *bbolt.Tx) error {
	for _, b := range append(buckets, bucketSums) {
		if _, err := tx.CreateBucketIfNotExists(b); err != nil {
			return err
		}
	}
	return tx.Bucket(bucketMeta).Put([]byte("format"), formatText(Format))
}

// formatText says the format so that a changed bit of it is noticed.
func formatText(n int) []byte {
	if n < checked {
		return fmt.Append(nil, n)
	}
	return fmt.Appendf(nil, "%d %x", n, mark("meta", []byte("format"), fmt.Append(nil, n)))
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
	old  bool // entries have no marks yet
}

func (t *tx) table(name []byte) table {
	return table{path: t.path, name: string(name), b: t.Bucket(name), sums: t.Bucket(bucketSums), old: t.old}
}

// format reads which format the database has.
func (s *Store) format(t *bbolt.Tx) (int, error) {
	m := t.Bucket(bucketMeta)
	if m == nil {
		return 0, &Damage{s.file(), errors.New("the table of what holds of the whole cluster is missing")}
	}
	text := string(m.Get([]byte("format")))
	number, _, _ := strings.Cut(text, " ")
	n, err := strconv.Atoi(number)
	switch {
	case text == "":
		return 1, nil // the first Verbund wrote none until a store was complete
	case err != nil || n <= Format && text != string(formatText(n)):
		return 0, &Damage{s.file(), fmt.Errorf("its format, %s, is not as it was written", printable([]byte(text)))}
	case n > Format:
		return 0, fmt.Errorf("the store has format %d, and this program knows %d; use the newer version of Verbund that wrote it, nothing was changed", n, Format)
	}
	if n >= checked {
		for _, b := range append(buckets, bucketSums) {
			if t.Bucket(b) == nil && since[string(b)] <= n {
				return 0, &Damage{s.file(), fmt.Errorf("the table %s is missing", b)}
			}
		}
	}
	return n, nil
}

// end closes the database. That its pages make no sense shows as a panic of the library,
// also where a pointer leads nowhere: it is an error here.
func (s *Store) end(db *bbolt.DB, err *error) {
	if r := recover(); r != nil {
		*err = &Damage{s.file(), fmt.Errorf("%v", r)}
	}
	*err = errors.Join(*err, db.Close())
}

// update changes the store in one transaction: all of it or nothing. A store in
// an older format is brought to this one.
func (s *Store) update(f func(*tx) error) (err error) {
	if !s.Exists() {
		if err := s.create(); err != nil {
			return err
		}
	}
	db, err := s.open(true)
	if err != nil {
		return err
	}
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer s.end(db, &err)
	return db.Update(func(bt *bbolt.Tx) error {
		n, err := s.format(bt)
		if err != nil {
			return err
		}
		if n < Format {
			if err := furnish(bt); err != nil {
				return err
			}
		}
		if n < checked {
			if err := s.renew(&tx{Tx: bt, path: s.file(), old: true}, &tx{Tx: bt, path: s.file()}, nil); err != nil {
				return err
			}
		}
		return f(&tx{Tx: bt, path: s.file()})
	})
}

// renew writes every entry of one database into another, or the same one,
// changed as f says.
func (s *Store) renew(from, to *tx, f func(table, key string, v []byte) ([]byte, error)) error {
	for _, name := range buckets {
		if from.Bucket(name) == nil {
			continue
		}
		entries := map[string][]byte{}
		err := from.table(name).each(func(k string, v []byte) error {
			v = append([]byte{}, v...)
			if f != nil {
				var err error
				if v, err = f(string(name), k, v); err != nil {
					return err
				}
			}
			entries[k] = v
			return nil
		})
		if err != nil {
			return err
		}
		t := to.table(name)
		for k, v := range entries {
			if from.Tx == to.Tx {
				if err := t.b.Delete([]byte(k)); err != nil {
					return err
				}
			}
			if err := t.put(k, v); err != nil {
				return err
			}
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
		n, err := s.format(bt)
		if err != nil {
			return err
		}
		return f(&tx{Tx: bt, path: s.file(), old: n < checked})
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
		for _, name := range buckets {
			if t.Bucket(name) == nil {
				continue
			}
			b := t.table(name)
			whole := true
			err := b.b.ForEach(func(k, v []byte) error {
				if string(name) == "meta" && string(k) == "format" {
					return nil
				}
				plain, err := b.open(k, v)
				if err != nil {
					whole = false
					note(err)
				} else if string(name) == "secrets" {
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
