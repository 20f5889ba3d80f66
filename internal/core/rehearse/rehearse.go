package rehearse

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Input is all that a rehearsal goes by.
type Input struct {
	Seen plan.Observed
	Cat  *versions.Catalogue
	// Declared works the declaration out, as it is aimed at by then.
	Declared func(plan.Aim) (*topology.Cluster, error)
	Numbers  map[string][]int
	Nodes    []Node
	Pods     []Pod
	Budgets  []Budget
	Usual    func(plan.Step) time.Duration
	Between  time.Duration // that it takes to look anew between two plans
	PodStart time.Duration
	Parallel int
	Part     string
	Fail     string // a machine that does not come back from its change
	// Capacity is what a new machine gives pods, and what of it those have that come with it.
	Capacity func(m topology.Machine) (cpu, memory int64, stays Share)
}

// Bar is a span in which a machine is out of service, or something is waited for.
type Bar struct {
	Machine string        `json:"machine,omitempty"`
	Group   string        `json:"group,omitempty"`
	Kind    plan.Kind     `json:"kind"` // of the step
	From    time.Duration `json:"-"`
	To      time.Duration `json:"-"`
	Begin   float64       `json:"begin"` // seconds
	End     float64       `json:"end"`
}

// Outage is a span in which a machine does not serve; one that is gone gives way to another.
type Outage struct {
	Machine string        `json:"machine"`
	From    time.Duration `json:"-"`
	To      time.Duration `json:"-"`
	Begin   float64       `json:"begin"` // seconds
	End     float64       `json:"end"`
	Gone    bool          `json:"gone"`
	Left    bool          `json:"left"` // it is still out when the rehearsal ends
}

// Point is the capacity from a moment on.
type Point struct {
	At      time.Duration `json:"-"`
	Seconds float64       `json:"at"`
	Share   float64       `json:"share"` // of the workers' processors of the beginning, on which pods can run
}

// Result is how a change goes.
type Result struct {
	Plans    int           `json:"plans"` // one after the other
	Steps    int           `json:"steps"`
	Machines int           `json:"machines"` // that change, or give way
	Changes  int           `json:"changes"`  // of machines: one that changes at two hops has two
	Waves    int           `json:"waves"`
	Holds    int           `json:"holds"` // how often a person's word is waited for, which takes no time here
	Total    time.Duration `json:"-"`
	Seconds  float64       `json:"seconds"`
	Bars     []Bar         `json:"bars"`
	Outages  []Outage      `json:"outages"` // by when they begin
	Capacity []Point       `json:"capacity"`
	Lowest   Point         `json:"lowest"`  // of a cluster without workers there is none
	Blocked  []Trouble     `json:"blocked"` // drains that a budget or the lack of room is in the way of
	// Spare is the first moment at which pods would have no place if one more machine failed;
	// nil: there is none.
	Spare *Trouble `json:"spare,omitempty"`
	// Ends says why it does not come to its end: a machine that fails, or a drain that nothing
	// lets end.
	Ends   string `json:"ends,omitempty"`
	EndsOn string `json:"endsOn,omitempty"` // the machine at which it ends
	// Untouched are the machines that keep what they had, when it does not come to its end;
	// Cordoned those that are left so.
	Untouched []string `json:"untouched,omitempty"`
	Cordoned  []string `json:"cordoned,omitempty"`
}

// mostPlans is how many plans one after the other a rehearsal plays.
const mostPlans = 20000

// Run plays a change through until nothing is left, or until it ends otherwise.
func Run(in Input) (*Result, error) {
	x := &play{in: in, o: Copy(in.Seen), w: newWorld(in), numbers: map[string][]int{}, res: &Result{Bars: []Bar{}, Outages: []Outage{}, Capacity: []Point{}, Blocked: []Trouble{}}, cordoned: map[string]bool{}, changed: map[string]bool{}, spared: map[string]int{}}
	for g, n := range in.Numbers {
		x.numbers[g] = n
	}
	x.o.Part, x.o.Held = in.Part, false
	x.note()
	_, without := x.w.spare()
	x.tight = without != nil
	for range mostPlans {
		done, err := x.round()
		if err != nil {
			return nil, err
		}
		if done {
			break
		}
	}
	return x.end(), nil
}

