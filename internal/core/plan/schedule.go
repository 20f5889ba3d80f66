package plan

import (
	"cmp"
	"container/heap"
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
// says and at most parallel ran at a time. It does what the engine does: of
// the steps that may begin, the first in the plan begins.
func (p *Plan) Schedule(parallel int, usual func(Step) time.Duration) (slots []Slot, total time.Duration) {
	at := make(map[string]int, len(p.Steps))
	waits := make([]int, len(p.Steps))
	after := make([][]int, len(p.Steps))
	for i, s := range p.Steps {
		at[s.ID] = i
		for _, n := range s.Needs {
			if j, ok := at[n]; ok {
				waits[i]++
				after[j] = append(after[j], i)
			}
		}
	}
	slots = make([]Slot, len(p.Steps))
	var ready queue // by place in the plan
	var running []int
	for i := range p.Steps {
		if waits[i] == 0 {
			heap.Push(&ready, i)
		}
	}
	now := time.Duration(0)
	for len(ready) > 0 || len(running) > 0 {
		for len(ready) > 0 && len(running) < max(parallel, 1) {
			i := heap.Pop(&ready).(int)
			s := p.Steps[i]
			to := now + usual(s)
			slots[i] = Slot{Step: s, ID: s.ID, From: now, To: to, Begin: now.Seconds(), End: to.Seconds()}
			// The running ones are few: they are kept in the order of their ends.
			k, _ := slices.BinarySearchFunc(running, to, func(j int, to time.Duration) int { return cmp.Compare(slots[j].To, to) })
			running = slices.Insert(running, k, i)
		}
		done := running[0]
		running = running[1:]
		now = slots[done].To
		total = max(total, now)
		for _, i := range after[done] {
			if waits[i]--; waits[i] == 0 {
				heap.Push(&ready, i)
			}
		}
	}
	return slots, total
}

// queue is a heap of places in the plan.
type queue []int

func (q queue) Len() int           { return len(q) }
func (q queue) Less(i, j int) bool { return q[i] < q[j] }
func (q queue) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)        { *q = append(*q, x.(int)) }
func (q *queue) Pop() any {
	old := *q
	x := old[len(old)-1]
	*q = old[:len(old)-1]
	return x
}
