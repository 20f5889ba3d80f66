package kube

import (
	"context"
	"crypto/rand"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	authv1 "k8s.io/api/authentication/v1"
	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"verbund/internal/core/trust"
)

// Annotations of the Secret of an enrolment token.
const (
	tokenPool    = "verbund.test/pool"
	tokenMachine = "verbund.test/machine"
	tokenLeft    = "verbund.test/uses-left"
)

const tokenPrefix = "bootstrap-token-"

// Token is an enrolment token of the cluster.
type Token struct {
	ID      string    `json:"id"`
	Pool    string    `json:"pool,omitempty"`
	Machine string    `json:"machine,omitempty"`
	Left    int       `json:"left"` // how many machines may still use it
	Issued  time.Time `json:"issued"`
	Ends    time.Time `json:"ends,omitzero"` // zero: never, which is not one of Verbund's
	// Foreign says that somebody else made it: the approval policy takes it for
	// nothing.
	Foreign bool `json:"foreign,omitempty"`
}

// ForDecision is the token as the approval policy sees it.
func (t Token) ForDecision() trust.Token {
	left := t.Left
	if !t.Ends.IsZero() && time.Now().After(t.Ends) {
		left = 0
	}
	return trust.Token{ID: t.ID, Pool: t.Pool, Machine: t.Machine, Left: left}
}

// random is text of so many characters, of those that tokens are made of.
func random(n int) (string, error) {
	const letters = "abcdefghijklmnopqrstuvwxyz0123456789"
	b := make([]byte, n)
	for i := range b {
		k, err := rand.Int(rand.Reader, big.NewInt(int64(len(letters))))
		if err != nil {
			return "", err
		}
		b[i] = letters[k.Int64()]
	}
	return string(b), nil
}

// IssueToken makes an enrolment token for a pool or for one machine. What is
// returned besides it is the only copy of its secret half.
func (c *Client) IssueToken(ctx context.Context, t Token) (Token, string, error) {
	id, err := random(6)
	if err != nil {
		return t, "", err
	}
	secret, err := random(16)
	if err != nil {
		return t, "", err
	}
	t.ID, t.Issued = id, time.Now()
	s := &corev1.Secret{ObjectMeta: metav1.ObjectMeta{Name: tokenPrefix + id, Namespace: "kube-system", Annotations: map[string]string{tokenPool: t.Pool, tokenMachine: t.Machine, tokenLeft: strconv.Itoa(t.Left)}},
		Type: corev1.SecretTypeBootstrapToken, Data: map[string][]byte{
			"token-id": []byte(id), "token-secret": []byte(secret), "expiration": []byte(t.Ends.UTC().Format(time.RFC3339)),
			"usage-bootstrap-authentication": []byte("true"), "auth-extra-groups": []byte(trust.TokenGroup), "description": []byte("enrolment, made by verbund"),
		}}
	_, err = c.CoreV1().Secrets("kube-system").Create(ctx, s, metav1.CreateOptions{})
	return t, id + "." + secret, err
}

// Tokens lists the enrolment tokens, those that end first before the others.
func (c *Client) Tokens(ctx context.Context) ([]Token, error) {
	l, err := c.CoreV1().Secrets("kube-system").List(ctx, metav1.ListOptions{FieldSelector: "type=" + string(corev1.SecretTypeBootstrapToken)})
	if err != nil {
		return nil, err
	}
	out := []Token{}
	for _, s := range l.Items {
		t := Token{ID: strings.TrimPrefix(s.Name, tokenPrefix), Pool: s.Annotations[tokenPool], Machine: s.Annotations[tokenMachine], Issued: s.CreationTimestamp.Time}
		left, err := strconv.Atoi(s.Annotations[tokenLeft])
		t.Left, t.Foreign = left, err != nil
		if e := string(s.Data["expiration"]); e != "" {
			// One whose end cannot be read is let in by nobody, and is none of ours.
			if t.Ends, err = time.Parse(time.RFC3339, e); err != nil {
				t.Foreign, t.Left = true, 0
			}
		}
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b Token) int { return a.Ends.Compare(b.Ends) })
	return out, nil
}

// RevokeToken takes a token away; nothing can be asked for with it any more.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	err := c.CoreV1().Secrets("kube-system").Delete(ctx, tokenPrefix+id, metav1.DeleteOptions{})
	if apierrors.IsNotFound(err) {
		return fmt.Errorf("there is no token %s; token list shows those that there are: %w", id, err)
	}
	return err
}

// UseToken counts one use of a token.
func (c *Client) UseToken(ctx context.Context, id string) error {
	for {
		s, err := c.CoreV1().Secrets("kube-system").Get(ctx, tokenPrefix+id, metav1.GetOptions{})
		if err != nil {
			return err
		}
		left, err := strconv.Atoi(s.Annotations[tokenLeft])
		if err != nil || left < 1 {
			return fmt.Errorf("token %s is used up", id)
		}
		s.Annotations[tokenLeft] = strconv.Itoa(left - 1)
		if _, err = c.CoreV1().Secrets("kube-system").Update(ctx, s, metav1.UpdateOptions{}); !apierrors.IsConflict(err) {
			return err
		}
	}
}

// ServiceAccountToken has the API sign a token of an account, for ten minutes.
func (c *Client) ServiceAccountToken(ctx context.Context, namespace, name string) (string, error) {
	life := int64(600)
	t, err := c.CoreV1().ServiceAccounts(namespace).CreateToken(ctx, name, &authv1.TokenRequest{Spec: authv1.TokenRequestSpec{ExpirationSeconds: &life}}, metav1.CreateOptions{})
	if err != nil {
		return "", err
	}
	return t.Status.Token, nil
}
