package rehearse

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Pod is one that a drain moves.
type Pod struct {
	Name   string // namespace/name
	Node   string
	CPU    int64 // thousandths of a processor, asked for
	Memory int64 // bytes, asked for
	// Fits says on which nodes it may run, by its selector, affinity and tolerations.
	Fits    func(Node) bool
	Budgets []int    // places of those that count it
	Apart   []Apart  // pods beside which it may not run, by its required anti-affinity
	Spread  []Spread // all of which have to allow a node
}

// Spread has a pod run only where its kind is not much more frequent than elsewhere: a
// topology spread constraint that is required, by the rules of Kubernetes.
type Spread struct {
	Key  string                         // of nodes; those with the same value are one domain
	At   func(Node) string              // the value; empty: the node has none, and does not take the pod
	Skew int                            // how many more a domain may have than the one with the fewest
	Min  int                            // as long as there are fewer domains, the fewest are none
	Of   func(*Pod) bool                // that are counted; it itself is asked, too
	On   func(n Node, closed bool) bool // nodes that are domains; a cordoned one is, as a rule
}

// Apart are pods that may not run beside one.
type Apart struct {
	Zone bool // in the same zone; otherwise on the same node
	Of   func(*Pod) bool
}

// Budget guards pods against being evicted together.
type Budget struct {
	Name    string // namespace/name
	Healthy int    // pods that it wants healthy at least, of those that it counts
	Pods    int    // that it counts
}

// Node is where pods run.
type Node struct {
	Name        string
	Zone        string
	CPU, Memory int64 // that pods may ask for
	// Stays is what of it pods have that no drain moves: of daemon sets, and static ones.
	Stays  Share
	Labels map[string]string
	Taints []Taint
	Group  string
}

// Share is some of a node: thousandths of a processor, and bytes of memory.
type Share struct{ CPU, Memory int64 }

// Taint keeps pods off a node that do not tolerate it.
type Taint struct{ Key, Value, Effect string }

// world is pods on nodes.
type world struct {
	nodes   map[string]*room
	order   []*room // of the nodes, so that the same comes out every time
	waiting []*Pod  // that had no place when they were moved
	budgets []Budget
	start   time.Duration   // until a pod that was moved is well
	freed   []time.Duration // when the last pod that each budget let go is well again
	next    int             // of order, at which a place is looked for first
	all     int64           // processors of the workers at the beginning
	open    int64           // of those that take pods
	apart   bool            // some pods may not run beside others
}

// room is what a node has left.
type room struct {
	Node
	cpu, memory int64
	closed      bool // cordoned, not Ready, or gone
	pods        []*Pod
}

func newWorld(in Input) *world {
	w := &world{nodes: map[string]*room{}, budgets: slices.Clone(in.Budgets), start: in.PodStart, freed: make([]time.Duration, len(in.Budgets))}
	for _, n := range in.Nodes {
		w.add(n)
	}
	w.all = w.open
	for i := range in.Pods {
		p := &in.Pods[i]
		own := *p
		w.apart = w.apart || len(p.Apart) > 0
		if r := w.nodes[p.Node]; r != nil {
			r.put(&own)
		}
	}
	return w
}

func (w *world) add(n Node) {
	r := &room{Node: n}
	r.empty()
	w.nodes[n.Name] = r
	w.order = append(w.order, r)
	if n.Group != "" {
		w.open += n.CPU
	}
	w.settle()
}

// shut says whether a node takes pods from now on.
func (w *world) shut(r *room, closed bool) {
	if r.Group != "" && r.closed != closed {
		w.open += map[bool]int64{true: -r.CPU, false: r.CPU}[closed]
	}
	r.closed = closed
	if !closed {
		w.settle()
	}
}

// settle gives pods that had no place one, now that there may be some.
func (w *world) settle() {
	w.waiting = slices.DeleteFunc(w.waiting, func(p *Pod) bool {
		to := w.place(p)
		if to != nil {
			to.put(p)
			w.count(p, 1)
		}
		return to != nil
	})
}

// empty leaves what no drain moves.
func (r *room) empty() { r.pods, r.cpu, r.memory = nil, r.CPU-r.Stays.CPU, r.Memory-r.Stays.Memory }

// count changes how many pods the budgets of one can count on: one that has no place is not well.
func (w *world) count(p *Pod, by int) {
	for _, b := range p.Budgets {
		w.budgets[b].Pods += by
	}
}

func (r *room) put(p *Pod) {
	p.Node = r.Name
	r.pods = append(r.pods, p)
	r.cpu -= p.CPU
	r.memory -= p.Memory
}

// Trouble is something that a drain meets.
type Trouble struct {
	Machine string        `json:"machine"`
	At      time.Duration `json:"-"`
	Seconds float64       `json:"at"` // from the beginning
	Text    string        `json:"text"`
}

// drain moves a node's pods elsewhere, each as soon as its budgets allow; it returns how
// long that takes, and what was in the way. patience ends it.
func (w *world) drain(node string, now, least, patience time.Duration) (time.Duration, []Trouble) {
	r := w.nodes[node]
	if r == nil {
		return least, nil
	}
	w.shut(r, true)
	took := time.Duration(0)
	var out []Trouble
	trouble := func(format string, args ...any) {
		out = append(out, Trouble{node, now + took, (now + took).Seconds(), fmt.Sprintf(format, args...)})
	}
	for _, p := range r.pods {
		to := w.place(p)
		if to == nil {
			trouble("pod %s finds no place elsewhere: %s", p.Name, w.without(p))
		}
		for _, b := range p.Budgets {
			bg := w.budgets[b]
			if bg.Pods-1 < bg.Healthy {
				trouble("budget %s never lets pod %s go: it wants %d of %d healthy", bg.Name, p.Name, bg.Healthy, bg.Pods)
				took = patience
				continue
			}
			// The last one that it let go has to be well elsewhere first, where none is to spare.
			if spare := bg.Pods - bg.Healthy; spare > 0 {
				at := max(w.freed[b]-time.Duration(spare-1)*w.start, now+took)
				took = max(took, at-now)
				w.freed[b] = at + w.start
			}
		}
		if to != nil {
			to.put(p)
		} else {
			p.Node = ""
			w.waiting = append(w.waiting, p)
			w.count(p, -1)
		}
	}
	r.empty()
	return max(took, least), out
}

