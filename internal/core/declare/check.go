package declare

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"k8s.io/apimachinery/pkg/labels"

	"verbund/internal/core/versions"
)

var (
	label        = regexp.MustCompile(`^[a-z]([a-z0-9-]*[a-z0-9])?$`)
	domain       = regexp.MustCompile(`^([a-z0-9]([a-z0-9-]*[a-z0-9])?)(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*$`)
	lblKey       = regexp.MustCompile(`^([a-z0-9]([a-z0-9.-]*[a-z0-9])?/)?[A-Za-z0-9]([A-Za-z0-9_.-]*[A-Za-z0-9])?$`)
	lblVal       = regexp.MustCompile(`^([A-Za-z0-9]([A-Za-z0-9_.-]*[A-Za-z0-9])?)?$`)
	hardwareForm = regexp.MustCompile(`^[0-9a-f]{2}(:[0-9a-f]{2}){5}$`)
	effects      = []string{"NoSchedule", "PreferNoSchedule", "NoExecute"}
)

// The defaults that more than one place needs.
const (
	defaultPerNode = 256
	podsPerNode    = 110 // the kubelet's own default
)

// maxForward is how many name servers the cluster's DNS takes for one zone.
const maxForward = 15

// soon is how long before the end of a version's support check begins to warn.
const soon = 60 * 24 * time.Hour

// checker applies the rules that need the whole picture.
type checker struct {
	*document
	c    *Declaration
	site *Site // nil when its file was not read
	cat  *versions.Catalogue
	now  time.Time
}

// all fills in defaults and applies every rule.
func (k *checker) all() {
	k.defaults()
	k.top()
	k.endpoint()
	k.ranges()
	k.network()
	k.control()
	k.trust()
	k.components()
	k.pools()
	k.rollouts()
	k.watches()
	k.room()
	k.images()
	k.system()
	k.addOns()
	k.losses()
	k.backups()
	k.drills()
	k.copies()
	if p := k.c.Prove; p != ProveNever && p != ProveAfterChange {
		k.add("prove", "unknown-proof", fmt.Sprintf("a moment %q for a proof is not known", p), oneOf(p, []string{ProveNever, ProveAfterChange}))
	}
	k.exceptions()
}

// named says whether a name was written, or follows from others that are well:
// what is wrong with the cluster's name is said once.
// IsName says whether something can be the name of a cluster or a site: it becomes
// part of host names and of paths.
func IsName(s string) bool { return label.MatchString(s) && len(s) <= mostName }

// mostName is how long a name of a cluster or a site may be, in characters.
const mostName = 30

func (k *checker) named(at string) bool { return k.has(at) || label.MatchString(k.c.Name) }

func joinWords(words []string) string { return strings.Join(words, ", ") }

// minor is the minor of the declared version; 0 when that is not known.
func (k *checker) minor() int {
	if _, ok := k.cat.Set(k.c.Kubernetes); !ok {
		return 0
	}
	return versions.Minor(k.c.Kubernetes)
}

func (k *checker) top() {
	k.schema(k.c.Schema, Schema)
	k.name("name", k.c.Name)
	k.name("site", k.c.Site)
	if k.site != nil && k.site.Name != k.c.Site && k.site.Name != "" {
		k.add("site", "site-name", fmt.Sprintf("the file of site %s says that its name is %s", k.c.Site, k.site.Name), "make the two agree")
	}
	if !k.has("kubernetes") {
		k.add("kubernetes", "missing", "kubernetes is missing", "choose one of "+joinWords(k.cat.Versions()))
	} else {
		k.version("kubernetes", k.c.Kubernetes)
	}
	if !domain.MatchString(k.c.DNS.Domain) && k.named("dns.domain") {
		k.add("dns.domain", "bad-name", fmt.Sprintf("dns.domain %q is not a domain", k.c.DNS.Domain), "write one such as tidewatch.test")
	}
	for i, a := range k.c.DNS.Forward {
		at := fmt.Sprintf("dns.forward[%d]", i)
		switch {
		case a.IsLoopback():
			k.add(at, "dns-forward", fmt.Sprintf("%s is each pod's own", a), "give an address at which pods reach the name server")
		case k.c.Ranges.Services.Contains(a):
			k.add(at, "dns-forward", fmt.Sprintf("%s is an address of the cluster's own services, so that its DNS would ask itself", a), "give a name server outside of the cluster")
		case slices.Index(k.c.DNS.Forward, a) < i:
			k.add(at, "dns-forward", fmt.Sprintf("%s is given twice", a), "give it once")
		}
	}
	if n := len(k.c.DNS.Forward); n > maxForward {
		k.add("dns.forward", "dns-forward", fmt.Sprintf("there are %d name servers", n), fmt.Sprintf("%d at most are asked", maxForward))
	}
}

