package memory

import (
	"bytes"
	"encoding/json"
	"errors"
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
	drop  func(s *State, name string)
	take  func(s *State, entry func(name string, v any) error) error
	copy  func(from, to *State)
}

// many is a part with a value for each name; copied says how one is copied.
func many[T any](table, means string, of func(*State) *map[string]T, copied func(T) T) part {
	return part{table: table, means: means,
		make: func(s *State) { *of(s) = map[string]T{} },
		put: func(s *State, name string, v []byte) error {
			var x T
			err := json.Unmarshal(v, &x)
			(*of(s))[name] = x
			return err
		},
		drop: func(s *State, name string) { delete(*of(s), name) },
		take: func(s *State, entry func(string, any) error) error {
			for name, x := range *of(s) {
				if err := entry(name, x); err != nil {
					return err
				}
			}
			return nil
		},
		copy: func(from, to *State) {
			m := make(map[string]T, len(*of(from)))
			for name, x := range *of(from) {
				m[name] = copied(x)
			}
			*of(to) = m
		}}
}

// one is a part that there is once, or not: there says whether it is.
func one[T any](name string, of func(*State) *T, there func(T) bool, copied func(T) T) part {
	return part{table: cluster, name: name, means: "what holds of the whole cluster", make: func(*State) {},
		put: func(s *State, _ string, v []byte) error { return json.Unmarshal(v, of(s)) },
		drop: func(s *State, _ string) {
			var none T
			*of(s) = none
		},
		take: func(s *State, entry func(string, any) error) error {
			if x := *of(s); there(x) {
				return entry(name, x)
			}
			return nil
		},
		copy: func(from, to *State) { *of(to) = copied(*of(from)) }}
}

func set[T any](p *T) bool { return p != nil }

// How values are copied: such as hold nothing that could be changed in place, and others.
func plain[T any](x T) T { return x }

func pointed[T any](p *T) *T {
	if p == nil {
		return nil
	}
	x := *p
	return &x
}

func given(g Given) Given {
	g.Groups = slices.Clone(g.Groups)
	return g
}

func wave(o rollout.Open) rollout.Open {
	o.Machines = slices.Clone(o.Machines)
	return o
}

func note(n BackupNote) BackupNote {
	n.Copies = slices.Clone(n.Copies)
	return n
}

// parts are all of which a State is made.
var parts = []part{
	one("facts", func(s *State) **topology.Facts { return &s.Facts }, set, pointed),
	one("founders", func(s *State) *[]string { return &s.Founders }, func(f []string) bool { return len(f) > 0 }, slices.Clone),
	one("clearing", func(s *State) *bool { return &s.Clearing }, func(b bool) bool { return b }, plain),
	one("held", func(s *State) **Held { return &s.Held }, set, pointed),
	one("restoring", func(s *State) **Restoring { return &s.Restoring }, set, pointed),
	many("machines", "what is known of machine", func(s *State) *map[string]Machine { return &s.Machines }, plain),
	many("members", "with whom the datastore's member was born on", func(s *State) *map[string][]string { return &s.Members }, slices.Clone),
	many("peers", "where the others were when the member was born on", func(s *State) *map[string]map[string]netip.Addr { return &s.Peers }, maps.Clone),
	many("resting", "that the balancer leaves out", func(s *State) *map[string]bool { return &s.Resting }, plain),
	many("counts", "the count of pool", func(s *State) *map[string]int { return &s.Counts }, plain),
	many("numbers", "the numbers of the machines of", func(s *State) *map[string][]int { return &s.Numbers }, slices.Clone),
	many("asked", "that somebody wants renewed", func(s *State) *map[string]bool { return &s.Asked }, plain),
	many("exchanged", "that somebody wants another machine for", func(s *State) *map[string]string { return &s.Exchanges }, plain),
	many("kubeconfigs", "that access was merged into", func(s *State) *map[string]time.Time { return &s.Kubeconfigs }, plain),
	many("given", "the access with serial", func(s *State) *map[string]Given { return &s.Givens }, given),
	many("replaced", "the replacement of", func(s *State) *map[string]trust.Replacement { return &s.Replacements }, plain),
	many("waves", "the wave that is open of", func(s *State) *map[string]rollout.Open { return &s.Waves }, wave),
	many("spared", "that the roll-out goes on without", func(s *State) *map[string]Spared { return &s.Spared }, plain),
	many("before", "what ran before the roll-out of", func(s *State) *map[string]string { return &s.Before }, plain),
	many("kept", "what is remembered of backup", func(s *State) *map[string]BackupNote { return &s.Backups }, note),
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
	return s, s.Take(es)
}

// Take puts entries in the place of those that a State had; one of nil is gone. The error is an
// *Unreadable, and some may be in place then.
func (s *State) Take(es Entries) error {
	for _, key := range slices.Sorted(maps.Keys(es)) {
		table, name, _ := strings.Cut(key, "/")
		i := slices.IndexFunc(parts, func(p part) bool { return p.table == table && (p.name == "" || p.name == name) })
		if i < 0 {
			return &Unreadable{key, errors.New("there is nothing of this name in what is remembered")}
		}
		if es[key] == nil {
			parts[i].drop(s, name)
		} else if err := parts[i].put(s, name, es[key]); err != nil {
			return &Unreadable{key, err}
		}
	}
	return nil
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

// Changes are those entries that differ from what was; such as are gone are nil.
func (is Entries) Changes(was Entries) Entries {
	out := Entries{}
	for key, v := range is {
		if old, there := was[key]; !there || !bytes.Equal(old, v) {
			out[key] = v
		}
	}
	for key := range was {
		if _, there := is[key]; !there {
			out[key] = nil
		}
	}
	return out
}

// Clone is a State that has nothing in common with another one.
func (s *State) Clone() *State {
	out := &State{}
	for _, p := range parts {
		p.copy(s, out)
	}
	return out
}
