package controllers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/pflag"
	certv1 "k8s.io/api/certificates/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/kubernetes/fake"

	"verbund/internal/core/trust"
	"verbund/internal/kubeapi/kubeapitest"
	"verbund/internal/sim/host"
)

// authority is a machine with a pair to sign with at /ca.crt and /ca.key.
func authority(t *testing.T) *host.Host {
	t.Helper()
	h := &host.Host{Spec: host.Spec{Root: t.TempDir()}}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := trust.NewAuthority(trust.Cluster, "tidewatch", 24*time.Hour, key, time.Now(), big.NewInt(1))
	if err != nil {
		t.Fatal(err)
	}
	k, err := trust.EncodeKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, b := range map[string][]byte{"ca.crt": trust.EncodeCert(cert), "ca.key": k} {
		if err := os.WriteFile(filepath.Join(h.Spec.Root, name), b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return h
}

// signers are those that the flags make.
func signers(h *host.Host, args ...string) (map[string]*signer, error) {
	fs := pflag.NewFlagSet("", pflag.ContinueOnError)
	of := signingFlags(fs)
	if err := fs.Parse(args); err != nil {
		return nil, err
	}
	return of(h)
}

// approved is a request that somebody approved.
func approved(t *testing.T, name, signer string, usages ...certv1.KeyUsage) *certv1.CertificateSigningRequest {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "mara", Organization: []string{"system:masters"}}}, key)
	if err != nil {
		t.Fatal(err)
	}
	return &certv1.CertificateSigningRequest{ObjectMeta: metav1.ObjectMeta{Name: name, CreationTimestamp: metav1.Now()}, Spec: certv1.CertificateSigningRequestSpec{SignerName: signer, Usages: usages, Request: pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})},
		Status: certv1.CertificateSigningRequestStatus{Conditions: []certv1.CertificateSigningRequestCondition{{Type: certv1.CertificateApproved, Status: "True"}}}}
}

// Only those kinds of requests are signed for which there is a pair, however
// well they were approved, and only with usages of their kind.
func TestSignersSignTheirKind(t *testing.T) {
	h := authority(t)
	sign, err := signers(h, "--cluster-signing-kubelet-client-cert-file=/ca.crt", "--cluster-signing-kubelet-client-key-file=/ca.key", "--cluster-signing-duration=1h")
	if err != nil {
		t.Fatal(err)
	}
	all := []*certv1.CertificateSigningRequest{
		approved(t, "kubelet", trust.KubeletClientSigner, certv1.UsageDigitalSignature, certv1.UsageClientAuth),
		approved(t, "server-in-disguise", trust.KubeletClientSigner, certv1.UsageDigitalSignature, certv1.UsageServerAuth),
		approved(t, "anybody", certv1.KubeAPIServerClientSignerName, certv1.UsageDigitalSignature, certv1.UsageClientAuth),
		approved(t, "serving", trust.KubeletServingSigner, certv1.UsageDigitalSignature, certv1.UsageServerAuth),
	}
	c := kubeapitest.Over(&fake.NewClientset().Fake)
	s := &state{c: c, sign: sign, csrs: c.CertificatesV1().CertificateSigningRequests().Cache()}
	for _, csr := range all {
		if _, err := c.CertificatesV1().CertificateSigningRequests().Create(t.Context(), csr, metav1.CreateOptions{}); err != nil {
			t.Fatal(err)
		}
		if err := s.csrs.GetStore().Add(csr); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.signRequests(t.Context()); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"kubelet": "signed", "server-in-disguise": "failed", "anybody": "", "serving": ""} {
		csr, err := c.CertificatesV1().CertificateSigningRequests().Get(t.Context(), name, metav1.GetOptions{})
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if len(csr.Status.Certificate) > 0 {
			got = "signed"
		} else if n := len(csr.Status.Conditions); csr.Status.Conditions[n-1].Type == certv1.CertificateFailed {
			got = "failed"
		}
		if got != want {
			t.Errorf("request %s: %q, wanted %q", name, got, want)
		}
	}
}

// One general pair signs every kind; beside it no other is taken, and a pair
// that is not there is no pair.
func TestSigningFlags(t *testing.T) {
	h := authority(t)
	general := []string{"--cluster-signing-cert-file=/ca.crt", "--cluster-signing-key-file=/ca.key"}
	if sign, err := signers(h, general...); err != nil || len(sign) != 4 {
		t.Errorf("a general pair makes %d signers: %v", len(sign), err)
	}
	if sign, err := signers(h); err != nil || len(sign) != 0 {
		t.Errorf("no pair makes %d signers: %v", len(sign), err)
	}
	if _, err := signers(h, append(general, "--cluster-signing-kubelet-client-cert-file=/ca.crt")...); err == nil || !strings.Contains(err.Error(), "cannot be given together") {
		t.Errorf("a general pair beside another: %v", err)
	}
	if _, err := signers(h, "--cluster-signing-kubelet-serving-cert-file=/ca.crt"); err == nil {
		t.Error("a certificate without its key signs")
	}
}
