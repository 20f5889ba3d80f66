package nodeconf

import (
	"net/netip"
	"strings"

	"verbund/internal/core/topology"
)

// The units that run what a machine's parts need.
const (
	UnitEtcd              = "etcd.service"
	UnitAPIServer         = "kube-apiserver.service"
	UnitControllerManager = "kube-controller-manager.service"
	UnitScheduler         = "kube-scheduler.service"
	UnitCarrier           = "endpoint-carrier.service"
	UnitApprover          = "request-approver.service"
	UnitKeeper            = "backup-keeper.service"
	UnitContainerd        = "containerd.service"
	UnitKubelet           = "kubelet.service"
	UnitProxy             = "kube-proxy.service"
	UnitHAProxy           = "haproxy.service"
)

// Health is, by unit of a machine, where its program says that it is well, for those that do
// not tell systemd when they serve, or tell it too early.
func Health(m topology.Machine) map[string]string {
	at := func(scheme string, port int) string {
		return scheme + "://" + netip.AddrPortFrom(m.Address, uint16(port)).String() + "/healthz"
	}
	out := map[string]string{}
	for _, u := range Units(m) {
		switch u {
		case UnitAPIServer:
			// It serves before it has made the roles by which others are let in.
			out[u] = strings.TrimSuffix(at("https", APIPort), "healthz") + "readyz"
		case UnitControllerManager:
			out[u] = at("https", controllerManagerPort)
		case UnitScheduler:
			out[u] = at("https", schedulerPort)
		case UnitProxy:
			out[u] = at("http", ProxyHealthPort)
		}
	}
	return out
}
