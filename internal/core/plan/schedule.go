package plan

import (
	"cmp"
	"slices"
	"time"
)

// Slot is when a step would run, counted from the beginning.
type Slot struct {
	Step  Step          `json:"-"`
	ID    string        `json:"id"`
	From  time.Duration `json:"-"`
	To    time.Duration `json:"-"`
	Begin float64       `json:"begin"` // seconds
	End   float64       `json:"end"`   // seconds
}

// Schedule works out when each step would run, if each took as long as usual
// says and at most parallel ran at a time, by the same flow as the engine.
func (p *Plan) Schedule(parallel int, usual func(Step) time.Duration) (slots []Slot, total time.Duration) {
	f := NewFlow(p.Steps)
	at := make(map[string]int, len(p.Steps))
	for i, s := range p.Steps {
		at[s.ID] = i
	}
	slots = make([]Slot, len(p.Steps))
	var running []int
	now := time.Duration(0)
	for {
		for len(running) < max(parallel, 1) {
			s, ok := f.Next()
			if !ok {
				break
			}
			i, to := at[s.ID], now+usual(s)
			slots[i] = Slot{Step: s, ID: s.ID, From: now, To: to, Begin: now.Seconds(), End: to.Seconds()}
			// The running ones are few: they are kept in the order of their ends.
			k, _ := slices.BinarySearchFunc(running, to, func(j int, to time.Duration) int { return cmp.Compare(slots[j].To, to) })
			running = slices.Insert(running, k, i)
		}
		if len(running) == 0 {
			return slots, total
		}
		done := running[0]
		running = running[1:]
		now = slots[done].To
		total = max(total, now)
		f.Done(slots[done].ID)
	}
}
