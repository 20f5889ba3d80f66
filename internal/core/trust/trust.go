package trust

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"slices"
	"time"

	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

// Authority names one of the three authorities. A client of one is nobody to
// the others.
type Authority string

// The authorities of a cluster.
const (
	Cluster    Authority = "cluster-authority"
	Datastore  Authority = "datastore-authority"
	FrontProxy Authority = "front-proxy-authority"
)

// Programs is the authority of programs beyond the cluster's own components;
// it is made when the first of them needs a certificate, and no component of
// the cluster trusts it.
const Programs Authority = "programs-authority"

// Authorities lists all three.
var Authorities = []Authority{Cluster, Datastore, FrontProxy}

// Lifetimes that are not declared: a person's access lasts hours, and NotBefore
// lies back a little because clocks differ.
const (
	AccessLife = 8 * time.Hour
	Backdate   = 5 * time.Minute
)

// ServiceAccountKey is the ID of the key pair that signs service-account
// tokens; it has no certificate.
const ServiceAccountKey = "service-account"

// SecretsKey is the ID of the key with which API servers encrypt Secrets
// before they reach the datastore: 32 bytes.
const SecretsKey = "secrets-encryption"

// Signing is the name of the files with which the controller manager signs: of
// the cluster authority, the one certificate that signs now, and its key.
const Signing = "cluster-signing"

// KubeletDir is where a kubelet keeps the certificates that it asked for.
const KubeletDir = "/var/lib/kubelet/pki"

// What a kubelet's own certificates are called in KubeletDir: each file holds
// a certificate and its key.
const (
	KubeletClientFile = KubeletDir + "/kubelet-client-current.pem"
	KubeletServerFile = KubeletDir + "/kubelet-server-current.pem"
)

// firstLife is the least that the first certificate of a kubelet lives, which
// it gets from the tool: the machine has to be raised meanwhile.
const firstLife = time.Minute

// Dir is where trust lies on a machine.
const Dir = "/etc/kubernetes/trust"

// Names of our own for clients that Kubernetes leaves unnamed.
const (
	APIServerKubeletClient   = "verbund:api-server-to-kubelet"
	APIServerDatastoreClient = "verbund:api-server-to-datastore"
	FrontProxyClient         = "verbund:front-proxy"
	EndpointCarrierClient    = "verbund:endpoint-carrier"
	DatastoreOperations      = "verbund:datastore-operations"
	RequestApproverClient    = "verbund:request-approver"
	BackupKeeperClient       = "verbund:backup-keeper"
	ToolAdministrator        = "verbund:tool"
)

// Request describes a certificate that there should be.
type Request struct {
	ID            string // key under which the store keeps it: MACHINE/NAME
	Machine       string // empty when it stays with the tool
	Name          string // file name without ending
	Authority     Authority
	CommonName    string
	Organisations []string
	Server        bool
	Client        bool
	DNS           []string
	IPs           []netip.Addr
	Life          time.Duration
	Renew         time.Duration // how long before its end it is made anew; 0: never
	Algorithm     string        // of its key; see AlgorithmOf
}

// APIName is the name by which every API server of every cluster can be
// verified: that of its service inside. What looks after API servers uses it,
// because it stays when the endpoint gets another name.
const APIName = "kubernetes.default.svc"

// DatastoreName is the name that a certificate has to have so that the members
// of a cluster's datastore let its owner in: as a client, or as a peer, one of
// themselves. It holds the cluster's name, for clusters under one authority that
// somebody else keeps; and it stays when members come and go.
func DatastoreName(c *topology.Cluster, as string) string { return as + ".datastore." + c.Name }

// The ways into a datastore.
const (
	DatastoreClient = "client"
	DatastorePeer   = "peer"
)

