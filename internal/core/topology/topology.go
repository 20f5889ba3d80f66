package topology

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/rollout"
	"verbund/internal/core/versions"
)

// Carries names what the machine is there for, with its version: v1.37.2, or
// etcd v3.7.3.
func (m Machine) Carries() string {
	if m.Is(versions.API) || m.Is(versions.Node) {
		return m.Set.Kubernetes
	}
	k := m.Components()[0]
	return k.Name + " " + k.Version
}

// Cluster is a declaration worked out: every machine with its name, place and
// address.
type Cluster struct {
	Name       string
	Site       string
	CopyOf     string       // the cluster of which it is a copy: nothing acts on what its API holds
	Set        versions.Set // with add-ons on versions of their own
	Domain     string       // of names inside the cluster
	Resolvers  []netip.Addr // know all other names
	Pods       netip.Prefix
	PerNode    int // pod addresses of each node, a power of two
	Services   netip.Prefix
	Endpoint   Endpoint
	Names      []string // further ones in the API server's certificate
	Registry   string   // host:port of the site's registry
	Forward    []declare.Forward
	Network    declare.Network
	Components map[string]declare.Component
	System     declare.System
	Trust      declare.Trust
	Backup     declare.Keeping
	Apart      bool                      // the datastore has machines of its own
	Nodes      bool                      // control-plane machines are nodes
	Real       bool                      // machines are real systems, which take as long as in life
	Wide       bool                      // the site has room for hundreds of machines
	Listed     bool                      // machines are those of a list, which stay when they are given back
	Machines   []Machine                 // control first, then datastore, pools as declared, the balancer
	Policies   map[string]rollout.Policy // by group: control, datastore, pools by name
	Window     *rollout.Window           // when a wave may begin; nil: at any time
	Together   bool                      // pools change together, and not one after the other
	Prefetch   int                       // waves before its own in which a machine fetches what it is to run
	Leaving    map[string]netip.Addr     // addresses of machines that are remembered, and not declared any more
	patience   map[string]time.Duration  // by pool
	hostsText  string
	digests    map[string]string // of the add-ons' images, by name
	index      map[string]int    // of Machines, by name
}

// Answers is what answers at the endpoint.
type Answers string

// What answers at the endpoint.
const (
	ByMachine  Answers = "machine" // the only control-plane machine
	ByBalancer Answers = "balancer"
	ByExisting Answers = "existing"
	ByCarrier  Answers = "virtual"
)

// CarrierLease is how long the holder of a virtual address may be silent, in the datastore,
// until another machine may have it.
const CarrierLease = 3 * time.Second

// takeOver is how much longer than behind a balancer nobody may answer at a virtual address: the
// lease of its holder has to end. If that one led the datastore, too, etcd keeps every lease for
// the time of the election and lets it begin anew with the next leader.
const takeOver = CarrierLease + time.Second

// Endpoint is where the API is reached.
type Endpoint struct {
	Name    string
	Address netip.Addr
	Port    int
	Also    []int // further ports
	By      Answers
	// Carried is the virtual address, if there is one: it answers at the
	// endpoint, or is about to.
	Carried netip.Addr
}

// Answers says what answers at the endpoint, and what is carried beside it.
func (e Endpoint) Answers() string {
	if e.By != ByCarrier && e.Carried.IsValid() {
		return string(e.By) + "+" + string(ByCarrier)
	}
	return string(e.By)
}

// Addr is where the endpoint answers, as host:port.
func (e Endpoint) Addr() string { return fmt.Sprintf("%s:%d", e.Address, e.Port) }

// Pause is how long the API may pause there at most when one of its machines is lost: most of a
// balancer, longer where the machines carry the address themselves.
func (e Endpoint) Pause(most time.Duration) time.Duration {
	if e.By == ByCarrier {
		return most + takeOver
	}
	return most
}

// Ports lists every port of the endpoint, the first one first.
func (e Endpoint) Ports() []int { return append([]int{e.Port}, e.Also...) }

