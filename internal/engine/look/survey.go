package look

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/plan"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
	"verbund/internal/engine/session"
	"verbund/internal/machine"
	"verbund/internal/machine/protocol"
	"verbund/internal/site"
)

// Question is one thing that a survey asks.
type Question string

// The questions, in the order in which they are asked: what one cannot answer
// the later ones cannot either.
const (
	AskLogin    Question = "login"    // by key, at the address that was leased
	AskHostKey  Question = "host key" // the one that is known
	AskRights   Question = "rights"   // enough to set the machine up
	AskSize     Question = "size"     // as declared
	AskVersions Question = "versions" // component by component
	AskClock    Question = "clock"    // near this computer's
	AskAddress  Question = "address"  // on a card of the declared subnet
	AskKernel   Question = "kernel"   // modules and settings that nodes need
	AskPorts    Question = "ports"    // free, or held by what should hold them
	AskPeers    Question = "peers"    // other machines can be reached
	AskNames    Question = "names"    // resolve
	AskRegistry Question = "registry" // has the artefacts under their digests
	AskDisk     Question = "disk"     // room for two slots
	AskPast     Question = "past"     // left-overs of an earlier life
)

// Questions lists them all.
var Questions = []Question{AskLogin, AskHostKey, AskRights, AskSize, AskVersions, AskClock, AskAddress, AskKernel, AskPorts, AskPeers, AskNames, AskRegistry, AskDisk, AskPast}

// Questions about the site.
const (
	AskCredential Question = "credential"
	AskCapacity   Question = "capacity"
)

// State is how an answer counts.
type State string

// The states of an answer.
const (
	Well    State = "well"
	Later   State = "later"   // converge sees to it
	Bad     State = "bad"     // somebody has to see to it first
	Unasked State = "unasked" // another answer is in the way
)

// Answer is one answer of a survey.
type Answer struct {
	Machine  string   `json:"machine,omitempty"` // empty: the site
	Question Question `json:"question"`
	State    State    `json:"state"`
	Found    string   `json:"found,omitempty"`
	Todo     string   `json:"todo,omitempty"`
}

// slotBytes is what one slot may need of a disk.
const slotBytes = 1 << 30

// SurveyOptions limit a survey.
type SurveyOptions struct {
	Only  map[string]bool // machines; all if nil
	Peers int             // how many others each machine tries to reach; 0: all
}

// Survey looks at every declared machine, in parallel, and at the site. It
// changes nothing.
func Survey(ctx context.Context, s *session.Session, v *View, o SurveyOptions) []Answer {
	out := surveySite(s, v)
	if v.Inventory == nil {
		return out
	}
	at := map[string]site.Machine{}
	for _, m := range v.Inventory.Machines {
		if m.Cluster == v.Cluster.Name {
			at[m.Name] = m
		}
	}
	answers := make([][]Answer, len(v.Cluster.Machines))
	var wg sync.WaitGroup
	limit := make(chan struct{}, max(s.Parallel, 1))
	for i, m := range v.Cluster.Machines {
		if o.Only != nil && !o.Only[m.Name] {
			continue
		}
		wg.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			q := &surveyor{s: s, v: v, m: m, at: at, peers: o.Peers}
			im, ok := at[m.Name]
			q.ask(ctx, im, ok)
			answers[i] = q.complete()
		})
	}
	wg.Wait()
	return append(out, slices.Concat(answers...)...)
}

// surveySite asks the site whether it takes our credential and has room.
func surveySite(s *session.Session, v *View) []Answer {
	if v.Inventory == nil {
		if errors.Is(v.SiteError, site.ErrNotRunning) {
			return []Answer{{Question: AskCredential, State: Later, Found: "the site's process is not running yet; nothing was looked at"}}
		}
		return []Answer{{Question: AskCredential, State: Bad, Found: v.SiteError.Error(), Todo: "look into the site's log"}}
	}
	out := []Answer{{Question: AskCredential, State: Well}}
	missing, going := map[string]int{}, map[string]int{}
	for _, m := range v.Cluster.Machines {
		if !v.Seen.Machines[m.Name].Exists {
			missing[m.Zone]++
		}
	}
	for n, seen := range v.Seen.Machines {
		if _, declared := v.Cluster.Machine(n); !declared && seen.Exists {
			going[seen.Zone]++
		}
	}
	for _, z := range v.Inventory.Zones {
		free := z.Room - z.Used
		switch need := missing[z.Name]; {
		case need > free+going[z.Name]:
			out = append(out, Answer{Question: AskCapacity, State: Bad, Found: fmt.Sprintf("zone %s is full for what is declared: %d more machines are needed there, and there is room for %d", z.Name, need, free),
				Todo: "declare fewer machines, give the zone more room in the site file and restart the site, or release other clusters' machines"})
		case need > free:
			out = append(out, Answer{Question: AskCapacity, State: Later, Found: fmt.Sprintf("zone %s has room once %s left", z.Name, map[bool]string{true: "1 machine has", false: words.Count(going[z.Name], "machine") + " have"}[going[z.Name] == 1])})
		}
	}
	if len(out) == 1 {
		out = append(out, Answer{Question: AskCapacity, State: Well})
	}
	return out
}

