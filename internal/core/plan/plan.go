package plan

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/nodeconf"
	"verbund/internal/core/rollout"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Kind is what a step does.
type Kind string

// The kinds of steps.
const (
	Get      Kind = "get"      // a machine from the site, with power, reachable
	Pull     Kind = "pull"     // artefacts into a slot
	Write    Kind = "write"    // files
	Vouch    Kind = "vouch"    // a machine's own certificates, before the rest
	Wipe     Kind = "wipe"     // what an earlier life left on a machine
	Move     Kind = "move"     // a machine whose address changed
	Drop     Kind = "drop"     // a dead member out of the datastore
	Halt     Kind = "halt"     // what serves from a datastore that gives way to a backup's
	Found    Kind = "found"    // the datastore, by all its members at once
	Member   Kind = "member"   // a member of the datastore: started, or joined and promoted
	Control  Kind = "control"  // API server, controller manager, scheduler
	Roles    Kind = "roles"    // bindings that the cluster needs
	Balance  Kind = "balance"  // the balancer
	Carry    Kind = "carry"    // the endpoint's virtual address
	Answer   Kind = "answer"   // wait until an existing balancer answers for the API
	Network  Kind = "network"  // the network plugin
	DNS      Kind = "dns"      // the cluster's DNS
	Node     Kind = "node"     // container runtime, kubelet, proxy
	Label    Kind = "label"    // labels and taints of a node
	Ready    Kind = "ready"    // wait until a node is Ready and on its version
	Backup   Kind = "backup"   // the datastore, to a file
	Rest     Kind = "rest"     // no new connections from the balancer
	Drain    Kind = "drain"    // cordon and evict
	Switch   Kind = "switch"   // to the other slot, with restart
	Return   Kind = "return"   // back into the balancer
	Uncordon Kind = "uncordon" // let pods onto the node again
	Leave    Kind = "leave"    // a living member out of the datastore
	Unnode   Kind = "unnode"   // the node out of the cluster
	Release  Kind = "release"  // the machine back to the site
	Refresh  Kind = "refresh"  // new tokens for a node's pods
	Entrust  Kind = "entrust"  // what a keeper of backups puts beside a snapshot
	Verify   Kind = "verify"   // everything is well
	Wave     Kind = "wave"     // of a roll-out begins
	Soak     Kind = "soak"     // machines are watched
	Pause    Kind = "hold"     // until a person's word
)

// Step is one thing done to one machine or to the cluster.
type Step struct {
	ID      string   `json:"id"` // KIND/MACHINE, or KIND/GROUP-WAVE
	Kind    Kind     `json:"kind"`
	Machine string   `json:"machine,omitempty"` // empty: the cluster
	Text    string   `json:"text"`              // what is done
	Why     string   `json:"why"`
	Needs   []string `json:"needs,omitempty"`
	Guards  []Guard  `json:"guards,omitempty"` // what must hold before it begins
	Final   bool     `json:"final,omitempty"`  // it cannot be undone
	// Group and Wave say to which wave of which group it belongs, of a step that does.
	Group  string   `json:"group,omitempty"`
	Wave   int      `json:"wave,omitempty"`
	Detail []string `json:"detail,omitempty"` // line by line, what differs
	Adopts bool     `json:"adopts,omitempty"` // it gets a machine that was there before
	// Within is how long what it waits for may take before it is given up; zero: as
	// long as steps of its kind may.
	Within time.Duration `json:"-"`
	// Waits is what it takes at least, however fast the machines are.
	Waits time.Duration `json:"-"`
	// As is its machine as it is to be for now, where that is not as declared.
	As *topology.Machine `json:"-"`
	// Arrives says that its machine is remembered where it is now when the step is done.
	Arrives bool `json:"-"`
	// Opens is the wave that a step of kind wave begins, Machines those that one of kind
	// soak watches.
	Opens    *rollout.Open `json:"-"`
	Machines []string      `json:"-"`
	// Files are those that are written; none: all, with what follows from them.
	Files []string `json:"files,omitempty"`
}

// MachineSeen is what was observed of a machine.
type MachineSeen struct {
	Exists  bool
	Power   string
	Role    versions.Role
	Size    string
	Zone    string
	Image   *declare.Image // that it was made from; nil when the site does not say
	Reached bool
	Trouble string // why it was not reached
	// OtherHostKey says that whoever answers there shows another host key than is known.
	OtherHostKey bool
	Active       string            // slot in use
	Versions     map[string]string // by component, in that slot
	Idle         map[string]string // by component, in the other slot
	Units        map[string]string // state by unit
	Real         []string          // programs that run as they are on a simulated machine
	Differs      []string          // files that are not as rendered
	Lines        []string          // of those, which lines differ, as far as they may be shown
	// Owner is the cluster that the machine's record names; empty when there is
	// no record.
	Owner string
	// Restarts are the running units that writing those files restarts.
	Restarts []string
	// Enrols says that its kubelet has to ask for its first certificate.
	Enrols bool
	// Token is the enrolment token that lies on it meanwhile, without its secret.
	Token string
	// Unsigned says why its kubelet has no certificate to serve with.
	Unsigned string
	// Reissue are certificates that have to be made anew before.
	Reissue []string
	Moved   netip.Addr // where it was, if the site has leased it another address since
	// Rest is of what it is that a keeper of backups was left with, and Kept what it last did;
	// nothing where there is no keeper.
	Rest  string
	Kept  nodeconf.Kept
	Data  bool // a datastore member has data there; looked at only before the founding
	Blank bool // it is to hold a datastore member, and has no data; looked at after the founding
	// Disk and DiskUsed are in bytes; ClockOff is how far its clock is ahead.
	Disk, DiskUsed int64
	ClockOff       time.Duration
	Restarted      map[string]Restarted // by unit, of those that were restarted by themselves
}

// Restarted is how often a unit was started anew because it had ended by itself.
type Restarted struct {
	Times int
	Last  time.Time // when it was last started
	Why   string    // its last error
}

// MemberSeen is what was observed of a member of the datastore.
type MemberSeen struct {
	ID      uint64
	Peer    string // URL at which the others look for it
	Learner bool
	Leads   bool
	Healthy bool
	Trouble string
}

// NodeSeen is what was observed of a node.
type NodeSeen struct {
	Made          time.Time // when somebody registered it
	Ready         bool
	Trouble       string
	Version       string
	Unschedulable bool
	Cordoned      bool   // by us
	By            string // the run that did it
	Drained       bool   // cordoned by us, and nothing is left to evict
	// Loses are pods that a drain would lose for good, and Stuck what would keep a
	// drain from ever ending, in words.
	Loses   []string
	Stuck   []string
	Differs []string
}

// AddOnSeen is what was observed of an add-on.
type AddOnSeen struct {
	Version string
	Ready   bool
	Args    string // what its containers are told
	Trust   string // mark of what its pods were started to trust
	State   string // in words
}

