package look

import (
	"testing"
	"time"

	"verbund/internal/core/memory"
	"verbund/internal/core/rollout"
	"verbund/internal/engine/sessiontest"
)

// Whoever is about to give the word that a roll-out waits for sees what begins then: the hold of
// the declaration is not owed again. A person's hold was none of the wave's.
func TestSeenAsTheWordMakesIt(t *testing.T) {
	for by, owed := range map[string]bool{memory.ByDeclaration: false, memory.ByPerson: true} {
		s := sessiontest.Session(t)
		known := memory.New()
		known.Waves["gauges"] = rollout.Open{Number: 1, Trial: true}
		known.Held = &memory.Held{Since: time.Now(), By: by, Group: "gauges"}
		v := &View{Known: known}
		seeRollout(s, v)
		if !v.Seen.Held || v.Seen.Open["gauges"].Held {
			t.Errorf("%s: while it is held: %v, %+v", by, v.Seen.Held, v.Seen.Open)
		}
		s.Unheld = true
		v = &View{Known: known}
		seeRollout(s, v)
		if v.Seen.Held || v.Seen.Open["gauges"].Held == owed {
			t.Errorf("%s: with the word: %v, %+v", by, v.Seen.Held, v.Seen.Open)
		}
		if known.Waves["gauges"].Held {
			t.Errorf("%s: what is remembered was changed by looking", by)
		}
	}
}