// Requests lists every certificate that lies on one machine. It is long because it is a
// table, one certificate after the other.
func Requests(c *topology.Cluster, m topology.Machine) []Request {
	local := netip.AddrFrom4([4]byte{127, 0, 0, 1})
	req := func(name string, a Authority, cn string, orgs ...string) Request {
		return Request{ID: m.Name + "/" + name, Machine: m.Name, Name: name, Authority: a, CommonName: cn, Organisations: orgs, Life: time.Duration(c.Trust.Leaf), Renew: time.Duration(c.Trust.Renew), Algorithm: c.Trust.Algorithm}
	}
	client := func(name string, a Authority, cn string, orgs ...string) Request {
		r := req(name, a, cn, orgs...)
		r.Client = true
		if a == Datastore {
			r.DNS = []string{DatastoreName(c, DatastoreClient)}
		}
		return r
	}
	var rs []Request
	if m.Is(versions.API) {
		api := req("api-server", Cluster, "verbund:api-server")
		api.Server = true
		// The endpoint is verified by its name, so that what answers there can
		// move without a new certificate; its address stands in it only when that
		// is all there is.
		api.IPs = []netip.Addr{m.Address, c.ServiceAddress(1), local}
		api.DNS = []string{m.Name, "kubernetes", "kubernetes.default", APIName, "kubernetes.default.svc." + c.Domain, "localhost"}
		for _, n := range append([]string{c.Endpoint.Name}, c.Names...) {
			if a, err := netip.ParseAddr(n); err == nil {
				api.IPs = append(api.IPs, a)
			} else {
				api.DNS = append(api.DNS, n)
			}
		}
		rs = append(rs, api)
	}
	if m.Is(versions.Member) {
		member := req("datastore-member", Datastore, m.Name)
		member.Server, member.Client = true, true
		member.DNS, member.IPs = []string{m.Name, "localhost"}, []netip.Addr{m.Address, local}
		// The peer certificate also names the address that its outgoing
		// connections come from; between loopback addresses that is 127.0.0.1,
		// and etcd refuses a peer whose certificate lacks it.
		peer := member
		peer.ID, peer.Name = m.Name+"/datastore-peer", "datastore-peer"
		peer.DNS = append(slices.Clone(member.DNS), DatastoreName(c, DatastorePeer))
		member.DNS = append(member.DNS, DatastoreName(c, DatastoreClient)) // with it somebody at the machine looks at its member
		rs = append(rs, member, peer)
	}
	if m.Is(versions.API) {
		rs = append(rs,
			client("api-server-kubelet", Cluster, APIServerKubeletClient),
			client("api-server-datastore", Datastore, APIServerDatastoreClient),
			client("front-proxy", FrontProxy, FrontProxyClient))
	}
	if m.Is(versions.Acting) {
		rs = append(rs,
			client("controller-manager", Cluster, "system:kube-controller-manager"),
			client("scheduler", Cluster, "system:kube-scheduler"))
	}
	if m.Is(versions.Carrier) {
		rs = append(rs, client("endpoint-carrier", Datastore, EndpointCarrierClient))
	}
	if m.Is(versions.Approver) {
		rs = append(rs, client("request-approver", Cluster, RequestApproverClient))
	}
	if m.Is(versions.Keeper) {
		rs = append(rs, client("backup-keeper", Datastore, BackupKeeperClient))
	}
	if m.IsNode() {
		rs = append(rs, client("proxy", Cluster, "system:kube-proxy"))
		own := KubeletRequests(c, m)
		switch {
		case m.ByToken:
		case c.Trust.OwnRenewal():
			// The first one; the kubelet renews it itself, and asks for the
			// serving one.
			first := own[0]
			first.Life, first.Renew = max(first.Life, firstLife), 0
			rs = append(rs, first)
		default:
			rs = append(rs, own...)
		}
	}
	for i := range rs {
		// An address may stand for two things at once (the endpoint and the
		// only control-plane machine); a certificate says it once.
		rs[i].IPs = dedupe(rs[i].IPs)
		rs[i].DNS = dedupe(rs[i].DNS)
	}
	return rs
}

// KubeletRequests are the two certificates of a node's kubelet, as client and
// as server, whoever makes them.
func KubeletRequests(c *topology.Cluster, m topology.Machine) []Request {
	r := Request{ID: m.Name + "/kubelet-client", Machine: m.Name, Name: "kubelet-client", Authority: Cluster, CommonName: "system:node:" + m.Name, Organisations: []string{"system:nodes"},
		Client: true, Life: time.Duration(c.Trust.Leaf), Renew: time.Duration(c.Trust.Renew), Algorithm: c.Trust.Algorithm}
	if c.Trust.OwnRenewal() {
		r.Life, r.Algorithm = time.Duration(c.Trust.Kubelets.Life), "ecdsa-p256"
		// It renews at 70 to 90 percent of its life: what is left of a tenth says
		// that something keeps it from that.
		r.Renew = r.Life / 11
	}
	s := r
	s.ID, s.Name, s.Client, s.Server = m.Name+"/kubelet-serving", "kubelet-serving", false, true
	s.DNS, s.IPs = []string{m.Name}, []netip.Addr{m.Address}
	return []Request{r, s}
}

// ToolRequests lists the certificates that stay with the tool.
func ToolRequests(c *topology.Cluster) []Request {
	life, renew := time.Duration(c.Trust.Leaf), time.Duration(c.Trust.Renew)
	return []Request{
		{ID: "tool/datastore", Name: "datastore", Authority: Datastore, CommonName: DatastoreOperations, Client: true, DNS: []string{DatastoreName(c, DatastoreClient)}, Life: life, Renew: renew, Algorithm: c.Trust.Algorithm},
		{ID: "tool/administrator", Name: "administrator", Authority: Cluster, CommonName: ToolAdministrator, Organisations: []string{"system:masters"}, Client: true, Life: life, Renew: renew, Algorithm: c.Trust.Algorithm},
	}
}