// Machine is one machine that there should be.
type Machine struct {
	Name      string
	Role      versions.Role
	Parts     []versions.Part // what it does, in the order of starting
	Set       versions.Set    // what it runs
	Pool      string          // name of the pool, of workers
	Index     int             // at the end of its name
	Zone      string
	Size      string
	Image     declare.Image
	OwnSystem bool   // the declaration says from which system it is made; else it is its set's
	Hardware  string // of one that is adopted
	ByToken   bool   // it asks for its first certificate with an enrolment token
	Address   netip.Addr
	Labels    map[string]string
	Taints    []declare.Taint
	Patience  time.Duration
	// Members are the machines whose members the datastore had, this one
	// included, when this machine's member was born.
	Members []string
	// Peers are the addresses that those had then, as far as they are remembered.
	Peers map[string]netip.Addr
	// Founds says that its member is among those that the datastore was, or is to
	// be, founded by; the others join.
	Founds bool
}

// PatienceOf is how long emptying a node may take: that of its pool, also of a
// machine that is not declared any more and says its pool only by its name.
func (c *Cluster) PatienceOf(machine string) time.Duration {
	if m, ok := c.Machine(machine); ok && m.Patience > 0 {
		return m.Patience
	}
	if d := c.patience[c.PoolOf(machine)]; d > 0 {
		return d
	}
	return defaultPatience
}

// defaultPatience is that of pools which do not say another one.
const defaultPatience = 2 * time.Minute

// PoolOf is the pool of a machine, by its name where it is not declared any more; empty
// when it is of none.
func (c *Cluster) PoolOf(machine string) string {
	if m, ok := c.Machine(machine); ok {
		return m.Pool
	}
	rest, ours := strings.CutPrefix(machine, c.Name+"-")
	if i := strings.LastIndex(rest, "-"); ours && i > 0 && c.RoleOf(machine) == versions.Worker {
		return rest[:i]
	}
	return ""
}

// RoleOf reads a machine's role from its name, for those that are not declared any
// more: a pool may be called as it likes, also control-rooms.
func (c *Cluster) RoleOf(machine string) versions.Role {
	if m, ok := c.Machine(machine); ok {
		return m.Role
	}
	rest := strings.TrimPrefix(machine, c.Name+"-")
	switch rest[:max(strings.LastIndex(rest, "-"), 0)] {
	case groupControl:
		return versions.Control
	case groupDatastore:
		return versions.Datastore
	case groupBalancer:
		return versions.Balancer
	}
	return versions.Worker
}

// Names of the groups of machines that are no pools.
const (
	groupControl   = "control"
	groupDatastore = "datastore"
	groupBalancer  = "balancer"
)

// HoldsMember says whether machines of a role have a member of the datastore.
func (c *Cluster) HoldsMember(role versions.Role) bool {
	return role == versions.Datastore || role == versions.Control && !c.Apart
}

// Batch is how many nodes at a time may be without something that runs on each of
// them: as many as the pool with the smallest batch lets go.
func (c *Cluster) Batch() int {
	n := 0
	for _, m := range c.Machines {
		if b := c.Policies[m.Pool].Batch; m.Pool != "" && (n == 0 || b < n) {
			n = b
		}
	}
	return max(n, 1)
}

// Is says whether a machine has a part.
func (m Machine) Is(p versions.Part) bool { return slices.Contains(m.Parts, p) }

// IsNode says whether the cluster knows the machine as a node.
func (m Machine) IsNode() bool { return m.Is(versions.Node) }

// ByToken says whether any machine enrols with a token.
func (c *Cluster) ByToken() bool {
	return slices.ContainsFunc(c.Machines, func(m Machine) bool { return m.ByToken })
}

// Components lists what the machine runs, in the order of starting.
func (m Machine) Components() []versions.Component { return m.Set.Components(m.Parts) }

// ControlTaint keeps ordinary pods off control-plane machines.
var ControlTaint = declare.Taint{Key: "node-role.kubernetes.io/control-plane", Effect: "NoSchedule"}

// Memory is what earlier runs fixed and a new one must keep.
type Memory struct {
	Addresses map[string]netip.Addr            // by machine
	Members   map[string][]string              // by machine: see Machine.Members
	Restoring bool                             // members get their data from a backup: none founds
	Peers     map[string]map[string]netip.Addr // by machine: see Machine.Peers
	Founders  []string                         // machines whose members found the datastore
	Counts    map[string]int                   // of pools whose count is a range
	Numbers   map[string][]int                 // of machines, by group and place; of others from 1 on
	Zones     map[string]string                // of machines that are there, by name
	Taken     []netip.Addr                     // addresses that others have at the site
}

