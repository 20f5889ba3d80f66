package look

import (
	"testing"
	"time"

	"verbund/internal/core/rollout"
	"verbund/internal/engine/sessiontest"
	"verbund/internal/store"
)

// Whoever is about to give the word that a roll-out waits for sees what begins then: the hold of
// the declaration is not owed again. A person's hold was none of the wave's.
func TestSeenAsTheWordMakesIt(t *testing.T) {
	for by, owed := range map[string]bool{store.ByDeclaration: false, store.ByPerson: true} {
		s := sessiontest.Session(t)
		if err := s.Store.Make(); err != nil {
			t.Fatal(err)
		}
		if err := s.Store.SaveOpen("gauges", rollout.Open{Number: 1, Trial: true}); err != nil {
			t.Fatal(err)
		}
		if err := s.Store.SaveHeld(&store.Held{Since: time.Now(), By: by, Group: "gauges"}); err != nil {
			t.Fatal(err)
		}
		v := &View{}
		if err := seeRollout(s, v); err != nil {
			t.Fatal(err)
		}
		if !v.Seen.Held || v.Seen.Open["gauges"].Held {
			t.Errorf("%s: while it is held: %v, %+v", by, v.Seen.Held, v.Seen.Open)
		}
		s.Unheld = true
		if v = (&View{}); seeRollout(s, v) != nil {
			t.Fatal("it was not seen")
		}
		if v.Seen.Held || v.Seen.Open["gauges"].Held == owed {
			t.Errorf("%s: with the word: %v, %+v", by, v.Seen.Held, v.Seen.Open)
		}
	}
}
