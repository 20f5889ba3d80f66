package declare

import (
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/versions"
)

var (
	label   = regexp.MustCompile(`^[a-z]([a-z0-9-]*[a-z0-9])?$`)
	domain  = regexp.MustCompile(`^([a-z0-9]([a-z0-9-]*[a-z0-9])?)(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*$`)
	lblKey  = regexp.MustCompile(`^([a-z0-9]([a-z0-9.-]*[a-z0-9])?/)?[A-Za-z0-9]([A-Za-z0-9_.-]*[A-Za-z0-9])?$`)
	lblVal  = regexp.MustCompile(`^([A-Za-z0-9]([A-Za-z0-9_.-]*[A-Za-z0-9])?)?$`)
	effects = []string{"NoSchedule", "PreferNoSchedule", "NoExecute"}
)

// Read decodes and checks a declaration and, if siteData is not nil, the site
// file that it names. The declaration has its defaults filled in; it may be
// used only if the findings hold no error.
func Read(file string, data []byte, siteFile string, siteData []byte, cat *versions.Catalogue) (*Declaration, *Site, Findings) {
	var decl Declaration
	d := decode(file, data, &decl)
	var site *Site
	var fs Findings
	if siteData != nil {
		site, fs = ReadSite(siteFile, siteData)
	}
	if len(d.places) > 0 {
		checkDeclaration(d, &decl, site, cat)
	}
	fs = append(fs, d.Findings...)
	fs.Sort()
	return &decl, site, fs
}

// SiteName is the site that a declaration names, read without checking, so
// that its file can be found before the rest is judged.
func SiteName(data []byte) string {
	var decl Declaration
	decode("", data, &decl)
	if label.MatchString(decl.Site) {
		return decl.Site
	}
	return ""
}

// ReadSite decodes and checks a site file.
func ReadSite(file string, data []byte) (*Site, Findings) {
	s := Site{Pace: 60}
	d := decode(file, data, &s)
	if len(d.places) > 0 {
		checkSite(d, &s)
	}
	d.Findings.Sort()
	return &s, d.Findings
}

func checkSite(d *document, s *Site) {
	d.schema(s.Schema, SiteSchema)
	d.name("name", s.Name)
	if s.Kind != "simulated" {
		d.add("kind", Error, "site-kind", fmt.Sprintf("site kind %q is not known", s.Kind), "write kind: simulated")
	}
	loop := netip.MustParsePrefix("127.0.0.0/8")
	switch a := s.Addresses; {
	case !a.IsValid():
		if !d.has("addresses") {
			d.add("addresses", Error, "site-addresses", "addresses is missing", "give a block inside 127.0.0.0/8, such as 127.81.7.0/24")
		}
	case a.Masked() != a:
		d.add("addresses", Error, "range-host-bits", fmt.Sprintf("%s has bits set behind its length", a), "write "+a.Masked().String())
	case !loop.Contains(a.Addr()) || a.Bits() < 9 || a.Bits() > 27:
		d.add("addresses", Error, "site-addresses", fmt.Sprintf("a simulated site cannot use %s", a), "choose a block inside 127.0.0.0/8 with a length of 9 to 27")
	case a.Contains(netip.MustParseAddr("127.0.0.1")):
		d.add("addresses", Error, "site-addresses", fmt.Sprintf("%s holds 127.0.0.1, which belongs to this computer", a), "choose another block inside 127.0.0.0/8")
	}
	if s.Pace < 1 || s.Pace > 1000 {
		d.add("pace", Error, "site-pace", fmt.Sprintf("pace %d is out of range", s.Pace), "choose 1 (as in life) to 1000")
	}
	if len(s.Zones) == 0 {
		d.add("zones", Error, "site-zones", "the site has no zones", "list at least one")
	}
	seen := map[string]bool{}
	for i, z := range s.Zones {
		p := fmt.Sprintf("zones[%d]", i)
		d.name(p+".name", z.Name)
		if seen[z.Name] {
			d.add(p+".name", Error, "name-twice", fmt.Sprintf("zone %s is listed twice", z.Name), "give each zone a name of its own")
		}
		seen[z.Name] = true
		if z.Machines < 1 {
			d.add(p+".machines", Error, "zone-room", fmt.Sprintf("zone %s has no room", z.Name), "set machines to how many fit")
		}
	}
	if len(s.Sizes) == 0 {
		d.add("sizes", Error, "site-sizes", "the site has no sizes", "name at least one, such as small: {cpus: 2, memory: 4GiB, disk: 20GiB}")
	}
	for _, n := range slices.Sorted(maps.Keys(s.Sizes)) {
		if z := s.Sizes[n]; z.CPUs < 1 || z.Memory <= 0 || z.Disk <= 0 {
			d.add("sizes."+n, Error, "size-incomplete", fmt.Sprintf("size %s lacks cpus, memory or disk", n), "give all three")
		}
	}
}