// play is a rehearsal in the middle.
type play struct {
	in       Input
	o        plan.Observed
	w        *world
	numbers  map[string][]int
	now      time.Duration
	res      *Result
	c        *topology.Cluster
	cordoned map[string]bool
	changed  map[string]bool // machines
	spared   map[string]int
	last     []plan.Step // of the plan before
	outages  plan.Outages
	tight    bool // the failure of one machine leaves pods without a place before it begins
}

// round plays one plan.
func (x *play) round() (done bool, err error) {
	var aim plan.Aim
	var c *topology.Cluster
	for again := true; again; {
		now := plan.Aim{Stage: aim.Stage, Numbers: maps.Clone(x.numbers)}
		maps.Copy(now.Numbers, aim.Numbers)
		if c, err = x.in.Declared(now); err != nil {
			return false, err
		}
		if aim, again, err = plan.AimAt(aim, c, x.o, x.in.Cat); err != nil {
			return false, err
		}
	}
	maps.Copy(x.numbers, aim.Numbers)
	x.c = c
	p, err := plan.Make(c, x.o, x.in.Cat)
	if err != nil {
		return false, err
	}
	if x.in.Part != "" && len(p.Steps) > 0 {
		if p, _, err = p.Only(c, x.in.Part); err != nil {
			return false, err
		}
	}
	// A plan that comes a second time comes for ever: what it is for does not show in virtual
	// time, and nothing further can be said.
	if len(p.Steps) == 0 || slices.EqualFunc(p.Steps, x.last, func(a, b plan.Step) bool { return a.ID == b.ID && a.Text == b.Text }) {
		return true, nil
	}
	x.last = p.Steps
	if x.res.Plans > 0 {
		x.now += x.in.Between
	}
	x.res.Plans++
	x.res.Waves += len(p.Waves)
	for _, w := range p.Waves {
		x.res.Changes += len(w.Machines)
		for _, m := range w.Machines {
			x.changed[m] = true
		}
	}
	x.carry(p)
	// A run that went on without a machine ends with that, and does not try it again.
	return x.res.Ends != "" || len(x.spared) > 0, nil
}

// underway is a step that has begun.
type underway struct {
	step   plan.Step
	from   time.Duration
	to     time.Duration
	failed bool
}

// carry plays the steps of one plan, by the same flow as the engine.
func (x *play) carry(p *plan.Plan) {
	f := plan.NewFlow(p.Steps)
	var running []underway
	for {
		for len(running) < max(x.in.Parallel, 1) && x.res.Ends == "" {
			s, ok := f.Next()
			if !ok {
				break
			}
			u := x.begin(s)
			k, _ := slices.BinarySearchFunc(running, u.to, func(o underway, to time.Duration) int { return cmp.Compare(o.to, to) })
			running = slices.Insert(running, k, u)
		}
		if len(running) == 0 {
			return
		}
		u := running[0]
		running = running[1:]
		x.now = u.to
		x.res.Steps++
		if u.failed {
			x.fails(f, u.step)
			continue
		}
		x.ended(p, u)
		f.Done(u.step.ID)
	}
}

// begin says how long a step takes from now on.
func (x *play) begin(s plan.Step) underway {
	u := underway{step: s, from: x.now}
	x.outages.Began(s.Kind, s.Machine, x.now)
	takes := x.in.Usual(s)
	switch {
	case s.Kind == plan.Drain:
		took, troubles := x.w.drain(s.Machine, x.now, takes, s.Within)
		x.res.Blocked = append(x.res.Blocked, troubles...)
		takes = took
		if s.Within > 0 && took >= s.Within {
			u.failed = true
		}
		x.cordoned[s.Machine] = true
		x.note()
		x.spare(s.Machine)
	case s.Machine == x.in.Fail && s.Machine != "" && (s.Kind == plan.Ready || s.Kind == plan.Switch):
		u.failed = true
	}
	u.to = x.now + takes
	return u
}

// spare notes the first moment without room for one more failure, where there was room for it
// before anything began: a cluster that never has any does not need to be told each time.
func (x *play) spare(emptied string) {
	if x.res.Spare != nil || x.tight {
		return
	}
	node, p := x.w.spare()
	if p != nil {
		x.res.Spare = &Trouble{emptied, x.now, x.now.Seconds(), fmt.Sprintf("if %s failed while %s is out, pod %s would have no place", node, emptied, p.Name)}
	}
}

