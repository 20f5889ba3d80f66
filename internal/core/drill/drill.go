package drill

import (
	"bytes"
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
	"verbund/internal/core/words"
)

//go:embed shipped.yaml
var shipped []byte

// usual is how long a step waits for something at most, where it does not say.
const usual = 2 * time.Minute

// Shipped are the drills that come with the tool.
func Shipped() []declare.Drill {
	var out []declare.Drill
	d := yaml.NewDecoder(bytes.NewReader(shipped))
	d.KnownFields(true)
	if err := d.Decode(&out); err != nil {
		panic("the shipped drills: " + err.Error()) // a test reads them
	}
	return out
}

// All are the drills of a cluster, in the order in which they are carried out: the shipped
// ones, each unless a declared one has its name, and then the declared ones. Shipped ones allow
// the API the pauses of its endpoint.
func All(e topology.Endpoint, declared []declare.Drill) []declare.Drill {
	out := slices.DeleteFunc(Shipped(), func(s declare.Drill) bool {
		return slices.ContainsFunc(declared, func(d declare.Drill) bool { return d.Name == s.Name })
	})
	for i, d := range out {
		if p := time.Duration(d.Holds.Pause); p > 0 {
			out[i].Holds.Pause = declare.Duration(e.Pause(p))
		}
	}
	return append(out, declared...)
}

// Facts are what is known of a cluster when a drill begins.
type Facts struct {
	Cluster *topology.Cluster
	Leader  string   // machine with the member that leads the datastore; empty: not known
	Holder  string   // machine that carries the virtual address; empty: none does
	Faults  []string // that the site can make happen
}

// Places that a step can name, beside pools, machines and zones.
const (
	atControl  = "control"
	atLeader   = "leader"
	atMember   = "member"
	atMajority = "majority"
	atHolder   = "holder"
	atBalancer = "balancer"
	atWorker   = "worker"
	atZone     = "zone"
)

// members are the machines with a member of the datastore, the leader first.
func (f Facts) members() []topology.Machine {
	ms := slices.Clone(f.Cluster.With(versions.Member))
	slices.SortStableFunc(ms, func(a, b topology.Machine) int {
		switch f.Leader {
		case a.Name:
			return -1
		case b.Name:
			return 1
		}
		return 0
	})
	return ms
}

// Where says which machines a place is, or which zone. An error says why it is nowhere.
func (f Facts) Where(at string) (machines []string, zone string, err error) {
	c := f.Cluster
	members := f.members()
	name := func(m topology.Machine) ([]string, string, error) { return []string{m.Name}, m.Zone, nil }
	switch at {
	case atLeader:
		if m, ok := c.Machine(f.Leader); ok {
			return name(m)
		}
		return nil, "", fmt.Errorf("nobody is known to lead the datastore")
	case atHolder:
		if m, ok := c.Machine(f.Holder); ok {
			return name(m)
		}
		return nil, "", fmt.Errorf("cluster %s has no virtual address that a machine carries", c.Name)
	case atMember:
		if len(members) < 3 {
			return nil, "", fmt.Errorf("the datastore has too few members to lose one")
		}
		return name(members[len(members)-1])
	case atMajority:
		if len(members) < 3 {
			return nil, "", fmt.Errorf("the datastore has too few members to have a majority beside others")
		}
		for _, m := range members[:len(members)/2+1] {
			machines = append(machines, m.Name)
		}
		return machines, "", nil
	case atControl:
		for _, m := range slices.Backward(c.With(versions.API)) {
			if m.Name != f.Leader && m.Name != f.Holder && len(c.With(versions.API)) > 1 {
				return name(m)
			}
		}
		return nil, "", fmt.Errorf("cluster %s has no control-plane machine that neither leads the datastore nor carries the address, beside another one", c.Name)
	case atBalancer:
		for _, m := range c.Of(versions.Balancer) {
			return name(m)
		}
		return nil, "", fmt.Errorf("cluster %s has no balancer of its own", c.Name)
	case atWorker:
		return f.worker()
	case atZone:
		return f.zone()
	}
	if m, ok := c.Machine(at); ok {
		return name(m)
	}
	for _, m := range c.Machines {
		if m.Pool == at && at != "" {
			machines = append(machines, m.Name)
		}
	}
	if len(machines) > 0 {
		return machines, "", nil
	}
	if ms := f.in(at); len(ms) > 0 {
		return ms, at, nil
	}
	return nil, "", fmt.Errorf("cluster %s has no pool, machine or zone %s", c.Name, at)
}