// version checks a version of Kubernetes and how long it is supported.
func (k *checker) version(at, v string) {
	if v == "" {
		return
	}
	set, ok := k.cat.Set(v)
	if !ok {
		k.add(at, "unknown-version", fmt.Sprintf("Kubernetes %s is not in the catalogue", v), "choose one of "+joinWords(k.cat.Versions()))
		return
	}
	if ends, ok := k.cat.Ends(set.Minor()); ok && !k.now.IsZero() && k.now.Add(soon).After(ends) {
		tense := "ends"
		if k.now.After(ends) {
			tense = "ended"
		}
		k.add(at, "support-ends", fmt.Sprintf("the support of Kubernetes v1.%d %s on %s", set.Minor(), tense, ends.Format(time.DateOnly)), "plan the upgrade: verbund versions --from "+v+" --to "+k.cat.Sets[len(k.cat.Sets)-1].Kubernetes)
	}
}

// defaults: it is long because it is a list, one key after the other.
func (k *checker) defaults() {
	c := k.c
	set := func(v *string, def string) {
		if *v == "" {
			*v = def
		}
	}
	set(&c.DNS.Domain, c.Name+".internal")
	set(&c.Endpoint.Name, "api."+c.DNS.Domain)
	set(&c.Network.Plugin, "fairway")
	set(&c.System.TimeZone, "UTC")
	number := func(v *int, at string, def int) {
		if !k.has(at) {
			*v = def
		}
	}
	number(&c.Endpoint.Port, "endpoint.port", 6443)
	number(&c.Ranges.PerNode, "ranges.perNode", defaultPerNode)
	number(&c.Control.Count, "control.count", 1)
	if !k.has("ranges.pods") {
		c.Ranges.Pods = netip.MustParsePrefix("10.172.0.0/15")
	}
	if !k.has("ranges.services") {
		c.Ranges.Services = netip.MustParsePrefix("10.112.0.0/16")
	}
	span := func(v *Duration, at string, def time.Duration) {
		if !k.has(at) {
			*v = Duration(def)
		}
	}
	const day = 24 * time.Hour
	span(&c.Trust.Authority, "trust.authority", 3650*day)
	span(&c.Trust.Leaf, "trust.leaf", 365*day)
	span(&c.Trust.Renew, "trust.renew", 30*day)
	span(&c.Trust.Kubelets.Life, "trust.kubelets.life", time.Duration(c.Trust.Leaf))
	set(&c.Trust.Algorithm, "ecdsa-p256")
	set(&c.Trust.Tokens, cmp.Or(map[string]string{"ed25519": "ecdsa-p256"}[c.Trust.Algorithm], c.Trust.Algorithm))
	set(&c.Trust.Keys, "held")
	// A key that is outside cannot sign what a kubelet asks for in the night.
	set(&c.Trust.Kubelets.Renew, map[bool]string{true: "tool", false: "own"}[c.Trust.Keys == "outside"])
	for i := range c.Trust.Programs {
		set(&c.Trust.Programs[i].Algorithm, c.Trust.Algorithm)
	}
	size, zones := "", []string(nil)
	if k.site != nil {
		for _, z := range k.site.Zones {
			zones = append(zones, z.Name)
		}
		// The smallest size by memory, so that the default is the cheapest.
		for _, n := range slices.Sorted(maps.Keys(k.site.Sizes)) {
			if size == "" || k.site.Sizes[n].Memory < k.site.Sizes[size].Memory {
				size = n
			}
		}
		if !k.has("ranges.machines") {
			c.Ranges.Machines = k.site.Addresses
		}
	}
	set(&c.Control.Size, size)
	if c.Endpoint.Balancer != nil {
		set(&c.Endpoint.Balancer.Size, size)
	}
	if len(c.Control.Zones) == 0 {
		c.Control.Zones = zones
	}
	ds := &c.Control.Datastore
	set(&ds.Place, "beside")
	if ds.Place == "apart" {
		number(&ds.Count, "control.datastore.count", 3)
		set(&ds.Size, c.Control.Size)
		if len(ds.Zones) == 0 {
			ds.Zones = c.Control.Zones
		}
	}
	set(&c.Prove, ProveNever)
	for i := range c.System.People {
		set(&c.System.People[i].Rights, "look")
	}
	for n, img := range c.Images {
		set(&img.Architecture, "amd64")
		c.Images[n] = img
	}
	for i := range c.Pools {
		p, at := &c.Pools[i], fmt.Sprintf("pools[%d].", i)
		set(&p.Size, size)
		set(&p.Rollout.Way, "in-place")
		set(&p.Enrolment, "issued")
		set(&p.Kubernetes, c.Kubernetes)
		if len(p.Zones) == 0 {
			p.Zones = zones
		}
		if !k.has(at + "count") {
			p.Count = Count{1, 1}
		}
		if !k.has(at + "rollout.batch") {
			p.Rollout.Batch = Share{Number: 1}
		}
		if !k.has(at + "rollout.surge") {
			p.Rollout.Surge = Share{Number: 1}
		}
		set(&p.Rollout.Order, "zones")
		number(&p.Rollout.Trial, at+"rollout.trial", 1)
		span(&p.Rollout.Soak, at+"rollout.soak", time.Minute)
		set(&p.Rollout.Hold, "never")
		span(&p.Rollout.Patience, at+"rollout.patience", 2*time.Minute)
	}
	set(&c.Control.Rollout.Way, "in-place")
	span(&c.Control.Rollout.Soak, "control.rollout.soak", 10*time.Second)
	set(&c.Control.Rollout.Hold, "never")
	for i := range c.Drills {
		for j := range c.Drills[i].Steps {
			if s := &c.Drills[i].Steps[j]; s.Until != "" {
				span(&s.Within, fmt.Sprintf("drills[%d].steps[%d].within", i, j), 2*time.Minute)
			}
		}
	}
	for i := range c.Watch {
		w, at := &c.Watch[i], fmt.Sprintf("watch[%d].", i)
		number(&w.Status, at+"status", 200)
		span(&w.Interval, at+"interval", time.Second)
		number(&w.Allow, at+"allow", 1)
		span(&w.Slow, at+"slow", 5*time.Second)
	}
	set(&c.Rollout.Pools, "in-turn")
	number(&c.Rollout.Prefetch, "rollout.prefetch", 2)
	if w := c.Rollout.Window; w != nil {
		set(&w.TimeZone, "UTC")
		if len(w.Days) == 0 {
			w.Days = slices.Clone(Weekdays)
		}
	}
}

