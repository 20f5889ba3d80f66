package nodeconf

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
	"verbund/internal/core/versions"
)

// Active is the slot that a machine runs from; rendered paths of slotted files
// begin with it.
const Active = "/opt/verbund/active/"

// Hosts is the file that says where everybody is.
const Hosts = "/etc/hosts"

// Whereabouts are the files that say where other machines are, whatever versions these
// run; nothing is restarted for them.
var Whereabouts = []string{Hosts, Expected}

// Kind says where a file's bytes come from.
type Kind int

// The kinds of files.
const (
	Text          Kind = iota // Content
	Cert                      // the certificate with the ID in From
	Key                       // the private key with the ID in From
	Bundle                    // every trusted certificate of the authority with the ID in From
	PublicKey                 // the public halves of every trusted key with the ID in From
	SecretsConfig             // how API servers encrypt Secrets, with every trusted key
)

// File is one file of a machine.
type File struct {
	Path    string
	Mode    fs.FileMode
	Kind    Kind
	From    string // ID in the tool's store, unless Kind is Text
	Content string
	Restart []string // units that read it only when they start
	Reload  []string // units that take it up while running
}

// Own says whether a file is half of a pair that one machine alone has.
func (f File) Own() bool { return f.Kind != Text && strings.Contains(f.From, "/") }

// Shown says whether a file's content may be shown: what not everybody on the
// machine may read is not shown elsewhere either, for somebody may have written a
// secret into it.
func (f File) Shown() bool { return f.Kind == Text && f.Mode&0o004 != 0 }

// Options vary what is rendered beyond the topology.
type Options struct {
	// Resting machines get no new connections from the balancer.
	Resting map[string]bool
}

// DatastoreConfig is the configuration of a datastore member.
const DatastoreConfig = Active + "etc/etcd.yaml"

// Ports, as is customary for the components.
const (
	APIPort         = 6443
	ClientPort      = 2379
	PeerPort        = 2380
	KubeletPort     = 10250
	ProxyHealthPort = 10256

	controllerManagerPort = 10257
	schedulerPort         = 10259
)

// Datastore is a machine's member as a URL.
func Datastore(m topology.Machine) string { return fmt.Sprintf("https://%s:%d", m.Address, ClientPort) }

// Peer is the address at which other members reach a machine's member.
func Peer(m topology.Machine) string { return fmt.Sprintf("https://%s:%d", m.Address, PeerPort) }

// unitsOf are the services of each part, in the order in which they start.
var unitsOf = map[versions.Part][]string{
	versions.Member:   {UnitEtcd},
	versions.API:      {UnitAPIServer},
	versions.Acting:   {UnitControllerManager, UnitScheduler},
	versions.Carrier:  {UnitCarrier},
	versions.Approver: {UnitApprover},
	versions.Keeper:   {UnitKeeper},
	versions.Node:     {UnitContainerd, UnitKubelet, UnitProxy},
	versions.Balances: {UnitHAProxy},
}

// UnitsOf lists the services of one part, in the order in which they start.
func UnitsOf(p versions.Part) []string { return unitsOf[p] }

// Units lists the services of a machine in the order in which they start.
func Units(m topology.Machine) []string {
	var out []string
	for _, p := range m.Parts {
		out = append(out, unitsOf[p]...)
	}
	return out
}

// Own are the folders of a machine of which everything belongs to its cluster, or was written
// by what the cluster runs there.
var Own = []string{"/etc/kubernetes", "/etc/containerd", "/etc/cni/net.d", "/var/lib/etcd", "/var/lib/kubelet", "/var/lib/containerd", "/var/lib/verbund", "/etc/verbund"}

// Taken names the cluster that has taken over a machine of a list, from the moment on when it
// was found fit and nobody else's: nothing is written to it before, and nothing wiped from one
// that has neither this nor a record.
const Taken = "/etc/verbund/taken"

// Programs are what a machine's components call of its system, by name: what no artefact
// brings.
func Programs(m topology.Machine) []string {
	out := []string{"systemctl", "journalctl", "hostname"}
	if m.Is(versions.Node) {
		out = append(out, "runc", "bridge", "host-local", "portmap", "loopback", "nft", "mount", "umount", "modprobe")
	}
	if m.Is(versions.Balances) {
		out = append(out, "haproxy") // for the libraries that come with it
	}
	return out
}

// Pending is the file that names the units that have yet to be restarted for
// what was written: should that be cut off, the next run finds it.
const Pending = "/etc/verbund/pending-restarts"