// Observed is everything that was seen, from outside.
type Observed struct {
	// Founders are the machines by whose members the datastore is to be founded.
	Founders []string
	Founded  bool // the datastore exists or existed
	// Restores is the restoration by which the datastore is to be founded; it is not founded
	// then.
	Restores *Restores
	Part     string // to which the run is limited; empty: everything
	Now      bool   // an authority is distrusted at once: nobody is waited for
	// TrustMark is what pods of add-ons have to have been started with.
	TrustMark string
	Clearing  bool                    // an interrupted clear may have left something on machines
	Held      bool                    // a person's word is waited for: no wave begins
	Backup    string                  // the version of which a recent backup exists
	Rest      string                  // of what it is that keepers of backups are to have
	Open      map[string]rollout.Open // waves that have begun and are not over, by group
	Resting   map[string]bool         // machines that an earlier run took out of the balancer
	API       bool                    // the API answered
	Endpoint  bool                    // it answered at the endpoint
	Clusters  map[string]bool         // other clusters that have machines at the site
	Roles     bool
	Machines  map[string]MachineSeen
	Members   map[string]MemberSeen
	Nodes     map[string]NodeSeen
	AddOns    map[string]AddOnSeen
}

// Plan is ordered: no step stands before one that it needs.
type Plan struct {
	Steps []Step `json:"steps"`
	// Missing lists what is declared and not there, Differs what is there and
	// not as declared.
	Missing []string `json:"missing,omitempty"`
	Differs []string `json:"differs,omitempty"`
	// Removes lists machines that go.
	Removes []Removal `json:"removes,omitempty"`
	// Endangers says what could be lost, if the plan could lose anything.
	Endangers []string `json:"endangers,omitempty"`
	// Beside is what cannot be done outside of the part that was asked for.
	Beside []string `json:"beside,omitempty"`
	// More says that the rest is planned anew after these steps.
	More bool `json:"more,omitempty"`
	// Waves are those in which it reaches the machines, Later the machines that are replaced
	// after these steps, when the plan is made anew.
	Waves []rollout.Wave `json:"waves,omitempty"`
	Later []string       `json:"later,omitempty"`
	// Held says that waves are left out, since a person's word is waited for.
	Held bool   `json:"held,omitempty"`
	From string `json:"from,omitempty"` // version of an upgrade
	To   string `json:"to,omitempty"`
}

// Refusal is something that cannot be done.
type Refusal struct{ What, Todo string }

func (r *Refusal) Error() string { return r.What + "; " + r.Todo }

// Removal is a machine that goes, or what goes of it.
type Removal struct{ Machine, Text string }

func (r Removal) String() string { return r.Text }

// MarshalText has it in words.
func (r Removal) MarshalText() ([]byte, error) { return []byte(r.Text), nil }

// Misnamed is a machine or a part that there is not: a mistake of whoever asks.
type Misnamed struct{ What, Todo string }

func (m *Misnamed) Error() string { return m.What + "; " + m.Todo }

type planner struct {
	c    *topology.Cluster
	o    Observed
	plan Plan
	ids  map[string]bool
	// wants are, by step, those after which it is to come and which were not there when it was
	// planned: they may never be, or be planned later.
	wants map[string][]string
	runs  map[string]bool // names of declared machines
	// answers are the steps after which the endpoint answers.
	answers []string
	// pointed are the workers that are told anew where the endpoint is.
	pointed map[string]bool
	// settled are the last steps of machines whose files are written.
	settled []string
	// later are workers that are written when the control plane has what it is
	// about to gain.
	later map[string]bool
	// as are machines that are planned for as they are to be for now.
	as map[string]topology.Machine
	// fits has the set that add-ons are to fit for now, if that is not the declared one.
	fits *topology.Machine
	// waves counts those that have a step, by group; begun are the steps with which waves
	// begin, one after the other.
	waves  map[string]int
	begun  []string
	ran    map[string]string        // what groups ran before, once it was looked up
	inWave map[string]string        // group of machines whose steps belong to its latest wave
	groups map[string]rollout.Group // those that were worked out
	// arrives are the groups of which new machines come for those that are on their way out.
	arrives map[string]bool
}

func newPlanner(c *topology.Cluster, o Observed) *planner {
	p := &planner{c: c, o: o, ids: map[string]bool{}, wants: map[string][]string{}, pointed: map[string]bool{}, runs: map[string]bool{}, later: map[string]bool{}, waves: map[string]int{}, arrives: map[string]bool{}, ran: map[string]string{}, groups: map[string]rollout.Group{}}
	for _, m := range c.Machines {
		p.runs[m.Name] = true
	}
	for group, open := range o.Open {
		p.waves[group] = open.Number
	}
	return p
}

func (p *planner) add(k Kind, machine, text, why string, s Step) string {
	s.ID, s.Kind, s.Machine, s.Text, s.Why = string(k), k, machine, text, why
	switch {
	case machine != "":
		s.ID += "/" + machine
		if g, in := p.inWave[machine]; in {
			s.Group, s.Wave = g, p.waves[g]
		}
	case s.Group != "":
		s.ID = fmt.Sprintf("%s/%s-%d", k, s.Group, s.Wave)
	}
	// Only what is in the plan can be waited for; what is not may come yet.
	s.Needs = slices.DeleteFunc(slices.Compact(slices.Sorted(slices.Values(s.Needs))), func(id string) bool {
		if !p.ids[id] && id != "" {
			p.wants[s.ID] = append(p.wants[s.ID], id)
		}
		return !p.ids[id]
	})
	p.ids[s.ID] = true
	if as, ok := p.as[machine]; ok {
		s.As = &as
	}
	p.plan.Steps = append(p.plan.Steps, s)
	return s.ID
}

func id(k Kind, machine string) string { return string(k) + "/" + machine }

// Running is the lowest version of a machine's Kubernetes components; empty if it
// has none.
func (m MachineSeen) Running() string {
	low := ""
	for _, c := range []string{"kube-apiserver", "kubelet"} {
		if v := m.Versions[c]; v != "" && (low == "" || versions.Compare(v, low) < 0) {
			low = v
		}
	}
	return low
}

// outdated says whether a machine runs something else than its set, and has to
// be upgraded with care.
func (p *planner) outdated(m topology.Machine) bool {
	return p.differs(m) && !p.stray(m)
}

// stray says whether a machine was never raised completely in this cluster,
// and runs something else than declared: it has nothing to lose, and is set up
// anew.
func (p *planner) stray(m topology.Machine) bool {
	if p.foreign(m) {
		return true
	}
	if m.Is(versions.Member) {
		seen, isMember := p.o.Members[m.Name]
		return len(p.o.Members) > 0 && (!isMember || seen.Learner) && p.differs(m)
	}
	_, known := p.o.Nodes[m.Name]
	if m.Role != versions.Worker || !p.o.API || known || !p.differs(m) {
		return false
	}
	s := p.o.Machines[m.Name]
	return s.Owner == "" || versions.Compare(s.Running(), m.Set.Kubernetes) > 0
}

