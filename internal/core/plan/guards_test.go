package plan_test

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"verbund/internal/core/plan"
)

// The others are well when every voter beside one is healthy; learners have no vote.
func TestIllOthers(t *testing.T) {
	well, ill := plan.MemberSeen{Healthy: true}, plan.MemberSeen{Trouble: "no answer"}
	learner := plan.MemberSeen{Learner: true}
	for _, x := range []struct {
		name    string
		members map[string]plan.MemberSeen
		ill     []string
		said    string
	}{
		{"all well", map[string]plan.MemberSeen{"a": well, "b": well, "c": well}, nil, ""},
		{"it is the ill one", map[string]plan.MemberSeen{"a": ill, "b": well, "c": well}, nil, ""},
		{"another is ill", map[string]plan.MemberSeen{"a": well, "b": ill, "c": well}, []string{"b"}, "a is not taken down, because of the other members of the datastore b (no answer) is not healthy; 1 of 3 would be left and 2 are a quorum"},
		{"both others are", map[string]plan.MemberSeen{"a": well, "b": ill, "c": ill}, []string{"b", "c"}, "b (no answer), c (no answer) are not healthy; 0 of 3 would be left"},
		{"one joins", map[string]plan.MemberSeen{"a": well, "b": well, "c": learner}, nil, ""},
		{"of five one is ill", map[string]plan.MemberSeen{"a": well, "b": well, "c": well, "d": well, "e": ill}, []string{"e"}, "3 of 5 would be left and 3 are a quorum"},
		{"nobody", nil, nil, ""},
	} {
		got, said := plan.IllOthers(x.members, "a")
		if !slices.Equal(got, x.ill) || !strings.Contains(said, x.said) || (said == "") != (x.said == "") {
			t.Errorf("%s: %v, %q", x.name, got, said)
		}
	}
}

func TestOtherLearner(t *testing.T) {
	ms := map[string]plan.MemberSeen{"a": {Healthy: true}, "b": {Learner: true}}
	if got := plan.OtherLearner(ms, "c"); got != "b" {
		t.Errorf("beside c %q joins", got)
	}
	if got := plan.OtherLearner(ms, "b"); got != "" {
		t.Errorf("beside b %q joins", got)
	}
}

// Whatever takes a voter away, for however long, is guarded by the health of the others:
// where there are others.
func TestVotersAreGuarded(t *testing.T) {
	takes := map[plan.Kind]bool{plan.Switch: true, plan.Leave: true, plan.Drop: true, plan.Move: true, plan.Rest: true}
	guarded := 0
	for name, f := range scenarios(t) {
		c, o := f()
		for _, s := range planFor(t, c, o).Steps {
			_, voter := o.Members[s.Machine]
			if !takes[s.Kind] || !voter {
				continue
			}
			want := len(o.Members) > 1
			if got := slices.Contains(s.Guards, plan.OthersWell); got != want {
				t.Errorf("%s: %s is guarded: %v", name, s.ID, got)
			}
			if want {
				guarded++
			}
		}
	}
	if guarded < 8 {
		t.Errorf("only %d steps were looked at", guarded)
	}
	// As JSON a guard is what it says.
	b, err := json.Marshal(plan.Step{Guards: []plan.Guard{plan.OneJoins}})
	if err != nil || !strings.Contains(string(b), `"guards":["one member at a time"]`) {
		t.Errorf("%s, %v", b, err)
	}
}
