package declare

import (
	"fmt"
	"io/fs"
	"maps"
	"net/netip"
	"path"
	"regexp"
	"slices"
)

// The kinds of sites.
const (
	SimulatedSite = "simulated"
	LinuxSite     = "linux"
	ListedSite    = "listed"
)

// nothing is a file system without files: a site file extends none.
type nothing struct{}

func (nothing) Open(name string) (fs.File, error) {
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

// ReadSite decodes and checks a site file.
func ReadSite(file string, data []byte) (*Site, Findings) {
	s := Site{Pace: 60}
	d := decode(nothing{}, file, data, &s)
	// What cannot be read at all has its finding already; a file that says nothing
	// lacks everything.
	if len(d.places) > 0 || d.Findings.Errors() == 0 {
		checkSite(d, &s)
	}
	d.Findings.Sort()
	return &s, d.Findings
}

func checkSite(d *document, s *Site) {
	d.schema(s.Schema, SiteSchema)
	d.name("name", s.Name)
	if s.Kind != SimulatedSite && s.Kind != LinuxSite && s.Kind != ListedSite {
		d.add("kind", "site-kind", fmt.Sprintf("site kind %q is not known", s.Kind), "write kind: simulated, kind: linux for machines that are real systems on this computer, or kind: listed for machines that there are already")
	}
	checkBlock(d, s)
	checkKind(d, s)
	if s.Pace < 1 || s.Pace > 1000 {
		d.add("pace", "site-pace", fmt.Sprintf("pace %d is out of range", s.Pace), "choose 1 (as in life) to 1000")
	}
	if len(s.Zones) == 0 {
		d.add("zones", "site-zones", "the site has no zones", "list at least one")
	}
	seen := map[string]bool{}
	for i, z := range s.Zones {
		p := fmt.Sprintf("zones[%d]", i)
		d.name(p+".name", z.Name)
		if seen[z.Name] {
			d.add(p+".name", "name-twice", fmt.Sprintf("zone %s is listed twice", z.Name), "give each zone a name of its own")
		}
		seen[z.Name] = true
		if z.Machines < 1 {
			todo := "set machines to how many fit"
			if s.Kind == ListedSite {
				todo = "list a machine that stands there, or take the zone out"
			}
			d.add(p+".machines", "zone-room", fmt.Sprintf("zone %s has no room", z.Name), todo)
		}
	}
	if len(s.Sizes) == 0 {
		d.add("sizes", "site-sizes", "the site has no sizes", "name at least one, such as small: {cpus: 2, memory: 4GiB, disk: 20GiB}")
	}
	for _, n := range slices.Sorted(maps.Keys(s.Sizes)) {
		if z := s.Sizes[n]; z.CPUs < 1 || z.Memory <= 0 || z.Disk <= 0 {
			d.add("sizes."+n, "size-incomplete", fmt.Sprintf("size %s lacks cpus, memory or disk", n), "give all three")
		}
	}
	hardware := map[string]bool{}
	for i, b := range s.Bare {
		p := fmt.Sprintf("bare[%d]", i)
		d.hardware(p+".hardware", b.Hardware, hardware)
		checkPlacing(d, s, p, b.Size, nil)
		if !seen[b.Zone] {
			d.add(p+".zone", "unknown-zone", fmt.Sprintf("the site has no zone %q", b.Zone), oneOf(b.Zone, slices.Sorted(maps.Keys(seen))))
		}
	}
}

// checkBlock checks the block of addresses against what the kind of site can use.
func checkBlock(d *document, s *Site) {
	loop := netip.MustParsePrefix("127.0.0.0/8")
	switch a := s.Addresses; {
	case !a.IsValid():
		if !d.has("addresses") {
			todo := "give a block inside 127.0.0.0/8, such as 127.81.7.0/24"
			if s.Kind != SimulatedSite {
				todo = "give the network that its machines are in, such as 10.81.7.0/24"
			}
			d.add("addresses", "site-addresses", "addresses is missing", todo)
		}
	case a.Masked() != a:
		d.add("addresses", "range-host-bits", fmt.Sprintf("%s has bits set behind its length", a), "write "+a.Masked().String())
	case s.Kind == ListedSite:
		if a.Addr().Is6() || a.Addr().IsLoopback() || a.Bits() < 8 || a.Bits() > 30 {
			d.add("addresses", "site-addresses", fmt.Sprintf("a site of kind listed cannot use %s", a), "give the IPv4 network that the machines are in, of length 8 to 30")
		}
	case s.Kind == LinuxSite:
		if !a.Addr().IsPrivate() || a.Bits() < 16 || a.Bits() > 27 {
			d.add("addresses", "site-addresses", fmt.Sprintf("a site of kind linux cannot use %s", a), "choose a private block (RFC 1918) with a length of 16 to 27 that nothing on this computer uses, such as 10.81.7.0/24")
		}
	case !loop.Contains(a.Addr()) || a.Bits() < 9 || a.Bits() > 27:
		d.add("addresses", "site-addresses", fmt.Sprintf("a simulated site cannot use %s", a), "choose a block inside 127.0.0.0/8 with a length of 9 to 27")
	case a.Contains(netip.MustParseAddr("127.0.0.1")):
		d.add("addresses", "site-addresses", fmt.Sprintf("%s holds 127.0.0.1, which belongs to this computer", a), "choose another block inside 127.0.0.0/8")
	}
}

// checkKind checks what only some kinds of sites have.
func checkKind(d *document, s *Site) {
	only := func(key string, is bool, kind, what string) {
		if !is && d.has(key) {
			d.add(key, "site-kind", what, "take it out, or write kind: "+kind)
		}
	}
	only("registry", s.Kind == ListedSite, ListedSite, "only a site of kind listed says where its registry is")
	only("key", s.Kind == ListedSite, ListedSite, "only to the machines of a list one logs in with a key of one's own")
	only("machines", s.Kind == ListedSite, ListedSite, "only a site of kind listed lists its machines")
	only("bare", s.Kind == SimulatedSite, SimulatedSite, "a site of kind "+s.Kind+" has no bare machines")
	if s.Kind == SimulatedSite {
		return
	}
	// What real machines do takes as long as it takes.
	if d.has("pace") {
		d.add("pace", "site-pace", "machines of kind "+s.Kind+" have no pace but their own", "take the line out")
	}
	s.Pace = 1
	if s.Kind == ListedSite {
		checkListed(d, s)
	}
}

var userForm = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)