// roomy is for how many machines a site may have room that is not a wide one.
const roomy = 100

// roomOf is for how many machines a site has room.
func roomOf(s *declare.Site) int {
	n := 0
	for _, z := range s.Zones {
		n += z.Machines
	}
	return n
}

// reserved addresses at the head of a site's block belong to the site itself:
// its gateway, registry and mirror.
const reserved = 10

// RegistryPort is where the site's registry listens, on its second address.
const RegistryPort = 5000

// SiteAddress is the n-th address of the block: 1 is the site, 2 its registry.
func SiteAddress(block netip.Prefix, n int) netip.Addr {
	a := block.Masked().Addr()
	for range n {
		a = a.Next()
	}
	return a
}

// ErrBlockFull says that the site's block has no address left.
var ErrBlockFull = errors.New("the site's address block is full; choose a larger one in the site file")

// Build works a declaration out. Machines keep the addresses that mem holds;
// new ones get the lowest free address of the machines' subnet.
func Build(d *declare.Declaration, s *declare.Site, cat *versions.Catalogue, mem Memory) (*Cluster, error) {
	set, ok := cat.Set(d.Kubernetes)
	if !ok {
		return nil, fmt.Errorf("the catalogue has no Kubernetes %s", d.Kubernetes)
	}
	if a, ok := d.AddOns["fairway"]; ok {
		set.Fairway = a.Version
	}
	if a, ok := d.AddOns["coredns"]; ok {
		set.DNS = a.Version
	}
	c := &Cluster{
		Name: d.Name, Site: d.Site, CopyOf: d.CopyOf, Set: set, Domain: d.DNS.Domain, Resolvers: d.DNS.Forward, Pods: d.Ranges.Pods, PerNode: d.Ranges.PerNode, Services: d.Ranges.Services,
		Endpoint: Endpoint{Name: d.Endpoint.Name, Port: d.Endpoint.Port, Also: d.Endpoint.Also, By: ByMachine}, Names: d.Control.Names,
		Registry: fmt.Sprintf("registry.%s.test:%d", s.Name, RegistryPort), Network: d.Network, Components: d.Components, System: d.System, Trust: d.Trust, Backup: d.Backup,
		Apart: d.Control.Datastore.Place == "apart", Nodes: d.Control.AsNodes(), Real: s.Kind != declare.SimulatedSite, Wide: roomOf(s) > roomy, Listed: s.Kind == declare.ListedSite,
	}
	c.digests = map[string]string{}
	for _, k := range set.Images() {
		c.digests[k.Name] = cat.Digest(k.Ref())
	}
	c.policies(d)
	c.controlPlane(d, mem)
	if err := c.pools(d, s, cat, mem); err != nil {
		return nil, err
	}
	if b := d.Endpoint.Balancer; b != nil {
		c.Machines = append(c.Machines, Machine{Name: d.Name + "-" + groupBalancer + "-1", Role: versions.Balancer, Parts: []versions.Part{versions.Balances}, Set: set, Index: 1, Zone: s.Zones[0].Name, Size: b.Size, Image: imageOf(d, "", set)})
		c.Forward = b.Forward
	}
	fixed := maps.Clone(d.System.Addresses)
	if fixed == nil {
		fixed = map[string]netip.Addr{}
	}
	if v := d.Endpoint.Virtual; v != nil {
		fixed[d.Endpoint.Name] = v.Address
	}
	block := d.Ranges.Machines
	if !block.IsValid() {
		block = s.Addresses
	}
	assign := func() error { return c.address(block, fixed, mem.Addresses, mem.Taken) }
	if c.Listed {
		assign = func() error { return c.choose(s, fixed, mem.Addresses, mem.Taken) }
	}
	if err := assign(); err != nil {
		return nil, err
	}
	c.members(mem)
	c.index = make(map[string]int, len(c.Machines))
	for i, m := range c.Machines {
		c.index[m.Name] = i
	}
	c.Leaving = map[string]netip.Addr{}
	for n, a := range mem.Addresses {
		if _, declared := c.index[n]; !declared {
			c.Leaving[n] = a
		}
	}
	c.answers(d)
	c.hostsText = c.hosts(s)
	return c, nil
}

