package declare

import (
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"verbund/internal/core/versions"
	"verbund/internal/core/words"
)

func (k *checker) pools() {
	seen, hardware := map[string]bool{}, map[string]bool{}
	for i := range k.c.Pools {
		k.pool(i, seen, hardware)
	}
	workers, lone := 0, -1
	for i, p := range k.c.Pools {
		if workers += max(p.Count.From, 0); p.Count.From == 1 {
			lone = i
		}
	}
	for i, p := range k.c.Pools {
		// Pods that tolerate its taints are meant for it, and go nowhere else.
		if p.Count.From == 1 && len(p.Taints) > 0 && workers > 1 && !slices.ContainsFunc(k.c.Pools, func(o Pool) bool {
			return o.Name != p.Name && o.Count.From > 0 && fmt.Sprint(o.Taints) == fmt.Sprint(p.Taints)
		}) {
			k.add(fmt.Sprintf("pools[%d].count", i), "no-spare", fmt.Sprintf("pool %s has one machine, and no other pool takes the pods that are meant for its taints when it is lost or upgraded", p.Name), "declare a second machine, or accept it knowingly")
		}
	}
	if workers == 1 && lone >= 0 {
		k.add(fmt.Sprintf("pools[%d].count", lone), "no-spare", "there is one worker, and no room for its pods when it is lost or upgraded", "declare a second one, or accept it knowingly")
	}
}

func (k *checker) pool(i int, seen, hardware map[string]bool) {
	p, at := k.c.Pools[i], fmt.Sprintf("pools[%d]", i)
	k.name(at+".name", p.Name)
	if seen[p.Name] {
		k.add(at+".name", "name-twice", fmt.Sprintf("pool %s is declared twice", p.Name), "give each pool a name of its own")
	}
	seen[p.Name] = true
	if slices.Contains([]string{"control", "balancer", "datastore", "addons"}, p.Name) {
		k.add(at+".name", "name-reserved", fmt.Sprintf("machines of a pool %q could not be told from the cluster's own", p.Name), "choose another name")
	}
	if p.Count.From < 0 || p.Count.To > 5000 || p.Count.From > p.Count.To {
		k.add(at+".count", "bad-count", fmt.Sprintf("pool %s cannot have %s machines", p.Name, p.Count), "choose 0 to 5000, or a range from less to more")
	}
	checkPlacing(k.document, k.site, at, p.Size, p.Zones)
	if k.site != nil && len(k.site.Zones) > 1 && len(p.Zones) == 1 && p.Count.From > 2 {
		k.add(at+".zones", "one-zone", fmt.Sprintf("all machines of pool %s stand in zone %s and are lost with it", p.Name, p.Zones[0]), "spread them, if their work allows it")
	}
	k.imageOf(at+".image", p.Image)
	k.labels(at, p)
	k.rollout(at+".rollout", p)
	if p.Enrolment != "issued" && p.Enrolment != "token" {
		k.add(at+".enrolment", "unknown-enrolment", fmt.Sprintf("enrolment %q is not known", p.Enrolment), oneOf(p.Enrolment, []string{"issued", "token"}))
	} else if p.Enrolment == "token" && !k.c.Trust.OwnRenewal() && k.c.Trust.Keys != "outside" {
		k.add(at+".enrolment", "enrolment-renewal", fmt.Sprintf("machines of pool %s ask for their certificates themselves, and the tool is to renew them: it does not have their keys", p.Name), "write trust: {kubelets: {renew: own}}, or enrolment: issued")
	}
	k.held(at, p)
	k.adopted(at, p, hardware)
}