var hostKeyForm = regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}$`)

// checkListed checks a list of machines, and counts them into their zones.
func checkListed(d *document, s *Site) {
	if !s.Registry.IsValid() && !d.has("registry") {
		d.add("registry", "missing", "registry is missing", "give the address of this computer at which the machines reach it")
	}
	if s.Stock == "" {
		d.add("stock", "missing", "stock is missing", "name the folder of real components that tools/components built: a machine of a list runs nothing else")
	}
	for i := range s.Zones {
		if p := fmt.Sprintf("zones[%d].machines", i); d.has(p) {
			d.add(p, "site-kind", "a site of kind listed has room for the machines that it lists", "take it out")
		}
	}
	if len(s.Machines) == 0 {
		d.add("machines", "missing", "the site lists no machines", "list at least one, such as {address: 10.81.7.21, zone: north, size: small}")
	}
	seen, unmet := map[netip.Addr]bool{}, []string{}
	for i := range s.Machines {
		m, p := &s.Machines[i], fmt.Sprintf("machines[%d]", i)
		if m.Port == 0 && !d.has(p+".port") {
			m.Port = 22
		}
		if m.User == "" && !d.has(p+".user") {
			m.User = "root"
		}
		d.port(p+".port", m.Port)
		if !userForm.MatchString(m.User) {
			d.add(p+".user", "bad-name", fmt.Sprintf("%q is not the name of a user", m.User), "begin with a small letter, then small letters, digits, hyphens and underscores, 32 at most")
		}
		switch {
		case !m.Address.IsValid():
			if !d.has(p + ".address") {
				d.add(p+".address", "missing", p+".address is missing", "give the address that the others reach it at")
			}
			continue
		case seen[m.Address]:
			d.add(p+".address", "listed-twice", fmt.Sprintf("machine %s is listed twice", m.Address), "list it once")
		case s.Addresses.IsValid() && !s.Addresses.Contains(m.Address):
			d.add(p+".address", "site-addresses", fmt.Sprintf("machine %s does not lie in %s", m.Address, s.Addresses), "write the network that all machines are in into addresses")
		case m.Address == s.Registry:
			d.add(p+".address", "site-addresses", fmt.Sprintf("machine %s has the address of the registry", m.Address), "the registry is on this computer: give one of its addresses there")
		}
		seen[m.Address] = true
		if m.HostKey == "" {
			unmet = append(unmet, m.Address.String())
		} else if !hostKeyForm.MatchString(m.HostKey) {
			d.add(p+".hostKey", "bad-host-key", fmt.Sprintf("%q is not the fingerprint of a host key", m.HostKey), "write what ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub shows on that machine, from SHA256: on")
		}
		checkPlacing(d, s, p, m.Size, nil)
		z := slices.IndexFunc(s.Zones, func(z Zone) bool { return z.Name == m.Zone })
		if z < 0 {
			var known []string
			for _, z := range s.Zones {
				known = append(known, z.Name)
			}
			d.add(p+".zone", "unknown-zone", fmt.Sprintf("the site has no zone %q", m.Zone), oneOf(m.Zone, known))
			continue
		}
		s.Zones[z].Machines++
	}
	if len(unmet) > 0 {
		d.add("machines", "host-key-unknown", fmt.Sprintf("nobody logs in to %s, whose host keys are not known", joinWords(unmet)), "let verbund site meet ask them, and compare")
	}
}

func (d *document) schema(got, want string) {
	if got != want {
		d.add("schema", "schema", fmt.Sprintf("schema is %q", got), fmt.Sprintf("begin %s with schema: %s", path.Base(d.file), want))
	}
}

func (d *document) name(path, v string) {
	switch {
	case v == "" && !d.has(path):
		d.add(path, "missing", path+" is missing", "give a name of small letters, digits and hyphens")
	case !IsName(v):
		d.add(path, "bad-name", fmt.Sprintf("%s %q is not a name", path, v), "begin with a small letter, then small letters, digits and hyphens, 30 at most")
	}
}

func (d *document) port(path string, v int) {
	if v < 1 || v > 65535 {
		d.add(path, "bad-port", fmt.Sprintf("%s %d is not a port", path, v), "choose 1 to 65535")
	}
}

// hardware checks a hardware address and that it is given once.
func (d *document) hardware(path, v string, seen map[string]bool) {
	if !hardwareForm.MatchString(v) {
		d.add(path, "bad-hardware", fmt.Sprintf("%q is not a hardware address", v), "write six pairs of hexadecimal digits in quotes, such as '02:5e:00:00:00:01'")
	} else if seen[v] {
		d.add(path, "hardware-twice", fmt.Sprintf("the hardware address %s is given twice", v), "every machine has its own")
	}
	seen[v] = true
}

// checkPlacing checks that a site has a size and zones.
func checkPlacing(d *document, site *Site, path, size string, zones []string) {
	if site == nil {
		return
	}
	if _, ok := site.Sizes[size]; !ok && len(site.Sizes) > 0 {
		d.add(path+".size", "unknown-size", fmt.Sprintf("site %s has no size %q", site.Name, size), oneOf(size, slices.Sorted(maps.Keys(site.Sizes))))
	}
	var known []string
	for _, z := range site.Zones {
		known = append(known, z.Name)
	}
	for i, z := range zones {
		if !slices.Contains(known, z) {
			d.add(fmt.Sprintf("%s.zones[%d]", path, i), "unknown-zone", fmt.Sprintf("site %s has no zone %q", site.Name, z), oneOf(z, known))
		}
		if slices.Index(zones, z) < i {
			d.add(fmt.Sprintf("%s.zones[%d]", path, i), "name-twice", fmt.Sprintf("zone %s is listed twice", z), "list it once")
		}
	}
}

func oneOf(word string, known []string) string {
	if near := Nearest(word, known); near != "" {
		return "did you mean " + near + "?"
	}
	if len(known) == 0 {
		return "there is nothing to choose from"
	}
	return "choose one of " + joinWords(known)
}
