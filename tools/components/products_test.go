package main

import "testing"

func TestUpstream(t *testing.T) {
	for in, want := range map[string]string{"2.6.12-1+deb12u2": "v2.6.12", "1:1.1.5+ds1-1": "v1.1.5", "3.0.1": "v3.0.1", "2.6": "", "": ""} {
		if got, err := upstream(in); got != want || (err == nil) != (want != "") {
			t.Errorf("%q: %q, %v", in, got, err)
		}
	}
}

// Every artefact that a catalogue's set must pin is among the products.
func TestProducts(t *testing.T) {
	s := &set{Kubernetes: "v1.37.2", Etcd: "v3.7.3", DNS: "v1.14.5", Fairway: "v2.3.1", Containerd: "v2.4.2"}
	have := map[string]bool{}
	for _, p := range products(s) {
		if p.debian == "" && (p.version == "" || len(p.packages) == 0) {
			t.Errorf("%+v", p)
		}
		have[p.name] = true
		// An image is started by the program of its name.
		if p.debian == "" && nameOf(p, p.packages[0]) != p.name {
			t.Errorf("the program of %s is called %s", p.name, nameOf(p, p.packages[0]))
		}
	}
	for _, n := range []string{"etcd", "kube-apiserver", "kube-controller-manager", "kube-scheduler", "endpoint-carrier", "request-approver", "containerd", "kubelet", "kube-proxy", "haproxy", "fairway", "coredns", "pause", "witness"} {
		if !have[n] {
			t.Errorf("%s is not built", n)
		}
	}
}
