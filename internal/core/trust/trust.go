package trust

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/x509"
	"crypto/x509/pkix"
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

// Dir is where trust lies on a machine.
const Dir = "/etc/kubernetes/trust"

// Names of our own for clients that Kubernetes leaves unnamed.
const (
	APIServerKubeletClient   = "verbund:api-server-to-kubelet"
	APIServerDatastoreClient = "verbund:api-server-to-datastore"
	FrontProxyClient         = "verbund:front-proxy"
	EndpointCarrierClient    = "verbund:endpoint-carrier"
	DatastoreOperations      = "verbund:datastore-operations"
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
}

// Requests lists every certificate that lies on one machine.
func Requests(c *topology.Cluster, m topology.Machine) []Request {
	local := netip.AddrFrom4([4]byte{127, 0, 0, 1})
	req := func(name string, a Authority, cn string, orgs ...string) Request {
		return Request{ID: m.Name + "/" + name, Machine: m.Name, Name: name, Authority: a, CommonName: cn, Organisations: orgs, Life: time.Duration(c.Trust.Leaf), Renew: time.Duration(c.Trust.Renew)}
	}
	client := func(name string, a Authority, cn string, orgs ...string) Request {
		r := req(name, a, cn, orgs...)
		r.Client = true
		return r
	}
	var rs []Request
	if m.Is(versions.API) {
		api := req("api-server", Cluster, "verbund:api-server")
		api.Server = true
		api.DNS = []string{c.Endpoint.Name, m.Name, "kubernetes", "kubernetes.default", "kubernetes.default.svc", "kubernetes.default.svc." + c.Domain, "localhost"}
		api.IPs = []netip.Addr{c.Endpoint.Address, m.Address, c.ServiceAddress(1), local}
		for _, n := range c.Names {
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
		rs = append(rs, member, peer)
	}
	if m.Is(versions.API) {
		rs = append(rs,
			client("api-server-kubelet", Cluster, APIServerKubeletClient),
			client("api-server-datastore", Datastore, APIServerDatastoreClient),
			client("front-proxy", FrontProxy, FrontProxyClient),
			client("controller-manager", Cluster, "system:kube-controller-manager"),
			client("scheduler", Cluster, "system:kube-scheduler"))
	}
	if m.Is(versions.Carrier) {
		rs = append(rs, client("endpoint-carrier", Datastore, EndpointCarrierClient))
	}
	if m.IsNode() {
		serving := req("kubelet-serving", Cluster, "system:node:"+m.Name, "system:nodes")
		serving.Server = true
		serving.DNS, serving.IPs = []string{m.Name}, []netip.Addr{m.Address}
		rs = append(rs, client("proxy", Cluster, "system:kube-proxy"),
			client("kubelet-client", Cluster, "system:node:"+m.Name, "system:nodes"), serving)
	}
	for i := range rs {
		// An address may stand for two things at once (the endpoint and the
		// only control-plane machine); a certificate says it once.
		rs[i].IPs = dedupe(rs[i].IPs)
		rs[i].DNS = dedupe(rs[i].DNS)
	}
	return rs
}

// ToolRequests lists the certificates that stay with the tool.
func ToolRequests(c *topology.Cluster) []Request {
	life, renew := time.Duration(c.Trust.Leaf), time.Duration(c.Trust.Renew)
	return []Request{
		{ID: "tool/datastore", Name: "datastore", Authority: Datastore, CommonName: DatastoreOperations, Client: true, Life: life, Renew: renew},
		{ID: "tool/administrator", Name: "administrator", Authority: Cluster, CommonName: ToolAdministrator, Organisations: []string{"system:masters"}, Client: true, Life: life, Renew: renew},
	}
}

// Access is the certificate of a person: hours, not years.
func Access(person string, groups []string) Request {
	return Request{ID: "access/" + person, Name: person, Authority: Cluster, CommonName: person, Organisations: groups, Client: true, Life: AccessLife}
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

// KeyIDs names the private keys, beyond those of its certificates, that lie on
// a machine. The controller manager signs with the cluster authority; no other
// machine ever holds an authority's key.
func KeyIDs(m topology.Machine) []string {
	if m.Is(versions.API) {
		return []string{string(Cluster), ServiceAccountKey}
	}
	return nil
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
	return create(t, t, key.Public(), key)
}

// Sign makes the certificate of a request.
func Sign(r Request, public crypto.PublicKey, ca *x509.Certificate, caKey crypto.Signer, now time.Time, serial *big.Int) (*x509.Certificate, error) {
	if want := now.Add(r.Life); want.After(ca.NotAfter) {
		return nil, fmt.Errorf("certificate %s would outlive its authority, which ends on %s", r.ID, ca.NotAfter.Format(time.DateOnly))
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
	if _, ec := public.(*ecdsa.PublicKey); !ec {
		t.KeyUsage |= x509.KeyUsageKeyEncipherment
	}
	for _, ip := range r.IPs {
		t.IPAddresses = append(t.IPAddresses, net.IP(ip.AsSlice()))
	}
	if r.Server {
		t.ExtKeyUsage = append(t.ExtKeyUsage, x509.ExtKeyUsageServerAuth)
	}
	if r.Client {
		t.ExtKeyUsage = append(t.ExtKeyUsage, x509.ExtKeyUsageClientAuth)
	}
	return create(t, ca, public, caKey)
}

// create signs without randomness, so that ECDSA follows RFC 6979 and gives
// the same bytes every time.
func create(t, parent *x509.Certificate, public crypto.PublicKey, key crypto.Signer) (*x509.Certificate, error) {
	der, err := x509.CreateCertificate(nil, t, parent, public, key)
	if err != nil {
		return nil, fmt.Errorf("signing the certificate of %s: %w", t.Subject.CommonName, err)
	}
	return x509.ParseCertificate(der)
}

// Stale says why an existing certificate no longer serves its request, or
// nothing if it does.
func Stale(cert *x509.Certificate, r Request, ca *x509.Certificate, now time.Time) string {
	var ips []netip.Addr
	for _, ip := range cert.IPAddresses {
		a, _ := netip.AddrFromSlice(ip)
		ips = append(ips, a.Unmap())
	}
	for _, n := range r.DNS {
		if !slices.Contains(cert.DNSNames, n) {
			return "it lacks the name " + n
		}
	}
	for _, a := range r.IPs {
		if !slices.Contains(ips, a) {
			return "it lacks the address " + a.String()
		}
	}
	switch {
	case cert.CheckSignatureFrom(ca) != nil:
		return "another authority signed it"
	case cert.Subject.CommonName != r.CommonName || !slices.Equal(cert.Subject.Organization, r.Organisations):
		return "its subject is " + cert.Subject.String()
	case r.Renew > 0 && now.After(cert.NotAfter.Add(-r.Renew)):
		return "it ends on " + cert.NotAfter.Format(time.DateOnly)
	}
	return ""
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

// DecodeKey reads a PKCS #8 private key from PEM.
func DecodeKey(b []byte) (crypto.Signer, error) {
	p, _ := pem.Decode(b)
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