// ProgramRequests lists the declared certificates of other programs.
func ProgramRequests(c *topology.Cluster) []Request {
	var out []Request
	for _, p := range c.Trust.Programs {
		out = append(out, Program(p.Name, p.Names, p.Client, p.Algorithm, time.Duration(c.Trust.Leaf), time.Duration(c.Trust.Renew)))
	}
	return out
}

// Program is the certificate of another program: a server at its names, a
// client, or both.
func Program(name string, names []string, client bool, algorithm string, life, renew time.Duration) Request {
	r := Request{ID: "programs/" + name, Name: name, Authority: Programs, CommonName: name, Server: len(names) > 0, Client: client, Life: life, Renew: renew, Algorithm: algorithm}
	for _, n := range names {
		if a, err := netip.ParseAddr(n); err == nil {
			r.IPs = append(r.IPs, a)
		} else {
			r.DNS = append(r.DNS, n)
		}
	}
	return r
}

// Access is the certificate of a person: hours, not years.
func Access(person string, groups []string, life time.Duration) Request {
	return Request{ID: "access/" + person, Name: person, Authority: Cluster, CommonName: person, Organisations: groups, Client: true, Life: life, Algorithm: "ecdsa-p256"}
}

func dedupe[T comparable](in []T) []T {
	var out []T
	for _, v := range in {
		if !slices.Contains(out, v) {
			out = append(out, v)
		}
	}
	return out
}

// AuthoritiesOn lists the authorities whose certificates a machine has to hold.
func AuthoritiesOn(m topology.Machine) []Authority {
	switch {
	case m.Is(versions.API):
		return Authorities
	case m.Is(versions.Member):
		return []Authority{Datastore}
	}
	return []Authority{Cluster}
}

// Keys names the private keys, beyond those of its certificates, that lie on a
// machine: file name by ID. The controller manager signs with the cluster
// authority, where kubelets ask for their certificates; no other machine ever
// holds an authority's key.
func Keys(c *topology.Cluster, m topology.Machine) map[string]string {
	if !m.Is(versions.API) {
		return nil
	}
	out := map[string]string{ServiceAccountKey: ServiceAccountKey}
	if m.Is(versions.Acting) && c.Trust.OwnRenewal() {
		out[string(Cluster)] = Signing
	}
	return out
}

// NewAuthority makes the self-signed certificate of an authority.
func NewAuthority(a Authority, cluster string, life time.Duration, key crypto.Signer, now time.Time, serial *big.Int) (*x509.Certificate, error) {
	t := &x509.Certificate{
		SerialNumber: serial,
		Subject:      pkix.Name{CommonName: cluster + " " + string(a)},
		NotBefore:    now.Add(-Backdate).UTC().Truncate(time.Second),
		NotAfter:     now.Add(life).UTC().Truncate(time.Second),
		KeyUsage:     x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		IsCA:         true, BasicConstraintsValid: true, MaxPathLenZero: true,
	}
	der, err := create(t, t, key.Public(), key)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// Sign makes the certificate of a request.
func Sign(r Request, public crypto.PublicKey, ca *x509.Certificate, caKey crypto.Signer, now time.Time, serial *big.Int) (*x509.Certificate, error) {
	der, err := sign(r, public, ca, caKey, now, serial)
	if err != nil {
		return nil, err
	}
	return x509.ParseCertificate(der)
}

// SignPEM is Sign for who only wants the file: it spares reading what was just
// written.
func SignPEM(r Request, public crypto.PublicKey, ca *x509.Certificate, caKey crypto.Signer, now time.Time, serial *big.Int) ([]byte, error) {
	der, err := sign(r, public, ca, caKey, now, serial)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), nil
}

func sign(r Request, public crypto.PublicKey, ca *x509.Certificate, caKey crypto.Signer, now time.Time, serial *big.Int) ([]byte, error) {
	if want := now.Add(r.Life); want.After(ca.NotAfter) {
		return nil, fmt.Errorf("certificate %s would outlive its authority, which ends on %s; replace that first: verbund trust replace %s", r.ID, ca.NotAfter.Format(time.DateOnly), r.Authority)
	}
	t := &x509.Certificate{
		SerialNumber: serial,
		Subject:      pkix.Name{CommonName: r.CommonName, Organization: r.Organisations},
		NotBefore:    now.Add(-Backdate).UTC().Truncate(time.Second),
		NotAfter:     now.Add(r.Life).UTC().Truncate(time.Second),
		KeyUsage:     x509.KeyUsageDigitalSignature,
		DNSNames:     r.DNS, BasicConstraintsValid: true,
	}
	// RFC 5280: key encipherment is for RSA keys only.
	if _, is := public.(*rsa.PublicKey); is {
		t.KeyUsage |= x509.KeyUsageKeyEncipherment
	}
	for _, ip := range r.IPs {
		t.IPAddresses = append(t.IPAddresses, net.IP(ip.AsSlice()))
	}
	t.ExtKeyUsage = usagesOf(r)
	return create(t, ca, public, caKey)
}

