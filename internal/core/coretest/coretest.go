// Package coretest makes clusters for the tests of the core: the same every
// time, of any size.
package coretest

import (
	"fmt"
	"testing/fstest"

	"verbund/internal/core/declare"
	"verbund/internal/core/topology"
	"verbund/internal/core/versions"
)

const siteText = `schema: verbund-site/1
name: estuary
kind: simulated
addresses: 127.80.0.0/16
zones: [{name: north, machines: %[1]d}, {name: south, machines: %[1]d}, {name: island, machines: %[1]d}]
bare: [{hardware: "02:5e:00:00:00:01", zone: south, size: small}]
sizes:
  small: {cpus: 2, memory: 4GiB, disk: 20GiB}
  medium: {cpus: 4, memory: 8GiB, disk: 40GiB}
`

// Read reads any declaration of the site estuary: a wide one, if another has no room for it.
func Read(text string) (*declare.Result, error) {
	const narrow, wide = 30, 4000
	r, err := readAt(text, narrow)
	if err != nil {
		r, err = readAt(text, wide)
	}
	return r, err
}

func readAt(text string, room int) (*declare.Result, error) {
	files := fstest.MapFS{"t.verbund.yaml": {Data: []byte(text)}, "estuary.site.yaml": {Data: fmt.Appendf(nil, siteText, room)}}
	r, err := declare.Read(declare.Input{Files: files, File: "t.verbund.yaml", Shipped: versions.Shipped()})
	if err == nil && r.Findings.Errors() > 0 {
		err = fmt.Errorf("the test's declaration: %v", r.Findings)
	}
	return r, err
}

// Declare works out any declaration of the site estuary.
func Declare(text string, mem topology.Memory) (*topology.Cluster, error) {
	r, err := Read(text)
	if err != nil {
		return nil, err
	}
	return topology.Build(r.Decl, r.Site, versions.Shipped(), mem)
}

// Text declares a cluster with so many control-plane machines and workers.
func Text(kubernetes string, control, workers int) string {
	return fmt.Sprintf(`schema: verbund/1
name: tidewatch
kubernetes: %s
site: estuary
endpoint:
  name: api.tidewatch.test
  balancer: {size: small, forward: [{port: 8080, to: 30080}]}
ranges: {pods: 10.128.0.0/9}
dns: {domain: tidewatch.test}
control: {count: %d, size: medium}
pools:
  - name: gauges
    count: %d
    labels: {work: intake}
    taints: [{key: work, value: intake, effect: NoSchedule}]
    rollout: {batch: 2, patience: 90s}
`, kubernetes, control, workers)
}

// Cluster works out a cluster with so many control-plane machines and workers.
func Cluster(kubernetes string, control, workers int, mem topology.Memory) (*topology.Cluster, error) {
	return Declare(Text(kubernetes, control, workers), mem)
}