func (k *checker) labels(at string, p Pool) {
	for _, l := range slices.Sorted(maps.Keys(p.Labels)) {
		if !lblKey.MatchString(l) || !lblVal.MatchString(p.Labels[l]) || len(l) > 253 || len(p.Labels[l]) > 63 {
			k.add(at+".labels."+l, "bad-label", fmt.Sprintf("%s: %s is not a label", l, p.Labels[l]), "use letters, digits and . - _ ; 63 at most in a value")
		}
		if i := strings.Index(l, "/"); i > 0 && (strings.HasSuffix(l[:i], "kubernetes.io") || strings.HasSuffix(l[:i], "k8s.io")) && l[:i] != "node.kubernetes.io" {
			k.add(at+".labels."+l, "label-reserved", fmt.Sprintf("label %s belongs to Kubernetes", l), "use a prefix of your own")
		}
	}
	for j, t := range p.Taints {
		tp := fmt.Sprintf("%s.taints[%d]", at, j)
		if !lblKey.MatchString(t.Key) || !lblVal.MatchString(t.Value) {
			k.add(tp, "bad-taint", fmt.Sprintf("%s=%s is not a taint", t.Key, t.Value), "give a key and a value of letters, digits and . - _")
		}
		if !slices.Contains(effects, t.Effect) {
			k.add(tp+".effect", "bad-taint", fmt.Sprintf("taint effect %q is not known", t.Effect), oneOf(t.Effect, effects))
		}
	}
}

// held checks a pool's own version against the skew that Kubernetes allows.
func (k *checker) held(at string, p Pool) {
	if p.Kubernetes == k.c.Kubernetes {
		return
	}
	at += ".kubernetes"
	k.version(at, p.Kubernetes)
	if _, ok := k.cat.Set(p.Kubernetes); !ok || k.minor() == 0 {
		return
	}
	behind := k.minor() - versions.Minor(p.Kubernetes)
	switch {
	case versions.Compare(p.Kubernetes, k.c.Kubernetes) > 0:
		k.add(at, "pool-newer", fmt.Sprintf("pool %s on %s would be newer than its API servers on %s", p.Name, p.Kubernetes, k.c.Kubernetes), "upgrade the control plane first")
	case behind > versions.KubeletSkew:
		k.add(at, "pool-skew", fmt.Sprintf("pool %s on %s is %d minors behind its API servers, and %d are allowed", p.Name, p.Kubernetes, behind, versions.KubeletSkew), "upgrade the pool before the control plane goes on")
	default:
		k.add(at, "pool-behind", fmt.Sprintf("pool %s is held back on %s, while the cluster is on %s", p.Name, p.Kubernetes, k.c.Kubernetes), fmt.Sprintf("take kubernetes out of the pool to level it; it may stay up to %d minors behind", versions.KubeletSkew))
	}
}

func (k *checker) adopted(at string, p Pool, hardware map[string]bool) {
	for j, h := range p.Adopt {
		hp := fmt.Sprintf("%s.adopt[%d]", at, j)
		k.hardware(hp, h, hardware)
		if k.site == nil || !hardwareForm.MatchString(h) {
			continue
		}
		b := slices.IndexFunc(k.site.Bare, func(b Bare) bool { return b.Hardware == h })
		if b < 0 {
			var known []string
			for _, b := range k.site.Bare {
				known = append(known, b.Hardware)
			}
			k.add(hp, "adopt-unknown", fmt.Sprintf("site %s lists no bare machine %s", k.site.Name, h), oneOf(h, known))
			continue
		}
		if m := k.site.Bare[b]; m.Size != p.Size || !slices.Contains(p.Zones, m.Zone) {
			k.add(hp, "adopt-unlike", fmt.Sprintf("machine %s is of size %s in zone %s, and pool %s is of size %s in %s", h, m.Size, m.Zone, p.Name, p.Size, joinWords(p.Zones)), "declare a pool that it fits into")
		}
	}
	if len(p.Adopt) > max(p.Count.From, 0) {
		k.add(at+".adopt", "adopt-many", fmt.Sprintf("pool %s adopts %d machines and has %d", p.Name, len(p.Adopt), p.Count.From), fmt.Sprintf("set its count to %d or more", len(p.Adopt)))
	}
}

