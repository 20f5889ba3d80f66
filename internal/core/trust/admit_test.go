package trust_test

import (
	"crypto/ecdsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"net"
	"net/netip"
	"net/url"
	"strings"
	"testing"

	"verbund/internal/core/trust"
)

// request writes what a kubelet asks for.
func request(t *testing.T, k *ecdsa.PrivateKey, cn string, orgs []string, change func(*x509.CertificateRequest)) []byte {
	t.Helper()
	q := &x509.CertificateRequest{Subject: pkix.Name{CommonName: cn, Organization: orgs}}
	if change != nil {
		change(q)
	}
	der, err := x509.CreateCertificateRequest(nil, q, k)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})
}

// The approval policy lets pass what matches an expected node in everything,
// and says in words why everything else waits.
func TestDecide(t *testing.T) {
	nodes := []trust.ExpectedNode{{Name: "a", Addresses: []netip.Addr{netip.MustParseAddr("127.80.0.1")}, Pool: "gauges"}, {Name: "b", Addresses: []netip.Addr{netip.MustParseAddr("127.80.0.2")}, Pool: "forecast", ByToken: true}}
	tokens := []trust.Token{{ID: "pooled", Pool: "forecast", Left: 1}, {ID: "single", Machine: "b", Pool: "forecast", Left: 1}, {ID: "others", Pool: "gauges", Left: 5}, {ID: "usedup", Pool: "forecast"}, {ID: "alone1", Machine: "c", Left: 1}}
	mine, other := key(t), key(t)
	client := func(cn string, change func(*x509.CertificateRequest)) trust.Asked {
		return trust.Asked{Signer: trust.KubeletClientSigner, User: cn, Groups: []string{"system:nodes", "system:authenticated"}, Usages: []string{"digital signature", "client auth"}, PEM: request(t, mine, cn, []string{"system:nodes"}, change)}
	}
	serving := func(change func(*x509.CertificateRequest)) trust.Asked {
		a := client("system:node:a", func(q *x509.CertificateRequest) {
			q.DNSNames, q.IPAddresses = []string{"a"}, []net.IP{net.IPv4(127, 80, 0, 1)}
			if change != nil {
				change(q)
			}
		})
		a.Signer, a.Usages = trust.KubeletServingSigner, []string{"server auth", "digital signature"}
		return a
	}
	enrol := func(token string) trust.Asked {
		a := client("system:node:b", nil)
		a.User, a.Groups = trust.TokenUser+token, []string{"system:bootstrappers", trust.TokenGroup}
		return a
	}
	with := func(a trust.Asked, f func(*trust.Asked)) trust.Asked { f(&a); return a }
	for _, x := range []struct {
		name  string
		asked trust.Asked
		shown *ecdsa.PrivateKey
		yes   bool
		why   string
	}{
		{"a node renews", client("system:node:a", nil), nil, true, "the node asks for itself"},
		{"a node serves", serving(nil), nil, true, "the node asks for itself"},
		{"another signer", with(client("system:node:a", nil), func(a *trust.Asked) { a.Signer = "lamps.test/any" }), nil, false, "nobody here decides on signer lamps.test/any"},
		{"no request", with(client("system:node:a", nil), func(a *trust.Asked) { a.PEM = []byte("junk") }), nil, false, "holds no certificate request"},
		{"a cut request", with(client("system:node:a", nil), func(a *trust.Asked) {
			a.PEM = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: []byte{1}})
		}), nil, false, "cannot be read"},
		{"a request that its key did not sign", with(client("system:node:a", nil), func(a *trust.Asked) {
			block, _ := pem.Decode(a.PEM)
			// The signature ends the request: another one of the same form.
			theirs, _ := pem.Decode(request(t, other, "system:node:a", []string{"system:nodes"}, nil))
			signed, err := x509.ParseCertificateRequest(block.Bytes)
			if err != nil {
				t.Fatal(err)
			}
			forged, err := x509.ParseCertificateRequest(theirs.Bytes)
			if err != nil {
				t.Fatal(err)
			}
			b, err := asn1.Marshal(struct {
				TBS       asn1.RawValue
				Algorithm pkix.AlgorithmIdentifier
				Signature asn1.BitString
			}{asn1.RawValue{FullBytes: signed.RawTBSCertificateRequest}, pkix.AlgorithmIdentifier{Algorithm: asn1.ObjectIdentifier{1, 2, 840, 10045, 4, 3, 2}}, asn1.BitString{Bytes: forged.Signature, BitLength: len(forged.Signature) * 8}})
			if err != nil {
				t.Fatal(err)
			}
			a.PEM = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: b})
		}), nil, false, "is not signed with its own key"},
		{"as many usages, and others", with(client("system:node:a", nil), func(a *trust.Asked) { a.Usages = []string{"digital signature", "server auth"} }), nil, false, "it asks for the usages"},
		{"another subject", client("maren", nil), nil, false, "is not that of a node"},
		{"further subject", client("system:node:a", func(q *x509.CertificateRequest) { q.Subject.Locality = []string{"coast"} }), nil, false, "is not that of a node"},
		{"another group", with(client("system:node:a", nil), func(a *trust.Asked) {
			a.PEM = request(t, mine, "system:node:a", []string{"system:masters"}, nil)
		}), nil, false, "is not that of a node"},
		{"an unknown node", client("system:node:z", nil), nil, false, "no node z is declared"},
		{"another usage", with(client("system:node:a", nil), func(a *trust.Asked) { a.Usages = []string{"digital signature", "client auth", "server auth"} }), nil, false, "it asks for the usages"},
		{"a client with names", client("system:node:a", func(q *x509.CertificateRequest) { q.DNSNames = []string{"a"} }), nil, false, "for a client, and asks for names"},
		{"another name", serving(func(q *x509.CertificateRequest) { q.DNSNames = []string{"a", "api.tidewatch.test"} }), nil, false, "it asks for the name api.tidewatch.test"},
		{"another address", serving(func(q *x509.CertificateRequest) { q.IPAddresses = append(q.IPAddresses, net.IPv4(127, 80, 0, 2)) }), nil, false, "it asks for the address 127.80.0.2"},
		{"no address", serving(func(q *x509.CertificateRequest) { q.IPAddresses = nil }), nil, false, "asks for no address"},
		{"a URI", serving(func(q *x509.CertificateRequest) { q.URIs = []*url.URL{{Scheme: "spiffe", Host: "x"}} }), nil, false, "e-mail addresses or URIs"},
		{"for another node", with(client("system:node:a", nil), func(a *trust.Asked) { a.User = "system:node:b" }), nil, false, "node b asks for a certificate of node a"},
		{"a person", with(client("system:node:a", nil), func(a *trust.Asked) { a.User, a.Groups = "maren", nil }), nil, false, "maren asks, who is neither"},
		{"a node without the group", with(client("system:node:a", nil), func(a *trust.Asked) { a.Groups = nil }), nil, false, "node a asks for a certificate of node a"},
		{"a token", enrol("pooled"), mine, true, "machine b shows the same key"},
		{"a token for it alone", enrol("single"), mine, true, "machine b shows the same key"},
		{"a key nobody compared", enrol("pooled"), nil, false, "its key was not compared"},
		{"somebody else's key", enrol("pooled"), other, false, "somebody else asks"},
		{"a token of another pool", enrol("others"), mine, false, "token others is for pool gauges"},
		{"a token of another machine", enrol("alone1"), mine, false, "token alone1 is for machine c"},
		{"a token used up", enrol("usedup"), mine, false, "token usedup is used up"},
		{"a token revoked", enrol("gone00"), mine, false, "not known, or was revoked"},
		{"a token for a node that is issued its own", with(enrol("pooled"), func(a *trust.Asked) { a.PEM = request(t, mine, "system:node:a", []string{"system:nodes"}, nil) }), mine, false, "not one that enrols by token"},
		{"a token for a server", with(enrol("pooled"), func(a *trust.Asked) {
			a.Signer, a.Usages = trust.KubeletServingSigner, []string{"digital signature", "server auth"}
			a.PEM = request(t, mine, "system:node:b", []string{"system:nodes"}, func(q *x509.CertificateRequest) { q.IPAddresses = []net.IP{net.IPv4(127, 80, 0, 2)} })
		}), mine, false, "neither the node nor has an enrolment token"},
	} {
		var d trust.Decision
		if x.shown == nil {
			d = trust.Decide(x.asked, nodes, tokens, nil)
		} else {
			d = trust.Decide(x.asked, nodes, tokens, x.shown.Public())
		}
		if d.Approve != x.yes || !strings.Contains(d.Why, x.why) {
			t.Errorf("%s: approved %v, %q; wanted %v, %q", x.name, d.Approve, d.Why, x.yes, x.why)
		}
		if x.name == "a key nobody compared" && (!d.NeedsKey || d.Node != "b") {
			t.Errorf("%s: %+v", x.name, d)
		}
	}
}