// Render writes all files of one machine, ordered by path.
func Render(c *topology.Cluster, m topology.Machine, o Options) []File {
	r := &renderer{c: c, m: m}
	r.text("/etc/hostname", 0o644, m.Name+"\n", nil)
	r.text(Hosts, 0o644, c.Hosts(), nil)
	r.trust()
	r.system()
	for _, p := range m.Parts {
		switch p {
		case versions.Member:
			r.datastore()
		case versions.API:
			r.api()
		case versions.Acting:
			r.acting()
		case versions.Carrier:
			r.carrier()
		case versions.Approver:
			r.approver()
		case versions.Keeper:
			r.keeper()
		case versions.Node:
			r.node()
		case versions.Balances:
			r.balancer(o)
		}
	}
	slices.SortFunc(r.files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	owner := Owner{Cluster: c.Name, Machine: m.Name, Digests: map[string]string{}}
	for _, f := range r.files {
		owner.Files = append(owner.Files, f.Path)
		if f.Shown() {
			owner.Digests[f.Path] = digestOf(f.Content)
		}
	}
	r.text(Record, 0o644, owner.text(), nil)
	return r.files
}

type renderer struct {
	c     *topology.Cluster
	m     topology.Machine
	files []File
}

func (r *renderer) text(path string, mode fs.FileMode, content string, restart []string) {
	r.files = append(r.files, File{Path: path, Mode: mode, Content: content, Restart: restart})
}

// trusting lists the units that read an authority's bundle only when they
// start. What the front-proxy authority signs is verified by API servers alone,
// and they take up a changed file by themselves.
var trusting = map[trust.Authority][]string{
	trust.Cluster: {UnitAPIServer, UnitControllerManager, UnitScheduler, UnitApprover,
		UnitCarrier, UnitKubelet, UnitProxy},
	trust.Datastore: {UnitEtcd, UnitAPIServer, UnitCarrier, UnitKeeper},
}

// trust writes what vouches. Certificates with their keys restart nothing:
// every component reads the pair again when the file has changed.
func (r *renderer) trust() {
	add := func(name string, k Kind, from string, mode fs.FileMode, restart ...string) {
		r.files = append(r.files, File{Path: trust.Dir + "/" + name, Mode: mode, Kind: k, From: from, Restart: restart})
	}
	here := Units(r.m)
	for _, a := range trust.AuthoritiesOn(r.m) {
		add(string(a)+".crt", Bundle, string(a), 0o644, slices.DeleteFunc(slices.Clone(trusting[a]), func(u string) bool { return !slices.Contains(here, u) })...)
		if r.m.Is(versions.Balances) {
			r.files[len(r.files)-1].Reload = []string{UnitHAProxy}
		}
	}
	for id, name := range trust.Keys(r.c, r.m) {
		switch id {
		case trust.ServiceAccountKey:
			add(name+".key", Key, id, 0o600, slices.DeleteFunc([]string{UnitAPIServer, UnitControllerManager}, func(u string) bool { return !slices.Contains(here, u) })...)
			add(name+".pub", PublicKey, id, 0o644, UnitAPIServer)
		default: // the controller manager reads a changed pair again
			add(name+".key", Key, id, 0o600)
			add(name+".crt", Cert, id, 0o644)
		}
	}
	if r.m.Is(versions.API) {
		add(trust.SecretsKey+".yaml", SecretsConfig, trust.SecretsKey, 0o600, UnitAPIServer)
	}
	for _, q := range trust.Requests(r.c, r.m) {
		add(q.Name+".crt", Cert, q.ID, 0o644)
		add(q.Name+".key", Key, q.ID, 0o600)
	}
}

// path of a trust file on the machine.
func tp(name string) string { return trust.Dir + "/" + name }

type unit struct {
	name, about, after, typ, args string
	extra                         string // further lines of [Service]
}

func (r *renderer) unit(u unit) {
	after := "network-online.target"
	if u.after != "" {
		after += " " + u.after
	}
	t := fmt.Sprintf("[Unit]\nDescription=%s\nWants=network-online.target\nAfter=%s\n\n[Service]\nType=%s\nExecStart=%sbin/%s%s\n%sRestart=always\nRestartSec=2\nTimeoutStartSec=60\nLimitNOFILE=65536\n\n[Install]\nWantedBy=multi-user.target\n",
		u.about, after, u.typ, Active, u.name, u.args, u.extra)
	r.text(Active+"units/"+u.name+".service", 0o644, t, []string{u.name + ".service"})
}

// reconciler says who writes the addresses of the API servers into the cluster. A
// real one refuses to advertise a loopback address unless nobody does.
func (r *renderer) reconciler() string {
	if r.m.Address.IsLoopback() {
		return "--endpoint-reconciler-type=none"
	}
	return "--endpoint-reconciler-type=lease"
}

// flags writes one flag a line, as one reads them.
func flags(fs ...string) string { return " \\\n  " + strings.Join(fs, " \\\n  ") }

func (r *renderer) kubeconfig(user, cert, server, reader string) {
	t := fmt.Sprintf(`apiVersion: v1
kind: Config
clusters:
  - name: %[1]s
    cluster:
      server: %[2]s
      certificate-authority: %[3]s
users:
  - name: %[4]s
    user:
      client-certificate: %[5]s
      client-key: %[6]s
contexts:
  - name: %[1]s
    context: {cluster: %[1]s, user: "%[4]s"}
current-context: %[1]s
`, r.c.Name, server, tp(string(trust.Cluster)+".crt"), user, tp(cert+".crt"), tp(cert+".key"))
	r.text("/etc/kubernetes/"+cert+".kubeconfig", 0o600, t, []string{reader})
}

// suites are those of TLS 1.2 that servers speak, beside TLS 1.3: with forward secrecy and
// authenticated encryption (RFC 9325, 4.2). Those with CBC, which Go still offers by itself,
// are not among them.
var suites = []string{
	"TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256", "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384", "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256",
	"TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256", "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384", "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256",
}

// extra adds the declared flags of a component to those that it needs.
func (r *renderer) extra(component string, fs []string) string {
	given := r.c.Components[component].Flags
	if _, other := given["tls-cipher-suites"]; !other {
		fs = append(fs, "--tls-cipher-suites="+strings.Join(suites, ","))
	}
	for _, f := range slices.Sorted(maps.Keys(given)) {
		fs = append(fs, "--"+f+"="+quote(given[f]))
	}
	return flags(fs...)
}

// patience is how long the cluster waits for a node that says nothing.
type patience struct {
	report  time.Duration // between two reports of a kubelet
	unheard time.Duration // until a node that does not report counts as lost
}

// patience: a real API server takes up to half a minute to start, and a control-plane machine
// must not count as lost while its own one does. What kubelets say is most of what a large
// cluster does while nothing happens, so that a wide site is as patient as a real one.
func (r *renderer) patience() patience {
	if r.c.Real || r.c.Wide {
		return patience{10 * time.Second, 50 * time.Second}
	}
	return patience{4 * time.Second, 12 * time.Second}
}

// quote protects what systemd or its word splitting would take apart.
func quote(v string) string {
	if strings.ContainsAny(v, " \t\"'\\%$;") {
		return strconv.Quote(strings.NewReplacer("%", "%%", "$", "$$").Replace(v))
	}
	return v
}

// config lays the declared configuration of a component over what is rendered.
func (r *renderer) config(component, text string) string {
	given := r.c.Components[component].Config
	if len(given) == 0 {
		return text
	}
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(text), &doc); err != nil {
		panic("a rendered configuration of " + component + " is not YAML: " + err.Error())
	}
	overlay(doc.Content[0], given)
	b, err := yaml.Marshal(&doc)
	if err != nil {
		panic("the configuration of " + component + " cannot be written: " + err.Error())
	}
	return string(b)
}

