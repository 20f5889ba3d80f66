package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"time"

	"verbund/internal/backup"
	"verbund/internal/core/declare"
	"verbund/internal/core/memory"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/session"
)

// On asks a machine something.
type On func(ctx context.Context, machine string, do func(session.Machine) error) error

// Gathered is what lies on control-plane machines, and was taken there.
type Gathered struct {
	Got  []Found
	Left int // that lie there, and are here already, or would not stay here
}

// lies is a backup on a machine.
type lies struct {
	machine, file string
	taken         time.Time
}

// Gather fetches what control-plane machines have taken by themselves and is not here: all of
// it, or where it is declared what stays, what would stay beside what is here. Each is read to
// its end before it counts. What can be had is had; the error says what could not.
func Gather(ctx context.Context, s *session.Session, c *topology.Cluster, on On) (*Gathered, error) {
	if _, err := s.Store.BackupKey(); err != nil { // which makes the folder
		return nil, err
	}
	var all []lies
	var errs []error
	for _, m := range c.With(versions.Keeper) {
		if err := on(ctx, m.Name, func(x session.Machine) error {
			fs, err := x.List(ctx, nodeconf.KeeperFolder)
			for _, f := range fs {
				if t, ok := backup.TakenAt(filepath.Base(f.Path)); ok {
					all = append(all, lies{m.Name, f.Path, t})
				}
			}
			return err
		}); err != nil {
			errs = append(errs, fmt.Errorf("what lies on %s is not known: %w", m.Name, err))
		}
	}
	out := &Gathered{}
	wanted, err := wanting(s, all)
	if err != nil {
		return nil, err
	}
	out.Left = len(all) - len(wanted)
	for _, l := range wanted {
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		var f *Found
		if err := on(ctx, l.machine, func(x session.Machine) (err error) {
			f, err = fetched(ctx, s, x, l)
			return err
		}); err != nil {
			errs = append(errs, fmt.Errorf("%s of %s: %w", filepath.Base(l.file), l.machine, err))
			continue
		}
		out.Got = append(out.Got, *f)
	}
	return out, errors.Join(errs...)
}

// wanting are those that are not here and would stay here, the oldest first.
func wanting(s *session.Session, there []lies) ([]lies, error) {
	here, err := All(s)
	if err != nil {
		return nil, err
	}
	keep := declare.KeepFew{Last: len(here) + len(there)}
	if k := s.Decl.Backup.Keep; k != nil {
		keep = *k
	}
	has := map[string]bool{}
	var taken []time.Time
	for _, f := range here {
		if has[f.Name] = true; f.Trouble == nil && f.Manifest.Why == AsDeclared {
			taken = append(taken, f.Manifest.Taken)
		}
	}
	there = slices.DeleteFunc(slices.Clone(there), func(l lies) bool { return has[filepath.Base(l.file)] })
	own := len(taken)
	for _, l := range there {
		taken = append(taken, l.taken)
	}
	stay := keep.Stay(taken)[own:]
	var out []lies
	for i, l := range there {
		if stay[i] {
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b lies) int { return a.taken.Compare(b.taken) })
	return out, nil
}

// fetched fetches one from its machine, piece by piece, and reads it to its end.
func fetched(ctx context.Context, s *session.Session, x session.Machine, l lies) (*Found, error) {
	ids, trouble, err := opens(s)
	if err != nil {
		return nil, err
	}
	file, err := s.Store.SaveBackup(filepath.Base(l.file), func(w io.Writer) error {
		for at := int64(0); ; {
			b, err := x.ReadFrom(ctx, l.file, at)
			if err != nil || len(b) == 0 {
				return err
			}
			if _, err := w.Write(b); err != nil {
				return err
			}
			at += int64(len(b))
		}
	}, func(r io.Reader) error {
		b, err := backup.Open(r, ids...)
		if err != nil {
			return why(err, trouble)
		}
		if b.Manifest.Cluster != s.Decl.Name {
			return fmt.Errorf("%w, %s", ErrOther, b.Manifest.Cluster)
		}
		return b.Verify(io.Discard)
	})
	if err != nil {
		return nil, noRoom(s, err)
	}
	f, err := Find(s, filepath.Base(file))
	if err != nil {
		return nil, err
	}
	f.Note = memory.BackupNote{Verified: time.Now().UTC()}
	return f, s.Remember(func(st *memory.State) { st.Backups[f.Name] = f.Note })
}
