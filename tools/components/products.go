package main

import (
	"context"
	"fmt"
	"strings"
)

// product is one artefact and where its programs come from.
type product struct {
	name, version string
	module        string   // published, at its version; empty for programs of this repository
	packages      []string // built from it
	flags         []string // of the linker
	staged        bool     // its parts are modules of their own, of the same release
	debian        string   // package whose program it is
	program       string   // within that package
	found         func(context.Context) (string, error)
	rename        string // what the program is called in the artefact
}

const kubernetes = "k8s.io/kubernetes"

// products are the artefacts of a set.
func products(s *set) []product {
	var out []product
	minor := strings.Split(strings.TrimPrefix(s.Kubernetes, "v"), ".")[1]
	const at = "k8s.io/component-base/version."
	for _, n := range []string{"kubelet", "kube-proxy", "kube-apiserver", "kube-scheduler", "kube-controller-manager"} {
		out = append(out, product{name: n, version: s.Kubernetes, module: kubernetes, packages: []string{kubernetes + "/cmd/" + n}, staged: true,
			flags: []string{"-X", at + "gitVersion=" + s.Kubernetes, "-X", at + "gitMajor=1", "-X", at + "gitMinor=" + minor}})
	}
	const containerd = "github.com/containerd/containerd/v2"
	return append(out,
		product{name: "etcd", version: s.Etcd, module: "go.etcd.io/etcd/server/v3", packages: []string{"go.etcd.io/etcd/server/v3"}, rename: "etcd"},
		product{name: "containerd", version: s.Containerd, module: containerd, packages: []string{containerd + "/cmd/containerd", containerd + "/cmd/containerd-shim-runc-v2", containerd + "/cmd/ctr"},
			flags: []string{"-X", containerd + "/version.Version=" + s.Containerd}},
		product{name: "coredns", version: s.DNS, module: "github.com/coredns/coredns", packages: []string{"github.com/coredns/coredns"}},
		product{name: "haproxy", debian: "haproxy", program: "usr/sbin/haproxy", found: func(ctx context.Context) (string, error) { return packed(ctx, "haproxy") }},
		product{name: "fairway", version: s.Fairway, packages: []string{"verbund/cmd/fairway"}, flags: []string{"-X", "main.version=" + s.Fairway}},
		product{name: "endpoint-carrier", version: "v1.0.0", packages: []string{"verbund/cmd/verbund"}, rename: "endpoint-carrier"},
		product{name: "backup-keeper", version: "v1.0.0", packages: []string{"verbund/cmd/verbund"}, rename: "backup-keeper"},
		product{name: "request-approver", version: "v1.0.0", packages: []string{"verbund/cmd/verbund"}, rename: "request-approver"},
		product{name: "pause", version: "v1.0.0", packages: []string{"verbund/tools/components/pause"}},
		product{name: "tidetable", version: "1.0", packages: []string{"verbund/tools/components/tidetable"}, flags: []string{"-X", "main.version=1.0"}},
		product{name: "witness", version: "1.0", packages: []string{"verbund/tools/components/tidetable"}, flags: []string{"-X", "main.name=witness"}, rename: "witness"},
		product{name: "tidetable", version: "1.1", packages: []string{"verbund/tools/components/tidetable"}, flags: []string{"-X", "main.version=1.1"}},
	)
}

// upstream is a Debian version as its project counts: v2.6.12 for 2.6.12-1+deb12u2.
func upstream(v string) (string, error) {
	if _, rest, epoch := strings.Cut(v, ":"); epoch {
		v = rest
	}
	v, _, _ = strings.Cut(v, "-")
	v, _, _ = strings.Cut(v, "+")
	if strings.Count(v, ".") != 2 {
		return "", fmt.Errorf("version %q of a package is not of three numbers", v)
	}
	return "v" + v, nil
}