// in are the machines in a zone.
func (f Facts) in(zone string) []string {
	var out []string
	for _, m := range f.Cluster.Machines {
		if m.Zone == zone {
			out = append(out, m.Name)
		}
	}
	return out
}

// worker is the last machine of the first pool that has others to take its pods.
func (f Facts) worker() ([]string, string, error) {
	pools := map[string][]topology.Machine{}
	var order []string
	for _, m := range f.Cluster.Machines {
		if m.Pool != "" {
			if pools[m.Pool] == nil {
				order = append(order, m.Pool)
			}
			pools[m.Pool] = append(pools[m.Pool], m)
		}
	}
	for _, p := range order {
		if ms := pools[p]; len(ms) > 1 {
			m := ms[len(ms)-1]
			return []string{m.Name}, m.Zone, nil
		}
	}
	return nil, "", fmt.Errorf("cluster %s has no pool of two workers", f.Cluster.Name)
}

// zone is a zone with a member of the datastore, the leader's if it may be, without which the
// others are a majority, and which has no balancer: whose loss the cluster is to survive.
func (f Facts) zone() ([]string, string, error) {
	in, closed := map[string]int{}, map[string]bool{}
	for _, m := range f.members() {
		in[m.Zone]++
	}
	for _, m := range f.Cluster.Of(versions.Balancer) {
		closed[m.Zone] = true
	}
	members := f.members()
	for _, m := range members {
		if m.Zone != "" && !closed[m.Zone] && len(members)-in[m.Zone] > len(members)/2 {
			return f.in(m.Zone), m.Zone, nil
		}
	}
	return nil, "", fmt.Errorf("there is no zone that cluster %s is to survive the loss of: none with a member of the datastore, without a balancer, and with a majority elsewhere", f.Cluster.Name)
}

// Step is a step with everybody whom it hits.
type Step struct {
	declare.DrillStep
	Machines []string
	Zone     string
	Artefact string
	Command  []string // of Run, with the machines' names
}

// zoned are the faults that hit a zone.
var zoned = []string{"lost-zone", "cut-network", "one-way-network", "lossy-network", "slow-network", "mended-network"}

