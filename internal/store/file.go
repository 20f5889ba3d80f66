package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"sync"
	"syscall"
	"time"

	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"

	"verbund/internal/whole"
)

// patience is how long a command waits for another one's transaction on the
// store, which takes moments.
const patience = 10 * time.Second

// inFolder is a memory in a folder of this computer: a database of one file, that is opened for
// one transaction at a time, beside a file for each lock and a journal of lines.
type inFolder struct {
	dir string

	reading sync.Mutex
	read    [2]readSoFar // of the earlier journal, and of this one
}

func (d *inFolder) file() string { return filepath.Join(d.dir, "store.db") }

func (d *inFolder) where() string { return d.file() }

func (d *inFolder) exists() bool {
	_, err := os.Stat(d.file())
	return err == nil
}

func (d *inFolder) close() error { return nil }

// found makes the database whole under another name: whoever looks meanwhile finds no store, or
// a complete one. Who comes second takes the first one's.
func (d *inFolder) found(first func(*tx) error) (made bool, err error) {
	fresh, err := d.write(first)
	if err != nil {
		return false, fmt.Errorf("making the store: %w", err)
	}
	defer os.Remove(fresh)
	if err := os.Link(fresh, d.file()); errors.Is(err, os.ErrExist) {
		return false, nil
	} else if err != nil {
		return false, fmt.Errorf("making the store: %w", err)
	}
	return true, nil
}

// write writes a new database into a file of its own beside the one that is there, if one is.
func (d *inFolder) write(f func(*tx) error) (name string, err error) {
	file, err := os.CreateTemp(d.dir, "store.db.*.new")
	if err != nil {
		return "", err
	}
	name = file.Name()
	defer func() {
		if err != nil {
			os.Remove(name)
		}
	}()
	if err := file.Close(); err != nil {
		return "", err
	}
	db, err := bbolt.Open(name, 0o600, nil)
	if err != nil {
		return "", err
	}
	err = db.Update(func(bt *bbolt.Tx) error {
		for _, name := range append(slices.Clone(tables), tableSums) {
			if _, err := bt.CreateBucket([]byte(name)); err != nil {
				return err
			}
		}
		t := d.tx(bt)
		return errors.Join(t.furnish(), f(t))
	})
	return name, errors.Join(err, db.Sync(), db.Close())
}

// anew has a new file take the place of the old one, whose pages are overwritten: nothing points
// to them any more, and nobody should find them on the disk.
func (d *inFolder) anew(f func(from, to *tx) error) error {
	db, err := d.open(true) // holds the lock of the old file until the end
	if err != nil {
		return err
	}
	defer db.Close()
	fresh := ""
	err = db.View(func(bt *bbolt.Tx) error {
		from, err := d.begin(bt)
		if err != nil {
			return err
		}
		fresh, err = d.write(func(to *tx) error { return f(from, to) })
		return err
	})
	if err != nil {
		return err
	}
	defer os.Remove(fresh)
	before, err := os.OpenFile(d.file(), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer before.Close()
	if err := whole.Replace(fresh, d.file()); err != nil {
		return err
	}
	return overwrite(before)
}

func overwrite(f *os.File) error {
	i, err := f.Stat()
	if err != nil {
		return err
	}
	zero := make([]byte, 64<<10)
	for at := int64(0); at < i.Size(); at += int64(len(zero)) {
		if _, err := f.WriteAt(zero[:min(int64(len(zero)), i.Size()-at)], at); err != nil {
			return err
		}
	}
	return f.Sync()
}

func (d *inFolder) remove() error {
	var err error
	for _, f := range []string{d.file(), filepath.Join(d.dir, lockCluster)} {
		err = errors.Join(err, ignoreMissing(os.Remove(f)))
	}
	return err
}

func (d *inFolder) openerFile() string { return filepath.Join(d.dir, backupsIn, aside) }

func (d *inFolder) opener() ([]byte, error) {
	b, err := whole.Read(d.openerFile())
	return b, ignoreMissing(err)
}

func (d *inFolder) keepOpener(closed []byte) error {
	if closed == nil {
		return ignoreMissing(os.Remove(d.openerFile()))
	}
	return whole.Write(d.openerFile(), closed, 0o600)
}

// open opens the database, which has to be there. One that another process puts a new one
// in the place of meanwhile (store protect does) is opened again: the old one is wiped.
func (d *inFolder) open(write bool) (*bbolt.DB, error) {
	for began := time.Now(); ; {
		// It is held meanwhile: a file system gives the number of a file that is gone to
		// the next one, which would be taken for the same.
		held, herr := whole.Open(d.file())
		db, err := d.openOnce(write)
		if herr != nil {
			// One that is made at this moment may be closed anew at once, too.
			var bad *Damage
			if errors.As(err, &bad) && errors.Is(herr, os.ErrNotExist) {
				continue
			}
			return db, err
		}
		same, serr := d.stillThere(held)
		if herr := held.Close(); serr != nil || same {
			return db, errors.Join(err, herr)
		}
		if db != nil {
			db.Close()
		}
		if time.Since(began) > patience {
			return nil, fmt.Errorf("the store %s has been closed anew again and again for %s; try again", d.file(), patience)
		}
	}
}

// stillThere says whether the store is the file that is held.
func (d *inFolder) stillThere(held *os.File) (bool, error) {
	was, err := held.Stat()
	if err != nil {
		return false, err
	}
	is, err := os.Stat(d.file())
	return err == nil && os.SameFile(was, is), err
}

// mostAnew is how often a store may have been closed anew while its key was opened.
const mostAnew = 20

func (d *inFolder) openOnce(write bool) (db *bbolt.DB, err error) {
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer func() {
		// bbolt panics on some kinds of damage, and follows pointers that lead nowhere.
		if r := recover(); r != nil {
			db, err = nil, &Damage{d.file(), fmt.Errorf("%v", r)}
		}
	}()
	if err := d.heads(); err != nil {
		return nil, err
	}
	db, err = bbolt.Open(d.file(), 0o600, &bbolt.Options{Timeout: patience, ReadOnly: !write})
	switch {
	case err == nil, errors.Is(err, os.ErrNotExist):
		return db, err
	case errors.Is(err, bolterrors.ErrTimeout):
		return nil, fmt.Errorf("the store %s has been in use by another process for %s; try again", d.file(), patience)
	case errors.Is(err, os.ErrPermission), errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.EROFS):
		return nil, fmt.Errorf("opening the store: %w", err)
	}
	return nil, &Damage{d.file(), err}
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
func (d *inFolder) heads() error {
	f, err := whole.Open(d.file())
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
			return fmt.Errorf("the store %s: %w", d.file(), err)
		}
		if time.Since(began) > patience {
			return fmt.Errorf("the store %s has been in use by another process for %s; try again", d.file(), patience)
		}
	}
	i, err := f.Stat()
	if err != nil {
		return err
	}
	size := os.Getpagesize()
	b := make([]byte, size+headAt+headBytes+8)
	if _, err := f.ReadAt(b, 0); err != nil {
		return &Damage{d.file(), fmt.Errorf("it has %d bytes, which is less than its head", i.Size())}
	}
	// A database that was made on a computer with other pages says so itself.
	if told := int(binary.NativeEndian.Uint32(b[headAt+8:])); told != size && told >= 512 && told <= 1<<16 {
		size = told
		b = make([]byte, size+headAt+headBytes+8)
		if _, err := f.ReadAt(b, 0); err != nil {
			return &Damage{d.file(), fmt.Errorf("it has %d bytes, which is less than its head", i.Size())}
		}
	}
	for n := range 2 {
		r := b[n*size+headAt:]
		h := fnv.New64a()
		h.Write(r[:headBytes])
		if h.Sum64() != binary.NativeEndian.Uint64(r[headBytes:]) {
			return &Damage{d.file(), fmt.Errorf("head %d of 2 is not as it was written, so that the last change may be missing", n+1)}
		}
		if want := int64(binary.NativeEndian.Uint64(r[headPages:])) * int64(size); i.Size() < want {
			return &Damage{d.file(), fmt.Errorf("it has %d bytes, and %d were written: it was cut off", i.Size(), want)}
		}
	}
	return nil
}