func (k *checker) control() {
	c := k.c.Control
	switch n := c.Count; {
	case n < 1:
		k.add("control.count", "control-none", fmt.Sprintf("control.count is %d, so nothing would run the cluster", n), "choose 3, or 1 to try things out")
	case n > 9:
		k.add("control.count", "control-many", fmt.Sprintf("control.count is %d; more than 9 are slower and no safer", n), "choose 3 or 5")
	case n%2 == 0 && c.Datastore.Place != "apart":
		k.add("control.count", "control-even", fmt.Sprintf("%d control-plane machines survive the loss of %d, as %d would", n, (n-1)/2, n-1), fmt.Sprintf("choose %d or %d", n-1, n+1))
	}
	checkPlacing(k.document, k.site, "control", c.Size, c.Zones)
	if k.site != nil && c.Count > 2 && len(c.Zones) == 1 {
		k.add("control.zones", "control-one-zone", "all control-plane machines stand in one zone and are lost with it", "spread them over three zones")
	}
	for i, n := range c.Names {
		if _, err := netip.ParseAddr(n); err != nil && !domain.MatchString(strings.TrimPrefix(n, "*.")) {
			k.add(fmt.Sprintf("control.names[%d]", i), "bad-name", fmt.Sprintf("%q is neither a host name nor an address", n), "write one such as api.tidewatch.test")
		}
	}
	k.imageOf("control.image", c.Image)
	k.wayAndHold("control.rollout", c.Rollout.Way, c.Rollout.Hold)
	k.datastore()
}