// controlPlane adds the control-plane machines, and those of the datastore where it has
// machines of its own.
func (c *Cluster) controlPlane(d *declare.Declaration, mem Memory) {
	var parts []versions.Part
	if !c.Apart {
		parts = append(parts, versions.Member)
	}
	parts = append(parts, versions.API)
	if c.CopyOf == "" {
		parts = append(parts, versions.Acting)
	}
	if d.Endpoint.Virtual != nil {
		parts = append(parts, versions.Carrier)
	}
	if d.Trust.OwnRenewal() && c.CopyOf == "" {
		parts = append(parts, versions.Approver)
	}
	if d.Backup.Every > 0 {
		parts = append(parts, versions.Keeper)
	}
	if c.Nodes {
		parts = append(parts, versions.Node)
	}
	for i, n := range mem.numbers(groupControl, d.Control.Count) {
		z := mem.zone(fmt.Sprintf("%s-%s-%d", d.Name, groupControl, n), d.Control.Zones, i)
		m := Machine{
			Name: fmt.Sprintf("%s-%s-%d", d.Name, groupControl, n), Role: versions.Control, Parts: parts, Set: c.Set, Index: n, Zone: z, Size: d.Control.Size,
			Image: imageOf(d, d.Control.Image, c.Set), OwnSystem: d.Images[d.Control.Image].System != "", Patience: 2 * time.Minute,
		}
		if c.Nodes {
			m.Labels, m.Taints = labelsOf(z, "", map[string]string{"node-role.kubernetes.io/control-plane": ""}), []declare.Taint{ControlTaint}
		}
		c.Machines = append(c.Machines, m)
	}
	if ds := d.Control.Datastore; c.Apart {
		for i, n := range mem.numbers(groupDatastore, ds.Count) {
			c.Machines = append(c.Machines, Machine{
				Name: fmt.Sprintf("%s-%s-%d", d.Name, groupDatastore, n), Role: versions.Datastore, Parts: []versions.Part{versions.Member}, Set: c.Set, Index: n,
				Zone: mem.zone(fmt.Sprintf("%s-%s-%d", d.Name, groupDatastore, n), ds.Zones, i), Size: ds.Size, Image: imageOf(d, "", c.Set),
			})
		}
	}
}

// pools adds the workers, pool by pool. A pool begins with another zone than the one before
// it, so that small pools do not all lie in the first.
func (c *Cluster) pools(d *declare.Declaration, s *declare.Site, cat *versions.Catalogue, mem Memory) error {
	c.patience = map[string]time.Duration{}
	for pi, p := range d.Pools {
		c.patience[p.Name] = time.Duration(p.Rollout.Patience)
		set, ok := cat.Set(p.Kubernetes)
		if !ok {
			return fmt.Errorf("the catalogue has no Kubernetes %s", p.Kubernetes)
		}
		set.Fairway, set.DNS = c.Set.Fairway, c.Set.DNS
		count := p.Count.From
		if now, ok := mem.Counts[p.Name]; ok {
			count = min(max(now, p.Count.From), p.Count.To)
		}
		r := p.Rollout
		c.Policies[p.Name] = rollout.Policy{Way: rollout.Way(r.Way), Batch: r.Batch.Of(count), Surge: r.Surge.Of(count), Spread: r.Order == "spread", Trial: r.Trial, Soak: time.Duration(r.Soak), Hold: rollout.Hold(r.Hold), Failures: r.Failures}
		for i, n := range mem.numbers(p.Name, count) {
			z := mem.zone(fmt.Sprintf("%s-%s-%d", d.Name, p.Name, n), p.Zones, i+pi)
			m := Machine{
				Name: fmt.Sprintf("%s-%s-%d", d.Name, p.Name, n), Role: versions.Worker, Parts: []versions.Part{versions.Node}, Set: set, Pool: p.Name, Index: n,
				Size: p.Size, Image: imageOf(d, p.Image, set), OwnSystem: d.Images[p.Image].System != "", ByToken: p.Enrolment == "token", Taints: p.Taints, Patience: time.Duration(r.Patience),
			}
			if i < len(p.Adopt) {
				m.Hardware = p.Adopt[i]
				for _, b := range s.Bare {
					if b.Hardware == m.Hardware {
						z = b.Zone
					}
				}
			}
			m.Zone, m.Labels = z, labelsOf(z, p.Name, p.Labels)
			c.Machines = append(c.Machines, m)
		}
	}
	return nil
}