// tx is a transaction on the database.
func (d *inFolder) tx(bt *bbolt.Tx) *tx {
	n := bt.ID()
	if bt.Writable() {
		n-- // its own is the next
	}
	version := func(n int) string {
		i, err := os.Stat(d.file())
		if err != nil {
			return ""
		}
		on := i.Sys().(*syscall.Stat_t)
		return fmt.Sprintf("%d/%d %d %d", on.Dev, on.Ino, i.ModTime().UnixNano(), n)
	}
	return &tx{path: d.file(), version: version(n), pages: func() <-chan error { return bt.Check() },
		bucket:   func(name string) bucket { return bt.Bucket([]byte(name)) },
		onCommit: func(f func(string)) { bt.OnCommit(func() { f(version(bt.ID())) }) }}
}

// begin looks whether a database is one that this program knows.
func (d *inFolder) begin(bt *bbolt.Tx) (*tx, error) {
	if bt.Bucket([]byte(tableMeta)) == nil {
		return nil, &Damage{d.file(), errors.New("the table of what holds of the store itself is missing")}
	}
	t := d.tx(bt)
	if err := t.known(); err != nil {
		return nil, err
	}
	for _, name := range append(slices.Clone(tables), tableSums) {
		if bt.Bucket([]byte(name)) == nil {
			return nil, &Damage{d.file(), fmt.Errorf("the table %s is missing", name)}
		}
	}
	return t, nil
}

// end closes the database. That its pages make no sense shows as a panic of the library,
// also where a pointer leads nowhere: it is an error here.
func (d *inFolder) end(db *bbolt.DB, err *error) {
	if r := recover(); r != nil {
		*err = &Damage{d.file(), fmt.Errorf("%v", r)}
	}
	*err = errors.Join(*err, db.Close())
}

// update changes the store, which has to be there, in one transaction: all of it or nothing.
func (d *inFolder) update(f func(*tx) error) (err error) {
	db, err := d.open(true)
	if err != nil {
		return err
	}
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer d.end(db, &err)
	return db.Update(func(bt *bbolt.Tx) error {
		t, err := d.begin(bt)
		if err != nil {
			return err
		}
		return f(t)
	})
}

// view reads the store in one transaction; of one that does not exist it reads
// nothing.
func (d *inFolder) view(f func(*tx) error) (err error) {
	db, err := d.open(false)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	defer d.end(db, &err)
	return db.View(func(bt *bbolt.Tx) error {
		t, err := d.begin(bt)
		if err != nil {
			return err
		}
		return f(t)
	})
}