func (d *document) schema(got, want string) {
	if got != want {
		d.add("schema", Error, "schema", fmt.Sprintf("schema is %q", got), "begin the file with schema: "+want)
	}
}

func (d *document) name(path, v string) {
	switch {
	case v == "" && !d.has(path):
		d.add(path, Error, "missing", path+" is missing", "give a name of small letters, digits and hyphens")
	case !label.MatchString(v) || len(v) > 30:
		d.add(path, Error, "bad-name", fmt.Sprintf("%s %q is not a name", path, v), "begin with a small letter, then small letters, digits and hyphens, 30 at most")
	}
}

func (d *document) port(path string, v int) {
	if v < 1 || v > 65535 {
		d.add(path, Error, "bad-port", fmt.Sprintf("%s %d is not a port", path, v), "choose 1 to 65535")
	}
}

// checkDeclaration fills in defaults and applies every rule.
func checkDeclaration(d *document, c *Declaration, site *Site, cat *versions.Catalogue) {
	defaults(d, c, site)
	d.schema(c.Schema, Schema)
	d.name("name", c.Name)
	d.name("site", c.Site)
	if site != nil && c.Site != "" && site.Name != c.Site && site.Name != "" {
		d.add("site", Error, "site-name", fmt.Sprintf("the file of site %s says that its name is %s", c.Site, site.Name), "make the two agree")
	}
	if !d.has("kubernetes") {
		d.add("kubernetes", Error, "missing", "kubernetes is missing", "choose one of "+strings.Join(cat.Versions(), ", "))
	} else if _, ok := cat.Set(c.Kubernetes); !ok && c.Kubernetes != "" {
		d.add("kubernetes", Error, "unknown-version", fmt.Sprintf("Kubernetes %s is not in the catalogue", c.Kubernetes), "choose one of "+strings.Join(cat.Versions(), ", "))
	}
	if !domain.MatchString(c.Endpoint.Name) {
		d.add("endpoint.name", Error, "bad-name", fmt.Sprintf("endpoint.name %q is not a host name", c.Endpoint.Name), "write a name such as api.tidewatch.test")
	} else if _, err := netip.ParseAddr(c.Endpoint.Name); err == nil {
		d.add("endpoint.name", Warning, "endpoint-address", fmt.Sprintf("the endpoint %s is an address and can never move", c.Endpoint.Name), "use a name, which Verbund makes known on every machine")
	}
	if !domain.MatchString(c.DNS.Domain) {
		d.add("dns.domain", Error, "bad-name", fmt.Sprintf("dns.domain %q is not a domain", c.DNS.Domain), "write one such as tidewatch.test")
	}
	d.port("endpoint.port", c.Endpoint.Port)
	checkBalancer(d, c, site)
	checkRanges(d, c)
	if p := c.Network.Plugin; p != "fairway" {
		d.add("network.plugin", Error, "unknown-plugin", fmt.Sprintf("network plugin %q is not in the catalogue", p), "choose fairway")
	}
	n := c.Control.Count
	switch {
	case n < 1:
		d.add("control.count", Error, "control-none", fmt.Sprintf("control.count is %d, so nothing would run the cluster", n), "choose 3, or 1 to try things out")
	case n > 9:
		d.add("control.count", Error, "control-many", fmt.Sprintf("control.count is %d; a datastore of more than 9 voters is slower and no safer", n), "choose 3 or 5")
	case n%2 == 0:
		d.add("control.count", Warning, "control-even", fmt.Sprintf("%d control-plane machines survive the loss of %d, as %d would", n, (n-1)/2, n-1), fmt.Sprintf("choose %d or %d", n-1, n+1))
	}
	checkPlacing(d, site, "control", c.Control.Size, c.Control.Zones)
	if site != nil && n > 2 && len(c.Control.Zones) == 1 {
		d.add("control.zones", Warning, "control-one-zone", "all control-plane machines stand in one zone and are lost with it", "spread them over three zones")
	}
	seen := map[string]bool{}
	for i := range c.Pools {
		checkPool(d, c, i, site, seen)
	}
}