// Script works out whom the steps of a drill hit. An error says why it cannot be carried out
// on this cluster, or at this site.
func (f Facts) Script(d declare.Drill) ([]Step, error) {
	// Who a place is stays so through a drill, whoever leads meanwhile.
	var out []Step
	for i, s := range d.Steps {
		if w := s.Wrong(); len(w) > 0 {
			return nil, fmt.Errorf("step %d %s; %s", i+1, w[0][0], w[0][1])
		}
		if s.Within == 0 {
			s.Within = declare.Duration(usual)
		}
		x := Step{DrillStep: s}
		var err error
		switch {
		case s.Fault != "":
			err = f.hits(&x)
		case s.Ages != "":
			if x.Machines, _, err = f.Where(s.At); err == nil && len(x.Machines) != 1 {
				err = fmt.Errorf("certificate %s is to end on one machine, and %s are %d", s.Ages, s.At, len(x.Machines))
			}
		case s.Run != "":
			x.Command, err = f.command(s.Run)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}

// hits notes whom a fault hits.
func (f Facts) hits(x *Step) error {
	if !slices.Contains(f.Faults, x.Fault) {
		return fmt.Errorf("the site cannot make %s happen", x.Fault)
	}
	if strings.HasSuffix(x.Fault, "-blob") {
		named, err := f.command(x.At)
		if err != nil {
			return err
		}
		x.Artefact = named[0]
		return nil
	}
	ms, zone, err := f.Where(x.At)
	if err != nil {
		return err
	}
	if !slices.Contains(zoned, x.Fault) {
		x.Machines = ms
		return nil
	}
	if zone == "" {
		return fmt.Errorf("%s is no zone, and %s hits one", x.At, x.Fault)
	}
	x.Machines, x.Zone = f.in(zone), zone
	return nil
}

// command puts machines, and the version that the cluster runs, where a text has places in
// braces.
func (f Facts) command(text string) ([]string, error) {
	out := strings.Fields(text)
	for i, w := range out {
		before, rest, ok := strings.Cut(w, "{")
		place, after, closed := strings.Cut(rest, "}")
		switch {
		case !ok:
			continue
		case !closed:
			return nil, fmt.Errorf("%q has a brace that is not closed", text)
		case place == "version":
			out[i] = before + f.Cluster.Set.Kubernetes + after
			continue
		}
		ms, _, err := f.Where(place)
		if err != nil {
			return nil, err
		}
		if len(ms) != 1 {
			return nil, fmt.Errorf("%q wants one machine, and %s are %d", text, place, len(ms))
		}
		out[i] = before + ms[0] + after
	}
	return out, nil
}

// Mends are the faults that put right what a fault has disturbed; false where nothing does but
// converge.
func Mends(fault string) (string, bool) {
	m := declare.DrillFaults[fault]
	return m, m != ""
}

// InWords is a step as a person would say it.
func (x Step) InWords() string {
	switch {
	case x.Artefact != "":
		return x.Fault + " of " + x.Artefact
	case x.Fault != "" && x.Zone != "":
		return x.Fault + " of zone " + x.Zone
	case x.Fault != "":
		return x.Fault + " of " + strings.Join(x.Machines, ", ")
	case x.Ages != "":
		return fmt.Sprintf("give %s certificate %s anew, with its end %s away", x.Machines[0], x.Ages, x.Within)
	case x.Run != "" && x.Killed > 0:
		return fmt.Sprintf("verbund %s, killed after %d entries of its journal", strings.Join(x.Command, " "), x.Killed)
	case x.Run != "" && x.Fails:
		return "verbund " + strings.Join(x.Command, " ") + ", which is to fail"
	case x.Run != "":
		return "verbund " + strings.Join(x.Command, " ")
	case x.Until != "":
		return "wait for " + waits[x.Until]
	}
	return "wait " + x.Wait.String()
}

// waits are what is waited for, in words.
var waits = map[string]string{"writes": "the API to take writes", "no-writes": "the API to take none", "ailing": "status to say what is wrong", "well": "the cluster to be well"}

// Claim is one thing that has to hold, with what was measured.
type Claim struct {
	What     string `json:"what"`
	Limit    string `json:"limit"`
	Measured string `json:"measured"`
	Holds    bool   `json:"holds"`
}

// After is what was found when a drill was over.
type After struct {
	Ailing   []string // what is not well
	Cordoned []string // nodes that were not cordoned before
	Twice    []string // what is there twice, or that nobody declared
	Unmended []string // what could not be put right
}

// Judge holds what was measured and found against what a drill supposes.
func Judge(d declare.Drill, m Measured, a After) []Claim {
	var out []Claim
	pause := words.Brief(m.Pause)
	if p := time.Duration(d.Holds.Pause); p > 0 {
		out = append(out, Claim{"the API takes writes", "no pause longer than " + d.Holds.Pause.String(), "longest pause " + pause, m.Pause <= p && m.Writes > 0})
	}
	if d.Loses == "" {
		c := Claim{"what was acknowledged is kept", "no write lost", fmt.Sprintf("%d of %d lost", len(m.Lost), m.Writes), m.ReadBack && len(m.Lost) == 0 && m.Writes > 0}
		if !m.ReadBack {
			c.Measured = "it could not be read back"
		}
		out = append(out, c)
	}
	if f := d.Holds.Failed; f != nil && len(m.Watches) > 0 {
		out = append(out, Claim{"applications answer", fmt.Sprintf("at most %d wrong", *f), fmt.Sprintf("%d of %d wrong", m.Failed(), m.Answers()), m.Failed() <= *f && m.Answers() > 0})
	}
	found := func(what, limit string, is []string) {
		text := "none"
		if len(is) > 0 {
			text = strings.Join(is, "; ")
		}
		out = append(out, Claim{what, limit, text, len(is) == 0})
	}
	found("the cluster is well afterwards", "nothing ails", a.Ailing)
	found("nodes take pods as before", "no node cordoned", a.Cordoned)
	found("nothing was made twice", "machines, nodes and members as declared", a.Twice)
	found("everything was put right", "no fault left", a.Unmended)
	return out
}