// surveyor asks one machine.
type surveyor struct {
	s     *session.Session
	v     *View
	m     topology.Machine
	at    map[string]site.Machine
	peers int
	got   map[Question]Answer
}

func (q *surveyor) note(what Question, state State, found, todo string) {
	if q.got == nil {
		q.got = map[Question]Answer{}
	}
	q.got[what] = Answer{q.m.Name, what, state, found, todo}
}

// complete lists the answers in order, with those that could not be asked.
func (q *surveyor) complete() []Answer {
	var out []Answer
	for _, what := range Questions {
		a, ok := q.got[what]
		if !ok {
			a = Answer{Machine: q.m.Name, Question: what, State: Unasked}
		}
		out = append(out, a)
	}
	return out
}

func (q *surveyor) ask(ctx context.Context, im site.Machine, exists bool) {
	switch {
	case !exists:
		q.note(AskLogin, Later, "the site does not have it yet", "")
		return
	case im.Power != site.PowerOn:
		q.note(AskLogin, Later, session.Powerless(im), "")
		return
	}
	ctx, cancel := context.WithTimeout(ctx, session.LookTimeout)
	defer cancel()
	asked := time.Now()
	c, err := q.s.Machine(ctx, q.m.Name, im.SSHPort)
	var f *protocol.FactsReply
	if err == nil {
		asked = time.Now()
		f, err = c.Facts(ctx)
	}
	took := time.Since(asked)
	var hk *machine.HostKeyError
	switch {
	case errors.As(err, &hk):
		trusted := "verbund replace " + q.m.Name
		if q.v.Cluster.Listed {
			trusted = "take its hostKey out of the site file; verbund site meet"
		}
		q.note(AskHostKey, Bad, fmt.Sprintf("it shows %s, and %s is known", hk.Got, hk.Want), "find out who answers there; if it was set up anew by somebody you trust: "+trusted)
		return
	case errors.Is(err, session.ErrNotMet) || errors.Is(err, session.ErrNoTrust):
		q.note(AskLogin, Later, "it was ordered, and not logged in to yet", "")
		return
	case err != nil:
		todo := "look at its console: verbund site console " + q.m.Name
		if q.v.Cluster.Listed {
			todo = "try it by hand: ssh -p " + strconv.Itoa(im.SSHPort) + " " + im.Address.String()
		}
		q.note(AskLogin, Bad, err.Error(), todo)
		return
	}
	q.note(AskLogin, Well, "", "")
	q.note(AskHostKey, Well, "", "")
	q.facts(im, f, asked.Add(took/2))
	q.versions(f)
	q.told(f)
	q.kernel(ctx, c)
	q.past(ctx, c)
	q.probe(ctx, c, f)
}

// told looks whether Kubernetes is told as much memory as there is: what goes by the files of a
// kernel that several share offers all of it, and pods are given what the kernel then takes.
func (q *surveyor) told(f *protocol.FactsReply) {
	for _, n := range q.v.Nodes {
		if says := n.Status.Capacity.Memory().Value(); n.Name == q.m.Name && says > f.Memory+f.Memory/10 {
			q.note(AskSize, Bad, fmt.Sprintf("Kubernetes is told that it has %s memory, and it may use %s", declare.Bytes(says), declare.Bytes(f.Memory)), "have its kernel's files say what it has, or lift the limit of its memory")
		}
	}
}

// kernel looks whether a node's kernel does what nodes need.
func (q *surveyor) kernel(ctx context.Context, c session.Machine) {
	if !q.m.IsNode() {
		q.note(AskKernel, Well, "", "")
		return
	}
	shown, err := c.Read(ctx, append(nodeconf.KernelAsks(), nodeconf.KernelSettings)...)
	lacks := nodeconf.KernelLacks(shown)
	switch {
	case err != nil:
		q.note(AskKernel, Bad, err.Error(), "")
	case len(lacks) == 0:
		q.note(AskKernel, Well, "", "")
	case string(shown[nodeconf.KernelSettings]) != nodeconf.KernelText():
		q.note(AskKernel, Later, "its modules and settings are not written yet", "")
	default:
		q.note(AskKernel, Bad, strings.Join(lacks, "; "), fmt.Sprintf("somebody changed it, or the kernel lacks a module: restart %s, or load %s and apply %s there", q.m.Name, nodeconf.KernelModules, nodeconf.KernelSettings))
	}
}

