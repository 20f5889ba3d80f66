package controllers

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"time"

	"github.com/spf13/pflag"
	certv1 "k8s.io/api/certificates/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/trust"
	"verbund/internal/sim/host"
)

// signer signs approved requests of one kind with the pair on the machine's
// disk, which is read for every signature.
type signer struct {
	h         *host.Host
	cert, key string
	life      time.Duration
	usages    []certv1.KeyUsage // that it gives, and no others
}

var (
	clientUsages  = []certv1.KeyUsage{certv1.UsageDigitalSignature, certv1.UsageKeyEncipherment, certv1.UsageClientAuth}
	servingUsages = []certv1.KeyUsage{certv1.UsageDigitalSignature, certv1.UsageKeyEncipherment, certv1.UsageServerAuth}
)

// signingFlags adds the flags that say what is signed with which pair, and
// returns what makes signers of them: one general pair for all kinds of
// requests, or one for each kind that is to be signed.
func signingFlags(fs *pflag.FlagSet) func(*host.Host) (map[string]*signer, error) {
	pair := func(kind string) [2]*string {
		return [2]*string{fs.String("cluster-signing-"+kind+"cert-file", "", ""), fs.String("cluster-signing-"+kind+"key-file", "", "")}
	}
	life := fs.Duration("cluster-signing-duration", 365*24*time.Hour, "")
	general := pair("")
	special := map[string][2]*string{}
	usages := map[string][]certv1.KeyUsage{}
	for kind, x := range map[string]struct {
		name   string
		usages []certv1.KeyUsage
	}{
		"kubelet-client-":        {trust.KubeletClientSigner, clientUsages},
		"kubelet-serving-":       {trust.KubeletServingSigner, servingUsages},
		"kube-apiserver-client-": {certv1.KubeAPIServerClientSignerName, clientUsages},
		"legacy-unknown-":        {"kubernetes.io/legacy-unknown", append(clientUsages[:2:2], certv1.UsageClientAuth, certv1.UsageServerAuth)},
	} {
		special[x.name], usages[x.name] = pair(kind), x.usages
	}
	return func(h *host.Host) (map[string]*signer, error) {
		out := map[string]*signer{}
		for name, files := range special {
			if *files[0]+*files[1] == "" {
				files = general
			} else if *general[0]+*general[1] != "" {
				return nil, &host.ExitError{Code: 1, Err: errors.New("--cluster-signing-cert-file and --cluster-signing-key-file cannot be given together with other --cluster-signing-*-file flags")}
			}
			if *files[0]+*files[1] == "" {
				continue // what nothing is given for is not signed
			}
			s := &signer{h: h, cert: *files[0], key: *files[1], life: *life, usages: usages[name]}
			if _, _, err := s.pair(); err != nil {
				return nil, fmt.Errorf("signer %s: %w", name, err)
			}
			out[name] = s
		}
		return out, nil
	}
}

func (s *signer) pair() (*x509.Certificate, crypto.Signer, error) {
	c, err := s.h.ReadFile(s.cert)
	if err != nil {
		return nil, nil, err
	}
	cert, err := trust.DecodeCert(c)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", s.cert, err)
	}
	k, err := s.h.ReadFile(s.key)
	if err != nil {
		return nil, nil, err
	}
	key, err := trust.DecodeKey(k)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", s.key, err)
	}
	return cert, key, nil
}

// backdated lives as long as this or longer; what lives shorter begins now, as
// the real signer has it.
const backdated = 8 * time.Hour

// issue signs one request for as long as the signer signs, or for less if that
// is asked.
func (s *signer) issue(csr *certv1.CertificateSigningRequest) ([]byte, error) {
	b, _ := pem.Decode(csr.Spec.Request)
	if b == nil {
		return nil, errors.New("there is no request in it")
	}
	q, err := x509.ParseCertificateRequest(b.Bytes)
	if err != nil {
		return nil, err
	}
	ca, key, err := s.pair()
	if err != nil {
		return nil, err
	}
	life := s.life
	if e := csr.Spec.ExpirationSeconds; e != nil {
		life = min(life, time.Duration(*e)*time.Second)
	}
	from := time.Now()
	if life >= backdated {
		from = from.Add(-5 * time.Minute)
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, err
	}
	t := &x509.Certificate{SerialNumber: serial, Subject: q.Subject, NotBefore: from.UTC(), NotAfter: time.Now().Add(life).UTC(), BasicConstraintsValid: true, DNSNames: q.DNSNames, IPAddresses: q.IPAddresses}
	for _, u := range csr.Spec.Usages {
		if !slices.Contains(s.usages, u) {
			return nil, fmt.Errorf("signer %s does not give the usage %q", csr.Spec.SignerName, u)
		}
		switch u {
		case certv1.UsageDigitalSignature:
			t.KeyUsage |= x509.KeyUsageDigitalSignature
		case certv1.UsageKeyEncipherment:
			t.KeyUsage |= x509.KeyUsageKeyEncipherment
		case certv1.UsageClientAuth:
			t.ExtKeyUsage = append(t.ExtKeyUsage, x509.ExtKeyUsageClientAuth)
		case certv1.UsageServerAuth:
			t.ExtKeyUsage = append(t.ExtKeyUsage, x509.ExtKeyUsageServerAuth)
		}
	}
	der, err := x509.CreateCertificate(rand.Reader, t, ca, q.PublicKey, key)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), err
}

// Requests that are over are forgotten after a while, denied and failed ones
// later than issued ones, so that somebody can look.
const (
	keepIssued = time.Hour
	keepDenied = 24 * time.Hour
)

// signRequests signs what was approved, and forgets what is over.
func (s *state) signRequests(ctx context.Context) error {
	var errs []error
	for _, csr := range All[*certv1.CertificateSigningRequest](s.csrs) {
		is := func(t certv1.RequestConditionType) bool {
			return slices.ContainsFunc(csr.Status.Conditions, func(c certv1.CertificateSigningRequestCondition) bool { return c.Type == t })
		}
		age, over := time.Since(csr.CreationTimestamp.Time), is(certv1.CertificateDenied) || is(certv1.CertificateFailed)
		switch {
		case over && age > keepDenied || len(csr.Status.Certificate) > 0 && age > keepIssued:
			errs = append(errs, ignoreGone(s.c.CertificatesV1().CertificateSigningRequests().Delete(ctx, csr.Name, metav1.DeleteOptions{})))
		case over || len(csr.Status.Certificate) > 0 || !is(certv1.CertificateApproved):
		case s.sign[csr.Spec.SignerName] != nil:
			cert, err := s.sign[csr.Spec.SignerName].issue(csr)
			if err != nil {
				csr.Status.Conditions = append(csr.Status.Conditions, certv1.CertificateSigningRequestCondition{Type: certv1.CertificateFailed, Status: "True", Reason: "SigningFailed", Message: err.Error()})
			}
			csr.Status.Certificate = cert
			_, err = s.c.CertificatesV1().CertificateSigningRequests().UpdateStatus(ctx, csr, metav1.UpdateOptions{})
			errs = append(errs, ignoreGone(err))
		}
	}
	return errors.Join(errs...)
}