// usagesOf is what a certificate is to be for.
func usagesOf(r Request) (out []x509.ExtKeyUsage) {
	if r.Server {
		out = append(out, x509.ExtKeyUsageServerAuth)
	}
	if r.Client {
		out = append(out, x509.ExtKeyUsageClientAuth)
	}
	return out
}

// create signs without randomness, so that ECDSA follows RFC 6979 and gives
// the same bytes every time.
func create(t, parent *x509.Certificate, public crypto.PublicKey, key crypto.Signer) ([]byte, error) {
	der, err := x509.CreateCertificate(nil, t, parent, public, key)
	if err != nil {
		return nil, fmt.Errorf("signing the certificate of %s: %w", t.Subject.CommonName, err)
	}
	return der, nil
}

// Stale says why an existing certificate no longer serves its request, or
// nothing if it does.
func Stale(cert *x509.Certificate, r Request, ca *x509.Certificate, now time.Time) string {
	if wrong := Wrong(cert, r, ca); len(wrong) > 0 {
		return wrong[0]
	}
	switch {
	case r.Renew > 0 && now.After(cert.NotAfter.Add(-r.Renew)):
		return "it ends on " + cert.NotAfter.Format(time.DateOnly)
	case r.Algorithm != "" && AlgorithmOf(cert.PublicKey) != r.Algorithm:
		return fmt.Sprintf("its key is %s, and %s is declared", AlgorithmOf(cert.PublicKey), r.Algorithm)
	}
	return ""
}

// KeyName is the digest by which service-account tokens name the key that
// signed them, as API servers compute it.
func KeyName(public crypto.PublicKey) (string, error) {
	der, err := x509.MarshalPKIXPublicKey(public)
	sum := sha256.Sum256(der)
	return base64.RawURLEncoding.EncodeToString(sum[:]), err
}

// AlgorithmOf names a public key's algorithm as declarations do.
func AlgorithmOf(public crypto.PublicKey) string {
	switch k := public.(type) {
	case *ecdsa.PublicKey:
		return fmt.Sprintf("ecdsa-p%d", k.Curve.Params().BitSize)
	case *rsa.PublicKey:
		return fmt.Sprintf("rsa-%d", k.N.BitLen())
	case ed25519.PublicKey:
		return "ed25519"
	}
	return "unknown"
}

// EncodeCert writes a certificate as PEM.
func EncodeCert(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}

// EncodeKey writes a private key as PEM in PKCS #8.
func EncodeKey(k crypto.Signer) ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		return nil, fmt.Errorf("encoding a private key: %w", err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), nil
}

// EncodePublic writes a public key as PEM in PKIX form.
func EncodePublic(k crypto.PublicKey) ([]byte, error) {
	der, err := x509.MarshalPKIXPublicKey(k)
	if err != nil {
		return nil, fmt.Errorf("encoding a public key: %w", err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), nil
}

// DecodeCert reads the first certificate of a PEM file.
func DecodeCert(b []byte) (*x509.Certificate, error) {
	p, _ := pem.Decode(b)
	if p == nil || p.Type != "CERTIFICATE" {
		return nil, errors.New("there is no PEM certificate in it")
	}
	return x509.ParseCertificate(p.Bytes)
}

// DecodeKey reads a private key from PEM: PKCS #8, or SEC 1 of an elliptic curve.
func DecodeKey(b []byte) (crypto.Signer, error) {
	p, _ := pem.Decode(b)
	if p != nil && p.Type == "EC PRIVATE KEY" { // SEC 1 (RFC 5915): so kubelets write theirs
		return x509.ParseECPrivateKey(p.Bytes)
	}
	if p == nil || p.Type != "PRIVATE KEY" {
		return nil, errors.New("there is no PEM private key in it")
	}
	k, err := x509.ParsePKCS8PrivateKey(p.Bytes)
	if err != nil {
		return nil, err
	}
	s, ok := k.(crypto.Signer)
	if !ok {
		return nil, fmt.Errorf("a %T cannot sign", k)
	}
	return s, nil
}
