package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// Holder is who holds the lock.
type Holder struct {
	Process int       `json:"process"`
	Command string    `json:"command"`
	Since   time.Time `json:"since"`
	// Host and Who are the computer and the person, of a memory that others share.
	Host string `json:"host,omitempty"`
	Who  string `json:"who,omitempty"`
	Name string `json:"name,omitempty"` // of this one time, random
}

// By is which process it is, and whose.
func (h Holder) By() string {
	if h.Host == "" {
		return fmt.Sprintf("process %d", h.Process)
	}
	return fmt.Sprintf("process %d of %s on %s", h.Process, h.Who, h.Host)
}

// String says what holds it.
func (h Holder) String() string {
	return fmt.Sprintf("verbund %s, %s, since %s", h.Command, h.By(), h.Since.Local().Format("15:04:05"))
}

// Locked is the refusal of a lock that another run holds.
type Locked struct{ Holder Holder }

func (l *Locked) Error() string {
	if l.Holder.Process == 0 {
		return "another run holds the lock of this cluster; wait for it to end"
	}
	dies := ""
	if l.Holder.Host != "" {
		dies = fmt.Sprintf(" (if that computer has died, the lock frees itself within %s)", leaseTime)
	}
	return fmt.Sprintf("another run holds the lock of this cluster: %s wait for it to end, or look on with status and history%s", l.Holder.String()+";", dies)
}

// Lock takes the cluster's lock. The kernel frees it when the holder dies.
func (s *Store) Lock(command string) (release func(), err error) { return s.held(lockCluster, command) }

// Practise takes the lock of those who disturb the cluster on purpose. It is one of its own:
// what they disturb is put right by runs, which take the cluster's lock meanwhile.
func (s *Store) Practise(command string) (release func(), err error) {
	return s.held(lockDrill, command)
}

// The locks of a cluster.
const (
	lockCluster = "lock"
	lockDrill   = "drill.lock"
)

func (s *Store) held(lock, command string) (release func(), err error) {
	if err := s.folder(); err != nil {
		return nil, err
	}
	return s.base.lock(lock, command)
}

// Holds says who holds the lock; nil when nobody does.
func (s *Store) Holds() (*Holder, error) { return s.base.holds() }

func (d *inFolder) lock(file, command string) (release func(), err error) {
	f, err := os.OpenFile(filepath.Join(d.dir, file), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("lock: %w", err)
	}
	if err := flock(f, syscall.LOCK_EX); err != nil {
		defer f.Close()
		var h Holder
		json.NewDecoder(f).Decode(&h)
		if errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, &Locked{h}
		}
		return nil, fmt.Errorf("lock: %w", err)
	}
	b, err := json.Marshal(Holder{Process: os.Getpid(), Command: command, Since: time.Now()})
	if err == nil {
		err = errors.Join(f.Truncate(0), func() error { _, e := f.WriteAt(b, 0); return e }())
	}
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("lock: %w", err)
	}
	return func() { f.Truncate(0); f.Close() }, nil
}

// lookTime is how long somebody who only looks whether the lock is held may
// keep it from being taken.
const lookTime = 200 * time.Millisecond

// flock takes the lock without waiting for whoever holds it, but for those who
// only look.
func flock(f *os.File, how int) error {
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for began := time.Now(); ; <-tick.C {
		err := syscall.Flock(int(f.Fd()), how|syscall.LOCK_NB)
		if err == nil || !errors.Is(err, syscall.EWOULDBLOCK) && !errors.Is(err, syscall.EINTR) || time.Since(began) > lookTime {
			return err
		}
	}
}

func (d *inFolder) holds() (*Holder, error) {
	f, err := os.Open(filepath.Join(d.dir, lockCluster))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("lock: %w", err)
	}
	defer f.Close()
	err = syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB)
	if err == nil || !errors.Is(err, syscall.EWOULDBLOCK) {
		return nil, err
	}
	h := &Holder{}
	json.NewDecoder(f).Decode(h) // it may just be writing that down
	return h, nil
}
