package apiserver

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"reflect"
	"slices"

	certv1 "k8s.io/api/certificates/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
)

// readRequest reads the PKCS #10 request of a certificate signing request.
func readRequest(csr *certv1.CertificateSigningRequest) (*x509.CertificateRequest, error) {
	b, _ := pem.Decode(csr.Spec.Request)
	if b == nil || b.Type != "CERTIFICATE REQUEST" {
		return nil, fmt.Errorf("spec.request: there is no PEM certificate request in it")
	}
	return x509.ParseCertificateRequest(b.Bytes)
}

// mergeCSR keeps what cannot change of a request, and lets only those approve
// who may do so for its signer.
func (s *server) mergeCSR(u user, q *request, old, n *certv1.CertificateSigningRequest) error {
	n.Spec = old.Spec
	switch q.sub {
	case "approval":
		if !s.mayUseSigner(q, u, "approve", old.Spec.SignerName) {
			return apierrors.NewForbidden(q.resource.gr(), old.Name, fmt.Errorf("user %q may not approve for signer %q", u.name, old.Spec.SignerName))
		}
		n.Status.Certificate = old.Status.Certificate
	case "status":
		if !s.mayUseSigner(q, u, "sign", old.Spec.SignerName) {
			return apierrors.NewForbidden(q.resource.gr(), old.Name, fmt.Errorf("user %q may not sign for signer %q", u.name, old.Spec.SignerName))
		}
		for _, c := range old.Status.Conditions {
			if c.Type != certv1.CertificateFailed && !slices.ContainsFunc(n.Status.Conditions, func(x certv1.CertificateSigningRequestCondition) bool { return x.Type == c.Type }) {
				return apierrors.NewForbidden(q.resource.gr(), old.Name, fmt.Errorf("condition %s is never taken back", c.Type))
			}
		}
		if len(old.Status.Certificate) > 0 && !reflect.DeepEqual(old.Status.Certificate, n.Status.Certificate) {
			return apierrors.NewForbidden(q.resource.gr(), old.Name, fmt.Errorf("an issued certificate is never changed"))
		}
	}
	return nil
}

func (s *server) mayUseSigner(q *request, u user, verb, signer string) bool {
	return u.in("system:masters") || s.rbac != nil && s.rbac.allows(u, access{verb: verb, group: "certificates.k8s.io", plural: "signers", name: signer})
}