func overlay(n *yaml.Node, values map[string]any) {
	for _, k := range slices.Sorted(maps.Keys(values)) {
		var at *yaml.Node
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == k {
				at = n.Content[i+1]
			}
		}
		if sub, nested := values[k].(map[string]any); nested && at != nil && at.Kind == yaml.MappingNode {
			overlay(at, sub)
			continue
		}
		var v yaml.Node
		if err := v.Encode(values[k]); err != nil {
			panic("a value that was read cannot be written: " + err.Error())
		}
		if at != nil {
			*at = v
			continue
		}
		n.Content = append(n.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: k}, &v)
	}
}

// system writes what the operating system is told: time zone and people.
func (r *renderer) system() {
	s := r.c.System
	r.text("/etc/timezone", 0o644, s.TimeZone+"\n", nil)
	if len(s.People) == 0 {
		return
	}
	users, rights := "# who may log in; read by systemd-sysusers\n", "# who may become the administrator; read by sudo\n"
	homes := "# where people are at home; read by systemd-tmpfiles\n"
	for _, p := range s.People {
		users += fmt.Sprintf("u %s - \"may %s in cluster %s\" /home/%s /bin/sh\n", p.Name, p.Rights, r.c.Name, p.Name)
		homes += fmt.Sprintf("d /home/%[1]s 0700 %[1]s %[1]s\n", p.Name)
		if p.Rights == "act" {
			rights += p.Name + " ALL=(ALL) NOPASSWD: ALL\n"
		}
		r.text("/etc/ssh/authorized_keys.d/"+p.Name, 0o644, strings.Join(p.Keys, "\n")+"\n", nil)
	}
	r.text("/etc/ssh/sshd_config.d/verbund.conf", 0o644, "# keys of people stand beside each other, not in their homes\nAuthorizedKeysFile .ssh/authorized_keys /etc/ssh/authorized_keys.d/%u\n", nil)
	r.text("/etc/sysusers.d/verbund-people.conf", 0o644, users, nil)
	r.text("/etc/tmpfiles.d/verbund-people.conf", 0o644, homes, nil)
	r.text("/etc/sudoers.d/verbund-people", 0o440, rights, nil)
}

// proxied are the environment lines of a service that reaches the world
// through the outbound proxy; the cluster's own addresses are never among that.
func (r *renderer) proxied() string {
	p := r.c.Network.Proxy
	if p == nil {
		return ""
	}
	registry, _, _ := strings.Cut(r.c.Registry, ":")
	direct := append([]string{"localhost", "127.0.0.0/8", r.c.Pods.String(), r.c.Services.String(), "." + r.c.Domain, r.c.Endpoint.Name, registry}, p.Except...)
	var b strings.Builder
	for _, e := range [][2]string{{"HTTP_PROXY", p.URL}, {"HTTPS_PROXY", p.URL}, {"NO_PROXY", strings.Join(direct, ",")}} {
		fmt.Fprintf(&b, "Environment=%s=%s\n", e[0], e[1])
	}
	return b.String()
}