func (k *checker) datastore() {
	ds := k.c.Control.Datastore
	at := "control.datastore"
	switch ds.Place {
	case "beside":
		k.majority("control", k.c.Control.Count, k.c.Control.Zones)
		for _, key := range []string{".count", ".size", ".zones"} {
			if k.has(at + key) {
				k.add(at+key, "datastore-beside", fmt.Sprintf("%s%s is given, and the datastore's members stand beside the API servers", at, key), "write place: apart for machines of their own, or leave it out")
			}
		}
		return
	case "apart":
	default:
		k.add(at+".place", "datastore-place", fmt.Sprintf("the datastore cannot stand %q", ds.Place), oneOf(ds.Place, []string{"beside", "apart"}))
		return
	}
	switch n := ds.Count; {
	case n < 1 || n > 9:
		k.add(at+".count", "datastore-count", fmt.Sprintf("%d datastore machines cannot work", n), "choose 3 or 5, or 1 to try things out")
	case n%2 == 0:
		k.add(at+".count", "datastore-even", fmt.Sprintf("%d datastore machines survive the loss of %d, as %d would", n, (n-1)/2, n-1), fmt.Sprintf("choose %d or %d", n-1, n+1))
	}
	checkPlacing(k.document, k.site, at, ds.Size, ds.Zones)
	k.majority(at, ds.Count, ds.Zones)
}

// majority finds members that are spread over zones and still go with one of them, where that
// could be helped. An even number of them is told of elsewhere.
func (k *checker) majority(at string, n int, zones []string) {
	if k.site == nil || n < 3 || n%2 == 0 || len(zones) < 2 || len(k.site.Zones) <= len(zones) {
		return
	}
	if most := (n + len(zones) - 1) / len(zones); n-most <= n/2 {
		k.add(at+".zones", "zone-majority", fmt.Sprintf("%d of the datastore's %d members stand in one zone, and without it none of them takes a write", most, n), "spread them over three zones")
	}
}

