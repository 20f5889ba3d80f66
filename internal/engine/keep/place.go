package keep

import (
	"context"
	"fmt"
	"maps"
	"net"
	"slices"
	"time"

	"verbund/internal/engine/session"
	"verbund/internal/store"
)

// placePatience is how long the cluster's own datastore may take to say who its members are.
const placePatience = 10 * time.Second

// MayLie says whether what is remembered of a cluster may lie in an etcd: not in the datastore of
// the cluster itself, with which it would be lost when it is needed most. member is the one of
// that etcd that has answered.
func MayLie(ctx context.Context, s *session.Session, p *store.Place, member uint64) error {
	st, err := s.Store.Read()
	if err != nil {
		return err
	}
	for _, at := range p.Etcd {
		host, _, err := net.SplitHostPort(at)
		if err != nil {
			return err
		}
		for _, name := range slices.Sorted(maps.Keys(st.Machines)) {
			if st.Machines[name].Address.String() == host {
				return fmt.Errorf("%s is machine %s of cluster %s itself: what is remembered of a cluster cannot lie on its own machines, with which it would be lost", at, name, s.Decl.Name)
			}
		}
	}
	if st.Facts == nil {
		return nil // it has no datastore yet
	}
	c, err := s.Topology()
	if err != nil {
		return err
	}
	d, err := s.Datastore(c)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, placePatience)
	defer cancel()
	ms, err := d.Recalled(ctx, s.Peers(c))
	if err != nil {
		return fmt.Errorf("it cannot be said whether %s is the datastore of cluster %s itself, which does not answer (verbund status says why): %w", p, s.Decl.Name, err)
	}
	for _, m := range ms {
		if m.ID == member {
			return fmt.Errorf("%s is the datastore of cluster %s itself, by its member %s (%x): what is remembered of a cluster cannot lie in it, with which it would be lost", p, s.Decl.Name, m.Name, m.ID)
		}
	}
	return nil
}
