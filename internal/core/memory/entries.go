package memory

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
)

// Entries are a State taken apart: each value as JSON, by its key, TABLE/NAME. What a change of
// a State touches shows in few of them.
type Entries map[string][]byte

// cluster is the table of what there is once.
const cluster = "cluster"

// part is one of the parts of which a State is made.
type part struct {
	table string // in which it lies
	name  string // of one that lies there alone
	means string // what an entry of it is, for a person
	make  func(*State)
	put   func(s *State, name string, v []byte) error
	take  func(s *State, entry func(name string, v any) error) error
}

// many is a part with a value for each name.
func many[T any](table, means string, of func(*State) *map[string]T) part {
	return part{table: table, means: means,
		make: func(s *State) { *of(s) = map[string]T{} },
		put: func(s *State, name string, v []byte) error {
			var x T
			err := json.Unmarshal(v, &x)
			(*of(s))[name] = x
			return err
		},
		take: func(s *State, entry func(string, any) error) error {
			for name, x := range *of(s) {
				if err := entry(name, x); err != nil {
					return err
				}
			}
			return nil
		}}
}

// one is a part that there is once, or not: there says whether it is.
func one[T any](name string, of func(*State) *T, there func(T) bool) part {
	return part{table: cluster, name: name, means: "what holds of the whole cluster", make: func(*State) {},
		put: func(s *State, _ string, v []byte) error { return json.Unmarshal(v, of(s)) },
		take: func(s *State, entry func(string, any) error) error {
			if x := *of(s); there(x) {
				return entry(name, x)
			}
			return nil
		}}
}

func set[T any](p *T) bool { return p != nil }

// parts are all of which a State is made.
var parts = []part{
	one("facts", func(s *State) **topology.Facts { return &s.Facts }, set),
	one("founders", func(s *State) *[]string { return &s.Founders }, func(f []string) bool { return len(f) > 0 }),
	one("clearing", func(s *State) *bool { return &s.Clearing }, func(b bool) bool { return b }),
	one("held", func(s *State) **Held { return &s.Held }, set),
	one("restoring", func(s *State) **Restoring { return &s.Restoring }, set),
	many("machines", "what is known of machine", func(s *State) *map[string]Machine { return &s.Machines }),
	many("members", "with whom the datastore's member was born on", func(s *State) *map[string][]string { return &s.Members }),
	many("peers", "where the others were when the member was born on", func(s *State) *map[string]map[string]netip.Addr { return &s.Peers }),
	many("resting", "that the balancer leaves out", func(s *State) *map[string]bool { return &s.Resting }),
	many("counts", "the count of pool", func(s *State) *map[string]int { return &s.Counts }),
	many("numbers", "the numbers of the machines of", func(s *State) *map[string][]int { return &s.Numbers }),
	many("asked", "that somebody wants renewed", func(s *State) *map[string]bool { return &s.Asked }),
	many("exchanged", "that somebody wants another machine for", func(s *State) *map[string]string { return &s.Exchanges }),
	many("kubeconfigs", "that access was merged into", func(s *State) *map[string]time.Time { return &s.Kubeconfigs }),
	many("given", "the access with serial", func(s *State) *map[string]Given { return &s.Givens }),
	many("replaced", "the replacement of", func(s *State) *map[string]trust.Replacement { return &s.Replacements }),
	many("waves", "the wave that is open of", func(s *State) *map[string]rollout.Open { return &s.Waves }),
	many("spared", "that the roll-out goes on without", func(s *State) *map[string]Spared { return &s.Spared }),
	many("before", "what ran before the roll-out of", func(s *State) *map[string]string { return &s.Before }),
	many("kept", "what is remembered of backup", func(s *State) *map[string]BackupNote { return &s.Backups }),
}

// Tables are the names of all tables, and what an entry of each is, for a person.
func Tables() map[string]string {
	out := map[string]string{}
	for _, p := range parts {
		out[p.table] = p.means
	}
	return out
}

// Unreadable is an entry that is none of a State.
type Unreadable struct {
	Key string
	Err error
}

func (u *Unreadable) Error() string { return fmt.Sprintf("entry %s: %v", u.Key, u.Err) }

func (u *Unreadable) Unwrap() error { return u.Err }

// Of puts a State together. The error is an *Unreadable.
func Of(es Entries) (*State, error) {
	s := New()
	for _, key := range slices.Sorted(maps.Keys(es)) {
		table, name, _ := strings.Cut(key, "/")
		i := slices.IndexFunc(parts, func(p part) bool { return p.table == table && (p.name == "" || p.name == name) })
		if i < 0 {
			return nil, &Unreadable{key, fmt.Errorf("there is nothing of this name in what is remembered")}
		}
		if err := parts[i].put(s, name, es[key]); err != nil {
			return nil, &Unreadable{key, err}
		}
	}
	return s, nil
}

// Entries takes a State apart.
func (s *State) Entries() (Entries, error) {
	out := Entries{}
	for _, p := range parts {
		err := p.take(s, func(name string, v any) error {
			b, err := json.Marshal(v)
			out[p.table+"/"+name] = b
			return err
		})
		if err != nil {
			return nil, fmt.Errorf("what is remembered in table %s: %w", p.table, err)
		}
	}
	return out, nil
}
