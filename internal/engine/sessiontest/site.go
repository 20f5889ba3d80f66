package sessiontest

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"sync"

	"verbund/internal/site"
)

// Site is a site in the hands of a test. It keeps what was ordered and gives back what
// was released, as any other; the test can have it fail.
type Site struct {
	mu   sync.Mutex
	Has  site.Inventory
	down error
	// Look, Giving and Getting come before an inventory, a release and an order, Look and
	// Getting one at a time; a machine is not given back, and none ordered, when they
	// return an error.
	Look    func(*site.Inventory)
	Giving  func(ctx context.Context, machine string) error
	Getting func(machine string, o site.Order) error
	// Consoles by machine.
	Consoles map[string]string
}

// Fail has the site answer everything with an error from now on, or with nil be well
// again.
func (s *Site) Fail(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.down = err
}

// Inventory lists what it has.
func (s *Site) Inventory(context.Context) (*site.Inventory, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.down != nil {
		return nil, s.down
	}
	if s.Look != nil {
		s.Look(&s.Has)
	}
	inv := s.Has
	inv.Machines = slices.Clone(s.Has.Machines)
	return &inv, nil
}

// Order gets a machine, or the one that there is.
func (s *Site) Order(_ context.Context, name string, o site.Order) (*site.Machine, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.down != nil {
		return nil, s.down
	}
	if s.Getting != nil {
		if err := s.Getting(name, o); err != nil {
			return nil, err
		}
	}
	i := s.at(name)
	if i < 0 {
		s.Has.Machines = append(s.Has.Machines, site.Machine{Name: name, Cluster: o.Cluster, Zone: o.Zone, Size: o.Size, Address: o.Address, Power: site.PowerOn})
		i = len(s.Has.Machines) - 1
	}
	m := s.Has.Machines[i]
	return &m, nil
}

// Release gives a machine back.
func (s *Site) Release(ctx context.Context, name string) error {
	if s.Giving != nil {
		if err := s.Giving(ctx, name); err != nil {
			return err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.down != nil {
		return s.down
	}
	s.Has.Machines = slices.DeleteFunc(s.Has.Machines, func(m site.Machine) bool { return m.Name == name })
	return nil
}

// Power switches a machine.
func (s *Site) Power(_ context.Context, name, do string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := s.at(name)
	switch {
	case s.down != nil:
		return s.down
	case i < 0:
		return Refusal(http.StatusNotFound)
	case do == "off" || do == "cut":
		s.Has.Machines[i].Power = site.PowerOff
	default:
		s.Has.Machines[i].Power = site.PowerOn
	}
	return nil
}

// Console is what the test says that a machine wrote.
func (s *Site) Console(_ context.Context, name string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.down != nil {
		return "", s.down
	}
	t, ok := s.Consoles[name]
	if !ok {
		return "", fmt.Errorf("console of %s: %w", name, Refusal(http.StatusNotFound))
	}
	return t, nil
}

// Here says that it is.
func (s *Site) Here() bool { return true }

// Secrets are none.
func (s *Site) Secrets() [][]byte { return nil }

// Machines are the names of those that it has, in order.
func (s *Site) Machines() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []string
	for _, m := range s.Has.Machines {
		out = append(out, m.Name)
	}
	slices.Sort(out)
	return out
}

func (s *Site) at(name string) int {
	return slices.IndexFunc(s.Has.Machines, func(m site.Machine) bool { return m.Name == name })
}

// Refusal is what a site says that will not do something.
func Refusal(status int) *site.Refused {
	return &site.Refused{What: "the site will not", Todo: "ask nicely", Status: status}
}