// foreign says whether another cluster, or an earlier life of this one under
// another name, left something on the machine.
func (p *planner) foreign(m topology.Machine) bool {
	o := p.o.Machines[m.Name].Owner
	return o != "" && (o != p.c.Name || p.o.Clearing)
}

// differs says whether the active slot holds something else than the set.
func (p *planner) differs(m topology.Machine) bool {
	s := p.o.Machines[m.Name]
	if s.Active == "" {
		return false
	}
	for _, c := range m.Components() {
		if s.Versions[c.Name] != c.Version {
			return true
		}
	}
	return false
}

// lacks lists components that a machine is to have and does not, in whatever
// version.
func (p *planner) lacks(m topology.Machine) []string {
	var out []string
	for _, c := range m.Components() {
		if p.o.Machines[m.Name].Versions[c.Name] == "" {
			out = append(out, c.Name)
		}
	}
	return out
}

// fresh says whether nothing was ever set up on the machine.
func (p *planner) fresh(m topology.Machine) bool {
	s := p.o.Machines[m.Name]
	return !s.Exists || s.Reached && (s.Active == "" || p.stray(m))
}

// asleep says whether the machine is there and cannot be looked into. What it
// needs shows when it is awake: then the plan is computed anew.
func (p *planner) asleep(m topology.Machine) bool {
	s := p.o.Machines[m.Name]
	return s.Exists && !s.Reached
}

// pulled says whether a machine's idle slot has everything already.
func (p *planner) pulled(m topology.Machine) bool {
	s := p.o.Machines[m.Name]
	if p.foreign(m) {
		return false // it is wiped first
	}
	for _, c := range m.Components() {
		if s.Idle[c.Name] != c.Version {
			return false
		}
	}
	return true
}

// pull plans a pull, unless it is observed as done.
func (p *planner) pull(m topology.Machine, text, why string, s Step) {
	if !p.pulled(m) {
		p.add(Pull, m.Name, text, why, s)
	}
}

// down lists units of a part that should run and do not.
func (p *planner) down(m topology.Machine, part versions.Part) []string {
	var out []string
	for _, u := range nodeconf.UnitsOf(part) {
		if p.o.Machines[m.Name].Units[u] != "active" {
			out = append(out, u)
		}
	}
	return out
}

// Version is the lowest Kubernetes version that the control plane runs.
func Version(c *topology.Cluster, o Observed) string {
	low := ""
	for _, m := range c.Machines {
		if v := o.Machines[m.Name].Running(); m.Role == versions.Control && v != "" && (low == "" || versions.Compare(v, low) < 0) {
			low = v
		}
	}
	return low
}

// Waking lists the steps that wake machines which are there and were not
// reached, and that adopt bare ones: what these need shows when one can log in.
// When there are any, they come before everything else, and then the plan is
// made anew.
func (p *Plan) Waking(o Observed) []Step {
	var out []Step
	for _, s := range p.Steps {
		if s.Kind == Get && (o.Machines[s.Machine].Exists || s.Adopts) {
			out = append(out, s)
		}
	}
	return out
}

// Make computes the plan, or says why there is none.
func Make(c *topology.Cluster, o Observed, cat *versions.Catalogue) (*Plan, error) {
	p := newPlanner(c, o)
	if err := p.make(cat); err != nil {
		return nil, err
	}
	return p.ordered(), nil
}

// make puts all steps into the plan, those that need others as a rule behind them.
func (p *planner) make(cat *versions.Catalogue) error {
	if err := p.refuse(cat); err != nil {
		return err
	}
	if p.o.Restores != nil {
		p.restore()
		return nil
	}
	if next := p.movedNext(); len(next) > 0 {
		for _, m := range next {
			as, err := p.asRun(m, cat)
			if err != nil {
				return err
			}
			p.repair(as)
		}
		return nil
	}
	if p.namesFirst() || p.wakesLeaving() {
		return nil
	}
	if err := p.forNow(cat); err != nil {
		return err
	}
	owed := p.owed()
	p.raise(owed)
	if len(p.as) == 0 {
		p.upgrade(owed)
		p.shrink()
	}
	for _, m := range p.c.Machines {
		if p.replaces(m) && (p.o.Part == "" || p.o.Part == partOf(m)) {
			p.plan.Later = append(p.plan.Later, m.Name)
		}
	}
	if err := p.drains(); err != nil {
		return err
	}
	p.entrust()
	if p.o.Held {
		p.withoutWaves()
	}
	if p.plan.More = p.plan.More || len(p.later)+len(p.as)+len(p.plan.Later) > 0; len(p.plan.Steps) > 0 && !p.plan.More {
		var all []string
		for _, s := range p.plan.Steps {
			all = append(all, s.ID)
		}
		v := Last(all)
		p.add(v.Kind, "", v.Text, v.Why, v)
	}
	return nil
}

// entrust plans that keepers of backups are left with what belongs beside a snapshot, as it will
// be when nothing else is left to be done: what they have is of no use before.
func (p *planner) entrust() {
	if p.plan.More || len(p.later)+len(p.as)+len(p.plan.Later) > 0 {
		return
	}
	var before []string
	for _, s := range p.plan.Steps {
		if s.Kind != Wave && s.Kind != Soak {
			before = append(before, s.ID)
		}
	}
	for _, m := range p.c.With(versions.Keeper) {
		s := p.o.Machines[m.Name]
		if p.asleep(m) || s.Rest != "" && s.Rest == p.o.Rest {
			continue
		}
		why := "what is declared or trusted is not what it was"
		if s.Rest == "" {
			why = "it has nothing yet that belongs beside a snapshot"
		}
		needs := slices.DeleteFunc(slices.Clone(before), func(id string) bool { return !strings.HasSuffix(id, "/"+m.Name) })
		p.add(Entrust, m.Name, "leave with it, sealed, what its backups hold beside the snapshot", why, Step{Needs: append(needs, string(Roles))})
	}
}

// Last is the step that a change ends with, after those that it needs.
func Last(needs []string) Step {
	return Step{ID: string(Verify), Kind: Verify, Text: "check that every node is Ready and every component healthy", Why: "a change is done when the cluster is well", Needs: needs}
}

