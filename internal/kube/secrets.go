package kube

import (
	"context"

	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

// RewriteSecret writes a Secret as it is: an API server that would encrypt it
// otherwise today does so. One that is gone needs nothing.
func (c *Client) RewriteSecret(ctx context.Context, namespace, name string) error {
	s, err := c.CoreV1().Secrets(namespace).Get(ctx, name, metav1.GetOptions{})
	if err == nil {
		_, err = c.CoreV1().Secrets(namespace).Update(ctx, s, metav1.UpdateOptions{})
	}
	if apierrors.IsNotFound(err) {
		return nil
	}
	return err
}