func (k *checker) trust() {
	t := k.c.Trust
	authority, leaf, renew := time.Duration(t.Authority), time.Duration(t.Leaf), time.Duration(t.Renew)
	switch {
	case authority <= leaf:
		k.add("trust.authority", "trust-order", fmt.Sprintf("an authority of %s cannot sign certificates of %s", t.Authority, t.Leaf), "let the authority live several times as long as what it signs")
	case authority < 2*leaf:
		k.add("trust.authority", "trust-short", fmt.Sprintf("an authority of %s has to be replaced before the second certificates of %s", t.Authority, t.Leaf), "let it live at least twice as long as what it signs")
	}
	if leaf > 398*24*time.Hour {
		k.add("trust.leaf", "trust-long", fmt.Sprintf("certificates of %s outlive the memory of those who made them", t.Leaf), "choose 365d or less: they are renewed without downtime")
	}
	if renew*2 > leaf {
		k.add("trust.renew", "trust-renew", fmt.Sprintf("renewing %s before the end of %s means more than half of the time", t.Renew, t.Leaf), "choose less than half of trust.leaf")
	}
	for _, w := range []struct {
		at, value string
		known     []string
	}{{"trust.algorithm", t.Algorithm, Algorithms}, {"trust.tokens", t.Tokens, Algorithms}, {"trust.keys", t.Keys, []string{"held", "outside"}}, {"trust.kubelets.renew", t.Kubelets.Renew, []string{"own", "tool"}}} {
		if !slices.Contains(w.known, w.value) {
			k.add(w.at, "trust-word", fmt.Sprintf("%s %q is not known", w.at, w.value), oneOf(w.value, w.known))
		}
	}
	if t.Tokens == "ed25519" {
		k.add("trust.tokens", "trust-tokens", "API servers sign service-account tokens with RSA or ECDSA keys, not with Ed25519", "choose ecdsa-p256 for trust.tokens; certificates may have Ed25519 all the same")
	}
	if life := time.Duration(t.Kubelets.Life); life < minKubeletLife || authority <= life {
		k.add("trust.kubelets.life", "trust-kubelets-life", fmt.Sprintf("certificates of kubelets cannot live %s under an authority of %s", t.Kubelets.Life, t.Authority), fmt.Sprintf("choose from %s up to less than the authority's life", Duration(minKubeletLife)))
	}
	if t.Keys == "outside" {
		if t.OwnRenewal() {
			k.add("trust.kubelets.renew", "trust-outside-renewal", "kubelets cannot renew their own certificates: the controller manager would have to sign, and the authority's key is outside", "write kubelets: {renew: tool}, or let the tool hold an intermediate authority: keys: held, and trust adopt")
		}
		for i, p := range k.c.Pools {
			if p.Enrolment == "token" {
				k.add(fmt.Sprintf("pools[%d].enrolment", i), "trust-outside-token", fmt.Sprintf("machines of pool %s cannot enrol by token: nothing in the cluster signs what they ask for, since the authority's key is outside", p.Name), "write enrolment: issued, or let the tool hold an intermediate authority: keys: held, and trust adopt")
			}
		}
	}
	names := map[string]bool{}
	for i, p := range t.Programs {
		at := fmt.Sprintf("trust.programs[%d]", i)
		switch {
		case !label.MatchString(p.Name):
			k.add(at+".name", "bad-name", fmt.Sprintf("program name %q cannot be used", p.Name), "use lower-case letters, digits and hyphens, beginning with a letter")
		case names[p.Name]:
			k.add(at+".name", "name-twice", fmt.Sprintf("two programs are named %s", p.Name), "give one of them another name")
		}
		names[p.Name] = true
		if !slices.Contains(Algorithms, p.Algorithm) {
			k.add(at+".algorithm", "trust-word", fmt.Sprintf("algorithm %q is not known", p.Algorithm), oneOf(p.Algorithm, Algorithms))
		}
		if len(p.Names) == 0 && !p.Client {
			k.add(at, "program-useless", fmt.Sprintf("the certificate of %s has no name to serve at, and is no client's", p.Name), "give it names, or client: true")
		}
		for j, n := range p.Names {
			if _, err := netip.ParseAddr(n); err != nil && !domain.MatchString(n) {
				k.add(fmt.Sprintf("%s.names[%d]", at, j), "bad-name", fmt.Sprintf("%q is neither a name nor an address", n), "write it like tidetable.tidewatch.test")
			}
		}
	}
}

// Algorithms that keys of authorities and certificates can have.
var Algorithms = []string{"ecdsa-p256", "ecdsa-p384", "rsa-2048", "rsa-3072", "rsa-4096", "ed25519"}

// minKubeletLife leaves a kubelet the time to renew: the shortest is for
// trying it out.
const minKubeletLife = 15 * time.Second

func (k *checker) addOns() {
	for _, n := range slices.Sorted(maps.Keys(k.c.AddOns)) {
		a, at := k.c.AddOns[n], "addOns."+n
		known := k.cat.AddOnVersions(n)
		if len(known) == 0 {
			k.add(at, "unknown-add-on", fmt.Sprintf("add-on %q is not in the catalogue", n), oneOf(n, []string{"fairway", "coredns"}))
			continue
		}
		if strings.TrimSpace(a.Reason) == "" {
			k.add(at, "add-on-reason", fmt.Sprintf("%s is on a version of its own, and nobody says why", n), "add a reason: those who come later will ask")
		}
		if !slices.Contains(known, a.Version) || k.cat.Digest(n+":"+a.Version) == "" {
			k.add(at+".version", "add-on-version", fmt.Sprintf("the catalogue has no %s %s", n, a.Version), oneOf(a.Version, known))
			continue
		}
		if m := k.minor(); m > 0 && !slices.Contains(k.cat.Fitting(n, m), a.Version) {
			k.add(at+".version", "add-on-unfit", fmt.Sprintf("%s %s does not fit Kubernetes v1.%d", n, a.Version, m), "these fit: "+joinWords(k.cat.Fitting(n, m))+"; or declare an exception with its reason")
		}
	}
}