// refuse finds what cannot be done.
func (p *planner) refuse(cat *versions.Catalogue) error {
	high := ""
	for _, m := range p.c.Machines {
		s := p.o.Machines[m.Name]
		if v := s.Running(); m.Role == versions.Control && v != "" && (high == "" || versions.Compare(v, high) > 0) {
			high = v
		}
		if r := p.refuseMachine(m, s); r != nil {
			if p.o.Part == "" || p.o.Part == partOf(m) {
				return r
			}
			p.plan.Beside = append(p.plan.Beside, r.Error())
		}
	}
	if p.o.Founded {
		want := p.c.Set.Kubernetes
		for _, v := range []string{high, Version(p.c, p.o)} {
			if v == "" {
				continue
			}
			if err := cat.Hop(v, want); err != nil && !cat.GoesBack(v, want) {
				return err
			}
		}
	}
	for _, m := range p.c.Machines {
		s := p.o.Machines[m.Name]
		if v := s.Running(); m.Role == versions.Worker && v != "" && p.o.Founded && !p.stray(m) {
			// A pool that is held back goes back, too: a kubelet may be older than its API server.
			held := m.Set.Kubernetes != p.c.Set.Kubernetes && p.c.Set.Minor()-m.Set.Minor() <= versions.KubeletSkew
			// One that is newer than its API servers, which were restored, follows them.
			_, ours := cat.Set(v)
			follows := ours && high != "" && versions.Compare(v, high) > 0
			// Within a minor it goes back as the control plane does: a kubelet keeps nothing that
			// an older one of its minor does not read.
			patch := ours && versions.Minor(v) == m.Set.Minor()
			if versions.Compare(v, m.Set.Kubernetes) > 0 && !held && !follows && !patch {
				return &Refusal{fmt.Sprintf("worker %s runs %s, and %s, which is lower, is declared for it", m.Name, v, m.Set.Kubernetes), "declare " + v + " or higher, or a new pool"}
			}
			if behind := p.c.Set.Minor() - versions.Minor(v); behind > versions.KubeletSkew && high != "" {
				return &Refusal{fmt.Sprintf("worker %s runs %s, and would be %d minors behind its API servers on %s", m.Name, v, behind, p.c.Set.Kubernetes), fmt.Sprintf("upgrade its pool first: %d are allowed", versions.KubeletSkew)}
			}
		}
	}
	if err := p.founding(); err != nil {
		return err
	}
	return p.quorum()
}

// refuseMachine finds what cannot be done at one machine.
func (p *planner) refuseMachine(m topology.Machine, s MachineSeen) *Refusal {
	switch {
	case p.fixed(m) != "" && len(p.must(m)) > 0 && m.Role == versions.Balancer:
		return &Refusal{fmt.Sprintf("machine %s cannot become another one while it lives (%s), and none can come beside it, for %s", m.Name, enumerate(p.must(m)), p.fixed(m)), "replace it at an hour at which the endpoint may be away: verbund replace " + m.Name}
	case p.fixed(m) != "" && len(p.must(m)) > 0:
		return &Refusal{fmt.Sprintf("machine %s cannot become another one while it lives (%s), and none can take its place, for %s", m.Name, enumerate(p.must(m)), p.fixed(m)), "declare it as it is, or take it out of adopt"}
	case s.OtherHostKey:
		trusted := "replace " + m.Name
		if p.c.Listed {
			trusted = "take its hostKey out of the site file and compare the new one: verbund site meet"
		}
		return &Refusal{s.Trouble, "nothing was sent to it; find out who answers there, and if it was set up anew by somebody you trust, " + trusted}
	case p.foreign(m) && p.o.Clusters[s.Owner]:
		return &Refusal{fmt.Sprintf("machine %s belongs to cluster %s, which lives", m.Name, s.Owner), "take it out of that cluster first, or declare another machine"}
	}
	return nil
}

// founding refuses to found a datastore over data, or by others than began to.
func (p *planner) founding() error {
	if p.o.Founded || p.o.Restores != nil {
		return nil
	}
	if of := p.c.CopyOf; of != "" {
		return &Refusal{fmt.Sprintf("cluster %s is a copy of %s, and would hold nothing", p.c.Name, of), "found it from a backup of " + of + ": verbund backup restore NAME --as " + p.c.Name}
	}
	var declared []string
	data := ""
	for _, m := range p.c.With(versions.Member) {
		declared = append(declared, m.Name)
		if p.o.Machines[m.Name].Data && !p.foreign(m) {
			data = cmp.Or(data, m.Name)
		}
	}
	for name, s := range p.o.Machines {
		if s.Data && slices.Contains(p.o.Founders, name) && !slices.Contains(declared, name) {
			data = cmp.Or(data, name)
		}
	}
	switch {
	case data == "":
		return nil
	case len(p.o.Founders) == 0:
		return &Refusal{fmt.Sprintf("on machine %s lies a datastore that was not founded from here, and another one must not be founded over it", data),
			"bring the memory back that knows it, from version control or your own backup; or clear that machine first: verbund clear " + data}
	}
	slices.Sort(declared)
	if began := slices.Sorted(slices.Values(p.o.Founders)); !slices.Equal(began, declared) {
		return &Refusal{fmt.Sprintf("the founding of the datastore by %s was interrupted, and now %s are declared", strings.Join(began, ", "), strings.Join(declared, ", ")),
			"declare those again and converge, and change their number after that; or begin anew: verbund clear, then converge"}
	}
	return nil
}

// quorum refuses to go on when nothing of the datastore is left.
func (p *planner) quorum() error {
	if !p.o.Founded {
		return nil
	}
	if r := p.minority(); r != nil {
		return r
	}
	for name, s := range p.o.Machines {
		// One that is off will be switched on; the steps that need a quorum wait. One that is
		// on its way out has what the others join.
		if s.Exists && p.c.HoldsMember(p.c.RoleOf(name)) {
			return nil
		}
	}
	what := map[bool]string{true: "datastore", false: "control-plane"}[p.c.Apart]
	return &Refusal{fmt.Sprintf("the site answers, and has none of this cluster's %s machines, on which its datastore was", what),
		"nothing was changed; find out whether this is the site that they were ordered from, and whether it has lost them (verbund machines, verbund history): only if they are gone for good: verbund backup restore newest gets new ones, and founds the datastore on them from a backup"}
}

// minority refuses to go on when so many members are gone with their machines that those which
// are left decide nothing any more.
func (p *planner) minority() *Refusal {
	voters := 0
	var gone, left []string
	for _, name := range slices.Sorted(maps.Keys(p.o.Members)) {
		if p.o.Members[name].Learner {
			continue
		}
		voters++
		if !p.lost(name) {
			left = append(left, name)
		} else {
			gone = append(gone, name)
		}
	}
	if len(left) == 0 || len(left) > voters/2 {
		return nil
	}
	return &Refusal{fmt.Sprintf("%d of the %d members of the datastore are gone with their machines (%s), and those that are left (%s) decide nothing any more", len(gone), voters, enumerate(gone), enumerate(left)),
		fmt.Sprintf("nothing was changed; find out whether the site has lost them for good: then verbund backup restore --member %s goes on with what that one holds, and verbund backup restore newest with what the newest backup holds", left[0])}
}

