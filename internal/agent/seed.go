package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"go.etcd.io/etcd/etcdutl/v3/snapshot"
	"go.uber.org/zap"

	"verbund/internal/machine/protocol"
)

// seeding is the folder, in that of the datastore, in which what it is to hold is made: on the
// same file system, so that it takes its place at once.
const seeding = ".seed"

// seed makes a member's data from a snapshot, in the place of what there was. Interrupted, it
// leaves the old data or the new one, and is done again.
func (a *agent) seed(ctx context.Context, q *protocol.SeedRequest) (bool, error) {
	if err := a.stopped(ctx, q.Unit); err != nil {
		return false, err
	}
	dir := a.sys.Path(q.Folder)
	tmp := filepath.Join(dir, seeding)
	if err := errors.Join(os.RemoveAll(tmp), os.MkdirAll(tmp, 0o700)); err != nil {
		return false, code(err)
	}
	defer os.RemoveAll(tmp)
	file := filepath.Join(tmp, "snapshot.db")
	if err := a.join(file, q.Parts); err != nil {
		return false, code(err)
	}
	var initial []string
	for _, n := range slices.Sorted(maps.Keys(q.Members)) {
		initial = append(initial, n+"="+q.Members[n])
	}
	made := filepath.Join(tmp, "data")
	err := snapshot.NewV3(zap.NewNop()).Restore(snapshot.RestoreConfig{SnapshotPath: file, Name: q.Name, OutputDataDir: made, PeerURLs: []string{q.Members[q.Name]},
		InitialCluster: strings.Join(initial, ","), InitialClusterToken: q.Token, RevisionBump: q.Bump, MarkCompacted: q.Bump > 0})
	if err != nil {
		return false, code(fmt.Errorf("making the member's data from the snapshot: %w", err))
	}
	if err := owned(dir, made); err != nil {
		return false, err
	}
	was, is := filepath.Join(dir, "member"), filepath.Join(made, "member")
	if err := errors.Join(os.RemoveAll(was), os.Rename(is, was), synced(dir)); err != nil {
		return false, code(err)
	}
	for _, p := range q.Parts {
		if err := os.Remove(a.sys.Path(p)); err != nil {
			return false, err
		}
	}
	a.sys.Note("the datastore's member %s was made anew from a snapshot", q.Name)
	return true, nil
}

// join puts the parts of a file together.
func (a *agent) join(file string, parts []string) error {
	out, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	for _, p := range parts {
		in, err := os.Open(a.sys.Path(p))
		if err != nil {
			return err
		}
		_, err = io.Copy(out, in)
		in.Close()
		if err != nil {
			return err
		}
	}
	return errors.Join(out.Sync(), out.Close())
}

// owned gives what was made to whoever has the folder.
func owned(of, made string) error {
	i, err := os.Stat(of)
	if err != nil {
		return err
	}
	st, ok := i.Sys().(*syscall.Stat_t)
	if !ok || int(st.Uid) == os.Geteuid() {
		return nil
	}
	return filepath.WalkDir(made, func(p string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(p, int(st.Uid), int(st.Gid))
	})
}

// synced makes sure that what was renamed in a folder is there after a crash.
func synced(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
