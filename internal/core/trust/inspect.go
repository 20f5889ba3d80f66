package trust

import (
	"cmp"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"verbund/internal/core/topology"
)

// Entry is one certificate of the cluster, as it was issued and as it was
// found.
type Entry struct {
	ID      string `json:"id"`
	Purpose string `json:"purpose"`
	Machine string `json:"machine,omitempty"` // on which it lies; empty: with the tool
	// On are the machines that hold an authority's certificate, KeyOn those that
	// hold its key.
	On        []string  `json:"on,omitempty"`
	KeyOn     []string  `json:"keyOn,omitempty"`
	Authority string    `json:"authority"`
	Subject   string    `json:"subject"`
	Names     []string  `json:"names,omitempty"`
	Algorithm string    `json:"algorithm"`
	Issued    time.Time `json:"issued"`
	Expires   time.Time `json:"expires"`
	RenewFrom time.Time `json:"renewFrom,omitzero"` // zero: it is not renewed by itself
	Serial    string    `json:"serial"`
	Renews    string    `json:"renews,omitempty"` // who renews it, if not the tool
	// NotLooked is why it could not be looked at where it lies: what is said of it
	// is what was issued.
	NotLooked string `json:"notLooked,omitempty"`
	// Troubles are what is wrong with it, in words.
	Troubles []string `json:"troubles"`
}

// purposes say what each certificate is for, by its file name.
var purposes = map[string]string{
	"api-server": "the API server shows it to everybody who connects", "api-server-kubelet": "the API server shows it to kubelets",
	"api-server-datastore": "the API server shows it to the datastore", "front-proxy": "the API server shows it to extension API servers",
	"datastore-member": "the datastore shows it to its clients", "datastore-peer": "members of the datastore show it to each other",
	"controller-manager": "the controller manager shows it to the API server", "scheduler": "the scheduler shows it to the API server",
	"proxy": "the service proxy shows it to the API server", "kubelet-client": "the kubelet shows it to the API server",
	"kubelet-serving": "the kubelet shows it to the API server that calls it", "endpoint-carrier": "the carrier of the endpoint's address shows it to the datastore", "request-approver": "the approver of certificate requests shows it to the API server",
	"backup-keeper": "the keeper of backups shows it to the datastore",
	"datastore":     "Verbund shows it to the datastore", "administrator": "Verbund shows it to the API server",
	string(Cluster): "signs for everything that talks with the API server", string(Datastore): "signs for the datastore and its clients",
	string(FrontProxy): "signs for the API server towards extension API servers",
	string(Programs):   "signs for programs beyond the cluster's own components",
}

// Describe makes the entry of an issued certificate. Of an authority, r has
// only its ID.
func Describe(cert *x509.Certificate, r Request, now time.Time) Entry {
	name := r.ID[strings.LastIndex(r.ID, "/")+1:]
	e := Entry{ID: r.ID, Purpose: cmp.Or(purposes[name], map[bool]string{true: "program " + name + " shows it"}[r.Authority == Programs]), Machine: r.Machine, Authority: string(r.Authority), Troubles: []string{}}
	if cert == nil {
		e.Troubles = append(e.Troubles, "it was never issued")
		return e
	}
	e.Subject, e.Algorithm, e.Issued, e.Expires, e.Serial = cert.Subject.String(), algorithm(cert), cert.NotBefore, cert.NotAfter, cert.SerialNumber.Text(16)
	e.Names = append(e.Names, cert.DNSNames...)
	for _, ip := range cert.IPAddresses {
		e.Names = append(e.Names, ip.String())
	}
	if r.Renew > 0 {
		e.RenewFrom = cert.NotAfter.Add(-r.Renew)
	}
	if t := Ending(cert, r.Renew, now); t != "" {
		e.Troubles = append(e.Troubles, t)
	}
	return e
}

