// Package whole writes files whole: whoever looks sees what was there before or all
// of what is new, also after a full disk, a kill or a power cut. A write that fails
// is never followed by the rename that would have put its remains in the place of
// something good.
package whole

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// Write puts a file in the place of the one of its name, if there is one, when all of
// it is on the disk. A symbolic link stays, and what it leads to is written.
func Write(path string, b []byte, mode fs.FileMode) error {
	if i, err := os.Lstat(path); err == nil && i.Mode()&fs.ModeSymlink != 0 {
		if path, err = filepath.EvalSymlinks(path); err != nil {
			return err
		}
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("writing %s, which is as it was: %w", path, err)
	}
	return Replace(f.Name(), path)
}

// MostLog is how large a log may be when it is opened, in bytes.
const MostLog = 8 << 20

// Log opens a log for appending. One that has become large is set aside first, as NAME.earlier, in
// the place of the one before that.
func Log(path string) (*os.File, error) {
	if i, err := os.Stat(path); err == nil && i.Size() > MostLog {
		if err := os.Rename(path, path+".earlier"); err != nil {
			return nil, err
		}
	}
	return os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
}

// Cut sets a log aside that has become large while this process writes to it: what it writes from
// then on is in a new one of that name. What is no file, or has no name any more, is left alone.
func Cut(log *os.File) error {
	is, err := log.Stat()
	if err != nil || !is.Mode().IsRegular() || is.Size() <= MostLog {
		return err
	}
	path, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", log.Fd()))
	if err != nil {
		return err
	}
	if named, err := os.Lstat(path); err != nil || !os.SameFile(named, is) {
		return nil
	}
	next, err := Log(path)
	if err != nil {
		return err
	}
	return errors.Join(syscall.Dup3(int(next.Fd()), int(log.Fd()), 0), next.Close())
}

// Named lists the files of a folder whose names end so, in order. The folder may be called
// whatever it likes: no character of its name is a pattern. One that is not there has none.
func Named(folder, ending string) []string {
	es, err := os.ReadDir(cmp.Or(folder, "."))
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range es {
		if strings.HasSuffix(e.Name(), ending) {
			out = append(out, filepath.Join(folder, e.Name()))
		}
	}
	return out
}

// Replace puts a file that is whole, and synced, in the place of another one, and has
// the folder remember that.
func Replace(from, path string) error {
	if err := os.Rename(from, path); err != nil {
		return err
	}
	d, err := os.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// most is how long a file may be that is read whole, in bytes.
const most = 256 << 20

// ErrIrregular is a file that is none that holds something: a pipe, a device, a socket.
var ErrIrregular = errors.New("it is no regular file")

// ErrTooLong is a file that is longer than any that is read whole.
var ErrTooLong = fmt.Errorf("it is longer than %d MiB", most>>20)

// Open opens a file that holds something, and nothing else: opening a pipe would wait for somebody
// who writes into it.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	i, err := f.Stat()
	if err == nil && !i.Mode().IsRegular() {
		err = ErrIrregular
	}
	if err != nil {
		f.Close()
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return f, nil
}

// Read reads a file that holds something.
func Read(path string) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	i, err := f.Stat()
	if err == nil && i.Size() > most {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrTooLong}
	}
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(f, most)) // what the kernel makes up has no size
}

// Files are those below a folder, as Open and Read have them.
type Files string

// Open opens one by its path within the folder.
func (d Files) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	return Open(filepath.Join(string(d), name))
}

// ReadFile reads one by its path within the folder.
func (d Files) ReadFile(name string) ([]byte, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	return Read(filepath.Join(string(d), name))
}

// part is how the name of a file ends that is on its way to a name.
const part = ".part"

// Partial is a file on its way to a name, NAME.part, which is held locked while it is open. What
// others who were cut off have left beside it, on its way to a name with the same ending, and
// nobody holds any more, is taken away.
func Partial(path, ending string) (*os.File, error) {
	for _, old := range Named(filepath.Dir(path), ending+part) {
		if f, err := os.OpenFile(old, os.O_RDWR, 0); err == nil {
			if syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) == nil {
				os.Remove(old)
			}
			f.Close()
		}
	}
	for range 10 {
		f, err := os.OpenFile(path+part, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return nil, err
		}
		if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
			f.Close()
			return nil, fmt.Errorf("%s is being written by somebody else: %w", path, err)
		}
		// Somebody may have taken it away in between, as one that was left.
		err = f.Truncate(0)
		if err != nil {
			f.Close()
			return nil, err
		}
		here, err := os.Stat(path + part)
		mine, merr := f.Stat()
		if err == nil && merr == nil && os.SameFile(here, mine) {
			return f, nil
		}
		f.Close()
	}
	return nil, fmt.Errorf("%s is taken away again and again while it is written", path+part)
}

// Unnamed is a file that nobody else can open by a name, and that is gone when this process
// is: what lies in it is in plain.
func Unnamed(folder string) (*os.File, error) {
	f, err := os.CreateTemp(folder, ".plain-")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
