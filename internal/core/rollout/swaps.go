package rollout

import (
	"slices"
)

// Swaps is the numbers of a group's places with those exchanged that get a new machine
// next, as many as the surge allows and in the order of the waves; it is what it was when
// none does. Machines that are on their way out count against the surge: nothing new is
// begun before they are gone, nor before what the wave before owes.
//
// Where what was declared is taken back in the middle, an old one that has not gone yet
// takes its place again.
//
// A new machine takes the lowest free number above those of its generation, and the next
// generation the lowest from 1 on, so that old and new are told apart while both are there.
func (g Group) Swaps() []int {
	numbers := make([]int, 0, len(g.Machines))
	taken := map[int]bool{}
	for _, m := range g.Machines {
		numbers = append(numbers, m.Number)
		taken[m.Number] = true
	}
	for _, n := range g.Leaving {
		taken[n] = true
	}
	if len(g.Returns) > 0 {
		for i, n := range g.Returns {
			numbers[i] = n
		}
		return numbers
	}
	if soak, hold := g.Owed(); len(g.Leaving) > 0 || soak > 0 || hold {
		return numbers
	}
	// New ones that are not there yet are waited for as well.
	for _, m := range g.Machines {
		if !m.Exists {
			return numbers
		}
	}
	ws := g.Waves()
	if len(ws) == 0 || ws[0].Way != Replacement {
		return numbers
	}
	for i, m := range g.Machines {
		if !slices.Contains(ws[0].Machines, m.Name) {
			continue
		}
		from := 1
		if m.Number <= len(g.Machines) {
			from = len(g.Machines) + 1
		}
		for taken[from] {
			from++
		}
		taken[from] = true
		numbers[i] = from
	}
	return numbers
}