// facts judges what the machine says of itself; asked is about when it said so.
func (q *surveyor) facts(im site.Machine, f *protocol.FactsReply, asked time.Time) {
	if f.Rights == "all" {
		q.note(AskRights, Well, "", "")
	} else {
		q.note(AskRights, Bad, fmt.Sprintf("the login may only %s", f.Rights), "give the key with which Verbund logs in the rights of the administrator")
	}
	// One of another size than declared gives way to a new one; until then it has to be
	// what the site says that it is.
	size := cmp.Or(im.Size, q.m.Size)
	want := q.s.SiteFile.Sizes[size]
	switch {
	case sized(want, f) && size == q.m.Size:
		q.note(AskSize, Well, "", "")
	case sized(want, f):
		q.note(AskSize, Well, fmt.Sprintf("it is of size %s, and gives way to one of size %s", size, q.m.Size), "")
	default:
		q.note(AskSize, Bad, fmt.Sprintf("it has %d processors, %s memory, %s disk; size %s means %d, %s, %s", f.CPUs, declare.Bytes(f.Memory), declare.Bytes(f.Disk), size, want.CPUs, want.Memory, want.Disk),
			"declare the size that it has, or replace it")
	}
	if off := f.Clock.Sub(asked); off.Abs() > plan.ClockOff {
		q.note(AskClock, Bad, fmt.Sprintf("its clock is %s off", off.Round(100*time.Millisecond)), "certificates depend on clocks: have it synchronised")
	} else {
		q.note(AskClock, Well, "", "")
	}
	on := slices.IndexFunc(f.Cards, func(c protocol.Card) bool { return c.Address == q.m.Address })
	switch subnet := q.subnet(); {
	case on < 0:
		q.note(AskAddress, Bad, fmt.Sprintf("none of its cards has %s", q.m.Address), "repair the lease, or let converge take up the new address")
	case !subnet.Contains(q.m.Address):
		q.note(AskAddress, Bad, fmt.Sprintf("%s on card %s does not lie in %s", q.m.Address, f.Cards[on].Name, subnet), "declare the subnet that machines really use in ranges.machines")
	default:
		q.note(AskAddress, Well, "", "")
	}
	if free := f.Disk - f.DiskUsed; free < 2*slotBytes && im.Size != "" {
		q.note(AskDisk, Bad, fmt.Sprintf("%s of %s are free, and two slots may need %s", declare.Bytes(free&^(1<<20-1)), declare.Bytes(f.Disk), declare.Bytes(2*slotBytes)), "make room on its disk: the disk is full, or nearly so")
	} else {
		q.note(AskDisk, Well, "", "")
	}
}

func (q *surveyor) subnet() netip.Prefix {
	if r := q.s.Decl.Ranges.Machines; r.IsValid() {
		return r
	}
	return q.s.SiteFile.Addresses
}

// versions compares component by component.
func (q *surveyor) versions(f *protocol.FactsReply) {
	if f.Active == "" {
		q.note(AskVersions, Later, "nothing is installed yet", "")
		return
	}
	var other []string
	for _, k := range q.m.Components() {
		if have := f.Slots[f.Active][k.Name]; have != k.Version {
			if have == "" {
				have = "none"
			}
			other = append(other, fmt.Sprintf("%s %s, declared %s", k.Name, have, k.Version))
		}
	}
	if len(other) > 0 {
		q.note(AskVersions, Later, strings.Join(other, "; "), "")
		return
	}
	q.note(AskVersions, Well, "", "")
}

// past looks for what an earlier life left.
func (q *surveyor) past(ctx context.Context, c session.Machine) {
	b, err := c.Read(ctx, nodeconf.Record)
	if err != nil {
		q.note(AskPast, Bad, err.Error(), "")
		return
	}
	o := nodeconf.ReadRecord(b[nodeconf.Record])
	switch {
	case o == nil || o.Cluster == q.v.Cluster.Name:
		q.note(AskPast, Well, "", "")
	case q.v.Seen.Clusters[o.Cluster]:
		q.note(AskPast, Bad, fmt.Sprintf("it belongs to cluster %s, which lives", o.Cluster), "take it out of that cluster first, or declare another machine")
	default:
		q.note(AskPast, Later, fmt.Sprintf("cluster %s left %d files on it; they are wiped", o.Cluster, len(o.Files)), "")
	}
}

