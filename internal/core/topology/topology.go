package topology

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
)

// Cluster is a declaration worked out: every machine with its name, place and
// address.
type Cluster struct {
	Name      string
	Site      string
	Set       versions.Set
	Domain    string // of names inside the cluster
	Pods      netip.Prefix
	Services  netip.Prefix
	Endpoint  Endpoint
	Registry  string // host:port of the site's registry
	Forward   []declare.Forward
	Machines  []Machine // control first, then pools as declared, then the balancer
	hostsText string
}

// Endpoint is where the API is reached.
type Endpoint struct {
	Name    string
	Address netip.Addr
	Port    int
}

// Machine is one machine that there should be.
type Machine struct {
	Name     string
	Role     versions.Role
	Pool     string // name of the pool, of workers
	Index    int    // from 1
	Zone     string
	Size     string
	Address  netip.Addr
	Labels   map[string]string
	Taints   []declare.Taint
	Batch    int
	Patience time.Duration
	// Members are the control-plane machines that the datastore had, this one
	// included, when this machine's member was born. One alone founds it.
	Members []string
}

// IsNode says whether the cluster knows the machine as a node.
func (m Machine) IsNode() bool { return m.Role != versions.Balancer }

// ControlTaint keeps ordinary pods off control-plane machines.
var ControlTaint = declare.Taint{Key: "node-role.kubernetes.io/control-plane", Effect: "NoSchedule"}

// Memory is what earlier runs fixed and a new one must keep.
type Memory struct {
	Addresses map[string]netip.Addr // by machine
	Members   map[string][]string   // by control-plane machine: see Machine.Members
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
// new ones get the lowest free address of the site's block.
func Build(d *declare.Declaration, s *declare.Site, set versions.Set, mem Memory) (*Cluster, error) {
	c := &Cluster{
		Name: d.Name, Site: d.Site, Set: set, Domain: d.DNS.Domain, Pods: d.Ranges.Pods, Services: d.Ranges.Services,
		Endpoint: Endpoint{Name: d.Endpoint.Name, Port: d.Endpoint.Port},
		Registry: fmt.Sprintf("registry.%s.test:%d", s.Name, RegistryPort),
	}
	// Labels that anyone would expect: the failure domain and the pool.
	labels := func(zone, pool string, more map[string]string) map[string]string {
		l := map[string]string{"topology.kubernetes.io/zone": zone}
		if pool != "" {
			l["verbund.test/pool"] = pool
		}
		maps.Copy(l, more)
		return l
	}
	for i := range d.Control.Count {
		z := d.Control.Zones[i%len(d.Control.Zones)]
		c.Machines = append(c.Machines, Machine{
			Name: fmt.Sprintf("%s-control-%d", d.Name, i+1), Role: versions.Control, Index: i + 1, Zone: z, Size: d.Control.Size,
			Labels: labels(z, "", map[string]string{"node-role.kubernetes.io/control-plane": ""}), Taints: []declare.Taint{ControlTaint},
			Batch: 1, Patience: 2 * time.Minute,
		})
	}
	for pi, p := range d.Pools {
		for i := range p.Count {
			z := p.Zones[(i+pi)%len(p.Zones)]
			c.Machines = append(c.Machines, Machine{
				Name: fmt.Sprintf("%s-%s-%d", d.Name, p.Name, i+1), Role: versions.Worker, Pool: p.Name, Index: i + 1, Zone: z, Size: p.Size,
				Labels: labels(z, p.Name, p.Labels), Taints: p.Taints, Batch: p.Rollout.Batch, Patience: time.Duration(p.Rollout.Patience),
			})
		}
	}
	if b := d.Endpoint.Balancer; b != nil {
		c.Machines = append(c.Machines, Machine{Name: d.Name + "-balancer-1", Role: versions.Balancer, Index: 1, Zone: s.Zones[0].Name, Size: b.Size})
		c.Forward = b.Forward
	}
	if err := c.address(s.Addresses, mem.Addresses); err != nil {
		return nil, err
	}
	var members []string
	for i := range c.Machines {
		m := &c.Machines[i]
		if m.Role == versions.Control {
			members = append(members, m.Name)
			m.Members = slices.Clone(members)
			if born := mem.Members[m.Name]; born != nil {
				m.Members = born
			}
		}
	}
	c.Endpoint.Address = c.Machines[0].Address
	if b := c.Of(versions.Balancer); len(b) > 0 {
		c.Endpoint.Address = b[0].Address
	}
	c.hostsText = c.hosts(s)
	return c, nil
}

func (c *Cluster) address(block netip.Prefix, known map[string]netip.Addr) error {
	taken := map[netip.Addr]bool{}
	for _, a := range known {
		taken[a] = true
	}
	next := SiteAddress(block, reserved)
	for i := range c.Machines {
		m := &c.Machines[i]
		if a, ok := known[m.Name]; ok && block.Contains(a) {
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

// Machine finds a machine by name.
func (c *Cluster) Machine(name string) (Machine, bool) {
	i := slices.IndexFunc(c.Machines, func(m Machine) bool { return m.Name == name })
	if i < 0 {
		return Machine{}, false
	}
	return c.Machines[i], true
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
	t := fmt.Sprintf("# names of cluster %s; written by verbund\n127.0.0.1 localhost\n%s registry.%s.test\n%s %s\n",
		c.Name, SiteAddress(s.Addresses, 2), s.Name, c.Endpoint.Address, c.Endpoint.Name)
	b := []byte(t)
	for _, m := range c.Machines {
		b = m.Address.AppendTo(b)
		b = append(append(append(b, ' '), m.Name...), '\n')
	}
	return string(b)
}