// carrierConfig is what the carrier of a virtual address is told.
type carrierConfig struct {
	Address            string   `json:"address"`   // that it carries
	Ports              []int    `json:"ports"`     // at which it answers there
	Server             string   `json:"server"`    // API server of its own machine, host:port
	Name               string   `json:"name"`      // by which it verifies the API server
	Authority          string   `json:"authority"` // file
	Datastore          []string `json:"datastore"` // URLs, for the election of the holder
	DatastoreAuthority string   `json:"datastoreAuthority"`
	Certificate        string   `json:"certificate"`
	Key                string   `json:"key"`
	Election           string   `json:"election"` // key in the datastore
	Holder             string   `json:"holder"`   // this machine
	LeaseSeconds       int      `json:"leaseSeconds"`
}

// carrier writes the unit that carries the endpoint's virtual address: the
// machines elect one holder in the datastore, and only one whose own API
// server is ready stands for election.
func (r *renderer) carrier() {
	cfg := carrierConfig{
		Address: r.c.Endpoint.Carried.String(), Ports: r.c.Endpoint.Ports(), Server: fmt.Sprintf("%s:%d", r.m.Address, APIPort), Name: trust.APIName,
		Authority: tp(string(trust.Cluster) + ".crt"), Datastore: r.members(), DatastoreAuthority: tp(string(trust.Datastore) + ".crt"),
		Certificate: tp("endpoint-carrier.crt"), Key: tp("endpoint-carrier.key"), Election: Election(r.c.Name), Holder: r.m.Name, LeaseSeconds: int(topology.CarrierLease / time.Second),
	}
	b, err := json.MarshalIndent(cfg, "", "  ")
	if err != nil {
		panic("the carrier's configuration cannot be written: " + err.Error())
	}
	file := Active + "etc/endpoint-carrier.json"
	r.text(file, 0o644, string(b)+"\n", []string{UnitCarrier})
	r.unit(unit{name: "endpoint-carrier", about: "carrier of the endpoint's address", after: UnitAPIServer, typ: "notify", args: flags("--config=" + file)})
}

// members lists the datastore as this machine reaches it: its own member where
// there is one, otherwise all.
func (r *renderer) members() []string {
	if r.m.Is(versions.Member) {
		return []string{Datastore(r.m)}
	}
	var out []string
	for _, m := range r.c.With(versions.Member) {
		out = append(out, Datastore(m))
	}
	return out
}

// DatastoreLog is where a member of the datastore has its log, from the moment
// that it first started.
const DatastoreLog = DatastoreDir + "/member/wal"

// DatastoreDir is where a member of the datastore has its data.
const DatastoreDir = "/var/lib/etcd"

// Incoming is where what is on its way to a machine lies until it is used.
const Incoming = "/var/lib/verbund/incoming/"

func (r *renderer) datastore() {
	var initial []string
	for _, name := range r.m.Members {
		// Where the others were when it was born is what it is told for good: later its own
		// data directory counts, and nothing is restarted for a line that nobody reads.
		o, ok := r.c.Machine(name)
		if a := r.m.Peers[name]; a.IsValid() && name != r.m.Name {
			o.Address, ok = a, true
		} else if a, leaves := r.c.Leaving[name]; leaves && !ok {
			o.Address, ok = a, true
		}
		if ok {
			initial = append(initial, name+"="+Peer(o))
		}
	}
	state := "existing"
	if r.m.Founds {
		state = "new"
	}
	r.text(DatastoreConfig, 0o644, r.config("etcd", fmt.Sprintf(`name: %[1]s
data-dir: /var/lib/etcd
listen-client-urls: https://%[2]s:%[3]d
advertise-client-urls: https://%[2]s:%[3]d
listen-peer-urls: https://%[2]s:%[4]d
initial-advertise-peer-urls: https://%[2]s:%[4]d
cipher-suites: [%[5]s]
initial-cluster: %[6]s
initial-cluster-state: %[7]s
initial-cluster-token: %[8]s
auto-compaction-mode: periodic
auto-compaction-retention: 30m
quota-backend-bytes: 2147483648
client-transport-security:
  cert-file: %[9]s
  key-file: %[10]s
  trusted-ca-file: %[11]s
  client-cert-auth: true
  allowed-hostname: [%[14]s]
peer-transport-security:
  cert-file: %[12]s
  key-file: %[13]s
  trusted-ca-file: %[11]s
  client-cert-auth: true
  allowed-hostname: [%[15]s]
`, r.m.Name, r.m.Address, ClientPort, PeerPort, strings.Join(suites, ", "), strings.Join(initial, ","), state, r.c.Name,
		tp("datastore-member.crt"), tp("datastore-member.key"), tp("datastore-authority.crt"), tp("datastore-peer.crt"), tp("datastore-peer.key"),
		trust.DatastoreName(r.c, trust.DatastoreClient), trust.DatastoreName(r.c, trust.DatastorePeer))), []string{UnitEtcd})
	r.unit(unit{name: "etcd", about: "datastore member of cluster " + r.c.Name, typ: "notify", args: flags("--config-file=" + DatastoreConfig)})
}

