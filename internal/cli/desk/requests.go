package desk

import (
	"context"

	"verbund/internal/core/trust"
	"verbund/internal/engine/look"
	"verbund/internal/engine/session"
	"verbund/internal/kube"
)

// JudgedRequest is a request with what the policy says of it.
type JudgedRequest struct {
	kube.Request
	// Fits says that it waits, and that the policy has it approved.
	Fits bool `json:"fits,omitempty"`
}

// Judged lists requests; those that wait with what the policy says of them.
func (a *App) Judged(ctx context.Context, s *session.Session, v *look.View, k *kube.Client) ([]JudgedRequest, error) {
	qs, err := k.Requests(ctx)
	if err != nil {
		return nil, err
	}
	out := []JudgedRequest{}
	for _, q := range qs {
		j := JudgedRequest{Request: q}
		if q.State == "waits" {
			d, err := look.Judge(ctx, s, v.Cluster, k, q)
			if err != nil {
				return nil, err
			}
			if j.Why, j.Fits = d.Why, d.Approve; j.Fits {
				j.Why = map[bool]string{true: "the next converge approves it: ", false: "it is about to be approved: "}[q.Signer == trust.KubeletClientSigner && q.Token() != ""] + d.Why
			}
		}
		out = append(out, j)
	}
	return out, nil
}

// Waiting counts the requests that wait for a person.
func (a *App) Waiting(s *session.Session, v *look.View) (int, error) {
	if !v.Seen.API {
		return 0, nil
	}
	k, err := s.Kube(v.Cluster)
	if err != nil {
		return 0, err
	}
	qs, err := a.Judged(a.Soft, s, v, k)
	n := 0
	for _, q := range qs {
		if q.State == "waits" && !q.Fits {
			n++
		}
	}
	return n, err
}