// answers says where the endpoint is, and what answers there.
func (c *Cluster) answers(d *declare.Declaration) {
	c.Endpoint.Address = c.Machines[0].Address
	if d.Endpoint.Virtual != nil {
		c.Endpoint.Carried = d.Endpoint.Virtual.Address
	}
	switch {
	case d.Endpoint.Balancer != nil:
		c.Endpoint.Address, c.Endpoint.By = c.Of(versions.Balancer)[0].Address, ByBalancer
	case d.Endpoint.Existing != nil:
		c.Endpoint.Address, c.Endpoint.By = d.Endpoint.Existing.Address, ByExisting
	case d.Endpoint.Virtual != nil:
		c.Endpoint.Address, c.Endpoint.By = d.Endpoint.Virtual.Address, ByCarrier
	}
}

// imageOf is a declared machine image, completed by the set's.
func imageOf(d *declare.Declaration, name string, set versions.Set) declare.Image {
	img := d.Images[name]
	if img.System == "" {
		img.System = set.Image
	}
	if img.Architecture == "" {
		img.Architecture = "amd64"
	}
	return img
}

// labelsOf are those that anyone would expect, the failure domain and the pool, and more.
func labelsOf(zone, pool string, more map[string]string) map[string]string {
	l := map[string]string{"topology.kubernetes.io/zone": zone}
	if pool != "" {
		l["verbund.test/pool"] = pool
	}
	maps.Copy(l, more)
	return l
}

// members says with whom each member of the datastore is born. All of them found
// it together; those that are declared later join those that are there.
func (c *Cluster) members(mem Memory) {
	var all []string
	for _, m := range c.Machines {
		if m.Is(versions.Member) {
			all = append(all, m.Name)
		}
	}
	n := 0
	for i := range c.Machines {
		m := &c.Machines[i]
		if !m.Is(versions.Member) {
			continue
		}
		n++
		m.Peers = mem.Peers[m.Name]
		if mem.Restoring {
			// Should it start before it has its data, it finds nobody, and founds nothing.
			m.Members, m.Peers = all, nil
			continue
		}
		switch born := mem.Members[m.Name]; {
		case born != nil:
			m.Members, m.Founds = born, slices.Contains(mem.Founders, m.Name)
		case len(mem.Members) == 0:
			m.Members, m.Founds = all, true
		default:
			m.Members = slices.Clone(all[:n])
		}
	}
}

// address gives every machine its address: the declared one, the one that it
// has, or the lowest free one.
func (c *Cluster) address(block netip.Prefix, fixed, known map[string]netip.Addr, others []netip.Addr) error {
	taken := map[netip.Addr]bool{}
	for _, a := range known {
		taken[a] = true
	}
	for _, a := range fixed {
		taken[a] = true
	}
	for _, a := range others {
		taken[a] = true
	}
	next := SiteAddress(block, reserved)
	for i := range c.Machines {
		m := &c.Machines[i]
		if a, ok := fixed[m.Name]; ok {
			m.Address = a
			continue
		}
		// One that somebody else has got meanwhile is not asked for again: a machine
		// that is there has its lease, and one that is not gets another address.
		if a, ok := known[m.Name]; ok && block.Contains(a) && !slices.Contains(others, a) {
			m.Address = a
			continue
		}
		for taken[next] || next.As4()[3] == 0 || next.As4()[3] == 255 {
			next = next.Next()
		}
		if !block.Contains(next) {
			return ErrBlockFull
		}
		m.Address, taken[next] = next, true
	}
	return nil
}

// ErrListShort says that the site's list has no machine left that is like a declared one.
var ErrListShort = errors.New("the site's list has no machine left")