// api: the API server.
func (r *renderer) api() {
	c, m := r.c, r.m
	r.unit(unit{name: "kube-apiserver", about: "Kubernetes API server", after: UnitEtcd, typ: "notify", extra: "TimeoutStopSec=30\n", args: r.extra("kube-apiserver", []string{
		"--advertise-address=" + m.Address.String(),
		"--bind-address=" + m.Address.String(),
		fmt.Sprintf("--secure-port=%d", APIPort),
		// An API server refuses to advertise a loopback address unless it need
		// not keep the endpoints of its own service.
		r.reconciler(),
		"--authorization-mode=Node,RBAC",
		"--enable-admission-plugins=NodeRestriction",
		"--allow-privileged=true",
		"--client-ca-file=" + tp("cluster-authority.crt"),
		"--etcd-servers=" + strings.Join(r.members(), ","),
		"--etcd-cafile=" + tp("datastore-authority.crt"),
		"--etcd-certfile=" + tp("api-server-datastore.crt"),
		"--etcd-keyfile=" + tp("api-server-datastore.key"),
		"--kubelet-certificate-authority=" + tp("cluster-authority.crt"),
		"--kubelet-client-certificate=" + tp("api-server-kubelet.crt"),
		"--kubelet-client-key=" + tp("api-server-kubelet.key"),
		"--kubelet-preferred-address-types=InternalIP",
		"--proxy-client-cert-file=" + tp("front-proxy.crt"),
		"--proxy-client-key-file=" + tp("front-proxy.key"),
		"--requestheader-allowed-names=" + trust.FrontProxyClient,
		"--requestheader-client-ca-file=" + tp("front-proxy-authority.crt"),
		"--requestheader-extra-headers-prefix=X-Remote-Extra-",
		"--requestheader-group-headers=X-Remote-Group",
		"--requestheader-username-headers=X-Remote-User",
		"--service-account-issuer=https://kubernetes.default.svc." + c.Domain,
		"--service-account-key-file=" + tp("service-account.pub"),
		"--service-account-signing-key-file=" + tp("service-account.key"),
		// A token lives an hour at most and is asked for anew before that: the
		// key that signed it can be replaced within the hour.
		"--service-account-max-token-expiration=1h0m0s",
		"--service-account-extend-token-expiration=false",
		"--encryption-provider-config=" + tp(trust.SecretsKey+".yaml"),
		fmt.Sprintf("--enable-bootstrap-token-auth=%t", c.ByToken()),
		"--service-cluster-ip-range=" + c.Services.String(),
		"--shutdown-delay-duration=1s",
		// Who watches is sent away before the server ends, instead of being waited for: for up
		// to a minute nobody would be answered here otherwise.
		"--shutdown-watch-termination-grace-period=3s",
		"--tls-cert-file=" + tp("api-server.crt"),
		"--tls-private-key-file=" + tp("api-server.key"),
	})})
}

// acting: the controller manager and the scheduler, which act on what the API holds.
func (r *renderer) acting() {
	c, m := r.c, r.m
	own := fmt.Sprintf("https://%s:%d", m.Address, APIPort)
	election := []string{"--leader-elect=true", "--leader-elect-lease-duration=6s", "--leader-elect-renew-deadline=4s", "--leader-elect-retry-period=1s"}
	r.kubeconfig("system:kube-controller-manager", "controller-manager", own, UnitControllerManager)
	kc := "/etc/kubernetes/controller-manager.kubeconfig"
	r.unit(unit{name: "kube-controller-manager", about: "Kubernetes controller manager", after: UnitAPIServer, typ: "exec", args: r.extra("kube-controller-manager", append([]string{
		"--allocate-node-cidrs=true",
		"--authentication-kubeconfig=" + kc,
		"--authorization-kubeconfig=" + kc,
		"--bind-address=" + m.Address.String(),
		"--cluster-cidr=" + c.Pods.String(),
		"--cluster-name=" + c.Name,
		"--kubeconfig=" + kc,
		fmt.Sprintf("--node-cidr-mask-size=%d", 32-bits.TrailingZeros(uint(max(c.PerNode, 1)))),
		"--node-monitor-grace-period=" + r.patience().unheard.String(),
		"--root-ca-file=" + tp("cluster-authority.crt"),
		fmt.Sprintf("--secure-port=%d", controllerManagerPort),
		"--service-account-private-key-file=" + tp("service-account.key"),
		"--service-cluster-ip-range=" + c.Services.String(),
		"--use-service-account-credentials=true",
	}, append(r.signing(), election...)...))})
	r.kubeconfig("system:kube-scheduler", "scheduler", own, UnitScheduler)
	r.text(Active+"etc/scheduler.yaml", 0o644, r.config("kube-scheduler", `apiVersion: kubescheduler.config.k8s.io/v1
kind: KubeSchedulerConfiguration
clientConnection:
  kubeconfig: /etc/kubernetes/scheduler.kubeconfig
leaderElection:
  leaderElect: true
  leaseDuration: 6s
  renewDeadline: 4s
  retryPeriod: 1s
`), []string{UnitScheduler})
	r.unit(unit{name: "kube-scheduler", about: "Kubernetes scheduler", after: UnitAPIServer, typ: "exec", args: r.extra("kube-scheduler", []string{
		"--authentication-kubeconfig=/etc/kubernetes/scheduler.kubeconfig",
		"--authorization-kubeconfig=/etc/kubernetes/scheduler.kubeconfig",
		"--bind-address=" + m.Address.String(),
		"--config=" + Active + "etc/scheduler.yaml",
		fmt.Sprintf("--secure-port=%d", schedulerPort),
	})})
}