// portsOf are the ports on which the parts of a machine listen.
var portsOf = map[versions.Part][]int{
	versions.Member: {nodeconf.ClientPort, nodeconf.PeerPort}, versions.API: {nodeconf.APIPort}, versions.Acting: {10257, 10259},
	versions.Node: {nodeconf.KubeletPort, 10248, nodeconf.ProxyHealthPort, 10249},
}

// toBeFree are the ports that nobody may have yet where a machine is to use them; active says
// which of its units run. What runs holds its own ports. Controllers end and start again whenever
// they lose their lease, and are the cluster's own beside an API server that runs.
func toBeFree(m topology.Machine, active map[string]bool) []string {
	runs := func(p versions.Part) bool {
		return slices.ContainsFunc(nodeconf.UnitsOf(p), func(u string) bool { return active[u] })
	}
	var out []string
	for _, p := range m.Parts {
		if runs(p) || p == versions.Acting && runs(versions.API) {
			continue
		}
		for _, port := range portsOf[p] {
			out = append(out, netip.AddrPortFrom(m.Address, uint16(port)).String())
		}
	}
	return out
}

// probe asks the machine what it can reach and what is free on it.
func (q *surveyor) probe(ctx context.Context, c session.Machine, f *protocol.FactsReply) {
	us, err := c.Units(ctx)
	if err != nil {
		q.note(AskPorts, Bad, err.Error(), "")
		return
	}
	active := map[string]bool{}
	for _, u := range us {
		active[u.Name] = u.State == "active" || u.State == "activating"
	}
	req := protocol.ProbeRequest{Free: toBeFree(q.m, active)}
	names := map[string]string{} // of machines by HOST:PORT
	for _, o := range q.v.Cluster.Machines {
		im, ok := q.at[o.Name]
		if !ok || o.Name == q.m.Name || im.Power != site.PowerOn || q.peers > 0 && len(req.Dial) >= q.peers {
			continue
		}
		addr := netip.AddrPortFrom(im.Address, uint16(im.SSHPort)).String()
		req.Dial = append(req.Dial, addr)
		names[addr] = o.Name
	}
	setUp := q.v.Seen.Machines[q.m.Name].Owner == q.v.Cluster.Name
	host, _, _ := strings.Cut(q.v.Cluster.Registry, ":")
	req.Resolve = []string{host}
	if setUp {
		req.Resolve = append(req.Resolve, q.v.Cluster.Endpoint.Name, q.m.Name)
	}
	req.Registry = q.v.Cluster.Registry
	for _, k := range q.m.Components() {
		if d := q.s.Cat.Digest(k.Ref()); f.Digests[f.Active][k.Name] != d {
			req.Artefacts = append(req.Artefacts, k.Name+"@"+d)
		}
	}
	r, err := c.Probe(ctx, req)
	if err != nil {
		q.note(AskPeers, Bad, err.Error(), "")
		return
	}
	judge := func(what Question, wrong map[string]string, todo string) {
		if len(wrong) == 0 {
			q.note(what, Well, "", "")
			return
		}
		var list []string
		for w, why := range wrong {
			if n, ok := names[w]; ok {
				w = n
			}
			list = append(list, w+": "+why)
		}
		slices.Sort(list)
		if more := len(list) - 3; more > 0 {
			list = append(list[:3], fmt.Sprintf("and %d more", more))
		}
		q.note(what, Bad, strings.Join(list, "; "), todo)
	}
	judge(AskPorts, r.Free, "stop what uses the port: verbund logs "+q.m.Name)
	judge(AskPeers, r.Dial, "mend the network between the machines")
	judge(AskRegistry, r.Artefacts, "find out why the registry does not have what is pinned; verbund versions --refresh shows what the catalogue says")
	judge(AskNames, r.Resolve, "the machine does not know the name; converge writes its names anew")
	if !setUp && q.got[AskNames].State == Well {
		q.note(AskNames, Later, "its names are not written yet", "")
	}
	if setUp && q.got[AskNames].State == Bad {
		a := q.got[AskNames]
		q.note(AskNames, Later, a.Found, "")
	}
}

// Needed lists the machines that a plan touches.
func Needed(p *plan.Plan) map[string]bool {
	out := map[string]bool{}
	for _, s := range p.Steps {
		if s.Machine != "" {
			out[s.Machine] = true
		}
	}
	return out
}

// enough says whether a machine has what its size means. Firmware and file systems keep some
// of it to themselves: a twelfth at most.
func enough(has int64, means declare.Bytes) bool { return has >= int64(means)/12*11 }
