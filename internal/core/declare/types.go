package declare

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"
)

// Schema names the version of the declaration's format.
const Schema = "verbund/1"

// SiteSchema names the version of the site file's format.
const SiteSchema = "verbund-site/1"

// Declaration is a cluster as its owner wants it.
type Declaration struct {
	Schema     string   `yaml:"schema"`
	Name       string   `yaml:"name"`
	Kubernetes string   `yaml:"kubernetes"` // a version of the catalogue, such as v1.36.2
	Site       string   `yaml:"site"`       // the site file beside it is SITE.site.yaml
	Endpoint   Endpoint `yaml:"endpoint"`
	Ranges     Ranges   `yaml:"ranges"`
	DNS        DNS      `yaml:"dns"`
	Network    Network  `yaml:"network"`
	Control    Control  `yaml:"control"`
	Pools      []Pool   `yaml:"pools"`
}

// Endpoint is the one stable name and port of the API.
type Endpoint struct {
	Name     string    `yaml:"name"`
	Port     int       `yaml:"port"`
	Balancer *Balancer `yaml:"balancer"` // none: the name points at the only control-plane machine
}

// Balancer is the machine that answers at the endpoint.
type Balancer struct {
	Size    string    `yaml:"size"`
	Forward []Forward `yaml:"forward"`
}

// Forward publishes a node port of the workers at the balancer's address.
type Forward struct {
	Port int `yaml:"port"` // at the balancer
	To   int `yaml:"to"`   // the node port, 30000 to 32767
}

// Ranges are the address ranges inside the cluster.
type Ranges struct {
	Pods     netip.Prefix `yaml:"pods"`
	Services netip.Prefix `yaml:"services"`
}

// DNS is name resolution inside the cluster.
type DNS struct {
	Domain string `yaml:"domain"`
}

// Network names the network plugin.
type Network struct {
	Plugin string `yaml:"plugin"`
}

// Control describes the control-plane machines.
type Control struct {
	Count int      `yaml:"count"`
	Size  string   `yaml:"size"`
	Zones []string `yaml:"zones"`
}

// Pool is a named group of worker machines.
type Pool struct {
	Name      string            `yaml:"name"`
	Count     int               `yaml:"count"`
	Size      string            `yaml:"size"`
	Zones     []string          `yaml:"zones"`
	Labels    map[string]string `yaml:"labels"`
	Taints    []Taint           `yaml:"taints"`
	Rollout   Rollout           `yaml:"rollout"`
	Enrolment string            `yaml:"enrolment"` // issued, or token
}

// Taint keeps pods off a node that do not tolerate it.
type Taint struct {
	Key    string `yaml:"key"`
	Value  string `yaml:"value"`
	Effect string `yaml:"effect"`
}

func (t Taint) String() string { return t.Key + "=" + t.Value + ":" + t.Effect }

// Rollout says how changes reach the machines of a pool.
type Rollout struct {
	Way      string   `yaml:"way"`      // in-place
	Batch    int      `yaml:"batch"`    // machines at a time
	Patience Duration `yaml:"patience"` // how long a drain may take
}

// Site is where machines come from.
type Site struct {
	Schema    string          `yaml:"schema"`
	Name      string          `yaml:"name"`
	Kind      string          `yaml:"kind"`      // simulated
	Addresses netip.Prefix    `yaml:"addresses"` // the block that its machines get their addresses from
	Pace      int             `yaml:"pace"`      // how many times faster than life things go
	Seed      int             `yaml:"seed"`      // of everything random in the simulation
	Zones     []Zone          `yaml:"zones"`
	Sizes     map[string]Size `yaml:"sizes"`
}

// Zone is a failure domain of a site.
type Zone struct {
	Name     string `yaml:"name"`
	Machines int    `yaml:"machines"` // how many it has room for
}

// Size is how big a machine is.
type Size struct {
	CPUs   int   `yaml:"cpus"`
	Memory Bytes `yaml:"memory"`
	Disk   Bytes `yaml:"disk"`
}

// Duration is a time span written out with its unit: 2m, 90s.
type Duration time.Duration

// UnmarshalText reads a positive duration with a unit.
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	if err != nil || v <= 0 {
		return fmt.Errorf("%q is not a time span", b)
	}
	*d = Duration(v)
	return nil
}

func (d Duration) String() string {
	s := time.Duration(d).String()
	s = strings.TrimSuffix(s, "m0s") + strings.Repeat("m", strings.Count(s, "m0s"))
	return s
}

// Bytes is an amount of memory or disk, written with its unit: 8GiB.
type Bytes int64

// UnmarshalText reads a positive whole number of MiB or GiB.
func (v *Bytes) UnmarshalText(b []byte) error {
	for unit, f := range map[string]int64{"MiB": 1 << 20, "GiB": 1 << 30} {
		if num, ok := strings.CutSuffix(string(b), unit); ok {
			if n, err := strconv.ParseInt(num, 10, 64); err == nil && n > 0 && n < 1<<20 {
				*v = Bytes(n * f)
				return nil
			}
		}
	}
	return fmt.Errorf("%q is not an amount such as 512MiB or 8GiB", b)
}

func (v Bytes) String() string {
	if v%(1<<30) == 0 {
		return fmt.Sprintf("%dGiB", v>>30)
	}
	return fmt.Sprintf("%dMiB", v>>20)
}