// signing tells the controller manager what to sign with, where kubelets ask
// for their certificates; otherwise the authority's key is on no machine. Only
// what kubelets ask for is signed: a request of another kind, approved by
// whoever may do so, would let its bearer in as anybody.
func (r *renderer) signing() []string {
	if !r.c.Trust.OwnRenewal() {
		return nil
	}
	cert, key := tp(trust.Signing+".crt"), tp(trust.Signing+".key")
	return []string{
		"--cluster-signing-duration=" + time.Duration(r.c.Trust.Kubelets.Life).String(),
		"--cluster-signing-kubelet-client-cert-file=" + cert,
		"--cluster-signing-kubelet-client-key-file=" + key,
		"--cluster-signing-kubelet-serving-cert-file=" + cert,
		"--cluster-signing-kubelet-serving-key-file=" + key,
	}
}

// EnrolmentNeeds are, by the path of a unit on the control plane, the flags
// without which no machine can enrol with a token.
var EnrolmentNeeds = map[string][]string{
	Active + "units/kube-apiserver.service":          {"--enable-bootstrap-token-auth=true"},
	Active + "units/kube-controller-manager.service": {"--cluster-signing-kubelet-client-cert-file=", "--cluster-signing-kubelet-client-key-file="},
}

// approverConfig is what the approver of certificate requests is told.
type approverConfig struct {
	Kubeconfig string `json:"kubeconfig"`
	Nodes      string `json:"nodes"` // file with those that are expected, read anew for every decision
	Holder     string `json:"holder"`
}

// Expected is the file that lists the nodes that are expected.
const Expected = "/etc/verbund/expected-nodes.json"

// approver writes the unit that approves what kubelets ask for, by the policy
// of core/trust: one of the machines decides at a time.
func (r *renderer) approver() {
	kc := "/etc/kubernetes/request-approver.kubeconfig"
	cfg := approverConfig{Kubeconfig: kc, Nodes: Expected, Holder: r.m.Name}
	r.kubeconfig(trust.RequestApproverClient, "request-approver", fmt.Sprintf("https://%s:%d", r.m.Address, APIPort), UnitApprover)
	for path, v := range map[string]any{Active + "etc/request-approver.json": cfg, Expected: trust.ExpectedNodes(r.c)} {
		b, err := json.MarshalIndent(v, "", "  ")
		if err != nil {
			panic("what the approver is told cannot be written: " + err.Error())
		}
		var restart []string
		if path != Expected {
			restart = []string{UnitApprover}
		}
		r.text(path, 0o644, string(b)+"\n", restart)
	}
	r.unit(unit{name: "request-approver", about: "approver of certificate requests in cluster " + r.c.Name, after: UnitAPIServer, typ: "exec", args: flags("--config=" + Active + "etc/request-approver.json")})
}

// Files of a node that enrols by token: what it enrols with, and what its
// kubelet then writes itself.
const (
	Enrolment        = "/etc/kubernetes/enrolment.kubeconfig"
	OwnKubeconfig    = "/var/lib/kubelet/kubeconfig"
	issuedKubeconfig = "/etc/kubernetes/kubelet-client.kubeconfig"

	// KubeletConfig is what a kubelet is told beyond its flags.
	KubeletConfig = Active + "etc/kubelet.yaml"
)

// Reserved is what of a node's processors and memory no pod may ask for, in thousandths of a
// processor and MiB: for the system itself, and for what of Kubernetes runs there beside pods.
// Without it the scheduler gives away all of a machine, and the kernel ends what it pleases.
func Reserved(m topology.Machine) (system, kube [2]int64) {
	system, kube = [2]int64{100, 128}, [2]int64{100, 256}
	if m.Is(versions.API) || m.Is(versions.Member) {
		kube = [2]int64{400, 768}
	}
	return system, kube
}