// getting plans how machines are got, and how they get what they run from.
func (p *planner) getting(owed map[string][]string) {
	c := p.c
	r := &rewriting{planner: p}
	room := p.releaseBlank()
	arriving := p.arriving()
	// A control plane that gains a component does so before the workers need it.
	gains := slices.ContainsFunc(c.With(versions.API), func(m topology.Machine) bool { return p.outdated(m) && len(p.lacks(m)) > 0 })
	for _, m := range c.Machines {
		s := p.o.Machines[m.Name]
		if !s.Reached {
			text, why, needs := fmt.Sprintf("get a machine of size %s in zone %s", m.Size, m.Zone), "it is declared and the site does not have it", room
			switch {
			case s.Exists && c.Listed:
				text, why, needs = "log in, and take it over where it is not yet", "it was not reached: "+s.Trouble, nil
			case s.Exists:
				text, why, needs = "switch it on and log in", "it was not reached: "+s.Trouble, nil
			case m.Hardware != "":
				text, why, needs = "adopt the bare machine "+m.Hardware, "it is declared; what is on it shows when one can log in", nil
			case c.Listed:
				text, why, needs = fmt.Sprintf("take over the listed machine %s, of size %s in zone %s", m.Address, m.Size, m.Zone), "it is declared; what is on it shows when one can log in", nil
			}
			if !s.Exists {
				p.plan.Missing = append(p.plan.Missing, "machine "+m.Name)
				// Before there is one of its name again: it would take itself for the old one.
				needs = append(slices.Clone(needs), p.drop(m))
			}
			if begun := arriving[m.Name]; begun != "" {
				needs = append(slices.Clone(needs), begun)
				why = "an old one goes when it is there"
			}
			p.add(Get, m.Name, text, why, Step{Needs: needs, Adopts: (m.Hardware != "" || c.Listed) && !s.Exists})
		}
		if p.asleep(m) {
			continue
		}
		if p.outdated(m) || p.replaces(m) && p.careful(m) {
			// Where the others are it has to know before it is upgraded.
			if where := slices.DeleteFunc(slices.Clone(s.Differs), func(f string) bool { return !slices.Contains(nodeconf.Whereabouts, f) }); len(where) > 0 {
				p.add(Write, m.Name, "write "+enumerate(where), "not as rendered", Step{Files: where})
			}
			continue
		}
		switch {
		case p.fresh(m):
			text, why := "pull "+m.Carries()+" into its first slot", "it is not installed there"
			if _, now := p.as[m.Name]; now {
				why += "; what is declared follows when the API servers run it"
			}
			if p.foreign(m) {
				left := "no machine at the site belongs to that cluster any more"
				if s.Owner == c.Name {
					left = "a clear was interrupted"
				}
				p.add(Wipe, m.Name, "wipe what cluster "+s.Owner+" left on it", left, Step{Needs: []string{id(Get, m.Name)}, Final: true})
			} else if s.Active != "" {
				text, why = "level it with its group: pull "+m.Carries(), "it runs "+s.Running()+" and never was part of this cluster"
			}
			p.pull(m, text, why, Step{Needs: []string{id(Get, m.Name), id(Wipe, m.Name)}})
			p.add(Write, m.Name, "write its configuration and certificates", "it has none of this cluster", Step{Needs: []string{id(Pull, m.Name), id(Get, m.Name), id(Wipe, m.Name)}})
		case len(s.Differs) > 0:
			p.plan.Differs = append(p.plan.Differs, fmt.Sprintf("machine %s: %s", m.Name, enumerate(s.Differs)))
			switch {
			case p.careful(m) && gains && m.Role == versions.Worker:
				p.later[m.Name] = true
			case !p.careful(m):
				r.write(m, s)
			}
		}
	}
	r.inWaves(owed)
}

// members plans the datastore: founded by all its members at once, or joined by
// those that it lacks, one after the other. It returns the step before which no
// API server can run.
func (p *planner) members() (founder string) {
	ms := p.c.With(versions.Member)
	if !p.o.Founded {
		var needs []string
		for _, m := range ms {
			needs = append(needs, id(Write, m.Name), id(Get, m.Name))
		}
		text := "found the datastore"
		if len(ms) > 1 {
			text = fmt.Sprintf("found the datastore, by its %d members at once", len(ms))
		}
		return p.add(Found, "", text, "there is none", Step{Needs: needs, Guards: []Guard{OwnData}})
	}
	joined := ""
	for _, m := range ms {
		if p.outdated(m) || p.asleep(m) {
			continue
		}
		seen, isMember := p.o.Members[m.Name]
		dead := p.drop(m) != ""
		needs := []string{id(Write, m.Name), id(Get, m.Name), id(Drop, m.Name), joined}
		down := p.down(m, versions.Member)
		if !isMember || seen.Learner || dead || len(down) > 0 {
			text, why, waits := "join the datastore as a learner, and promote it", "it is no voting member yet", etcdWaits
			if isMember && !seen.Learner && !dead {
				text, why, waits = "start its datastore member", "it does not run", 0
			}
			joined = p.add(Member, m.Name, text, why, Step{Needs: needs, Guards: []Guard{OneJoins}, Waits: waits})
		}
	}
	return id(Member, ms[0].Name)
}

// drop plans that a member whose data is gone is taken out of the datastore, once; nothing of
// others.
func (p *planner) drop(m topology.Machine) string {
	if p.ids[id(Drop, m.Name)] {
		return id(Drop, m.Name)
	}
	if _, isMember := p.o.Members[m.Name]; !p.o.Founded || !isMember || !p.lost(m.Name) {
		return ""
	}
	return p.add(Drop, m.Name, "take its dead member out of the datastore", "its data is gone with the machine that had it, and a dead member counts against the quorum", Step{Guards: []Guard{OthersWell}, Final: true})
}

// lost says whether the data of a member is gone: with its machine, or because another one has
// its name now.
func (p *planner) lost(name string) bool {
	s := p.o.Machines[name]
	return !s.Exists || s.Blank && !p.o.Members[name].Learner
}

// etcdWaits is how long etcd wants all members to have been connected before it
// changes who they are.
const etcdWaits = 5 * time.Second

