package kube

import (
	"context"
	"fmt"
	"time"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

// leaders are those without whom pods that are evicted come back nowhere, and services go on
// pointing to them.
var leaders = []string{"kube-controller-manager", "kube-scheduler"}

// Led says who of controller manager and scheduler does not lead at a moment, by the leases for
// which they stand; nothing when both do.
func (c *Client) Led(ctx context.Context, now time.Time) (string, error) {
	for _, name := range leaders {
		l, err := c.CoordinationV1().Leases(metav1.NamespaceSystem).Get(ctx, name, metav1.GetOptions{})
		if apierrors.IsNotFound(err) {
			return "no " + name + " leads", nil
		}
		if err != nil {
			return "", err
		}
		s := l.Spec
		if s.HolderIdentity == nil || *s.HolderIdentity == "" || s.RenewTime == nil || s.LeaseDurationSeconds == nil {
			return "no " + name + " leads", nil
		}
		if since := now.Sub(s.RenewTime.Time); since > time.Duration(*s.LeaseDurationSeconds)*time.Second {
			return fmt.Sprintf("the %s that led last has not renewed its lease for %s", name, since.Round(time.Second)), nil
		}
	}
	return "", nil
}