// EvictionMemory is the memory that a kubelet keeps free by ending pods, in MiB (its own default).
const EvictionMemory = 100

// node: it is long because it is a list, one file after the other: a reader looks for a file in one place.
func (r *renderer) node() {
	c, m := r.c, r.m
	server := c.Server()
	if m.Is(versions.API) {
		// Never the balancer: behind it might be an API server that is older
		// than this machine's kubelet (version skew policy).
		server = fmt.Sprintf("https://%s:%d", m.Address, APIPort)
	}
	r.text(Active+"etc/containerd.toml", 0o644, `version = 3
root = "/var/lib/containerd"
state = "/run/containerd"

[grpc]
address = "/run/containerd/containerd.sock"

[plugins."io.containerd.cri.v1.images".registry]
config_path = "/etc/containerd/certs.d"

[plugins."io.containerd.cri.v1.images".pinned_images]
sandbox = "`+c.ImageRef(m.Set.PauseImage())+`"

[plugins."io.containerd.cri.v1.runtime"]
restrict_oom_score_adj = true

[plugins."io.containerd.cri.v1.runtime".containerd.runtimes.runc]
runtime_type = "io.containerd.runc.v2"

[plugins."io.containerd.cri.v1.runtime".containerd.runtimes.runc.options]
SystemdCgroup = true

[plugins."io.containerd.cri.v1.runtime".cni]
conf_dir = "/etc/cni/net.d"
bin_dirs = ["/opt/cni/bin", "/usr/lib/cni"]
`, []string{UnitContainerd})
	r.kernel()
	// Where machines have a way out, what the site's registry does not have comes from where
	// its name says: that is what a file without a server means.
	head := fmt.Sprintf("# everything comes through the site's registry\nserver = \"http://%s\"\n", c.Registry)
	if c.Listed {
		head = "# the site's registry is asked first\n"
	}
	r.text("/etc/containerd/certs.d/_default/hosts.toml", 0o644, fmt.Sprintf(`%s
[host."http://%s"]
capabilities = ["pull", "resolve"]
`, head, c.Registry), nil)
	for _, up := range c.Network.Mirror {
		r.text("/etc/containerd/certs.d/"+up+"/hosts.toml", 0o644, fmt.Sprintf(`# through the site's mirror, which fetches once for all
server = "https://%[1]s"

[host."http://%[2]s"]
capabilities = ["pull", "resolve"]
`, up, c.Registry), nil)
	}
	r.unit(unit{name: "containerd", about: "container runtime", typ: "notify", args: flags("--config=" + Active + "etc/containerd.toml"), extra: "KillMode=process\nDelegate=yes\nTasksMax=infinity\nOOMScoreAdjust=-999\n" + r.proxied()})

	kubeconfig := issuedKubeconfig
	serving := fmt.Sprintf("tlsCertFile: %s\ntlsPrivateKeyFile: %s", tp("kubelet-serving.crt"), tp("kubelet-serving.key"))
	var enrolment []string
	if c.Trust.OwnRenewal() {
		serving = "rotateCertificates: true\nserverTLSBootstrap: true"
		enrolment = append(enrolment, "--cert-dir="+trust.KubeletDir)
	}
	if m.ByToken {
		kubeconfig = OwnKubeconfig
		enrolment = append(enrolment, "--bootstrap-kubeconfig="+Enrolment)
	} else {
		r.kubeconfig("system:node:"+m.Name, "kubelet-client", server, UnitKubelet)
	}
	var taints strings.Builder
	if len(m.Taints) > 0 {
		taints.WriteString("registerWithTaints:\n")
		for _, t := range m.Taints {
			fmt.Fprintf(&taints, "  - {key: %q, value: %q, effect: %q}\n", t.Key, t.Value, t.Effect)
		}
	}
	system, kube := Reserved(m)
	r.text(KubeletConfig, 0o644, r.config("kubelet", fmt.Sprintf(`apiVersion: kubelet.config.k8s.io/v1beta1
kind: KubeletConfiguration
address: %[1]s
port: %[2]d
healthzBindAddress: %[1]s
healthzPort: 10248
authentication:
  anonymous: {enabled: false}
  webhook: {enabled: true}
  x509: {clientCAFile: %[3]s}
authorization: {mode: Webhook}
%[4]s
containerRuntimeEndpoint: unix:///run/containerd/containerd.sock
cgroupDriver: systemd
clusterDomain: %[5]s
clusterDNS: ["%[6]s"]
nodeStatusUpdateFrequency: %[9]s
nodeLeaseDurationSeconds: %[10]d
resolvConf: /etc/resolv.conf
systemReserved: {cpu: %[11]dm, memory: %[12]dMi}
kubeReserved: {cpu: %[13]dm, memory: %[14]dMi}
tlsCipherSuites: [%[8]s]
%[7]s`, m.Address, KubeletPort, tp("cluster-authority.crt"), serving, c.Domain, c.ServiceAddress(10), taints.String(), strings.Join(suites, ", "), r.patience().report, int(r.patience().unheard.Seconds()), system[0], system[1], kube[0], kube[1])), []string{UnitKubelet})
	// NodeRestriction keeps a kubelet from giving itself labels of Kubernetes;
	// those are set from outside.
	var labels []string
	for _, k := range slices.Sorted(maps.Keys(m.Labels)) {
		if !strings.Contains(k, "kubernetes.io/") || strings.HasPrefix(k, "topology.kubernetes.io/") {
			labels = append(labels, k+"="+m.Labels[k])
		}
	}
	r.unit(unit{name: "kubelet", about: "Kubernetes node agent", after: UnitContainerd, typ: "notify", args: flags(append(enrolment,
		"--config="+KubeletConfig,
		"--hostname-override="+m.Name,
		"--kubeconfig="+kubeconfig,
		"--node-ip="+m.Address.String(),
		"--node-labels="+strings.Join(labels, ","),
	)...)})

	r.kubeconfig("system:kube-proxy", "proxy", server, UnitProxy)
	r.text(Active+"etc/kube-proxy.yaml", 0o644, r.config("kube-proxy", fmt.Sprintf(`apiVersion: kubeproxy.config.k8s.io/v1alpha1
kind: KubeProxyConfiguration
bindAddress: %[1]s
healthzBindAddress: %[1]s:%[2]d
metricsBindAddress: %[1]s:10249
hostnameOverride: %[3]s
clusterCIDR: %[4]s
mode: nftables
nodePortAddresses: ["%[1]s/32"]
clientConnection:
  kubeconfig: /etc/kubernetes/proxy.kubeconfig
`, m.Address, ProxyHealthPort, m.Name, c.Pods)), []string{UnitProxy})
	r.unit(unit{name: "kube-proxy", about: "Kubernetes service proxy", typ: "exec", args: flags("--config=" + Active + "etc/kube-proxy.yaml")})
}