// without says what a pod asks for that has no place.
func (w *world) without(p *Pod) string {
	next := w.next
	defer func() { w.next = next }()
	free := *p
	free.Spread = nil
	if len(p.Spread) == 0 || w.place(&free) == nil {
		return fmt.Sprintf("it asks for %s of a processor and %d MiB", thousandths(p.CPU), p.Memory>>20)
	}
	var over []string
	for _, s := range p.Spread {
		over = append(over, fmt.Sprintf("%s (maxSkew %d)", s.Key, s.Skew))
	}
	return "there is room, but not by its topology spread over " + strings.Join(over, ", ")
}

// place is a node that takes a pod: the next one in turn on which there is room.
func (w *world) place(p *Pod) *room {
	even := w.spreads(p)
	for i := range w.order {
		at := (w.next + i) % len(w.order)
		r := w.order[at]
		if !r.closed && r.Name != p.Node && r.cpu >= p.CPU && r.memory >= p.Memory && (p.Fits == nil || p.Fits(r.Node)) && even(r) && w.bears(p, r) {
			w.next = at + 1
			return r
		}
	}
	return nil
}

// spreads counts what the spread of a pod goes by, and says on which nodes it may run by that.
func (w *world) spreads(p *Pod) func(*room) bool {
	type counted struct {
		there map[string]int // by domain
		least int
	}
	all := make([]counted, len(p.Spread))
	lacks := func(r *room) bool {
		return slices.ContainsFunc(p.Spread, func(s Spread) bool { return s.At(r.Node) == "" })
	}
	for i, s := range p.Spread {
		c := &all[i]
		c.there = map[string]int{}
		for _, n := range w.order {
			if at := s.At(n.Node); !lacks(n) && s.On(n.Node, n.closed) {
				c.there[at] += 0
				for _, o := range n.pods {
					// One that was moved a moment ago is counted where it is now.
					if o != p && o.Node == n.Name && s.Of(o) {
						c.there[at]++
					}
				}
			}
		}
		if len(c.there) >= s.Min && len(c.there) > 0 {
			c.least = slices.Min(slices.Collect(maps.Values(c.there)))
		}
	}
	return func(r *room) bool {
		if lacks(r) {
			return false
		}
		for i, s := range p.Spread {
			more := all[i].there[s.At(r.Node)] - all[i].least
			if s.Of(p) {
				more++
			}
			if more > s.Skew {
				return false
			}
		}
		return true
	}
}

// bears says whether no pod keeps another one off a node: it goes both ways, as the scheduler
// of Kubernetes has it.
func (w *world) bears(p *Pod, r *room) bool {
	if !w.apart {
		return true
	}
	for _, n := range w.order {
		same := n.Name == r.Name
		if !same && (n.Zone == "" || n.Zone != r.Zone) {
			continue
		}
		keeps := func(a, b *Pod) bool {
			return slices.ContainsFunc(a.Apart, func(x Apart) bool { return (same || x.Zone) && x.Of(b) })
		}
		for _, o := range n.pods {
			if o != p && (keeps(p, o) || keeps(o, p)) {
				return false
			}
		}
	}
	return true
}

// spare tries what would happen if the fullest node failed as well: it returns that node and a
// pod of it that would have no place, or nothing.
func (w *world) spare() (node string, without *Pod) {
	var fullest *room
	for _, r := range w.order {
		if !r.closed && r.Group != "" && len(r.pods) > 0 && (fullest == nil || r.CPU-r.cpu > fullest.CPU-fullest.cpu) {
			fullest = r
		}
	}
	if fullest == nil {
		return "", nil
	}
	next := w.next
	defer func() { w.next = next }()
	fullest.closed = true
	defer func() { fullest.closed = false }()
	var tried []*room // that took the first pods
	for _, p := range fullest.pods {
		to := w.place(p)
		if to == nil {
			without = p
			break
		}
		to.put(p)
		tried = append(tried, to)
	}
	for i, to := range tried {
		p := fullest.pods[i]
		to.pods = to.pods[:len(to.pods)-1]
		to.cpu += p.CPU
		to.memory += p.Memory
		p.Node = fullest.Name
	}
	return fullest.Name, without
}

func thousandths(n int64) string {
	if n%1000 == 0 {
		return fmt.Sprint(n / 1000)
	}
	return fmt.Sprintf("%d.%03d", n/1000, n%1000)
}

// capacity is how many processors of workers pods can run on, as a share of those of the
// beginning.
func (w *world) capacity() float64 {
	if w.all == 0 {
		return 1
	}
	return float64(w.open) / float64(w.all)
}

// remove takes a node away.
func (w *world) remove(node string) {
	r := w.nodes[node]
	if r == nil {
		return
	}
	w.shut(r, true)
	delete(w.nodes, node)
	w.order = slices.DeleteFunc(w.order, func(o *room) bool { return o == r })
}

// moment orders what happens.
func moment(a, b Bar) int {
	return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.Machine, b.Machine))
}
