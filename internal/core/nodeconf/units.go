package nodeconf

// The units that run what a machine's parts need.
const (
	UnitEtcd              = "etcd.service"
	UnitAPIServer         = "kube-apiserver.service"
	UnitControllerManager = "kube-controller-manager.service"
	UnitScheduler         = "kube-scheduler.service"
	UnitCarrier           = "endpoint-carrier.service"
	UnitApprover          = "request-approver.service"
	UnitContainerd        = "containerd.service"
	UnitKubelet           = "kubelet.service"
	UnitProxy             = "kube-proxy.service"
	UnitHAProxy           = "haproxy.service"
)
