package apiserver

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	clientv3 "go.etcd.io/etcd/client/v3"
	corev1 "k8s.io/api/core/v1"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/runtime"
	"k8s.io/apimachinery/pkg/util/validation/field"
)

// Addresses and node ports of services are values of ranges, of which each can be had by one
// service. What a request has claimed and its service does not have in the end is given back,
// whatever became of the request; so is what a service had before and has no more.

const rangePrefix = "/registry/ranges/"

// nodePorts are those that services may have.
type nodePorts struct{ first, last int32 }

// customary are those that Kubernetes has unless it is told otherwise.
var customary = nodePorts{30000, 32767}

// claimed are the keys of what a request took, and of what the service had before.
type claimed struct{ fresh, before []string }

type claimsKey struct{}

// claiming notes in a context what is claimed with it.
func claiming(ctx context.Context) (context.Context, *claimed) {
	c := &claimed{}
	return context.WithValue(ctx, claimsKey{}, c), c
}

// keysOf are the keys of what a service has.
func keysOf(s *corev1.Service) []string {
	var out []string
	if ip := s.Spec.ClusterIP; ip != "" && ip != corev1.ClusterIPNone {
		out = append(out, rangePrefix+"addresses/"+ip)
	}
	for _, p := range s.Spec.Ports {
		if p.NodePort != 0 {
			out = append(out, rangePrefix+"ports/"+fmt.Sprint(p.NodePort))
		}
	}
	return out
}

// settle gives back what a request has claimed and its service does not have.
func (s *server) settle(ctx context.Context, c *claimed, o runtime.Object, done bool) {
	give := slices.Clone(c.fresh)
	if svc, ok := o.(*corev1.Service); ok && done {
		has := keysOf(svc)
		give = slices.DeleteFunc(slices.Concat(c.fresh, c.before), func(k string) bool { return slices.Contains(has, k) })
	}
	if len(give) == 0 {
		return
	}
	// Also when whoever asked has left.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	for _, k := range give {
		if done || !s.holds(ctx, k) {
			s.etcd.Delete(ctx, k)
		}
	}
}

// holds says whether the service that claimed a value has it: a write may have been carried out
// of which nobody heard in time.
func (s *server) holds(ctx context.Context, key string) bool {
	r, err := s.etcd.Get(ctx, key)
	if err != nil || len(r.Kvs) == 0 {
		return err != nil
	}
	ns, name, _ := strings.Cut(string(r.Kvs[0].Value), "/")
	o, _, _, err := s.load(ctx, findResource("", "v1", "services"), ns, name)
	if err != nil {
		return !apierrors.IsNotFound(err)
	}
	return slices.Contains(keysOf(o.(*corev1.Service)), key)
}

// claim takes a value out of a range; only one service can have it.
func (s *server) claim(ctx context.Context, kind, value, owner string) bool {
	k := rangePrefix + kind + "/" + value
	r, err := s.etcd.Txn(ctx).If(clientv3.Compare(clientv3.ModRevision(k), "=", 0)).Then(clientv3.OpPut(k, owner)).Else(clientv3.OpGet(k)).Commit()
	if err != nil {
		return false
	}
	if c, ok := ctx.Value(claimsKey{}).(*claimed); ok && r.Succeeded {
		c.fresh = append(c.fresh, k)
	}
	return r.Succeeded || string(r.Responses[0].GetResponseRange().Kvs[0].Value) == owner
}

// takenIn lists what is taken of a range.
func (s *server) takenIn(ctx context.Context, kind string) (map[string]bool, error) {
	prefix := rangePrefix + kind + "/"
	r, err := s.etcd.Get(ctx, prefix, clientv3.WithPrefix(), clientv3.WithKeysOnly())
	if err != nil {
		return nil, fmt.Errorf("etcd: %w", err)
	}
	out := map[string]bool{}
	for _, kv := range r.Kvs {
		out[string(kv.Key[len(prefix):])] = true
	}
	return out, nil
}