// room counts the declared machines against what each zone of the site takes.
func (k *checker) room() {
	if k.site == nil {
		return
	}
	need, sized := map[string]int{}, map[[2]string]int{} // by zone, and by zone and size
	spread := func(size string, zones []string, n, from int) {
		for i := range min(max(n, 0), 5000) {
			if len(zones) > 0 {
				need[zones[(i+from)%len(zones)]]++
				sized[[2]string{zones[(i+from)%len(zones)], size}]++
			}
		}
	}
	c := k.c.Control
	spread(c.Size, c.Zones, c.Count, 0)
	if c.Datastore.Place == "apart" {
		spread(c.Datastore.Size, c.Datastore.Zones, c.Datastore.Count, 0)
	}
	for i, p := range k.c.Pools {
		spread(p.Size, p.Zones, p.Count.From-len(p.Adopt), i)
		for _, h := range p.Adopt {
			if b := slices.IndexFunc(k.site.Bare, func(b Bare) bool { return b.Hardware == h }); b >= 0 {
				need[k.site.Bare[b].Zone]++
			}
		}
	}
	if b := k.c.Endpoint.Balancer; b != nil && len(k.site.Zones) > 0 {
		spread(b.Size, []string{k.site.Zones[0].Name}, 1, 0)
	}
	if k.listed() {
		k.listShort(sized)
		return
	}
	for _, z := range k.site.Zones {
		if z.Machines > 0 && need[z.Name] > z.Machines {
			at := "control"
			if len(k.c.Pools) > 0 {
				at = "pools"
			}
			k.add(at, "site-full", fmt.Sprintf("zone %s has room for %d machines, and %d are declared there", z.Name, z.Machines, need[z.Name]), "declare fewer, spread them otherwise, or enlarge the zone in the site file")
		}
	}
}

// listShort counts the declared machines against those that the site lists.
func (k *checker) listShort(need map[[2]string]int) {
	has := map[[2]string]int{}
	for _, m := range k.site.Machines {
		has[[2]string{m.Zone, m.Size}]++
	}
	for _, zs := range slices.SortedFunc(maps.Keys(need), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) }) {
		if n := need[zs]; n > has[zs] {
			k.add("site", "list-short", fmt.Sprintf("site %s lists %s of size %s in zone %s, and %d are declared there", k.site.Name, words.Count(has[zs], "machine"), zs[1], zs[0], n), "list another one there, or declare fewer, another size or other zones")
		}
	}
}

func (k *checker) imageOf(at, name string) {
	if _, ok := k.c.Images[name]; name != "" && !ok {
		k.add(at, "unknown-image", fmt.Sprintf("machine image %q is not declared", name), oneOf(name, slices.Sorted(maps.Keys(k.c.Images))))
	}
}