// raise plans everything up to a cluster that is complete. It is long because the order in
// which parts stand on each other is to be read from top to bottom.
func (p *planner) raise(owed map[string][]string) {
	c := p.c
	p.getting(owed)
	founder := p.members()
	control := c.With(versions.API)
	for _, m := range control {
		if p.outdated(m) || p.asleep(m) {
			continue
		}
		if p.fresh(m) || slices.ContainsFunc([]versions.Part{versions.API, versions.Acting, versions.Approver, versions.Keeper}, func(part versions.Part) bool { return m.Is(part) && len(p.down(m, part)) > 0 }) {
			p.add(Control, m.Name, startsControl(m), "they do not run", Step{Needs: []string{founder, id(Member, m.Name), id(Write, m.Name), id(Get, m.Name)}})
		}
		if m.Is(versions.Carrier) && (p.fresh(m) || len(p.down(m, versions.Carrier)) > 0) {
			p.add(Carry, m.Name, "stand for election as carrier of "+c.Endpoint.Carried.String(), "its carrier does not run", Step{Needs: []string{id(Control, m.Name), id(Write, m.Name)}})
		}
	}
	first := id(Control, control[0].Name)
	if !p.o.Roles && c.CopyOf == "" {
		p.add(Roles, "", "let the API servers use the kubelets", "the binding is not there", Step{Needs: []string{first}})
	}
	for _, m := range c.Of(versions.Balancer) {
		if !p.asleep(m) && (p.fresh(m) || len(p.down(m, versions.Balances)) > 0) {
			p.add(Balance, m.Name, "start the balancer", "it does not run", Step{Needs: []string{id(Write, m.Name), first}})
		}
	}
	if c.Endpoint.By == topology.ByExisting && !p.o.Endpoint {
		p.add(Answer, "", fmt.Sprintf("wait until %s answers for the API on port %d", c.Endpoint.Address, c.Endpoint.Port), "the existing balancer does not pass requests on yet", Step{Needs: []string{first}})
	}
	p.pointedLast()
	upgrading := false
	for _, m := range control {
		upgrading = upgrading || p.outdated(m)
	}
	// Nor while an old API server is still there that is being replaced.
	if !upgrading && !p.arrives[control[0].Group()] && c.CopyOf == "" {
		p.addOns(append([]string{first, string(Roles)}, p.fronts()...))
	}
	for _, m := range c.Machines {
		if !m.IsNode() || p.outdated(m) || p.asleep(m) || p.later[m.Name] {
			continue
		}
		n, known := p.o.Nodes[m.Name]
		down := p.down(m, versions.Node)
		start := p.fresh(m) || len(down) > 0 || p.o.API && !known || p.o.Machines[m.Name].Enrols
		if start && !p.ids[id(Node, m.Name)] {
			needs := []string{id(Write, m.Name), id(Get, m.Name), id(Control, m.Name)}
			if m.Role == versions.Worker {
				needs = append(needs, p.fronts()...)
				needs = append(needs, first)
			}
			p.add(Node, m.Name, "start container runtime, kubelet and proxy", "they do not run", Step{Needs: needs})
		}
		if !known || len(n.Differs) > 0 {
			why := "the node is new"
			if known {
				why = "the node differs: " + enumerate(n.Differs)
			}
			p.add(Label, m.Name, "set labels and taints", why, Step{Needs: []string{id(Node, m.Name)}, Detail: n.Differs})
		}
		// One whose files are written with care is waited for there.
		if !p.ids[id(Ready, m.Name)] && (start || !n.Ready || restarts(p.o.Machines[m.Name].Differs)) {
			why := "it has just been started or changed"
			if !start && known && !n.Ready {
				why = "it is not Ready: " + n.Trouble
			}
			p.add(Ready, m.Name, "wait until the node is Ready", why, Step{Needs: []string{id(Node, m.Name), id(Label, m.Name), id(Write, m.Name), string(Network)}})
		}
		if n.Cordoned && !p.outdated(m) {
			p.add(Uncordon, m.Name, "let pods onto it again", "an earlier run cordoned it and was interrupted", Step{Needs: []string{id(Ready, m.Name)}})
		}
		p.letIn(m)
	}
	for _, m := range control {
		if !m.IsNode() && !p.outdated(m) && !p.asleep(m) {
			p.letIn(m)
		}
	}
}

// letIn plans that the balancer sends requests to a machine that serves: one that is new, or that
// was taken out.
func (p *planner) letIn(m topology.Machine) {
	if !p.o.Resting[m.Name] && !p.ids[id(Rest, m.Name)] && !p.enters(m) || p.ids[id(Return, m.Name)] {
		return
	}
	text, why := "put it back into the balancer", "it serves again"
	switch {
	case p.enters(m):
		text, why = "let requests come to it from the balancer", "it is new, and serves now"
	case p.o.Resting[m.Name]:
		why = "an earlier run took it out and was interrupted"
	}
	p.add(Return, m.Name, text, why, Step{Needs: append([]string{id(Ready, m.Name), id(Control, m.Name), id(Uncordon, m.Name)}, p.fronts()...)})
}

// startsControl says what starts on a control-plane machine.
func startsControl(m topology.Machine) string {
	if !m.Is(versions.Acting) {
		return "start the API server"
	}
	return "start API server, controller manager and scheduler"
}

// enters says whether a machine is new in a living cluster, and is to get requests from the
// balancer: it rests there from the beginning, until it serves.
func (p *planner) enters(m topology.Machine) bool {
	return p.o.Founded && !p.o.Machines[m.Name].Exists && len(p.c.Of(versions.Balancer)) > 0 && (m.Is(versions.API) || len(p.c.Forward) > 0)
}

// restarts says whether writing files restarts anything: names are looked up
// anew each time.
func restarts(files []string) bool {
	return slices.ContainsFunc(files, func(f string) bool { return f != nodeconf.Hosts && f != "/etc/hostname" })
}

// fronts are the steps after which the endpoint answers.
func (p *planner) fronts() []string {
	if p.answers != nil {
		return p.answers
	}
	out := []string{string(Answer)}
	for _, b := range p.c.Of(versions.Balancer) {
		out = append(out, id(Balance, b.Name), id(Write, b.Name))
	}
	// The first that stands for election carries the address until another is up.
	for _, m := range p.c.With(versions.Carrier)[:min(1, len(p.c.With(versions.Carrier)))] {
		out = append(out, id(Carry, m.Name))
	}
	p.answers = slices.Clip(out)
	return p.answers
}

