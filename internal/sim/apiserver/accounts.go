package apiserver

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"
	authnv1 "k8s.io/api/authentication/v1"
	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/util/validation/field"

	"verbund/internal/core/trust"
	"verbund/internal/sim/host"
)

// tokens signs and verifies service-account tokens (RFC 7519). Every key of
// the file verifies; a token names its own by a digest.
type tokens struct {
	issuer  string
	signing crypto.Signer
	method  jwt.SigningMethod
	publics map[string]crypto.PublicKey
	longest time.Duration
}

func methodOf(public crypto.PublicKey) (jwt.SigningMethod, error) {
	switch trust.AlgorithmOf(public) {
	case "ecdsa-p256":
		return jwt.SigningMethodES256, nil
	case "ecdsa-p384":
		return jwt.SigningMethodES384, nil
	case "rsa-2048", "rsa-3072", "rsa-4096":
		return jwt.SigningMethodRS256, nil
	}
	return nil, fmt.Errorf("a key of the kind %s cannot sign service-account tokens", trust.AlgorithmOf(public))
}

func loadTokens(h *host.Host, o *options) (*tokens, error) {
	b, err := h.ReadFile(o.saSigningKey)
	if err != nil {
		return nil, err
	}
	k, err := trust.DecodeKey(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", o.saSigningKey, err)
	}
	t := &tokens{issuer: o.issuer, signing: k, publics: map[string]crypto.PublicKey{}, longest: o.maxToken}
	if t.method, err = methodOf(k.Public()); err != nil {
		return nil, fmt.Errorf("%s: %w", o.saSigningKey, err)
	}
	rest, err := h.ReadFile(o.saKey)
	if err != nil {
		return nil, err
	}
	for {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		pub, err := x509.ParsePKIXPublicKey(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", o.saKey, err)
		}
		id, err := trust.KeyName(pub)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", o.saKey, err)
		}
		t.publics[id] = pub
	}
	if len(t.publics) == 0 {
		return nil, fmt.Errorf("%s holds no public key", o.saKey)
	}
	return t, nil
}

// claims are what a service-account token says (Kubernetes, "Schema for service
// account private claims").
type claims struct {
	jwt.RegisteredClaims
	Kubernetes bound `json:"kubernetes.io"`
}

type bound struct {
	Namespace string `json:"namespace"`
	Account   ref    `json:"serviceaccount"`
	Pod       *ref   `json:"pod,omitempty"`
	Secret    *ref   `json:"secret,omitempty"`
	Node      *ref   `json:"node,omitempty"`
}

type ref struct {
	Name string `json:"name"`
	UID  string `json:"uid"`
}

// leastLife is the shortest life that a token can be asked for with.
const leastLife = 10 * time.Minute

// issueToken gives a service account a token: for the audiences that are asked
// for, and for no longer than the object exists that it is bound to.
func (s *server) issueToken(ctx context.Context, r *http.Request, u user, q *request) (runtime.Object, error) {
	t := &authnv1.TokenRequest{}
	if err := into(r, t); err != nil {
		return nil, err
	}
	if err := s.restrictToken(ctx, u, q, t.Spec.BoundObjectRef); err != nil {
		return nil, err
	}
	_, account, _, err := s.load(ctx, q.resource, q.ns, q.name)
	if err != nil {
		return nil, err
	}
	life := time.Hour
	if e := t.Spec.ExpirationSeconds; e != nil {
		at := field.NewPath("spec", "expirationSeconds")
		if life = time.Duration(*e) * time.Second; life < leastLife {
			return nil, apierrors.NewInvalid(authnv1.SchemeGroupVersion.WithKind("TokenRequest").GroupKind(), q.name, field.ErrorList{field.Invalid(at, *e, "may not specify a duration less than 10 minutes")})
		}
	}
	if s.tokens.longest > 0 {
		life = min(life, s.tokens.longest)
	}
	if len(t.Spec.Audiences) == 0 {
		t.Spec.Audiences = []string{s.tokens.issuer}
	}
	c := claims{Kubernetes: bound{Namespace: q.ns, Account: ref{q.name, string(account.GetUID())}}}
	if b := t.Spec.BoundObjectRef; b != nil {
		if err := s.bind(ctx, q.ns, b, &c.Kubernetes); err != nil {
			return nil, err
		}
	}
	end := time.Now().Add(life)
	c.RegisteredClaims = jwt.RegisteredClaims{Issuer: s.tokens.issuer, Subject: "system:serviceaccount:" + q.ns + ":" + q.name, Audience: t.Spec.Audiences,
		ExpiresAt: jwt.NewNumericDate(end), IssuedAt: jwt.NewNumericDate(time.Now()), NotBefore: jwt.NewNumericDate(time.Now())}
	text, err := s.tokens.sign(c)
	t.Status = authnv1.TokenRequestStatus{Token: text, ExpirationTimestamp: metav1.NewTime(end)}
	secs := int64(life / time.Second)
	t.Spec.ExpirationSeconds = &secs
	t.TypeMeta = metav1.TypeMeta{Kind: "TokenRequest", APIVersion: "authentication.k8s.io/v1"}
	return t, err
}

