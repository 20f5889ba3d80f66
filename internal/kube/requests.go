package kube

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	certv1 "k8s.io/api/certificates/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/trust"
)

// Request is a certificate request of the cluster with what came of it.
type Request struct {
	Name   string    `json:"name"`
	Signer string    `json:"signer"`
	By     string    `json:"by"`
	Asked  time.Time `json:"asked"`
	State  string    `json:"state"` // waits, approved, issued, denied, failed
	Why    string    `json:"why,omitempty"`

	asked trust.Asked
}

// ForDecision is the request as the approval policy sees it.
func (r Request) ForDecision() trust.Asked { return r.asked }

// Token is the ID of the enrolment token with which it was asked, if so.
func (r Request) Token() string {
	id, is := strings.CutPrefix(r.By, trust.TokenUser)
	if !is {
		return ""
	}
	return id
}

// Requests lists the certificate requests of kubelets, the oldest first.
func (c *Client) Requests(ctx context.Context) ([]Request, error) {
	l, err := c.CertificatesV1().CertificateSigningRequests().List(ctx, metav1.ListOptions{})
	if err != nil {
		return nil, err
	}
	out := []Request{}
	for _, q := range l.Items {
		r := Request{Name: q.Name, Signer: q.Spec.SignerName, By: q.Spec.Username, Asked: q.CreationTimestamp.Time, State: "waits"}
		for _, u := range q.Spec.Usages {
			r.asked.Usages = append(r.asked.Usages, string(u))
		}
		r.asked.Signer, r.asked.User, r.asked.Groups, r.asked.PEM = q.Spec.SignerName, q.Spec.Username, q.Spec.Groups, q.Spec.Request
		for _, c := range q.Status.Conditions {
			r.State, r.Why = strings.ToLower(string(c.Type)), c.Message
		}
		if len(q.Status.Certificate) > 0 {
			r.State = "issued"
		}
		out = append(out, r)
	}
	slices.SortStableFunc(out, func(a, b Request) int { return a.Asked.Compare(b.Asked) })
	return out, nil
}

// Judge approves or denies a request for good, with the reason.
func (c *Client) Judge(ctx context.Context, name string, approve bool, reason, why string) error {
	reqs := c.CertificatesV1().CertificateSigningRequests()
	q, err := reqs.Get(ctx, name, metav1.GetOptions{})
	if err != nil {
		return err
	}
	if len(q.Status.Conditions) > 0 {
		return fmt.Errorf("request %s was already %s: %s", name, strings.ToLower(string(q.Status.Conditions[0].Type)), q.Status.Conditions[0].Message)
	}
	t := certv1.CertificateDenied
	if approve {
		t = certv1.CertificateApproved
	}
	q.Status.Conditions = append(q.Status.Conditions, certv1.CertificateSigningRequestCondition{Type: t, Status: "True", Reason: reason, Message: why})
	_, err = reqs.UpdateApproval(ctx, name, q, metav1.UpdateOptions{})
	return err
}