// addOns plans the add-ons after the steps that they need.
func (p *planner) addOns(needs []string) {
	for _, a := range []struct {
		kind          Kind
		name, version string
		title, args   string
	}{{Network, versions.NetworkAddOn, p.c.Set.Fairway, "network plugin fairway", strings.Join(p.c.PluginArgs(), " ")}, {DNS, versions.DNSAddOn, p.c.Set.DNS, "cluster DNS", strings.Join(p.c.DNSArgs(), " ")}} {
		seen := p.o.AddOns[a.name]
		switch {
		case seen.Version == "":
			p.plan.Missing = append(p.plan.Missing, "add-on "+a.name)
			p.add(a.kind, "", "install "+a.title+" "+a.version, "it is not there", Step{Needs: needs, As: p.fits})
		case seen.Version != a.version:
			p.add(a.kind, "", fmt.Sprintf("move %s from %s to %s", a.title, seen.Version, a.version), "it has to fit Kubernetes "+p.c.Set.Kubernetes, Step{Needs: needs, As: p.fits})
		case seen.Trust != p.o.TrustMark && seen.Trust != "":
			p.plan.Differs = append(p.plan.Differs, "what add-on "+a.name+" was started with")
			p.add(a.kind, "", "start "+a.title+" anew, so that it goes by the authorities and the endpoint as they are now", "its pods were started before those changed", Step{Needs: append(slices.Clone(needs), p.settled...)})
		case seen.Args != a.args:
			p.plan.Differs = append(p.plan.Differs, "settings of add-on "+a.name)
			p.add(a.kind, "", "tell "+a.title+" its settings: "+cmp.Or(a.args, "none"), fmt.Sprintf("it was told %q", seen.Args), Step{Needs: needs, As: p.fits})
		}
	}
}

// upgrade plans the way of living machines to the declared versions: backup, control plane
// one by one, add-ons, pools in waves. What gives way to new machines is left for the plans
// after this one, and what has to come after it as well.
func (p *planner) upgrade(owed map[string][]string) {
	outdated := slices.DeleteFunc(slices.Clone(p.c.Machines), func(m topology.Machine) bool { return !p.outdated(m) })
	if len(outdated) == 0 && !p.laterOnes() {
		return
	}
	if len(outdated) > 0 {
		p.plan.From, p.plan.To = Version(p.c, p.o), p.c.Set.Kubernetes
		if !slices.ContainsFunc(outdated, upholds) {
			p.plan.From, p.plan.To = p.o.Machines[outdated[0].Name].Running(), outdated[0].Set.Kubernetes
		}
	}
	// Whatever repairs the cluster as it is comes before changing it.
	var before []string
	for _, s := range p.plan.Steps {
		before = append(before, s.ID)
	}
	u := &upgrading{planner: p, owed: owed, before: before, after: before}
	if !u.upholding(outdated) {
		p.plan.More = true
		return
	}
	u.pools()
}

// upholds says whether a machine is one of those that the cluster stands on.
func upholds(m topology.Machine) bool {
	return m.Role == versions.Control || m.Role == versions.Datastore
}

// laterOnes says whether any machine gives way to a new one after this plan.
func (p *planner) laterOnes() bool { return slices.ContainsFunc(p.c.Machines, p.replaces) }

// upgrading plans waves, one after the other.
type upgrading struct {
	*planner
	owed   map[string][]string
	before []string // everything that repairs the cluster as it is
	after  []string // what the next wave has to come after
}

// upholding plans the datastore's machines and the control plane. It says whether the pools
// may follow in the same plan.
func (u *upgrading) upholding(outdated []topology.Machine) bool {
	control := slices.ContainsFunc(outdated, upholds)
	if control && u.o.Backup != u.plan.From && !u.ids[string(Backup)] {
		u.after = []string{u.backup(u.before)}
	}
	for _, name := range u.c.Groups() {
		if topology.IsPool(name) {
			continue
		}
		if !u.group(name, func(m topology.Machine, needs []string) string { return u.control(m, needs) }) {
			return false
		}
	}
	if control {
		u.addOns(u.after)
		u.after = append(slices.Clone(u.after), string(Network), string(DNS))
	}
	return true
}

// backup plans the backup that is the way back.
func (p *planner) backup(needs []string) string {
	return p.add(Backup, "", "back the datastore up to a file", "a datastore does not go back to an older version; the backup is the way back", Step{Needs: needs})
}

// pools plans the workers, and the balancer after them.
func (u *upgrading) pools() {
	forwarded := len(u.c.Of(versions.Balancer)) > 0 && len(u.c.Forward) > 0
	together := u.c.Together || u.o.Part != ""
	first, all := u.after, []string(nil)
	for _, name := range u.c.Groups() {
		if !topology.IsPool(name) {
			continue
		}
		if together {
			u.after = first
		}
		if !u.group(name, func(m topology.Machine, needs []string) string { return u.worker(m, needs, forwarded) }) {
			u.plan.More = true
			if !together {
				u.inWave = nil
				return
			}
		}
		all = append(all, u.after...)
	}
	u.inWave = nil
	for _, m := range u.c.Of(versions.Balancer) {
		if u.outdated(m) {
			u.pull(m, "pull into its idle slot", "its version differs", Step{Needs: first})
			u.add(Switch, m.Name, "switch the balancer and restart it", "its version differs", Step{Needs: append(slices.Concat(first, all), id(Pull, m.Name))})
		}
	}
}

// group plans the waves of one group, up to the first in which machines give way to new
// ones: that comes with another plan, when this one is done. It says whether all were planned.
func (u *upgrading) group(name string, machine func(topology.Machine, []string) string) bool {
	u.after = append(slices.Clone(u.after), u.owed[name]...)
	g := u.planner.group(name, u.runsOther)
	g.More = u.follows(name)
	replaced := slices.ContainsFunc(u.c.OfGroup(name), u.replaces)
	if u.arrives[name] {
		return false
	}
	for _, w := range g.Waves() {
		if w.Way == rollout.Replacement {
			return false
		}
		fetched := u.fetches(u.before)
		for _, n := range w.Machines {
			m, _ := u.c.Machine(n)
			u.pull(m, "pull "+m.Carries()+" into its idle slot", "it is to run it", Step{Needs: fetched})
		}
		begun := u.begin(w, u.after)
		var done []string
		for _, n := range w.Machines {
			m, _ := u.c.Machine(n)
			done = append(done, machine(m, []string{begun}))
		}
		u.inWave = nil
		u.after = u.end(w, done)
	}
	return !replaced
}

// control plans the upgrade of one machine that the cluster stands on.
func (u *upgrading) control(m topology.Machine, needs []string) string {
	c := u.c
	needs = append(slices.Clone(needs), id(Pull, m.Name))
	rests := len(c.Of(versions.Balancer)) > 0 && m.Role == versions.Control && len(c.Of(versions.Control)) > 1
	if rests && !u.o.Resting[m.Name] {
		u.add(Rest, m.Name, "take it out of the balancer", "no request may meet a stopped API server", Step{Needs: needs, Guards: u.quorumGuard(m)})
	}
	last := u.add(Switch, m.Name, u.switchText(m), "declared "+m.Carries(), Step{Needs: append(needs, id(Rest, m.Name)), Guards: u.quorumGuard(m), Final: true})
	last = u.add(Ready, m.Name, "wait until all of it is well on "+m.Carries(), "the next one may go only when this one is back", Step{Needs: []string{last}})
	last = u.relabel(m, last)
	if rests {
		last = u.add(Return, m.Name, "put it back into the balancer", "it serves again", Step{Needs: []string{last}})
	}
	return last
}

