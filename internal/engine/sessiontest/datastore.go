package sessiontest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"

	"verbund/internal/datastore"
)

// Datastore is a datastore in the hands of a test. It keeps its members as etcd does: it
// takes no second learner, and none away with which the quorum would go.
type Datastore struct {
	mu      sync.Mutex
	Has     []datastore.Member
	Inside  []datastore.Condition
	Trouble error  // what everything is answered with, if it is set
	Asked   func() // after each question who the members are
	next    uint64
}

// Health is that of the member at an endpoint: the fake knows only whether all are well.
func (d *Datastore) Health(context.Context, string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.Trouble
}

// Members lists them.
func (d *Datastore) Members(context.Context, map[string]datastore.Member) ([]datastore.Member, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.Asked != nil {
		defer d.Asked()
	}
	return slices.Clone(d.Has), d.Trouble
}

// Recalled lists them, too, from one member's memory.
func (d *Datastore) Recalled(context.Context, map[string]datastore.Member) ([]datastore.Member, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.Has), nil
}

// AddLearner takes a member in that has no vote yet.
func (d *Datastore) AddLearner(_ context.Context, peer string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.Trouble != nil {
		return d.Trouble
	}
	for _, m := range d.Has {
		if m.Learner {
			return errors.New("etcdserver: too many learner members in cluster")
		}
	}
	d.next++
	d.Has = append(d.Has, datastore.Member{ID: 1000 + d.next, Peer: peer, Learner: true})
	return nil
}

// Promote gives a learner its vote.
func (d *Datastore) Promote(_ context.Context, peer string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for i := range d.Has {
		if d.Has[i].Peer == peer {
			d.Has[i].Learner, d.Has[i].Healthy = false, true
			return d.Trouble
		}
	}
	return fmt.Errorf("there is no member at %s", peer)
}

// Remove takes a member out.
func (d *Datastore) Remove(_ context.Context, id uint64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.Trouble != nil {
		return d.Trouble
	}
	voters, well := 0, 0
	for _, m := range d.Has {
		if m.ID != id && !m.Learner {
			if voters++; m.Healthy {
				well++
			}
		}
	}
	if well < voters/2+1 {
		return errors.New("etcdserver: re-configuration failed due to not enough started members")
	}
	d.Has = slices.DeleteFunc(d.Has, func(m datastore.Member) bool { return m.ID == id })
	return nil
}

// Move tells the others where a member is now.
func (d *Datastore) Move(_ context.Context, id uint64, peer string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for i := range d.Has {
		if d.Has[i].ID == id {
			d.Has[i].Peer = peer
			return d.Trouble
		}
	}
	return fmt.Errorf("there is no member %x", id)
}

// Snapshot has none.
func (d *Datastore) Snapshot(context.Context, func(int64, io.Reader) error) error {
	return errors.New("this datastore has no snapshot")
}

// Heads has none.
func (d *Datastore) Heads(context.Context, string, string, int) ([]string, error) { return nil, nil }

// Conditions are those of the members that it has, as the test set them.
func (d *Datastore) Conditions(context.Context) ([]datastore.Condition, map[uint64]error, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.Inside), nil, d.Trouble
}

// Objects are none.
func (d *Datastore) Objects(context.Context) (*datastore.Contents, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return &datastore.Contents{Keys: map[string]int64{}}, d.Trouble
}

// Elected knows of no election.
func (d *Datastore) Elected(context.Context, string) (string, error) { return "", nil }