// anyOf claims a value that is free, of n of them; each is tried at most once.
func (s *server) anyOf(ctx context.Context, kind, owner string, n int, value func(int) string) (string, error) {
	taken, err := s.takenIn(ctx, kind)
	if err != nil {
		return "", err
	}
	first := rand.IntN(max(n, 1))
	for i := range n {
		v := value((first + i) % n)
		if taken[v] {
			continue
		}
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		if s.claim(ctx, kind, v, owner) {
			return v, nil
		}
	}
	return "", apierrors.NewInternalError(fmt.Errorf("the range of %s is full", kind))
}

// size is how many addresses the services' range has.
func (s *server) size() int { return 1 << min(32-s.services.Bits(), 20) }

// serviceAddress is the n-th address of the services' range.
func (s *server) serviceAddress(n int) netip.Addr {
	b := s.services.Masked().Addr().As4()
	v := uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
	v += uint32(n)
	return netip.AddrFrom4([4]byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)})
}

// lastService is the last address of the services' range, which nobody may have, as the first.
func (s *server) lastService() netip.Addr { return s.serviceAddress(1<<(32-s.services.Bits()) - 1) }

// admitService gives a service its address and its node ports; was is what it had before.
func (s *server) admitService(ctx context.Context, o, was *corev1.Service) error {
	owner := o.Namespace + "/" + o.Name
	if c, ok := ctx.Value(claimsKey{}).(*claimed); ok && was != nil {
		c.before = append(c.before, keysOf(was)...)
	}
	invalid := func(format string, args ...any) error {
		return apierrors.NewInvalid(findResource("", "v1", "services").gvk().GroupKind(), o.Name, field.ErrorList{field.Invalid(field.NewPath("spec", "clusterIPs"), []string{o.Spec.ClusterIP},
			fmt.Sprintf("failed to allocate IP %s: ", o.Spec.ClusterIP)+fmt.Sprintf(format, args...))})
	}
	switch ip, err := netip.ParseAddr(o.Spec.ClusterIP); {
	case o.Spec.ClusterIP == corev1.ClusterIPNone:
	case o.Spec.ClusterIP == "":
		// The head of the range is left to fixed addresses.
		head := min(16, s.size()/2)
		if o.Spec.ClusterIP, err = s.anyOf(ctx, "addresses", owner, s.size()-head-1, func(i int) string { return s.serviceAddress(head + i).String() }); err != nil {
			return err
		}
	case err != nil:
		return invalid("it is no address")
	case !s.services.Contains(ip):
		return invalid("the provided network does not match the current range: %s", s.services)
	case ip == s.services.Masked().Addr() || ip == s.lastService():
		return invalid("provided IP is not in the valid range: the first and the last address of %s are nobody's", s.services)
	case !s.claim(ctx, "addresses", ip.String(), owner):
		return invalid("provided IP is already allocated")
	}
	if o.Spec.ClusterIP != corev1.ClusterIPNone {
		o.Spec.ClusterIPs = []string{o.Spec.ClusterIP}
	}
	for i := range o.Spec.Ports {
		p := &o.Spec.Ports[i]
		if o.Spec.Type == corev1.ServiceTypeClusterIP {
			p.NodePort = 0
			continue
		}
		orText(&o.Spec.ExternalTrafficPolicy, corev1.ServiceExternalTrafficPolicyCluster)
		may := cmp.Or(s.ports, customary)
		if p.NodePort == 0 {
			v, err := s.anyOf(ctx, "ports", owner, int(may.last-may.first)+1, func(i int) string { return fmt.Sprint(int(may.first) + i) })
			if err != nil {
				return err
			}
			fmt.Sscan(v, &p.NodePort)
			continue
		}
		if p.NodePort < may.first || p.NodePort > may.last || !s.claim(ctx, "ports", fmt.Sprint(p.NodePort), owner) {
			return &apierrors.StatusError{ErrStatus: metav1.Status{Status: metav1.StatusFailure, Code: 422, Reason: metav1.StatusReasonInvalid,
				Message: fmt.Sprintf("Service %q is invalid: node port %d is taken or not within %d-%d", o.Name, p.NodePort, may.first, may.last)}}
		}
	}
	return nil
}

// released gives back what a deleted object had claimed.
func (s *server) released(ctx context.Context, res *resource, o runtime.Object) {
	svc, ok := o.(*corev1.Service)
	if !ok || svc.DeletionTimestamp != nil {
		return
	}
	for _, k := range keysOf(svc) {
		s.etcd.Delete(ctx, k)
	}
}