// switchText says from what to what a machine is switched.
func (p *planner) switchText(m topology.Machine) string {
	if lacks := p.lacks(m); len(lacks) > 0 && p.o.Machines[m.Name].Running() == m.Set.Kubernetes {
		return "switch to a slot that has " + enumerate(lacks) + ", too, and restart"
	}
	return fmt.Sprintf("switch from %s to %s and restart", cmp.Or(p.o.Machines[m.Name].Running(), "etcd "+p.o.Machines[m.Name].Versions["etcd"]), m.Carries())
}

func leads(m MemberSeen) int {
	if m.Leads {
		return 1
	}
	return 0
}

// relabel plans that a node gets the labels and taints that are declared together with
// an upgrade, before pods come to it again. It returns the step after which that is so.
func (p *planner) relabel(m topology.Machine, after string) string {
	n, known := p.o.Nodes[m.Name]
	if !m.IsNode() || !known || len(n.Differs) == 0 {
		return after
	}
	return p.add(Label, m.Name, "set labels and taints", "the node differs: "+enumerate(n.Differs), Step{Needs: []string{after}, Detail: n.Differs})
}

// worker plans the upgrade of one worker.
func (u *upgrading) worker(m topology.Machine, needs []string, forwarded bool) string {
	needs = append(slices.Clone(needs), id(Pull, m.Name))
	if forwarded && !u.o.Resting[m.Name] {
		u.add(Rest, m.Name, "take it out of the balancer", "the application's requests go elsewhere meanwhile", Step{Needs: needs})
	}
	if !u.o.Nodes[m.Name].Drained {
		u.drain(m.Name, "its kubelet is to be restarted", Step{Needs: append(slices.Clone(needs), id(Rest, m.Name))})
	}
	u.add(Switch, m.Name, u.switchText(m), "declared "+m.Set.Kubernetes, Step{Needs: append(slices.Clone(needs), id(Rest, m.Name), id(Drain, m.Name))})
	u.add(Ready, m.Name, "wait until the node is Ready on "+m.Set.Kubernetes, "the next wave may begin only when this one is back", Step{Needs: []string{id(Switch, m.Name)}})
	last := u.relabel(m, id(Ready, m.Name))
	last = u.add(Uncordon, m.Name, "let pods onto it again", "it is well", Step{Needs: []string{last}})
	if forwarded {
		last = u.add(Return, m.Name, "put it back into the balancer", "it serves again", Step{Needs: []string{last}})
	}
	return last
}

// weight orders how machines leave: those that hold least first.
var weight = map[versions.Role]int{versions.Control: 1, versions.Datastore: 2}

// gone lists machines that are there and not declared any more: the highest
// numbers first, workers before control-plane machines.
func (p *planner) gone() []string {
	var gone []string
	for name, s := range p.o.Machines {
		if !p.runs[name] && s.Exists {
			gone = append(gone, name)
		}
	}
	slices.SortFunc(gone, func(a, b string) int {
		if d := weight[p.o.Machines[a].Role] - weight[p.o.Machines[b].Role]; d != 0 {
			return d
		}
		return natural(b, a)
	})
	return gone
}

// releaseBlank gives back machines that never became part of the cluster,
// before anything else: what is declared may need their room.
func (p *planner) releaseBlank() []string {
	var out []string
	for _, name := range p.gone() {
		_, isNode := p.o.Nodes[name]
		_, isMember := p.o.Members[name]
		s := p.o.Machines[name]
		if isNode || isMember || s.Reached && s.Active != "" {
			continue
		}
		// One that is off holds nothing either, if the API says that it is no node.
		if !s.Reached && p.o.Founded && !p.o.API {
			continue
		}
		p.plan.Removes = append(p.plan.Removes, Removal{name, fmt.Sprintf("%s (blank, zone %s)", name, s.Zone)})
		out = append(out, p.add(Release, name, "give the machine back to the site", "it is not declared any more and was never used", Step{Final: true}))
	}
	return out
}

// shrink plans how machines leave that are not declared any more.
func (p *planner) shrink() {
	gone := slices.DeleteFunc(p.gone(), func(name string) bool { return p.ids[id(Release, name)] })
	var before []string
	for _, s := range p.plan.Steps {
		before = append(before, s.ID)
	}
	last := ""
	left := len(p.o.Members)
	for _, m := range p.c.With(versions.Member) {
		if _, is := p.o.Members[m.Name]; !is {
			left++ // it joins before
		}
	}
	for _, name := range gone {
		s := p.o.Machines[name]
		_, isNode := p.o.Nodes[name]
		_, isMember := p.o.Members[name]
		needs := before
		p.plan.Removes = append(p.plan.Removes, Removal{name, fmt.Sprintf("%s (%s, zone %s)", name, s.Role, s.Zone)})
		if isNode && s.Role == versions.Worker && s.Reached {
			needs = []string{p.drain(name, "it leaves the cluster", Step{Needs: needs})}
		}
		if isMember {
			left--
			needs = []string{p.add(Leave, name, "take its member out of the datastore", "it leaves the cluster", Step{Needs: append(slices.Clone(needs), last), Guards: []Guard{OthersWell}, Final: true})}
			last = needs[0]
			if left < 3 && left < len(p.o.Members) {
				p.plan.Endangers = append(p.plan.Endangers, fmt.Sprintf("the datastore keeps %d of %d members; it then survives the loss of %d", left, len(p.o.Members), max(left-1, 0)/2))
			}
		}
		if isNode {
			needs = []string{p.add(Unnode, name, "take the node out of the cluster", "it leaves", Step{Needs: needs})}
		}
		rel := p.add(Release, name, givesBack(p.c.Listed), "it is not declared any more", Step{Needs: needs, Final: true})
		if isMember {
			last = rel
		}
	}
	// A node that one of our machines left behind, as a kubelet does that
	// registers while its machine goes. One that nobody but its owner knows is
	// left alone, and so are all of a copy.
	for _, name := range slices.Sorted(maps.Keys(p.o.Nodes)) {
		if !p.runs[name] && !p.o.Machines[name].Exists && !p.o.Nodes[name].Ready && p.c.CopyOf == "" && strings.HasPrefix(name, p.c.Name+"-") {
			p.plan.Removes = append(p.plan.Removes, Removal{name, name + " (a node without a machine)"})
			p.add(Unnode, name, "take the node out of the cluster", "the site has no such machine any more", Step{Needs: before})
		}
	}
}

// natural compares names so that numbers at their end count as numbers.
func natural(a, b string) int {
	x, y := strings.TrimRight(a, "0123456789"), strings.TrimRight(b, "0123456789")
	if x != y {
		return strings.Compare(x, y)
	}
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	return strings.Compare(a, b)
}

func enumerate(list []string) string {
	const most = 3
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}
