// Package kube is the cluster seen from outside: its API, its nodes, what runs
// on them, draining, and the add-ons.
package kube

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	corev1 "k8s.io/api/core/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/rest"

	"verbund/internal/core/trust"
	"verbund/internal/kubeapi"
)

// Client talks to the API of one cluster.
type Client struct {
	*kubeapi.Clients
	cfg     *rest.Config // how the cluster is known; it says of no address, which http does
	http    *http.Client
	mayLose []Loss
}

// Access is what is needed to reach a cluster.
type Access struct {
	Server string   // URL with the endpoint's name
	Via    []string // host:port to try, in order
	CA     []byte
	Cert   []byte
	Key    []byte
	// MayLose are pods that a drain may lose.
	MayLose []Loss
}

// New is a client that reaches the API at whichever of the addresses answers
// first in order: the balancer, then each API server; where a request runs out of
// time there, the next one goes elsewhere. It knows them by the name
// that all of them have: while the endpoint gets another one, some do not have
// that yet.
func New(a Access) (*Client, error) {
	cfg := &rest.Config{Host: a.Server, QPS: -1, Timeout: 15 * time.Second, UserAgent: rest.DefaultKubernetesUserAgent(), TLSClientConfig: rest.TLSClientConfig{ServerName: trust.APIName, CAData: a.CA, CertData: a.Cert, KeyData: a.Key}}
	rt, err := newTurning(cfg, a.Via)
	if err != nil {
		return nil, err
	}
	hc := &http.Client{Transport: rt, Timeout: cfg.Timeout}
	cs, err := kubeapi.NewForConfigAndClient(cfg, hc)
	if err != nil {
		return nil, err
	}
	return &Client{cs, cfg, hc, a.MayLose}, nil
}

// Of is a client of an API that somebody else has reached.
func Of(api *kubeapi.Clients, mayLose ...Loss) *Client {
	return &Client{Clients: api, cfg: &rest.Config{}, mayLose: mayLose}
}

// ReadyAt asks the API server at an address whether it is ready.
func (c *Client) ReadyAt(ctx context.Context, addr string) error {
	_, err := c.fresh(ctx, addr, http.MethodGet, "/readyz", nil, 500)
	return err
}

// fresh asks whoever answers for the API at an address, over a connection of its own, and reads
// no more of the answer than most bytes.
func (c *Client) fresh(ctx context.Context, addr, method, path string, body []byte, most int64) ([]byte, error) {
	tlsc, err := rest.TLSConfigFor(c.cfg)
	if err != nil {
		return nil, err
	}
	hc := http.Client{Timeout: 3 * time.Second, Transport: &http.Transport{TLSClientConfig: tlsc, DisableKeepAlives: true, DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, network, addr)
	}}}
	req, err := http.NewRequestWithContext(ctx, method, c.cfg.Host+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if len(body) > 0 {
		req.Header.Set("Content-Type", "application/json")
	}
	resp, err := hc.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, most))
	if resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusCreated {
		return nil, fmt.Errorf("%s: %s", resp.Status, b[:min(len(b), 500)])
	}
	return b, err
}

// Ready says whether a node is Ready, and why not.
func Ready(n *corev1.Node) (bool, string) {
	for _, c := range n.Status.Conditions {
		if c.Type == corev1.NodeReady {
			return c.Status == corev1.ConditionTrue, c.Message
		}
	}
	return false, "it has not reported yet"
}

// PodTrouble says why a pod does not serve; empty when it does.
func PodTrouble(p *corev1.Pod) string {
	if p.DeletionTimestamp != nil {
		return "pod " + p.Name + " is being removed"
	}
	why := fmt.Sprintf("pod %s is %s", p.Name, strings.ToLower(string(p.Status.Phase)))
	for _, s := range p.Status.ContainerStatuses {
		if w := s.State.Waiting; w != nil {
			why += fmt.Sprintf(": %s %s", w.Reason, w.Message)
		}
	}
	for _, c := range p.Status.Conditions {
		switch {
		case c.Type == corev1.PodReady && c.Status == corev1.ConditionTrue:
			return ""
		case c.Type == corev1.PodScheduled && c.Status != corev1.ConditionTrue:
			why += ": " + c.Message
		}
	}
	return strings.TrimSpace(why)
}

// PodsOn lists the pods of a node.
func (c *Client) PodsOn(ctx context.Context, node string) ([]corev1.Pod, error) {
	l, err := c.CoreV1().Pods("").List(ctx, metav1.ListOptions{FieldSelector: "spec.nodeName=" + node})
	if err != nil {
		return nil, err
	}
	return l.Items, nil
}