func defaults(d *document, c *Declaration, site *Site) {
	set := func(v *string, def string) {
		if *v == "" {
			*v = def
		}
	}
	set(&c.DNS.Domain, c.Name+".internal")
	set(&c.Endpoint.Name, "api."+c.DNS.Domain)
	set(&c.Network.Plugin, "fairway")
	if !d.has("endpoint.port") {
		c.Endpoint.Port = 6443
	}
	if !d.has("ranges.pods") {
		c.Ranges.Pods = netip.MustParsePrefix("10.172.0.0/15")
	}
	if !d.has("ranges.services") {
		c.Ranges.Services = netip.MustParsePrefix("10.112.0.0/16")
	}
	if !d.has("control.count") {
		c.Control.Count = 1
	}
	size, zones := "", []string(nil)
	if site != nil {
		for _, z := range site.Zones {
			zones = append(zones, z.Name)
		}
		// The smallest size by memory, so that the default is the cheapest.
		for _, n := range slices.Sorted(maps.Keys(site.Sizes)) {
			if size == "" || site.Sizes[n].Memory < site.Sizes[size].Memory {
				size = n
			}
		}
	}
	set(&c.Control.Size, size)
	if c.Endpoint.Balancer != nil {
		set(&c.Endpoint.Balancer.Size, size)
	}
	if len(c.Control.Zones) == 0 {
		c.Control.Zones = zones
	}
	for i := range c.Pools {
		p, at := &c.Pools[i], fmt.Sprintf("pools[%d].", i)
		set(&p.Size, size)
		set(&p.Rollout.Way, "in-place")
		set(&p.Enrolment, "issued")
		if len(p.Zones) == 0 {
			p.Zones = zones
		}
		if !d.has(at + "count") {
			p.Count = 1
		}
		if !d.has(at + "rollout.batch") {
			p.Rollout.Batch = 1
		}
		if !d.has(at + "rollout.patience") {
			p.Rollout.Patience = Duration(2 * time.Minute)
		}
	}
}

func checkBalancer(d *document, c *Declaration, site *Site) {
	b := c.Endpoint.Balancer
	if b == nil {
		if c.Control.Count > 1 {
			d.add("endpoint", Error, "balancer-missing", fmt.Sprintf("%d control-plane machines need something that answers for them at %s", c.Control.Count, c.Endpoint.Name), "add balancer: {size: …} to endpoint")
		}
		return
	}
	d.add("endpoint.balancer", Warning, "balancer-single", "the balancer is one machine; while it is down nobody reaches the API from outside", "accept it knowingly: control-plane machines use their own API servers meanwhile")
	checkPlacing(d, site, "endpoint.balancer", b.Size, nil)
	seen := map[int]bool{c.Endpoint.Port: true}
	for i, f := range b.Forward {
		p := fmt.Sprintf("endpoint.balancer.forward[%d]", i)
		d.port(p+".port", f.Port)
		if f.To < 30000 || f.To > 32767 {
			d.add(p+".to", Error, "bad-node-port", fmt.Sprintf("%d is not a node port", f.To), "choose 30000 to 32767")
		}
		if seen[f.Port] {
			d.add(p+".port", Error, "port-twice", fmt.Sprintf("port %d of the balancer is used twice", f.Port), "choose another")
		}
		seen[f.Port] = true
	}
}

func checkRanges(d *document, c *Declaration) {
	pods, services := c.Ranges.Pods, c.Ranges.Services
	for path, r := range map[string]netip.Prefix{"ranges.pods": pods, "ranges.services": services} {
		switch {
		case !r.IsValid():
		case !r.Addr().Is4():
			d.add(path, Error, "range-family", fmt.Sprintf("%s is not an IPv4 range", r), "choose an IPv4 range")
		case r.Masked() != r:
			d.add(path, Error, "range-host-bits", fmt.Sprintf("%s has bits set behind its length", r), "write "+r.Masked().String())
		case r.Addr().IsLoopback():
			d.add(path, Error, "range-loopback", fmt.Sprintf("%s lies in the loopback range, which endpoints may not use", r), "choose a private range such as 10.172.0.0/15")
		}
	}
	if !pods.IsValid() || !services.IsValid() {
		return
	}
	if pods.Overlaps(services) {
		d.add("ranges.services", Error, "ranges-overlap", fmt.Sprintf("ranges.services %s and ranges.pods %s overlap", services, pods), "choose ranges that share no address")
	}
	if services.Bits() > 28 || services.Bits() < 12 {
		d.add("ranges.services", Error, "range-size", fmt.Sprintf("ranges.services %s has an unusable length", services), "choose a length of 12 to 28")
	}
	nodes := c.Control.Count
	for _, p := range c.Pools {
		nodes += max(p.Count, 0)
	}
	if pods.Bits() > 24 || nodes > 1<<(24-pods.Bits()) {
		d.add("ranges.pods", Error, "range-size", fmt.Sprintf("ranges.pods %s has not enough room for %d nodes of 256 addresses each", pods, nodes), "choose a larger range")
	}
}