// bind finds the object that a token is to be bound to.
func (s *server) bind(ctx context.Context, ns string, b *authnv1.BoundObjectReference, to *bound) error {
	plural := map[string]string{"Pod": "pods", "Secret": "secrets", "Node": "nodes"}[b.Kind]
	if plural == "" || b.APIVersion != "v1" {
		return apierrors.NewBadRequest(fmt.Sprintf("cannot bind token to object of type %s %s", b.APIVersion, b.Kind))
	}
	res := findResource("", "v1", plural)
	if !res.namespaced {
		ns = ""
	}
	o, m, _, err := s.load(ctx, res, ns, b.Name)
	if err != nil {
		return err
	}
	if p, is := o.(*corev1.Pod); is && p.Spec.ServiceAccountName != to.Account.Name {
		return apierrors.NewBadRequest(fmt.Sprintf("cannot bind token for serviceaccount %q to pod running with different serviceaccount name.", to.Account.Name))
	}
	if b.UID != "" && b.UID != m.GetUID() {
		return apierrors.NewConflict(res.gr(), b.Name, fmt.Errorf("the UID in the bound object reference (%s) does not match the UID in record. The object might have been deleted and then recreated", b.UID))
	}
	r := &ref{b.Name, string(m.GetUID())}
	switch b.Kind {
	case "Pod":
		to.Pod = r
	case "Secret":
		to.Secret = r
	case "Node":
		to.Node = r
	}
	return nil
}

func (t *tokens) sign(c claims) (string, error) {
	tok := jwt.NewWithClaims(t.method, c)
	id, err := trust.KeyName(t.signing.Public())
	if err != nil {
		return "", err
	}
	tok.Header["kid"] = id
	return tok.SignedString(t.signing)
}

// verify reads a token that one of the trusted keys signed, and that is for one of
// the audiences; with none given, for the API itself.
func (t *tokens) verify(text string, audiences []string) (*claims, error) {
	c := &claims{}
	_, err := jwt.ParseWithClaims(text, c, func(tok *jwt.Token) (any, error) {
		id, _ := tok.Header["kid"].(string)
		pub, ok := t.publics[id]
		if !ok {
			return nil, errors.New("no trusted key signed it")
		}
		if m, err := methodOf(pub); err != nil || m != tok.Method {
			return nil, errors.New("it is signed in another way than its key is for")
		}
		return pub, nil
	}, jwt.WithValidMethods([]string{"ES256", "ES384", "RS256"}), jwt.WithIssuer(t.issuer), jwt.WithExpirationRequired())
	if err != nil {
		return nil, fmt.Errorf("bearer token: %w", err)
	}
	if len(audiences) == 0 {
		audiences = []string{t.issuer}
	}
	if !slices.ContainsFunc(audiences, func(a string) bool { return slices.Contains(c.Audience, a) }) {
		return nil, fmt.Errorf("bearer token: it is for the audiences %v, and not for %v", []string(c.Audience), audiences)
	}
	return c, nil
}

// account finds out whose a token is. It ends with its account, and with the
// object that it is bound to.
func (s *server) account(ctx context.Context, text string, audiences []string) (user, error) {
	c, err := s.tokens.verify(text, audiences)
	if err != nil {
		return user{}, err
	}
	p := strings.Split(c.Subject, ":")
	if len(p) != 4 {
		return user{}, errors.New("bearer token: its subject is no service account")
	}
	u := user{name: c.Subject, groups: []string{"system:serviceaccounts", "system:serviceaccounts:" + p[2], "system:authenticated"}, extra: map[string][]string{}}
	k := c.Kubernetes
	if k.Account.UID == "" {
		return u, nil // one of a server before this one, which bound none
	}
	lives := func(plural, ns string, r *ref) error {
		if r == nil {
			return nil
		}
		_, m, _, err := s.load(ctx, findResource("", "v1", plural), ns, r.Name)
		if err == nil && string(m.GetUID()) != r.UID {
			err = errors.New("it is another one by now")
		}
		if err != nil {
			return fmt.Errorf("bearer token: it is bound to %s %s: %w", strings.TrimSuffix(plural, "s"), r.Name, err)
		}
		return nil
	}
	if err := errors.Join(lives("serviceaccounts", k.Namespace, &k.Account), lives("pods", k.Namespace, k.Pod), lives("secrets", k.Namespace, k.Secret), lives("nodes", "", k.Node)); err != nil {
		return user{}, err
	}
	u.uid = k.Account.UID
	if k.Pod != nil {
		u.extra["authentication.kubernetes.io/pod-name"], u.extra["authentication.kubernetes.io/pod-uid"] = []string{k.Pod.Name}, []string{k.Pod.UID}
	}
	return u, nil
}