// DescribeAuthority makes the entry of an authority. It is in trouble when it
// ends before what it is to sign would: then it signs nothing.
func DescribeAuthority(cert *x509.Certificate, a Authority, c *topology.Cluster, now time.Time) Entry {
	e := Describe(cert, Request{ID: string(a)}, now)
	for _, m := range c.Machines {
		if slices.Contains(AuthoritiesOn(m), a) {
			e.On = append(e.On, m.Name)
		}
		if Keys(c, m)[string(a)] != "" {
			e.KeyOn = append(e.KeyOn, m.Name)
		}
	}
	if cert != nil && cert.NotAfter.Sub(now) < time.Duration(c.Trust.Leaf) {
		e.Troubles = append(e.Troubles, "it ends sooner than what it is to sign: verbund trust replace "+e.ID)
	}
	return e
}

// Ending says that a certificate has ended, or is due to be renewed.
func Ending(cert *x509.Certificate, renew time.Duration, now time.Time) string {
	switch left := cert.NotAfter.Sub(now); {
	case left <= 0:
		return "it ended on " + cert.NotAfter.Format(time.DateOnly)
	case left <= renew && left < 48*time.Hour:
		return fmt.Sprintf("it ends in %s, and is due to be renewed", left.Round(time.Second))
	case left <= renew:
		return fmt.Sprintf("it ends in %d days, and is due to be renewed", int(left/(24*time.Hour)))
	case now.Before(cert.NotBefore):
		return "it does not begin before " + cert.NotBefore.Format(time.DateTime)
	}
	return ""
}

// Wrong says how a certificate that was found departs from what it is to be:
// its names, what it is for, its subject, its authority.
func Wrong(cert *x509.Certificate, r Request, ca *x509.Certificate) []string {
	var out []string
	for _, n := range r.DNS {
		if !slices.Contains(cert.DNSNames, n) {
			out = append(out, "it lacks the name "+n)
		}
	}
	for _, n := range cert.DNSNames {
		if !slices.Contains(r.DNS, n) {
			out = append(out, "it has the name "+n+", which it should not have")
		}
	}
	var have []netip.Addr
	for _, ip := range cert.IPAddresses {
		a, _ := netip.AddrFromSlice(ip)
		have = append(have, a.Unmap())
	}
	for _, a := range r.IPs {
		if !slices.Contains(have, a) {
			out = append(out, "it lacks the address "+a.String())
		}
	}
	for _, a := range have {
		if !slices.Contains(r.IPs, a) {
			out = append(out, "it has the address "+a.String()+", which it should not have")
		}
	}
	usages := usagesOf(r)
	for _, u := range usages {
		if !slices.Contains(cert.ExtKeyUsage, u) {
			out = append(out, "it is not for "+usageWord(u))
		}
	}
	for _, u := range cert.ExtKeyUsage {
		if !slices.Contains(usages, u) {
			out = append(out, "it is also for "+usageWord(u)+", which it should not be")
		}
	}
	if ca != nil && cert.CheckSignatureFrom(ca) != nil {
		out = append(out, "another authority signed it")
	}
	if cert.Subject.CommonName != r.CommonName || !slices.Equal(cert.Subject.Organization, r.Organisations) {
		out = append(out, "it is for "+cert.Subject.String())
	}
	return out
}

func algorithm(cert *x509.Certificate) string {
	switch k := cert.PublicKey.(type) {
	case *ecdsa.PublicKey:
		return "ECDSA " + k.Curve.Params().Name
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d", k.N.BitLen())
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return cert.PublicKeyAlgorithm.String()
}

// ByUrgency orders entries: those in trouble first, then by when they end.
func ByUrgency(es []Entry) {
	slices.SortStableFunc(es, func(a, b Entry) int {
		if (len(a.Troubles) > 0) != (len(b.Troubles) > 0) {
			return cmp.Compare(len(b.Troubles), len(a.Troubles))
		}
		return cmp.Or(a.Expires.Compare(b.Expires), cmp.Compare(a.ID, b.ID))
	})
}

// Fingerprint is the SHA-256 digest of a certificate, as people compare it.
func Fingerprint(cert *x509.Certificate) string {
	sum := sha256.Sum256(cert.Raw)
	parts := make([]string, len(sum))
	for i, b := range sum {
		parts[i] = fmt.Sprintf("%02X", b)
	}
	return strings.Join(parts, ":")
}
