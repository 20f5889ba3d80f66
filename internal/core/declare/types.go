package declare

import (
	"fmt"
	"math"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Schema names the version of the declaration's format.
const Schema = "verbund/1"

// SiteSchema names the version of the site file's format.
const SiteSchema = "verbund-site/1"

// The tags of the fields below are what the decoder, the JSON Schema and the
// reference in docs/declaration.md are made from: yaml names the key, doc says
// what it is for, def what it is when left out, eg shows one, oneof lists what
// it may be, and need marks what has no default.

// Declaration is a cluster as its owner wants it.
type Declaration struct {
	Schema     string               `yaml:"schema" doc:"version of the format" need:"yes" oneof:"verbund/1"`
	Extends    string               `yaml:"extends" doc:"another file, relative to this one, of which this one holds only what differs: merged by key, pools and people by name, other lists as a whole" eg:"coast.base.yaml"`
	Name       string               `yaml:"name" doc:"the cluster's name: small letters, digits and hyphens" need:"yes" eg:"tidewatch"`
	CopyOf     string               `yaml:"copyOf" doc:"the cluster of which this one is a copy, for looking at: it has one control-plane machine and nothing beside, and nothing acts on what its API holds; backup restore --as writes it; commands without --file mean the other cluster" eg:"tidewatch"`
	Kubernetes string               `yaml:"kubernetes" doc:"a version of the catalogue; change it by one minor at most to upgrade" need:"yes" eg:"v1.36.2"`
	Site       string               `yaml:"site" doc:"where machines come from: SITE.site.yaml beside this file" need:"yes" eg:"estuary"`
	Catalogue  *CatalogueFile       `yaml:"catalogue" doc:"a catalogue of versions from a file" def:"the one inside the program"`
	Endpoint   Endpoint             `yaml:"endpoint" doc:"the one stable name and port of the API"`
	Ranges     Ranges               `yaml:"ranges" doc:"address ranges; those of pods and services cannot change later"`
	DNS        DNS                  `yaml:"dns" doc:"name resolution inside the cluster"`
	Network    Network              `yaml:"network" doc:"the network plugin, and the ways out"`
	Control    Control              `yaml:"control" doc:"the control-plane machines"`
	Pools      []Pool               `yaml:"pools" doc:"named groups of worker machines"`
	Rollout    Rollouts             `yaml:"rollout" doc:"how changes reach the cluster as a whole"`
	Components map[string]Component `yaml:"components" doc:"settings of components beyond what Verbund derives, by component: kube-apiserver, kube-controller-manager, kube-scheduler, kubelet, kube-proxy, etcd; checked against what each minor knows"`
	Images     map[string]Image     `yaml:"images" doc:"machine images that the site composes once and uses again, by name"`
	Watch      []Watch              `yaml:"watch" doc:"applications that have a say in a roll-out: asked from outside all the while, and when one breaks its limit no further machine is touched"`
	System     System               `yaml:"system" doc:"what the machines' operating system is told"`
	Trust      Trust                `yaml:"trust" doc:"how long authorities and certificates live"`
	AddOns     map[string]AddOn     `yaml:"addOns" doc:"add-ons on versions of their own, by name: fairway or coredns"`
	MayLose    []Loss               `yaml:"mayLose" doc:"pods that a drain may lose for good: those without a controller, and those with data in an emptyDir; without it a run that would lose one stops before its first step"`
	Backup     Keeping              `yaml:"backup" doc:"how backups are kept"`
	Drills     []Drill              `yaml:"drills" doc:"faults on purpose of one's own, beside those that are shipped; one of the same name takes the place of a shipped one"`
	Prove      string               `yaml:"prove" doc:"when the quick part of a proof is made without being asked for" def:"never" oneof:"never,after-change"`
	Approvals  Approvals            `yaml:"approvals" doc:"how many people have to agree to what"`
	Exceptions []Exception          `yaml:"exceptions" doc:"errors that are accepted knowingly; check, plan and status go on showing them"`
}

// Approvals say how many people have to sign a plan before it is carried out.
type Approvals struct {
	Final int `yaml:"final" doc:"so many people have to sign a plan that has steps which cannot be undone, 1 to 9: those who open the store with an SSH key (store admit), each once; without it nobody has to" eg:"2"`
}

// When a proof is made without being asked for.
const (
	ProveNever       = "never"
	ProveAfterChange = "after-change"
)

// CatalogueFile is a catalogue of the owner's own.
type CatalogueFile struct {
	File   string `yaml:"file" doc:"relative to the declaration" need:"yes" eg:"coast.catalogue.yaml"`
	Digest string `yaml:"digest" doc:"SHA-256 of the file, so that it cannot change unnoticed" need:"yes" eg:"sha256:…"`
}

// Endpoint is the one stable name and port of the API. At most one of
// Balancer, Existing and Virtual is given; none of them means that the name
// points at the only control-plane machine.
type Endpoint struct {
	Name     string    `yaml:"name" doc:"host name; every machine resolves it" def:"api.DOMAIN" eg:"api.tidewatch.test"`
	Port     int       `yaml:"port" doc:"TCP port" def:"6443"`
	Also     []int     `yaml:"also" doc:"further ports at which the API answers too; not for an existing balancer, which is configured elsewhere" eg:"[443]"`
	Balancer *Balancer `yaml:"balancer" doc:"a machine that the site provides and Verbund configures"`
	Existing *Existing `yaml:"existing" doc:"a balancer that exists already and is configured by somebody else"`
	Virtual  *Virtual  `yaml:"virtual" doc:"an address that the control-plane machines carry among themselves: one holds it, another takes over when it dies"`
}

// Balancer is the machine that answers at the endpoint.
type Balancer struct {
	Size    string    `yaml:"size" doc:"a size of the site" def:"the smallest"`
	Forward []Forward `yaml:"forward" doc:"node ports of the workers that the balancer publishes"`
}

// Existing is a balancer of somebody else.
type Existing struct {
	Address netip.Addr `yaml:"address" doc:"IPv4 address at which it answers" need:"yes" eg:"192.0.2.40"`
}

// Virtual is an address that moves between control-plane machines.
type Virtual struct {
	Address netip.Addr `yaml:"address" doc:"a free IPv4 address of the machines' range" need:"yes" eg:"127.81.7.250"`
}

// Forward publishes a node port of the workers at the balancer's address.
type Forward struct {
	Port int `yaml:"port" doc:"TCP port at the balancer" need:"yes" eg:"8080"`
	To   int `yaml:"to" doc:"node port of a service, 30000 to 32767" need:"yes" eg:"30080"`
}

// Ranges are address ranges.
type Ranges struct {
	Pods     netip.Prefix `yaml:"pods" doc:"addresses of pods" def:"10.172.0.0/15"`
	Services netip.Prefix `yaml:"services" doc:"addresses of services" def:"10.112.0.0/16"`
	PerNode  int          `yaml:"perNode" doc:"how many pod addresses each node gets, a power of two from 16 to 4096" def:"256"`
	Machines netip.Prefix `yaml:"machines" doc:"the subnet whose addresses machines use, on whichever card it is" def:"the site's block"`
}

// DNS is name resolution inside the cluster.
type DNS struct {
	Domain  string       `yaml:"domain" doc:"domain of the cluster's own names" def:"NAME.internal" eg:"tidewatch.test"`
	Forward []netip.Addr `yaml:"forward" doc:"name servers that know all other names; without any, pods find the cluster's own names alone" eg:"[192.0.2.53]"`
}

// Network is how pods talk, and how machines reach the world.
type Network struct {
	Plugin   string            `yaml:"plugin" doc:"network plugin" def:"fairway" oneof:"fairway"`
	Settings map[string]string `yaml:"settings" doc:"of the plugin; fairway takes mtu (1280 to 9000) and verbosity (0 to 5), both in quotes" eg:"{mtu: '1450'}"`
	Proxy    *Proxy            `yaml:"proxy" doc:"through which machines reach the world"`
	Mirror   []string          `yaml:"mirror" doc:"upstream registries that are reached through the site's one mirror" eg:"[images.seamark.test]"`
}

// Proxy is an outbound proxy.
type Proxy struct {
	URL    string   `yaml:"url" doc:"http or https" need:"yes" eg:"http://proxy.seamark.test:3128"`
	Except []string `yaml:"except" doc:"names, domains and ranges that are reached directly; the cluster's own are always among them" eg:"[.seamark.test]"`
}

// Control describes the control-plane machines.
type Control struct {
	Count     int       `yaml:"count" doc:"how many; odd, 9 at most" def:"1"`
	Size      string    `yaml:"size" doc:"a size of the site" def:"the smallest"`
	Zones     []string  `yaml:"zones" doc:"zones to spread over, in turn" def:"all zones of the site"`
	Image     string    `yaml:"image" doc:"a machine image of images" def:"that of the set"`
	Nodes     *bool     `yaml:"nodes" doc:"whether they appear as nodes, with the taint of the control plane" def:"true"`
	Names     []string  `yaml:"names" doc:"further names and addresses in the API server's certificate" eg:"[api.tidewatch.example]"`
	Datastore Datastore `yaml:"datastore" doc:"where the datastore's members are"`
	Rollout   Careful   `yaml:"rollout" doc:"how changes reach these machines, and those of the datastore: always one after the other"`
}

// AsNodes says whether control-plane machines appear as nodes.
func (c Control) AsNodes() bool { return c.Nodes == nil || *c.Nodes }

// Datastore places the members of the datastore.
type Datastore struct {
	Place string   `yaml:"place" doc:"beside the API servers, or apart on machines of their own" def:"beside" oneof:"beside,apart"`
	Count int      `yaml:"count" doc:"of machines apart; odd, 9 at most" def:"3 when apart"`
	Size  string   `yaml:"size" doc:"of machines apart" def:"that of control"`
	Zones []string `yaml:"zones" doc:"of machines apart" def:"those of control"`
}

// Pool is a named group of worker machines.
type Pool struct {
	Name       string            `yaml:"name" doc:"unique in the cluster" need:"yes" eg:"gauges"`
	Count      Count             `yaml:"count" doc:"how many machines, or a range such as 2-6 inside which scale moves the count without changing this file" def:"1"`
	Size       string            `yaml:"size" doc:"a size of the site" def:"the smallest"`
	Zones      []string          `yaml:"zones" doc:"zones to spread over, in turn" def:"all zones of the site"`
	Image      string            `yaml:"image" doc:"a machine image of images" def:"that of the set"`
	Labels     map[string]string `yaml:"labels" doc:"of its nodes" eg:"{work: intake}"`
	Taints     []Taint           `yaml:"taints" doc:"of its nodes"`
	Kubernetes string            `yaml:"kubernetes" doc:"holds the pool back on an older version, three minors at most" def:"that of the cluster"`
	Rollout    Rollout           `yaml:"rollout" doc:"how changes reach its machines"`
	Enrolment  string            `yaml:"enrolment" doc:"how a machine gets its certificate" def:"issued" oneof:"issued,token"`
	Adopt      []string          `yaml:"adopt" doc:"hardware addresses of machines that the site has already; they become the pool's first ones, in this order" eg:"['02:5e:00:00:00:01']"`
}

// Taint keeps pods off a node that do not tolerate it.
type Taint struct {
	Key    string `yaml:"key" doc:"as Kubernetes has it" need:"yes" eg:"work"`
	Value  string `yaml:"value" doc:"as Kubernetes has it"`
	Effect string `yaml:"effect" doc:"what it does" need:"yes" oneof:"NoSchedule,PreferNoSchedule,NoExecute"`
}

func (t Taint) String() string { return t.Key + "=" + t.Value + ":" + t.Effect }

// Loss is pods that may be lost when their node is drained.
type Loss struct {
	Namespace string `yaml:"namespace" doc:"in which they are" def:"every namespace"`
	Pods      string `yaml:"pods" doc:"label selector, as Kubernetes has it" need:"yes" eg:"app=scratch"`
	Reason    string `yaml:"reason" doc:"why that does no harm" need:"yes" eg:"its data is made anew each night"`
}

// Rollout says how changes reach the machines of a pool.
type Rollout struct {
	Way      string   `yaml:"way" doc:"in place: the machine stays, and what it runs changes; replacement: a new one comes first, then the old one goes; what a machine cannot become while it lives is done by replacement in either way" def:"in-place" oneof:"in-place,replacement"`
	Batch    Share    `yaml:"batch" doc:"machines out of service at a time, or a share of the pool such as 25%" def:"1"`
	Surge    Share    `yaml:"surge" doc:"new machines beyond the count at a time, or a share of the pool, where machines are replaced" def:"1"`
	Order    string   `yaml:"order" doc:"zone by zone, so that no batch ever spans two, or spread over them" def:"zones" oneof:"zones,spread"`
	Trial    int      `yaml:"trial" doc:"how many machines go first, alone, and are watched before the rest; 0 for none" def:"1"`
	Soak     Duration `yaml:"soak" doc:"how long those on trial have to stay well" def:"1m"`
	Hold     string   `yaml:"hold" doc:"where the roll-out stops and waits for a person's word" def:"never" oneof:"never,after-trial,each-batch,each-pool"`
	Failures int      `yaml:"failures" doc:"how many machines may fail before the roll-out stops; those that did stay cordoned, and are named" def:"0"`
	Patience Duration `yaml:"patience" doc:"how long a drain may take before the run stops" def:"2m"`
}

// Careful says how changes reach machines that always go one after the other.
type Careful struct {
	Way  string   `yaml:"way" doc:"as for a pool" def:"in-place" oneof:"in-place,replacement"`
	Soak Duration `yaml:"soak" doc:"how long the first of them has to stay well before the second goes" def:"10s"`
	Hold string   `yaml:"hold" doc:"where the roll-out stops and waits for a person's word" def:"never" oneof:"never,after-trial,each-batch,each-pool"`
}

// Rollouts says how changes reach a cluster as a whole.
type Rollouts struct {
	Pools    string  `yaml:"pools" doc:"one pool after the other, in the order in which they are declared, or all of them together" def:"in-turn" oneof:"in-turn,together"`
	Prefetch int     `yaml:"prefetch" doc:"how many waves before its own a machine fetches what it is to run, 1 to 50: more leave less to wait for, and fetch more at a time" def:"2"`
	Window   *Window `yaml:"window" doc:"when a batch may begin; without one, at any time"`
}

// Keeping says how backups are kept.
type Keeping struct {
	Every Duration `yaml:"every" doc:"how often one is taken, by the control-plane machines themselves, in turns; backup gather fetches them, backup take --due takes what is due; none by default" eg:"6h"`
	To    []string `yaml:"to" doc:"where each is sent as well: by backup take to folders, by their whole path, and places in OCI registries; by machines to those registries that take it from anybody" eg:"[/mnt/vault, 'oci://registry.seamark.test/kept/tidewatch']"`
	Keep  *KeepFew `yaml:"keep" doc:"which of those that were due stay when another one is taken, here and on each machine that took them; without it all of them here, the last 8 there; all others always"`
	Opens []string `yaml:"opens" doc:"age recipients or SSH public keys of those who can open every backup beside the cluster's own key, also on another computer" eg:"[age1…]"`
}

// KeepFew says how many backups stay: the newest ones, and the newest of so many days and weeks.
type KeepFew struct {
	Last   int `yaml:"last" json:"last" doc:"the newest so many" def:"0"`
	Daily  int `yaml:"daily" json:"daily" doc:"the newest of each of so many days on which any was taken" def:"0"`
	Weekly int `yaml:"weekly" json:"weekly" doc:"the newest of each of so many weeks" def:"0"`
}

// Watch is a probe of an application.
type Watch struct {
	Name     string   `yaml:"name" doc:"unique" need:"yes" eg:"tidetable"`
	URL      string   `yaml:"url" doc:"http or https; the endpoint's name is known, other names are looked up where the command runs" need:"yes" eg:"http://api.tidewatch.test:8080/"`
	Status   int      `yaml:"status" doc:"of the answer" def:"200"`
	Text     string   `yaml:"text" doc:"that the answer has to hold" eg:"high water"`
	Interval Duration `yaml:"interval" doc:"between two questions, 50ms to 10s" def:"1s"`
	Allow    int      `yaml:"allow" doc:"how many of a hundred answers may fail, 0 to 50, of the last 500" def:"1"`
	Slow     Duration `yaml:"slow" doc:"from when on an answer counts as none, 10ms to 10s" def:"5s"`
}

// Drill is a fault on purpose, with what has to hold meanwhile.
type Drill struct {
	Name     string      `yaml:"name" doc:"unique" need:"yes" eg:"gauges-dark"`
	Supposes string      `yaml:"supposes" doc:"what is supposed to hold, in words" need:"yes" eg:"tidetable answers while pool gauges is dark"`
	Hits     string      `yaml:"hits" doc:"who feels it, in words" eg:"pods of pool gauges"`
	Loses    string      `yaml:"loses" doc:"what is lost for good, in words: such a drill wants the cluster's name" eg:"what was written since the backup"`
	Steps    []DrillStep `yaml:"steps" doc:"one after the other; whatever they have disturbed is put right at the end, also where one fails" need:"yes"`
	Holds    DrillHolds  `yaml:"holds" doc:"what has to hold all the while; that nothing acknowledged is lost, and that the cluster is well afterwards, always has to"`
}

// DrillStep is one step of a drill: a fault, a certificate that is about to end, a command of the
// tool, a time to wait, or something to wait for.
type DrillStep struct {
	Fault  string   `yaml:"fault" doc:"one that a site can make happen, such as cut-power, full-disk, cut-network; or one that mends, such as power, mended-disk" eg:"cut-power"`
	At     string   `yaml:"at" doc:"whom it, or ages, hits: control, leader, member, majority, holder, balancer, worker, zone, a pool, or the name of a machine or zone; of a damaged-blob the artefact" eg:"leader"`
	Ages   string   `yaml:"ages" doc:"a certificate of one machine, by its name there, such as api-server: it is given one that ends after within" eg:"api-server"`
	Run    string   `yaml:"run" doc:"a command of the tool, without --yes and --confirm: converge, prove, replace, backup take, backup restore, trust renew, trust replace; {worker} and the like stand for a machine" eg:"replace {worker}"`
	Killed int      `yaml:"killed" doc:"after how many entries of the journal that command is killed; it is not by default" eg:"12"`
	Fails  bool     `yaml:"fails" doc:"whether that command is to fail" def:"false"`
	Wait   Duration `yaml:"wait" doc:"how long nothing is done, 100ms to 1h" eg:"10s"`
	Until  string   `yaml:"until" doc:"what is waited for: writes (the API takes them), no-writes, ailing (status says that something is wrong), or well" eg:"writes"`
	Within Duration `yaml:"within" doc:"how long that may take, or how long the certificate of ages lives, 1s to 1h" def:"2m"`
}

// DrillHolds says what has to hold during a drill.
type DrillHolds struct {
	Pause  Duration `yaml:"pause" doc:"how long the API may take no write at most; without it that is measured only" eg:"5s"`
	Failed *int     `yaml:"failed" doc:"how many answers of the declared watches may be wrong; without it that is measured only" eg:"0"`
}

// Window is hours of some days in which a batch may begin. One that has begun ends, also
// after them.
type Window struct {
	Days     []string `yaml:"days" doc:"mon, tue, wed, thu, fri, sat, sun: those on which it opens" def:"every day" eg:"[mon, tue, wed, thu]"`
	From     string   `yaml:"from" doc:"hour and minute at which it opens" need:"yes" eg:"'22:00'"`
	To       string   `yaml:"to" doc:"hour and minute at which it closes, on the next day where that is not after from" need:"yes" eg:"'05:30'"`
	TimeZone string   `yaml:"timeZone" doc:"a name of the IANA time-zone database" def:"UTC" eg:"Europe/Berlin"`
}

// Component holds settings of one component.
type Component struct {
	Flags  map[string]string `yaml:"flags" doc:"of kube-apiserver, kube-controller-manager and kube-scheduler, without the leading hyphens; values are text" eg:"{audit-log-maxage: '30'}"`
	Config map[string]any    `yaml:"config" doc:"keys of the configuration file of kubelet, kube-proxy, kube-scheduler and etcd" eg:"{maxPods: 200}"`
}

// Image is what a machine boots from.
type Image struct {
	System       string   `yaml:"system" doc:"operating system with its version" def:"that of the set" eg:"skerry 2026.09"`
	Architecture string   `yaml:"architecture" doc:"of the processors" def:"amd64" oneof:"amd64,arm64"`
	Extras       []string `yaml:"extras" doc:"packages beside the system's own" eg:"[tcpdump]"`
}

// System is what the machines' operating system is told.
type System struct {
	TimeZone  string                `yaml:"timeZone" doc:"a name of the IANA time-zone database" def:"UTC" eg:"Etc/GMT-1"`
	People    []Person              `yaml:"people" doc:"who may log in to the machines"`
	Addresses map[string]netip.Addr `yaml:"addresses" doc:"fixed addresses, by machine" eg:"{tidewatch-gauges-1: 127.81.7.40}"`
}

// Person may log in to the machines.
type Person struct {
	Name   string   `yaml:"name" doc:"login name" need:"yes" eg:"maren"`
	Keys   []string `yaml:"keys" doc:"SSH public keys, as lines of an authorized_keys file; at least one"`
	Rights string   `yaml:"rights" doc:"look: read; act: also become the administrator" def:"look" oneof:"look,act"`
}

// Trust is how long what vouches lives, and of what kind it is.
type Trust struct {
	Authority Duration  `yaml:"authority" doc:"life of an authority" def:"3650d"`
	Leaf      Duration  `yaml:"leaf" doc:"life of a certificate" def:"365d"`
	Renew     Duration  `yaml:"renew" doc:"how long before its end a certificate is renewed" def:"30d"`
	Algorithm string    `yaml:"algorithm" doc:"of authorities and certificates; kubelets always make ECDSA P-256 keys" def:"ecdsa-p256" oneof:"ecdsa-p256,ecdsa-p384,rsa-2048,rsa-3072,rsa-4096,ed25519"`
	Tokens    string    `yaml:"tokens" doc:"algorithm of the key that signs service-account tokens; the API server takes no Ed25519 there" def:"that of algorithm, or ecdsa-p256" oneof:"ecdsa-p256,ecdsa-p384,rsa-2048,rsa-3072,rsa-4096,ed25519"`
	Keys      string    `yaml:"keys" doc:"who holds the keys of the authorities: the tool, or somebody outside who signs requests" def:"held" oneof:"held,outside"`
	Kubelets  Kubelets  `yaml:"kubelets" doc:"certificates of kubelets"`
	Programs  []Program `yaml:"programs" doc:"certificates of other programs, under an authority of their own"`
}

// Kubelets says how kubelets keep their certificates.
type Kubelets struct {
	Renew string   `yaml:"renew" doc:"who renews their certificates: each kubelet its own, or the tool" def:"own" oneof:"own,tool"`
	Life  Duration `yaml:"life" doc:"of a certificate that a kubelet asks for" def:"that of leaf"`
}

// Program is another program that gets a certificate.
type Program struct {
	Name      string   `yaml:"name" doc:"of the certificate, unique" need:"yes" eg:"tidetable"`
	Names     []string `yaml:"names" doc:"names and addresses at which it serves; without any it is only a client" eg:"[tidetable.tidewatch.test]"`
	Client    bool     `yaml:"client" doc:"whether it may also be shown as a client" def:"false"`
	Algorithm string   `yaml:"algorithm" doc:"of its key" def:"that of trust" oneof:"ecdsa-p256,ecdsa-p384,rsa-2048,rsa-3072,rsa-4096,ed25519"`
}

// OwnRenewal says whether kubelets renew their own certificates.
func (t Trust) OwnRenewal() bool { return t.Kubelets.Renew == "own" }

// AddOn is an add-on on a version of its own.
type AddOn struct {
	Version string `yaml:"version" doc:"a version of the catalogue" need:"yes" eg:"v2.2.1"`
	Reason  string `yaml:"reason" doc:"why; it is shown wherever versions are" need:"yes"`
}

// Exception accepts an error of one rule knowingly.
type Exception struct {
	Rule   string `yaml:"rule" doc:"a rule that check --rules marks as open to exceptions" need:"yes" eg:"add-on-unfit"`
	Reason string `yaml:"reason" doc:"why it is right here" need:"yes"`
}

// Site is where machines come from.
type Site struct {
	Schema    string          `yaml:"schema" doc:"version of the format" need:"yes" oneof:"verbund-site/1"`
	Name      string          `yaml:"name" doc:"the site's name, as in the name of its file" need:"yes" eg:"estuary"`
	Kind      string          `yaml:"kind" doc:"what supplies the machines" need:"yes" oneof:"simulated,linux,listed"`
	Stock     string          `yaml:"stock" doc:"folder of artefacts (OCI Image Layout) that its registry has beside the shipped stand-ins; relative to this file; of real programs a simulated machine runs those of the control plane" eg:"components"`
	Addresses netip.Prefix    `yaml:"addresses" doc:"the block that its machines get their addresses from: of the loopback range on a simulated site, a private one on a site of kind linux; on one of kind listed, the network that they are in" need:"yes" eg:"127.81.7.0/24"`
	Pace      int             `yaml:"pace" doc:"how many times faster than life things go, 1 to 1000" def:"60"`
	Seed      int             `yaml:"seed" doc:"of everything random in the simulation" def:"0"`
	Zones     []Zone          `yaml:"zones" doc:"failure domains" need:"yes"`
	Sizes     map[string]Size `yaml:"sizes" doc:"how big machines are, by name" need:"yes"`
	Bare      []Bare          `yaml:"bare" doc:"machines that exist already, to be adopted by pools"`
	Registry  netip.Addr      `yaml:"registry" doc:"on a site of kind listed, the address of this computer at which its machines reach the artefacts of stock, on port 5000" eg:"10.81.7.2"`
	Key       string          `yaml:"key" doc:"on a site of kind listed, the private key (OpenSSH) that one logs in to its machines with; relative to this file; without it, those that the SSH agent has" eg:"estuary.key"`
	Machines  []Listed        `yaml:"machines" doc:"on a site of kind listed, the machines that there are"`
}

// RegistryAddress is where the site's registry listens.
func (s *Site) RegistryAddress() netip.Addr {
	if s.Kind == ListedSite {
		return s.Registry
	}
	return s.Addresses.Masked().Addr().Next().Next()
}

// Listed is a machine of a list: it exists, and one can log in to it.
type Listed struct {
	Address netip.Addr `yaml:"address" doc:"its address" need:"yes" eg:"10.81.7.21"`
	Port    int        `yaml:"port" doc:"port of its SSH server" def:"22"`
	User    string     `yaml:"user" doc:"who one logs in as; whoever is not root needs sudo without a password" def:"root"`
	HostKey string     `yaml:"hostKey" doc:"fingerprint of its Ed25519 host key, as ssh-keygen -l shows it; verbund site meet asks the machine, and you" eg:"SHA256:Zt1cUgd0HV3UuTrd1tRkU9bKBcaBfoVMvPB6v2bxFFI"`
	Zone    string     `yaml:"zone" doc:"where it stands" need:"yes" eg:"north"`
	Size    string     `yaml:"size" doc:"how big it is: no more than it has" need:"yes" eg:"small"`
}

// ListedAt finds the machine of a list by its address.
func (s *Site) ListedAt(a netip.Addr) (Listed, bool) {
	i := slices.IndexFunc(s.Machines, func(m Listed) bool { return m.Address == a })
	if i < 0 {
		return Listed{}, false
	}
	return s.Machines[i], true
}

// Zone is a failure domain of a site.
type Zone struct {
	Name     string `yaml:"name" doc:"unique in the site" need:"yes" eg:"north"`
	Machines int    `yaml:"machines" doc:"how many it has room for; on a site of kind listed those that the list has there" eg:"12"`
}

// Size is how big a machine is.
type Size struct {
	CPUs   int   `yaml:"cpus" doc:"processors" need:"yes" eg:"2"`
	Memory Bytes `yaml:"memory" doc:"memory" need:"yes" eg:"4GiB"`
	Disk   Bytes `yaml:"disk" doc:"disk" need:"yes" eg:"20GiB"`
}

// Bare is a machine that exists already and belongs to no cluster yet.
type Bare struct {
	Hardware string `yaml:"hardware" doc:"its hardware address" need:"yes" eg:"02:5e:00:00:00:01"`
	Zone     string `yaml:"zone" doc:"where it stands" need:"yes" eg:"north"`
	Size     string `yaml:"size" doc:"how big it is" need:"yes" eg:"small"`
}

// Count is a number of machines, or a range of numbers.
type Count struct{ From, To int }

var countForm = regexp.MustCompile(`^(-?\d{1,9})(?:-(\d{1,9}))?$`)

// UnmarshalText reads 3 or 2-6.
func (c *Count) UnmarshalText(b []byte) error {
	m := countForm.FindStringSubmatch(string(b))
	if m == nil {
		return fmt.Errorf("%q is no number of machines", b)
	}
	c.From, _ = strconv.Atoi(m[1])
	c.To = c.From
	if m[2] != "" {
		c.To, _ = strconv.Atoi(m[2])
	}
	return nil
}

func (c Count) String() string {
	if c.From == c.To {
		return strconv.Itoa(c.From)
	}
	return fmt.Sprintf("%d-%d", c.From, c.To)
}

// IsRange says whether the count may move without a change of the file.
func (c Count) IsRange() bool { return c.From != c.To }

// Share is a number of machines, or a share of them in percent.
type Share struct {
	Number  int
	Percent int
}

var shareForm = regexp.MustCompile(`^(-?\d{1,9})(%?)$`)

// UnmarshalText reads 2 or 25%.
func (s *Share) UnmarshalText(b []byte) error {
	m := shareForm.FindStringSubmatch(string(b))
	if m == nil {
		return fmt.Errorf("%q is neither a number nor a share", b)
	}
	n, _ := strconv.Atoi(m[1])
	if m[2] == "%" {
		*s = Share{Percent: n}
		if n < 1 || n > 100 {
			return fmt.Errorf("%q is no share from 1%% to 100%%", b)
		}
		return nil
	}
	*s = Share{Number: n}
	return nil
}

func (s Share) String() string {
	if s.Percent > 0 {
		return fmt.Sprintf("%d%%", s.Percent)
	}
	return strconv.Itoa(s.Number)
}

// Of is how many of n machines the share is: rounded down, and at least one.
func (s Share) Of(n int) int {
	if s.Percent > 0 {
		return max(1, n*s.Percent/100)
	}
	return s.Number
}

// Duration is a time span written out with its unit: 2m, 90s, 365d.
type Duration time.Duration

// UnmarshalText reads a positive duration with a unit.
func (d *Duration) UnmarshalText(b []byte) error {
	if days, ok := strings.CutSuffix(string(b), "d"); ok {
		n, err := strconv.Atoi(days)
		if err != nil || n < 1 || n > math.MaxInt64/int(24*time.Hour) {
			return fmt.Errorf("%q is not a time span", b)
		}
		*d = Duration(time.Duration(n) * 24 * time.Hour)
		return nil
	}
	v, err := time.ParseDuration(string(b))
	if err != nil || v <= 0 {
		return fmt.Errorf("%q is not a time span", b)
	}
	*d = Duration(v)
	return nil
}

func (d Duration) String() string {
	if t := time.Duration(d); t%(24*time.Hour) == 0 {
		return fmt.Sprintf("%dd", t/(24*time.Hour))
	}
	s := time.Duration(d).String()
	return strings.TrimSuffix(s, "m0s") + strings.Repeat("m", strings.Count(s, "m0s"))
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