// choose gives every machine one of the site's list: the declared one, the one that it has,
// or the first that is free there, of its size in its zone.
func (c *Cluster) choose(s *declare.Site, fixed, known map[string]netip.Addr, others []netip.Addr) error {
	taken := map[netip.Addr]bool{}
	for _, a := range others {
		taken[a] = true
	}
	fits := func(l declare.Listed, m *Machine) bool {
		return l.Zone == m.Zone && l.Size == m.Size && !taken[l.Address]
	}
	for i := range c.Machines {
		m := &c.Machines[i]
		a, ok := fixed[m.Name]
		if !ok {
			if a, ok = known[m.Name]; !ok {
				continue
			}
		}
		if l, there := s.ListedAt(a); there && fits(l, m) {
			m.Address, taken[a] = a, true
		} else if _, is := fixed[m.Name]; is {
			return fmt.Errorf("%s is declared for %s, of size %s in zone %s, and is not such a machine, or somebody else has it", a, m.Name, m.Size, m.Zone)
		}
	}
	// Those whom machines have that are on their way out are not free yet.
	for _, a := range known {
		taken[a] = true
	}
	for i := range c.Machines {
		m := &c.Machines[i]
		if m.Address.IsValid() {
			continue
		}
		j := slices.IndexFunc(s.Machines, func(l declare.Listed) bool { return fits(l, m) })
		if j < 0 {
			return fmt.Errorf("%w that is of size %s in zone %s, for %s; list another one in %s.site.yaml, or declare fewer", ErrListShort, m.Size, m.Zone, m.Name, s.Name)
		}
		m.Address = s.Machines[j].Address
		taken[m.Address] = true
	}
	return nil
}

// Of lists the machines of a role.
func (c *Cluster) Of(role versions.Role) []Machine {
	var ms []Machine
	for _, m := range c.Machines {
		if m.Role == role {
			ms = append(ms, m)
		}
	}
	return ms
}

// ImageRef is an add-on's image: by the pinned digest, so that its tag may move.
func (c *Cluster) ImageRef(k versions.Component) string {
	ref := c.Registry + "/" + k.Ref()
	if d := c.digests[k.Name]; d != "" {
		ref += "@" + d
	}
	return ref
}

// With lists the machines that have a part.
func (c *Cluster) With(p versions.Part) []Machine {
	var ms []Machine
	for _, m := range c.Machines {
		if m.Is(p) {
			ms = append(ms, m)
		}
	}
	return ms
}

// DNSArgs is what the cluster's DNS is told beside its domain.
func (c *Cluster) DNSArgs() []string {
	if len(c.Resolvers) == 0 {
		return nil
	}
	out := []string{"forward"}
	for _, a := range c.Resolvers {
		out = append(out, a.String())
	}
	return out
}

// PluginArgs is what the network plugin's containers are told.
func (c *Cluster) PluginArgs() []string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(c.Network.Settings)) {
		out = append(out, "--"+k+"="+c.Network.Settings[k])
	}
	return out
}

// Machine finds a machine by name.
func (c *Cluster) Machine(name string) (Machine, bool) {
	if i, ok := c.index[name]; ok {
		return c.Machines[i], true
	}
	return Machine{}, false
}

// Instead is a cluster that has another machine in the place of the one of its name.
func (c *Cluster) Instead(as Machine) *Cluster {
	other := *c
	other.Machines = slices.Clone(c.Machines)
	for i, m := range other.Machines {
		if m.Name == as.Name {
			other.Machines[i] = as
		}
	}
	return &other
}

// ServiceAddress is the n-th address of the service range: 1 is the API, 10 is
// DNS, as is customary.
func (c *Cluster) ServiceAddress(n int) netip.Addr { return SiteAddress(c.Services, n) }

// Server is the endpoint as a URL.
func (c *Cluster) Server() string {
	return fmt.Sprintf("https://%s:%d", c.Endpoint.Name, c.Endpoint.Port)
}

// Hosts is the text of every machine's name resolution file: it is made once,
// since a thousand machines share it.
func (c *Cluster) Hosts() string { return c.hostsText }

func (c *Cluster) hosts(s *declare.Site) string {
	t := fmt.Sprintf("# names of cluster %s; written by verbund\n127.0.0.1 localhost\n%s registry.%s.test\n", c.Name, s.RegistryAddress(), s.Name)
	if _, err := netip.ParseAddr(c.Endpoint.Name); err != nil { // an address needs no name
		t += fmt.Sprintf("%s %s\n", c.Endpoint.Address, c.Endpoint.Name)
	}
	b := []byte(t)
	for _, m := range c.Machines {
		b = m.Address.AppendTo(b)
		b = append(append(append(b, ' '), m.Name...), '\n')
	}
	return string(b)
}