// ended takes the end of a step that went well.
func (x *play) ended(p *plan.Plan, u underway) {
	s := u.step
	if k := s.Kind; k == plan.Pause {
		x.res.Holds++
	} else if k.TakesOut() || k == plan.Soak || k == plan.Ready || k == plan.Uncordon || k == plan.Get {
		x.bar(u)
	}
	x.outages.Ended(s.Kind, s.Machine, x.now)
	Carried(&x.o, x.c, p, s)
	switch s.Kind {
	case plan.Ready:
		if m, ok := x.c.Machine(s.Machine); ok && m.IsNode() && x.w.nodes[m.Name] == nil {
			n := Node{Name: m.Name, Zone: m.Zone, Labels: m.Labels, Taints: taints(m), Group: m.Pool}
			if x.in.Capacity != nil {
				n.CPU, n.Memory, n.Stays = x.in.Capacity(m)
			}
			x.w.add(n)
			x.note()
		}
	case plan.Uncordon:
		if r := x.w.nodes[s.Machine]; r != nil {
			x.w.shut(r, false)
		}
		delete(x.cordoned, s.Machine)
		x.note()
	case plan.Unnode:
		x.w.remove(s.Machine)
		delete(x.cordoned, s.Machine)
		x.note()
	}
}

func taints(m topology.Machine) []Taint {
	var out []Taint
	for _, t := range m.Taints {
		out = append(out, Taint{t.Key, t.Value, t.Effect})
	}
	return out
}

func (x *play) bar(u underway) {
	x.res.Bars = append(x.res.Bars, Bar{u.step.Machine, u.step.Group, u.step.Kind, u.from, u.to, u.from.Seconds(), u.to.Seconds()})
}

// fails takes a step that failed: as in a run, the first failure ends it, unless the pool of
// the machine may go on without it.
func (x *play) fails(f *plan.Flow, s plan.Step) {
	policy := x.c.Policies[s.Group]
	if s.Group != "" && x.spared[s.Group] < policy.Failures && !x.o.Open[s.Group].Trial {
		x.spared[s.Group]++
		f.Without(func(o plan.Step) bool { return o.Machine == s.Machine || o.Kind == plan.Verify })
		return
	}
	x.res.EndsOn = s.Machine
	x.res.Ends = fmt.Sprintf("%s on %s fails after %s, and nothing further is begun", s.Text, s.Machine, x.now.Round(time.Second))
	if s.Kind == plan.Drain {
		x.res.Ends = fmt.Sprintf("emptying %s does not end within its patience of %s, and nothing further is begun", s.Machine, s.Within)
	}
}

// note writes the capacity of this moment down.
func (x *play) note() {
	if x.w.all == 0 {
		return // there is none of which it could be a share
	}
	share := x.w.capacity()
	pt := Point{x.now, x.now.Seconds(), share}
	if n := len(x.res.Capacity); n == 0 || x.res.Capacity[n-1].Share != share {
		x.res.Capacity = append(x.res.Capacity, pt)
	}
	if len(x.res.Capacity) == 1 || share < x.res.Lowest.Share {
		x.res.Lowest = pt
	}
}

// end is the result.
func (x *play) end() *Result {
	r := x.res
	r.Machines = len(x.changed)
	r.Total, r.Seconds = x.now, x.now.Seconds()
	slices.SortStableFunc(r.Bars, moment)
	for _, o := range x.outages.All {
		r.Outages = append(r.Outages, Outage{o.Machine, o.From, o.To, o.From.Seconds(), o.To.Seconds(), o.Gone, false})
	}
	for _, o := range x.outages.Left() {
		r.Outages = append(r.Outages, Outage{o.Machine, o.From, x.now, o.From.Seconds(), x.now.Seconds(), false, true})
	}
	slices.SortStableFunc(r.Outages, func(a, b Outage) int { return cmp.Compare(a.From, b.From) })
	if r.Ends == "" && len(x.spared) == 0 {
		return r
	}
	for n := range x.cordoned {
		r.Cordoned = append(r.Cordoned, n)
	}
	slices.Sort(r.Cordoned)
	for _, g := range plan.ProgressOf(x.c, x.o) {
		for _, m := range g.Left {
			if !slices.Contains(r.Cordoned, m) {
				r.Untouched = append(r.Untouched, m)
			}
		}
	}
	return r
}
