package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Guard is a condition without which a step is not begun. The plan says which hold for a
// step; whoever carries it out evaluates them, at the last moment, and reports the one that
// refuses.
type Guard string

// The guards.
const (
	OthersWell Guard = "others-well" // of a step that takes a voter away, for however long
	OneJoins   Guard = "one-joins"
	OwnData    Guard = "own-data"
	Emptied    Guard = "emptied"   // of a step that empties a node
	MayBegin   Guard = "may-begin" // of a step with which a wave begins
)

var guardWords = map[Guard]string{
	OthersWell: "every other member of the datastore is healthy",
	OneJoins:   "one member at a time",
	OwnData:    "no member has data that was not founded here",
	Emptied:    "disruption budgets, no pod that would be lost",
	MayBegin:   "nobody has told it to hold, and the hours allow it",
}

// Guards are all that there are.
func Guards() []Guard { return slices.Sorted(maps.Keys(guardWords)) }

// Words say the condition for a person.
func (g Guard) Words() string { return guardWords[g] }

// MarshalText is the guard as plans show it.
func (g Guard) MarshalText() ([]byte, error) { return []byte(g.Words()), nil }

// UnmarshalText reads it back from that.
func (g *Guard) UnmarshalText(b []byte) error {
	for is, words := range guardWords {
		if words == string(b) {
			*g = is
			return nil
		}
	}
	return fmt.Errorf("%q is no condition of a step", b)
}

// InWords says several conditions for a person.
func InWords(gs []Guard) string {
	var out []string
	for _, g := range gs {
		out = append(out, g.Words())
	}
	return strings.Join(out, ", ")
}

// quorumGuard is what guards a step that takes a machine's voter away, if it has one and
// there are others.
func (p *planner) quorumGuard(m topology.Machine) []Guard {
	if !m.Is(versions.Member) || len(p.c.With(versions.Member)) < 2 {
		return nil
	}
	return []Guard{OthersWell}
}

// IllOthers lists the voters beside one that are not healthy, and says how the datastore
// would stand without it; empty when all others are.
func IllOthers(ms map[string]MemberSeen, without string) (ill []string, said string) {
	voters, healthy := 0, 0
	var names []string
	for _, n := range slices.Sorted(maps.Keys(ms)) {
		m := ms[n]
		if m.Learner {
			continue // it has no vote to lose
		}
		voters++
		switch {
		case n == without:
		case m.Healthy:
			healthy++
		default:
			ill, names = append(ill, n), append(names, n+" ("+m.Trouble+")")
		}
	}
	if len(ill) == 0 {
		return nil, ""
	}
	are := map[bool]string{true: "is", false: "are"}[len(ill) == 1]
	return ill, fmt.Sprintf("%s is not taken down, because of the other members of the datastore %s %s not healthy; %d of %d would be left and %d are a quorum", without, strings.Join(names, ", "), are, healthy, voters, voters/2+1)
}

// OtherLearner names a member that another one is still joining as; empty when none is.
func OtherLearner(ms map[string]MemberSeen, beside string) string {
	for _, n := range slices.Sorted(maps.Keys(ms)) {
		if ms[n].Learner && n != beside {
			return n
		}
	}
	return ""
}
