package act

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	"verbund/internal/backup"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/engine/keep"
	"verbund/internal/engine/session"
	"verbund/internal/machine/protocol"
)

// halt stops what serves from a datastore that gives way, in its own time, and on a machine that
// is not declared any more the datastore's member, too.
func (r *Run) halt(ctx context.Context, machine string) error {
	_, declared := r.Cluster.Machine(machine)
	return r.With(ctx, machine, func(c session.Machine) error { return Halt(ctx, c, !declared) })
}

// Halt stops on a machine what serves from the datastore, as far as it is there, and after it
// the datastore's member.
func Halt(ctx context.Context, c session.Machine, member bool) error {
	us, err := c.Units(ctx)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, u := range us {
		there[u.Name] = true
	}
	units := slices.Concat(nodeconf.UnitsOf(versions.API), nodeconf.UnitsOf(versions.Acting), nodeconf.UnitsOf(versions.Approver), nodeconf.UnitsOf(versions.Keeper))
	if member {
		units = slices.Concat(nodeconf.UnitsOf(versions.Member), units)
	}
	slices.Reverse(units)
	return c.Do(ctx, protocol.UnitsStop, slices.DeleteFunc(units, func(u string) bool { return !there[u] })...)
}

// seeds is what all members of a datastore are made from.
type seeds struct {
	snap    *keep.Plain
	id      string
	members map[string]string
}

// seedsOf reads the backup to its end: one that is not whole founds nothing.
func (r *Run) seedsOf(x *plan.Restores) (*seeds, error) {
	b, end, err := keep.Open(r.Session, x.Backup+backup.Suffix)
	if err != nil {
		return nil, err
	}
	defer end.Close()
	out := &seeds{id: x.ID, members: map[string]string{}}
	if out.snap, err = keep.Snapshot(r.Session, b); err != nil {
		return nil, fmt.Errorf("backup %s: %w", x.Backup, err)
	}
	for _, m := range r.Cluster.With(versions.Member) {
		out.members[m.Name] = nodeconf.Peer(m)
	}
	return out, nil
}

// partBytes is how much of a snapshot is sent at a time.
const partBytes = 4 << 20

// bump is what is added to a snapshot's revision, as etcd's own documentation advises: more
// than was written since by any cluster.
const bump = 1_000_000_000

// seed sends the snapshot to a machine, and has its member made from it.
func (r *Run) seed(ctx context.Context, m topology.Machine, x *seeds) error {
	return r.With(ctx, m.Name, func(c session.Machine) error {
		q := protocol.SeedRequest{Unit: nodeconf.UnitEtcd, Folder: nodeconf.DatastoreDir, Name: m.Name, Members: x.members, Token: x.id, Bump: bump}
		// Each reads from its own place in the one file.
		from := io.NewSectionReader(x.snap, 0, x.snap.Size)
		buf := make([]byte, partBytes)
		for i := 0; ; i++ {
			n, err := io.ReadFull(from, buf)
			if n > 0 {
				part := fmt.Sprintf("%ssnapshot-%04d", nodeconf.Incoming, i)
				if _, err := c.Put(ctx, []protocol.File{{Path: part, Mode: 0o600, Content: buf[:n]}}, nil); err != nil {
					return fmt.Errorf("sending the snapshot: %w", err)
				}
				q.Parts = append(q.Parts, part)
			}
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				break
			}
			if err != nil {
				return err
			}
		}
		// Should this be cut off right after it, the member runs when it is done again.
		if err := c.Do(ctx, protocol.UnitsStop, nodeconf.UnitEtcd); err != nil {
			return err
		}
		return c.Seed(ctx, q)
	})
}