var packageForm = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]*$`)

func (k *checker) images() {
	used := map[string]bool{k.c.Control.Image: true}
	for _, p := range k.c.Pools {
		used[p.Image] = true
	}
	for _, n := range slices.Sorted(maps.Keys(k.c.Images)) {
		img, at := k.c.Images[n], "images."+n
		if !used[n] {
			k.add(at, "image-unused", fmt.Sprintf("machine image %s is not used by any machine", n), "name it in control or in a pool, or take it out")
		}
		if img.Architecture != "amd64" && img.Architecture != "arm64" {
			k.add(at+".architecture", "bad-image", fmt.Sprintf("machine image %s cannot have architecture %q", n, img.Architecture), oneOf(img.Architecture, []string{"amd64", "arm64"}))
		}
		if img.System != "" && len(strings.Fields(img.System)) != 2 {
			k.add(at+".system", "bad-image", fmt.Sprintf("%q is not an operating system with its version", img.System), "write one such as skerry 2026.09")
		}
		for i, e := range img.Extras {
			if !packageForm.MatchString(e) {
				k.add(fmt.Sprintf("%s.extras[%d]", at, i), "bad-image", fmt.Sprintf("%q is not the name of a package", e), "use small letters, digits and + . -")
			}
		}
	}
}

var zoneName = regexp.MustCompile(`^(UTC|[A-Z][A-Za-z_]+(/[A-Z][A-Za-z0-9_+-]+){1,2})$`)

func (k *checker) system() {
	s := k.c.System
	if !zoneName.MatchString(s.TimeZone) {
		k.add("system.timeZone", "bad-time-zone", fmt.Sprintf("%q is not a time zone", s.TimeZone), "write UTC, or a name such as Etc/GMT-1")
	}
	seen := map[string]bool{}
	for i, p := range s.People {
		at := fmt.Sprintf("system.people[%d]", i)
		k.name(at+".name", p.Name)
		if seen[p.Name] {
			k.add(at+".name", "name-twice", fmt.Sprintf("%s is listed twice", p.Name), "put all keys of a person into one entry")
		}
		seen[p.Name] = true
		if p.Name == "root" || p.Name == "verbund" {
			k.add(at+".name", "name-reserved", fmt.Sprintf("%s is an account of the machine itself", p.Name), "give people names of their own")
		}
		if len(p.Keys) == 0 {
			k.add(at, "missing", fmt.Sprintf("%s has no key to log in with", p.Name), "add keys, or take the person out")
		}
		for j, key := range p.Keys {
			kp := fmt.Sprintf("%s.keys[%d]", at, j)
			if strings.Contains(key, "PRIVATE KEY") {
				k.add(kp, "bad-ssh-key", fmt.Sprintf("key %d of %s is a private key, which must not be here", j+1, p.Name), "put the public one here, and count the private one as known to others")
			} else if _, _, opts, rest, err := ssh.ParseAuthorizedKey([]byte(key)); err != nil || len(opts) > 0 || len(rest) > 0 {
				k.add(kp, "bad-ssh-key", fmt.Sprintf("key %d of %s is not a line of an authorized_keys file without options", j+1, p.Name), "paste the whole line of the .pub file")
			}
		}
		if p.Rights != "look" && p.Rights != "act" {
			k.add(at+".rights", "bad-rights", fmt.Sprintf("rights %q are not known", p.Rights), oneOf(p.Rights, []string{"look", "act"}))
		}
	}
	k.fixed()
}

// fixed checks the fixed addresses of machines.
func (k *checker) fixed() {
	holders := map[netip.Addr]string{}
	if v := k.c.Endpoint.Virtual; v != nil {
		holders[v.Address] = "the endpoint"
	}
	for _, m := range slices.Sorted(maps.Keys(k.c.System.Addresses)) {
		a, at := k.c.System.Addresses[m], "system.addresses."+m
		bad := func(what, todo string) { k.add(at, "fixed-address", what, todo) }
		r := k.c.Ranges.Machines
		switch {
		case !k.declares(m):
			bad(fmt.Sprintf("no machine %s is declared", m), "machines are called "+k.c.Name+"-control-1, "+k.c.Name+"-POOL-1 and so on")
		case k.listed() && !isListed(k.site, a):
			bad(fmt.Sprintf("site %s lists no machine %s for %s", k.site.Name, a, m), "list it there, or give the address of one that is")
		case r.IsValid() && (!r.Contains(a) || k.reserved(r, a)):
			bad(fmt.Sprintf("%s of %s does not lie in the machines' subnet %s, or belongs to the site itself", a, m, r), "choose another address of it")
		case holders[a] != "":
			bad(fmt.Sprintf("%s is to belong to %s and to %s", a, holders[a], m), "give each an address of its own")
		}
		holders[a] = m
	}
}

// declares says whether a machine of this name will be there.
func (k *checker) declares(machine string) bool {
	rest, ok := strings.CutPrefix(machine, k.c.Name+"-")
	i := strings.LastIndex(rest, "-")
	if !ok || i < 0 {
		return false
	}
	group, number := rest[:i], rest[i+1:]
	n, err := strconv.Atoi(number)
	if err != nil || strconv.Itoa(n) != number || n < 1 {
		return false
	}
	switch group {
	case "control":
		return n <= k.c.Control.Count
	case "datastore":
		return k.c.Control.Datastore.Place == "apart" && n <= k.c.Control.Datastore.Count
	case "balancer":
		return k.c.Endpoint.Balancer != nil && n == 1
	}
	return slices.ContainsFunc(k.c.Pools, func(p Pool) bool { return p.Name == group && n <= p.Count.To })
}
