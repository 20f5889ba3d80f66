package trust

import (
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"verbund/internal/core/topology"
)

// The signers of Kubernetes for what kubelets ask for.
const (
	KubeletClientSigner  = "kubernetes.io/kube-apiserver-client-kubelet"
	KubeletServingSigner = "kubernetes.io/kubelet-serving"
)

// TokenGroup is the group that enrolment tokens of Verbund give, and the
// beginning of the name of whoever uses one; the token's ID follows it.
const (
	TokenGroup = "system:bootstrappers:verbund"
	TokenUser  = "system:bootstrap:"
)

// TokenForm is the form of an enrolment token: its ID, and its secret half
// (Kubernetes, "Authenticating with Bootstrap Tokens").
var TokenForm = regexp.MustCompile(`^([a-z0-9]{6})\.([a-z0-9]{16})$`)

// ExpectedNode is a node that the declaration expects, as approvers are told
// of it.
type ExpectedNode struct {
	Name      string       `json:"name"`
	Addresses []netip.Addr `json:"addresses"`
	Pool      string       `json:"pool,omitempty"`
	ByToken   bool         `json:"byToken,omitempty"`
}

// ExpectedNodes lists every node of a cluster.
func ExpectedNodes(c *topology.Cluster) []ExpectedNode {
	out := []ExpectedNode{}
	for _, m := range c.Machines {
		if m.IsNode() {
			out = append(out, ExpectedNode{m.Name, []netip.Addr{m.Address}, m.Pool, m.ByToken})
		}
	}
	return out
}

// Asked is a certificate request of the cluster.
type Asked struct {
	Signer string
	User   string   // who asked
	Groups []string // of who asked
	Usages []string
	PEM    []byte // PKCS #10
}

// Token is an enrolment token, as far as a decision needs it.
type Token struct {
	ID      string
	Pool    string // for machines of this pool
	Machine string // for this machine alone
	Left    int    // how many machines may still use it
}

// Decision is what the policy says of a request.
type Decision struct {
	Approve bool
	// Node is the node that the request is for, as far as it can be told.
	Node string
	// Enrols says that a token was used, which counts.
	Enrols bool
	// NeedsKey says that everything fits but for one thing: the machine has to
	// show that the key is its own.
	NeedsKey bool
	Why      string
}

// Decide is the approval policy: a request is approved only if its signer, subject, groups,
// usages and every name and address match a node that is expected right now; and if its key
// is proven to be the node's, either since the node itself asked, or since the machine
// shows the key over a connection of its own. shown is that key, or nil when nobody looked.
// Everything else waits for a person. It is long because it is a policy, one rule after the
// other.
func Decide(a Asked, nodes []ExpectedNode, tokens []Token, shown crypto.PublicKey) Decision {
	no := func(node, format string, args ...any) Decision {
		return Decision{Node: node, Why: fmt.Sprintf(format, args...)}
	}
	var wanted []string
	switch a.Signer {
	case KubeletClientSigner:
		wanted = []string{"client auth", "digital signature"}
	case KubeletServingSigner:
		wanted = []string{"digital signature", "server auth"}
	default:
		return no("", "nobody here decides on signer %s", a.Signer)
	}
	block, _ := pem.Decode(a.PEM)
	if block == nil || block.Type != "CERTIFICATE REQUEST" {
		return no("", "it holds no certificate request")
	}
	q, err := x509.ParseCertificateRequest(block.Bytes)
	if err == nil {
		err = q.CheckSignature()
	}
	if err != nil {
		return no("", "its request cannot be read, or is not signed with its own key: %v", err)
	}
	name, isNode := strings.CutPrefix(q.Subject.CommonName, "system:node:")
	if !isNode || !slices.Equal(q.Subject.Organization, []string{"system:nodes"}) || len(q.Subject.Names) != 2 {
		return no("", "its subject %q is not that of a node", q.Subject)
	}
	i := slices.IndexFunc(nodes, func(n ExpectedNode) bool { return n.Name == name })
	if i < 0 {
		return no(name, "no node %s is declared", name)
	}
	node := nodes[i]
	if u := slices.Sorted(slices.Values(a.Usages)); !slices.Equal(u, wanted) {
		return no(name, "it asks for the usages %s, and a kubelet needs %s", strings.Join(u, ", "), strings.Join(wanted, ", "))
	}
	if len(q.EmailAddresses)+len(q.URIs) > 0 {
		return no(name, "it asks for e-mail addresses or URIs, which no node has")
	}
	if a.Signer == KubeletClientSigner && len(q.DNSNames)+len(q.IPAddresses) > 0 {
		return no(name, "it is for a client, and asks for names")
	}
	for _, n := range q.DNSNames {
		if n != name {
			return no(name, "it asks for the name %s, which is not the node's", n)
		}
	}
	for _, ip := range q.IPAddresses {
		addr, _ := netip.AddrFromSlice(ip)
		if !slices.Contains(node.Addresses, addr.Unmap()) {
			return no(name, "it asks for the address %s, and the node has %v", ip, node.Addresses)
		}
	}
	if a.Signer == KubeletServingSigner && len(q.IPAddresses) == 0 {
		return no(name, "it is for a server, and asks for no address")
	}
	if a.User == "system:node:"+name && slices.Contains(a.Groups, "system:nodes") {
		return Decision{Approve: true, Node: name, Why: "the node asks for itself"}
	}
	if strings.HasPrefix(a.User, "system:node:") {
		return no(name, "node %s asks for a certificate of node %s", strings.TrimPrefix(a.User, "system:node:"), name)
	}
	id, byToken := strings.CutPrefix(a.User, TokenUser)
	switch {
	case !byToken || a.Signer != KubeletClientSigner:
		return no(name, "%s asks, who is neither the node nor has an enrolment token", a.User)
	case !node.ByToken:
		return no(name, "node %s is not one that enrols by token", name)
	}
	ti := slices.IndexFunc(tokens, func(t Token) bool { return t.ID == id })
	switch {
	case ti < 0:
		return no(name, "token %s is not known, or was revoked", id)
	case tokens[ti].Left < 1:
		return no(name, "token %s is used up", id)
	case tokens[ti].Machine != "" && tokens[ti].Machine != name:
		return no(name, "token %s is for machine %s", id, tokens[ti].Machine)
	case tokens[ti].Machine == "" && tokens[ti].Pool != node.Pool:
		return no(name, "token %s is for pool %s", id, tokens[ti].Pool)
	case shown == nil:
		return Decision{Node: name, Enrols: true, NeedsKey: true, Why: "its key was not compared with the one that machine " + name + " shows"}
	}
	if !samePublic(q.PublicKey, shown) {
		return no(name, "its key is not the one that machine %s shows: somebody else asks", name)
	}
	return Decision{Approve: true, Node: name, Enrols: true, Why: "machine " + name + " shows the same key"}
}
