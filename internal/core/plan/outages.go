package plan

import (
	"cmp"
	"maps"
	"slices"
	"time"
)

// Outage is a span in which a machine does not serve.
type Outage struct {
	Machine  string
	From, To time.Duration // after a moment that whoever counts has chosen
	Gone     bool          // it does not come back: it gives way, or leaves
}

// undoes says which kinds of steps each kind undoes that brings a machine back: who is cordoned
// takes pods again only when that is undone, whatever else came up before.
var undoes = map[Kind][]Kind{Ready: {Wipe, Move, Halt, Switch, Leave}, Uncordon: {Drain}, Return: {Rest}}

// Outages tells machines' outages by the steps that begin and end. One that is taken out by
// several steps is out until each is undone; one that goes out again later has two outages.
type Outages struct {
	All  []Outage // those that are over, by when they ended
	out  map[string]time.Duration
	open map[string][]Kind
}

// Began takes the beginning of a step. That a machine is not there yet, or has no power, is
// no outage of the change's making.
func (o *Outages) Began(k Kind, machine string, at time.Duration) {
	if !k.TakesOut() || k == Get || machine == "" {
		return
	}
	if o.out == nil {
		o.out, o.open = map[string]time.Duration{}, map[string][]Kind{}
	}
	if len(o.open[machine]) == 0 {
		o.out[machine] = at
	}
	if !slices.Contains(o.open[machine], k) {
		o.open[machine] = append(o.open[machine], k)
	}
}

// Ended takes the end of a step that went well.
func (o *Outages) Ended(k Kind, machine string, at time.Duration) {
	open := o.open[machine]
	if len(open) == 0 {
		return
	}
	gone := k == Unnode || k == Release
	left := slices.DeleteFunc(slices.Clone(open), func(t Kind) bool { return gone || slices.Contains(undoes[k], t) })
	o.open[machine] = left
	if len(left) == 0 {
		o.All = append(o.All, Outage{machine, o.out[machine], at, gone})
	}
}

// Left are the outages that are not over, by machine: of those that failed, or were left out.
func (o *Outages) Left() []Outage {
	var out []Outage
	for _, m := range slices.Sorted(maps.Keys(o.open)) {
		if len(o.open[m]) > 0 {
			out = append(out, Outage{Machine: m, From: o.out[m]})
		}
	}
	return out
}

// OutagesOf are the outages of a schedule.
func OutagesOf(slots []Slot) []Outage {
	type moment struct {
		at   time.Duration
		slot *Slot
		ends bool
	}
	var all []moment
	for i := range slots {
		all = append(all, moment{slots[i].From, &slots[i], false}, moment{slots[i].To, &slots[i], true})
	}
	slices.SortStableFunc(all, func(a, b moment) int { return cmp.Compare(a.at, b.at) })
	var o Outages
	for _, m := range all {
		if m.ends {
			o.Ended(m.slot.Step.Kind, m.slot.Step.Machine, m.at)
		} else {
			o.Began(m.slot.Step.Kind, m.slot.Step.Machine, m.at)
		}
	}
	return o.All
}
