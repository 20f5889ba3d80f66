// Package approver approves what kubelets ask to be signed, on the
// control-plane machines: a small unit of our own, one of which decides at a
// time. It knows the nodes that are expected from a file that is written with
// the rest of the machine's configuration, and approves only what nodes ask for
// themselves. Everything else, and every machine that enrols with a token, it
// leaves to a person with the tool, who can compare keys.
package approver

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/spf13/pflag"
	certv1 "k8s.io/api/certificates/v1"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/client-go/tools/cache"

	"verbund/internal/core/trust"
	"verbund/internal/kubeapi"
	"verbund/internal/unit"
)

// config is the approver's file; docs/protocols.md describes it.
type config struct {
	Kubeconfig string `json:"kubeconfig"`
	Nodes      string `json:"nodes"`
	Holder     string `json:"holder"`
}

type approver struct {
	m    unit.Machine
	cfg  config
	c    *kubeapi.Clients
	left map[string]string // requests that it left alone, and why
}

// Run is the unit's program.
func Run(ctx context.Context, m unit.Machine, args []string) error {
	fs := pflag.NewFlagSet("request-approver", pflag.ContinueOnError)
	fs.SetOutput(io.Discard)
	file := fs.String("config", "", "")
	if err := fs.Parse(args); err != nil {
		return unit.Usage(err)
	}
	a := &approver{m: m, left: map[string]string{}}
	b, err := m.ReadFile(*file)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, &a.cfg); err != nil {
		return unit.Usage(fmt.Errorf("%s: %w", *file, err))
	}
	if _, err := a.nodes(); err != nil {
		return err
	}
	if a.c, err = unit.Client(m, a.cfg.Kubeconfig); err != nil {
		return err
	}
	m.Ready()
	return unit.Lead(ctx, m, a.c.CoordinationV1().Leases("kube-system"), "verbund-request-approver", a.cfg.Holder, unit.Term{Lease: 6 * time.Second, Renew: 4 * time.Second, Retry: time.Second}, a.work)
}

// nodes reads who is expected, as it is now.
func (a *approver) nodes() ([]trust.ExpectedNode, error) {
	b, err := a.m.ReadFile(a.cfg.Nodes)
	if err != nil {
		return nil, err
	}
	var ns []trust.ExpectedNode
	if err := json.Unmarshal(b, &ns); err != nil {
		return nil, fmt.Errorf("%s: %w", a.cfg.Nodes, err)
	}
	return ns, nil
}

// work decides for as long as it holds the lease.
func (a *approver) work(ctx context.Context) {
	i := a.c.CertificatesV1().CertificateSigningRequests().Cache()
	poke := make(chan struct{}, 1)
	tap := func() {
		select {
		case poke <- struct{}{}:
		default:
		}
	}
	i.AddEventHandler(cache.ResourceEventHandlerFuncs{AddFunc: func(any) { tap() }, UpdateFunc: func(any, any) { tap() }})
	kubeapi.Run(ctx, i)
	// What did not fit a moment ago may fit now: somebody declared the node.
	tick := time.NewTicker(2 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-poke:
		case <-tick.C:
		}
		for _, o := range i.GetStore().List() {
			a.decide(ctx, o.(*certv1.CertificateSigningRequest).DeepCopy())
		}
	}
}

// decide approves one request, or leaves it alone and says so once.
func (a *approver) decide(ctx context.Context, csr *certv1.CertificateSigningRequest) {
	if len(csr.Status.Conditions) > 0 || csr.Spec.SignerName != trust.KubeletClientSigner && csr.Spec.SignerName != trust.KubeletServingSigner {
		return
	}
	nodes, err := a.nodes()
	if err != nil {
		a.m.Logf("who is expected: %v", err)
		return
	}
	var usages []string
	for _, u := range csr.Spec.Usages {
		usages = append(usages, string(u))
	}
	d := trust.Decide(trust.Asked{Signer: csr.Spec.SignerName, User: csr.Spec.Username, Groups: slices.Clone(csr.Spec.Groups), Usages: usages, PEM: csr.Spec.Request}, nodes, nil, nil)
	if !d.Approve {
		if a.left[csr.Name] != d.Why {
			a.left[csr.Name] = d.Why
			a.m.Logf("left alone %s for %s: %s", csr.Name, csr.Spec.SignerName, d.Why)
		}
		return
	}
	csr.Status.Conditions = append(csr.Status.Conditions, certv1.CertificateSigningRequestCondition{Type: certv1.CertificateApproved, Status: "True", Reason: "ExpectedNode", Message: d.Why})
	if _, err := a.c.CertificatesV1().CertificateSigningRequests().UpdateApproval(ctx, csr.Name, csr, metav1.UpdateOptions{}); err != nil {
		a.m.Logf("approving %s: %v", csr.Name, err)
		return
	}
	a.m.Logf("approved %s of node %s for %s: %s", csr.Name, d.Node, csr.Spec.SignerName, d.Why)
}
