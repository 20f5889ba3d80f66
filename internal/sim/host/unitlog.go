package host

import (
	"errors"
	"os"
	"sync"
)

// mostLog is how large a unit's log may be, in bytes. A larger one is set aside, as the journal of
// a system does; the one before that is let go.
const mostLog = 4 << 20

// unitLog takes what a unit writes, from several goroutines.
type unitLog struct {
	path string

	mu   sync.Mutex
	f    *os.File
	size int64
}

func openLog(path string) (*unitLog, error) {
	l := &unitLog{path: path}
	return l, l.open()
}

func (l *unitLog) open() (err error) {
	if l.f, err = os.OpenFile(l.path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644); err != nil {
		return err
	}
	i, err := l.f.Stat()
	if err != nil {
		return errors.Join(err, l.f.Close())
	}
	l.size = i.Size()
	return nil
}

// Write appends, and sets aside what has become large. Where that cannot be, it goes on in it.
func (l *unitLog) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if was := l.f; l.size > mostLog && os.Rename(l.path, l.path+".1") == nil {
		if err := l.open(); err != nil {
			return 0, err
		}
		was.Close()
	}
	n, err := l.f.Write(b)
	l.size += int64(n)
	return n, err
}

// Close closes it.
func (l *unitLog) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.f.Close()
}
