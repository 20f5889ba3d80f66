package plan

import "container/heap"

// Flow says which steps may begin, as others begin and end. It knows no time: whoever
// carries steps out, estimates or rehearses them tells it what happened.
type Flow struct {
	steps  []Step
	at     map[string]int // by ID
	waits  []int          // how many of its needs are not done
	after  [][]int        // those that need it
	ready  queue          // by place in the plan
	begun  []bool
	done   []bool
	undone int
}

// NewFlow begins with nothing done. A step that needs one which is not among them never
// may begin.
func NewFlow(steps []Step) *Flow {
	f := &Flow{steps: steps, at: make(map[string]int, len(steps)), waits: make([]int, len(steps)), after: make([][]int, len(steps)), begun: make([]bool, len(steps)), done: make([]bool, len(steps)), undone: len(steps)}
	for i, s := range steps {
		f.at[s.ID] = i
	}
	for i, s := range steps {
		for _, n := range s.Needs {
			f.waits[i]++
			if j, ok := f.at[n]; ok {
				f.after[j] = append(f.after[j], i)
			}
		}
		if f.waits[i] == 0 {
			heap.Push(&f.ready, i)
		}
	}
	return f
}

// Next begins the step that may begin and stands first in the plan; ok is false when none
// may for now.
func (f *Flow) Next() (s Step, ok bool) {
	if len(f.ready) == 0 {
		return s, false
	}
	i := heap.Pop(&f.ready).(int)
	f.begun[i] = true
	return f.steps[i], true
}

// Done says that a step has ended well: those that waited for it alone may begin. One that
// failed is not told of; what needs it never begins.
func (f *Flow) Done(id string) {
	i, ok := f.at[id]
	if ok && f.begun[i] && !f.done[i] {
		f.end(i)
	}
}

func (f *Flow) end(i int) {
	f.done[i] = true
	f.undone--
	for _, j := range f.after[i] {
		if f.waits[j]--; f.waits[j] == 0 && !f.done[j] {
			heap.Push(&f.ready, j)
		}
	}
}

// Without gives up all steps that are not done and are meant: what needs them may begin all
// the same.
func (f *Flow) Without(meant func(Step) bool) {
	for i, s := range f.steps {
		if f.done[i] || !meant(s) {
			continue
		}
		f.ready.remove(i)
		f.end(i)
	}
}

// Undone is how many steps have not ended well.
func (f *Flow) Undone() int { return f.undone }

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

// remove takes a place out, if it is there.
func (q *queue) remove(place int) {
	for i, x := range *q {
		if x == place {
			heap.Remove(q, i)
			return
		}
	}
}