func checkPlacing(d *document, site *Site, path, size string, zones []string) {
	if site == nil {
		return
	}
	if _, ok := site.Sizes[size]; !ok && len(site.Sizes) > 0 {
		d.add(path+".size", Error, "unknown-size", fmt.Sprintf("site %s has no size %q", site.Name, size), oneOf(size, slices.Sorted(maps.Keys(site.Sizes))))
	}
	var known []string
	for _, z := range site.Zones {
		known = append(known, z.Name)
	}
	for i, z := range zones {
		if !slices.Contains(known, z) {
			d.add(fmt.Sprintf("%s.zones[%d]", path, i), Error, "unknown-zone", fmt.Sprintf("site %s has no zone %q", site.Name, z), oneOf(z, known))
		}
		if slices.Index(zones, z) < i {
			d.add(fmt.Sprintf("%s.zones[%d]", path, i), Error, "name-twice", fmt.Sprintf("zone %s is listed twice", z), "list it once")
		}
	}
}

func oneOf(word string, known []string) string {
	if near := Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	return "choose one of " + strings.Join(known, ", ")
}

func checkPool(d *document, c *Declaration, i int, site *Site, seen map[string]bool) {
	p, at := c.Pools[i], fmt.Sprintf("pools[%d]", i)
	d.name(at+".name", p.Name)
	if seen[p.Name] {
		d.add(at+".name", Error, "name-twice", fmt.Sprintf("pool %s is declared twice", p.Name), "give each pool a name of its own")
	}
	seen[p.Name] = true
	if p.Name == "control" || p.Name == "balancer" {
		d.add(at+".name", Error, "name-reserved", fmt.Sprintf("machines of a pool %q could not be told from the cluster's own", p.Name), "choose another name")
	}
	if p.Count < 0 || p.Count > 5000 {
		d.add(at+".count", Error, "bad-count", fmt.Sprintf("pool %s cannot have %d machines", p.Name, p.Count), "choose 0 to 5000")
	}
	checkPlacing(d, site, at, p.Size, p.Zones)
	for _, k := range slices.Sorted(maps.Keys(p.Labels)) {
		if !lblKey.MatchString(k) || !lblVal.MatchString(p.Labels[k]) || len(k) > 253 || len(p.Labels[k]) > 63 {
			d.add(at+".labels."+k, Error, "bad-label", fmt.Sprintf("%s: %s is not a label", k, p.Labels[k]), "use letters, digits and . - _ ; 63 at most in a value")
		}
		if i := strings.Index(k, "/"); i > 0 && (strings.HasSuffix(k[:i], "kubernetes.io") || strings.HasSuffix(k[:i], "k8s.io")) && k[:i] != "node.kubernetes.io" {
			d.add(at+".labels."+k, Error, "label-reserved", fmt.Sprintf("label %s belongs to Kubernetes", k), "use a prefix of your own")
		}
	}
	for j, t := range p.Taints {
		tp := fmt.Sprintf("%s.taints[%d]", at, j)
		if !lblKey.MatchString(t.Key) || !lblVal.MatchString(t.Value) {
			d.add(tp, Error, "bad-taint", fmt.Sprintf("%s=%s is not a taint", t.Key, t.Value), "give a key and a value of letters, digits and . - _")
		}
		if !slices.Contains(effects, t.Effect) {
			d.add(tp+".effect", Error, "bad-taint", fmt.Sprintf("taint effect %q is not known", t.Effect), oneOf(t.Effect, effects))
		}
	}
	if p.Rollout.Way != "in-place" {
		d.add(at+".rollout.way", Error, "unknown-way", fmt.Sprintf("roll-out way %q is not known", p.Rollout.Way), "write in-place")
	}
	switch {
	case p.Rollout.Batch < 1:
		d.add(at+".rollout.batch", Error, "bad-batch", fmt.Sprintf("a batch of %d machines never ends", p.Rollout.Batch), "choose 1 or more")
	case p.Rollout.Batch >= p.Count && p.Count > 1:
		d.add(at+".rollout.batch", Warning, "batch-whole-pool", fmt.Sprintf("a batch of %d takes the whole pool %s down at once", p.Rollout.Batch, p.Name), fmt.Sprintf("choose less than %d", p.Count))
	}
	if p.Enrolment != "issued" && p.Enrolment != "token" {
		d.add(at+".enrolment", Error, "unknown-enrolment", fmt.Sprintf("enrolment %q is not known", p.Enrolment), oneOf(p.Enrolment, []string{"issued", "token"}))
	} else if p.Enrolment == "token" {
		d.add(at+".enrolment", Error, "enrolment-not-yet", "enrolment by token cannot be done yet", "write enrolment: issued, which is also the default")
	}
}