// losses looks whether pods that may be lost are chosen on purpose.
func (k *checker) losses() {
	for i, l := range k.c.MayLose {
		at := fmt.Sprintf("mayLose[%d]", i)
		if _, err := l.Selector(); err != nil {
			k.add(at+".pods", "may-lose", err.Error(), "write a selector such as app=scratch")
		}
		if strings.TrimSpace(l.Reason) == "" {
			k.add(at, "may-lose", fmt.Sprintf("pods %q may be lost, and no reason is given", l.Pods), "add a reason: it is for whoever reads this next")
		}
	}
}

// Selector reads the label selector, which has to choose something.
func (l Loss) Selector() (labels.Selector, error) {
	s, err := labels.Parse(l.Pods)
	if err == nil && s.Empty() {
		err = fmt.Errorf("it chooses every pod")
	}
	if err != nil {
		return nil, fmt.Errorf("%q is no selector of pods: %w", l.Pods, err)
	}
	return s, nil
}

// backups judges who is to open them.
func (k *checker) backups() {
	b := k.c.Backup
	if e := time.Duration(b.Every); k.has("backup.every") && (e < 5*time.Minute || e > 90*24*time.Hour) {
		k.add("backup.every", "bad-keeping", fmt.Sprintf("a backup cannot be due every %s", b.Every), "choose 5m to 2160h")
	}
	for i, to := range b.To {
		if host, repository, ok := strings.Cut(strings.TrimPrefix(to, "oci://"), "/"); !path.IsAbs(to) && (!strings.HasPrefix(to, "oci://") || !ok || host == "" || repository == "") {
			k.add(fmt.Sprintf("backup.to[%d]", i), "bad-keeping", fmt.Sprintf("no backup can be sent to %q", to), "write a folder by its whole path, or oci://HOST/REPOSITORY")
		}
	}
	if f := b.Keep; f != nil {
		switch {
		case f.Last < 0 || f.Daily < 0 || f.Weekly < 0:
			k.add("backup.keep", "bad-keeping", "fewer than no backups cannot be kept", "choose 0 or more of each")
		case f.Last+f.Daily+f.Weekly == 0:
			k.add("backup.keep", "bad-keeping", "no backup would be kept", "keep some, such as {last: 8, daily: 7, weekly: 4}")
		case b.Every == 0:
			k.add("backup.keep", "bad-keeping", "backups are thinned as another one is due, and none ever is", "say with every how often one is due")
		}
	}
	for i, text := range k.c.Backup.Opens {
		var err error
		if strings.HasPrefix(text, "ssh-") {
			_, err = agessh.ParseRecipient(text)
		} else {
			_, err = age.ParseX25519Recipient(text)
		}
		if err != nil {
			k.add(fmt.Sprintf("backup.opens[%d]", i), "bad-opener", fmt.Sprintf("%q opens nothing", text), "write an age recipient (age1…), or an SSH public key of the kind ssh-ed25519 or ssh-rsa")
		}
	}
}

// exceptions turns errors that are accepted into warnings.
func (k *checker) exceptions() {
	for i, x := range k.c.Exceptions {
		at := fmt.Sprintf("exceptions[%d]", i)
		r, ok := byRule[x.Rule]
		if !ok || !r.Open {
			var open []string
			for _, r := range Rules {
				if r.Open {
					open = append(open, r.ID)
				}
			}
			k.add(at+".rule", "exception-rule", fmt.Sprintf("there is no exception from %q", x.Rule), "only these are open to exceptions: "+joinWords(open))
			continue
		}
		if strings.TrimSpace(x.Reason) == "" {
			k.add(at, "exception-reason", fmt.Sprintf("the exception from %s has no reason", x.Rule), "add a reason: it is what check, plan and status go on showing")
			continue
		}
		used := false
		for j := range k.Findings {
			if f := &k.Findings[j]; f.Rule == x.Rule && f.Reason == "" {
				f.Severity, f.Reason, used = Warning, x.Reason, true
			}
		}
		if !used && !r.Living {
			k.add(at, "exception-idle", fmt.Sprintf("the exception from %s is not needed", x.Rule), "take it out")
		}
	}
}