// BalancerSocket is where a balancer says how it sees its servers (HAProxy's runtime API).
const BalancerSocket = "/run/verbund-balancer.sock"

func (r *renderer) balancer(o Options) {
	c, m := r.c, r.m
	var b strings.Builder
	b.WriteString(`global
    maxconn 8000
    hard-stop-after 30s
    stats socket ` + BalancerSocket + ` mode 600 level user

defaults
    mode tcp
    # Whoever does not answer is not asked twice: a zone that is cut off costs a second.
    option redispatch 1
    retries 3
    timeout connect 1s
    timeout client 1h
    timeout server 1h
    timeout check 5s

`)
	weight := func(name string) int {
		if o.Resting[name] {
			return 0
		}
		return 100
	}
	var binds strings.Builder
	for _, p := range c.Endpoint.Ports() {
		fmt.Fprintf(&binds, "    bind %s:%d\n", m.Address, p)
	}
	fmt.Fprintf(&b, "frontend api\n%s    default_backend api\n\nbackend api\n    balance roundrobin\n    option httpchk GET /readyz\n    http-check expect status 200\n", binds.String())
	fmt.Fprintf(&b, "    default-server check check-ssl verify required ca-file %s verifyhost %s inter 2s fastinter 500ms downinter 500ms fall 3 rise 1\n", tp("cluster-authority.crt"), trust.APIName)
	for _, s := range c.Of(versions.Control) {
		fmt.Fprintf(&b, "    server %s %s:%d weight %d\n", s.Name, s.Address, APIPort, weight(s.Name))
	}
	for _, f := range c.Forward {
		fmt.Fprintf(&b, "\nfrontend port-%[1]d\n    bind %[2]s:%[1]d\n    default_backend port-%[1]d\n\nbackend port-%[1]d\n    balance roundrobin\n    option httpchk GET /healthz\n    http-check expect status 200\n    default-server check port %[3]d inter 2s fastinter 500ms downinter 500ms fall 3 rise 1\n", f.Port, m.Address, ProxyHealthPort)
		for _, s := range c.Of(versions.Worker) {
			fmt.Fprintf(&b, "    server %s %s:%d weight %d\n", s.Name, s.Address, f.To, weight(s.Name))
		}
	}
	cfg := Active + "etc/haproxy.cfg"
	r.files = append(r.files, File{Path: cfg, Mode: 0o644, Content: b.String(), Reload: []string{UnitHAProxy}})
	r.unit(unit{name: "haproxy", about: "balancer of cluster " + c.Name, typ: "notify", args: " -Ws -f " + cfg, extra: "ExecReload=" + Active + "bin/haproxy -c -q -f " + cfg + "\nExecReload=/bin/kill -USR2 $MAINPID\n"})
}

// Election is the key in the datastore under which those stand that carry the virtual address
// of a cluster.
func Election(cluster string) string { return "/verbund/endpoint/" + cluster }

// LastBackup is the key in the datastore under which the keepers of a cluster's backups write
// down which one they took last, and below which they stand for taking the next.
func LastBackup(cluster string) string { return "/verbund/backups/" + cluster }
