package kube

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
)

// mostObject is how much of an answer to a write is read, in bytes.
const mostObject = 1 << 16

// WriteFresh makes a ConfigMap over a connection of its own to one address, as somebody writes
// who has just come. Without an error the write was acknowledged; with one it may be there all
// the same.
func (c *Client) WriteFresh(ctx context.Context, addr, namespace, name string, labels, data map[string]string) error {
	b, err := json.Marshal(&corev1.ConfigMap{TypeMeta: metav1.TypeMeta{APIVersion: "v1", Kind: "ConfigMap"}, ObjectMeta: metav1.ObjectMeta{Name: name, Labels: labels}, Data: data})
	if err != nil {
		return err
	}
	_, err = c.fresh(ctx, addr, http.MethodPost, fmt.Sprintf("/api/v1/namespaces/%s/configmaps", namespace), b, mostObject)
	return err
}
