package rehearse

import (
	"cmp"
	"fmt"
	"slices"
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
	Budgets []int   // places of those that count it
	Apart   []Apart // pods beside which it may not run, by its required anti-affinity
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
	Labels      map[string]string
	Taints      []Taint
	Group       string
}

// Taint keeps pods off a node that do not tolerate it.
type Taint struct{ Key, Value, Effect string }

// world is pods on nodes.
type world struct {
	nodes   map[string]*room
	order   []string // of the nodes, so that the same comes out every time
	pods    map[string][]*Pod
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
}

func newWorld(in Input) *world {
	w := &world{nodes: map[string]*room{}, pods: map[string][]*Pod{}, budgets: in.Budgets, start: in.PodStart, freed: make([]time.Duration, len(in.Budgets))}
	for _, n := range in.Nodes {
		w.add(n)
	}
	w.all = w.open
	for i := range in.Pods {
		p := &in.Pods[i]
		own := *p
		w.apart = w.apart || len(p.Apart) > 0
		w.put(&own, p.Node)
	}
	return w
}

func (w *world) add(n Node) {
	if w.nodes[n.Name] == nil {
		w.order = append(w.order, n.Name)
	}
	w.nodes[n.Name] = &room{Node: n, cpu: n.CPU, memory: n.Memory}
	if n.Group != "" {
		w.open += n.CPU
	}
}

// shut says whether a node takes pods from now on.
func (w *world) shut(r *room, closed bool) {
	if r.Group != "" && r.closed != closed {
		w.open += map[bool]int64{true: -r.CPU, false: r.CPU}[closed]
	}
	r.closed = closed
}

func (w *world) put(p *Pod, node string) {
	p.Node = node
	w.pods[node] = append(w.pods[node], p)
	if r := w.nodes[node]; r != nil {
		r.cpu -= p.CPU
		r.memory -= p.Memory
	}
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
	for _, p := range w.pods[node] {
		to := w.place(p)
		if to == "" {
			trouble("pod %s finds no place elsewhere: it asks for %s of a processor and %d MiB", p.Name, thousandths(p.CPU), p.Memory>>20)
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
		if to != "" {
			w.put(p, to)
		}
	}
	delete(w.pods, node)
	r.cpu, r.memory = r.CPU, r.Memory
	return max(took, least), out
}

// place is a node that takes a pod: the next one in turn on which there is room.
func (w *world) place(p *Pod) string {
	for i := range w.order {
		at := (w.next + i) % len(w.order)
		r := w.nodes[w.order[at]]
		if !r.closed && r.Name != p.Node && r.cpu >= p.CPU && r.memory >= p.Memory && (p.Fits == nil || p.Fits(r.Node)) && w.bears(p, r) {
			w.next = at + 1
			return r.Name
		}
	}
	return ""
}

// bears says whether no pod keeps another one off a node: it goes both ways, as the scheduler
// of Kubernetes has it.
func (w *world) bears(p *Pod, r *room) bool {
	if !w.apart {
		return true
	}
	for _, node := range w.order {
		n := w.nodes[node]
		same := n.Name == r.Name
		if !same && (n.Zone == "" || n.Zone != r.Zone) {
			continue
		}
		keeps := func(a, b *Pod) bool {
			return slices.ContainsFunc(a.Apart, func(x Apart) bool { return (same || x.Zone) && x.Of(b) })
		}
		for _, o := range w.pods[node] {
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
	for _, n := range w.order {
		if r := w.nodes[n]; !r.closed && r.Group != "" && len(w.pods[n]) > 0 && (fullest == nil || r.CPU-r.cpu > fullest.CPU-fullest.cpu) {
			fullest = r
		}
	}
	if fullest == nil {
		return "", nil
	}
	next, pods := w.next, slices.Clone(w.pods[fullest.Name])
	defer func() { w.next = next }()
	fullest.closed = true
	defer func() { fullest.closed = false }()
	type moved struct {
		p  *Pod
		to string
	}
	var tried []moved
	for _, p := range pods {
		to := w.place(p)
		if to == "" {
			without = p
			break
		}
		w.put(p, to)
		tried = append(tried, moved{p, to})
	}
	for _, t := range tried {
		w.pods[t.to] = w.pods[t.to][:len(w.pods[t.to])-1]
		w.nodes[t.to].cpu += t.p.CPU
		w.nodes[t.to].memory += t.p.Memory
		t.p.Node = fullest.Name
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
	if r := w.nodes[node]; r != nil && r.Group != "" {
		w.shut(r, true)
	}
	delete(w.nodes, node)
	w.order = slices.DeleteFunc(w.order, func(n string) bool { return n == node })
}

// moment orders what happens.
func moment(a, b Bar) int {
	return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.Machine, b.Machine))
}
