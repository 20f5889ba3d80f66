package declare_test

import (
	"fmt"
	"testing/fstest"

	"verbund/internal/core/declare"
	"verbund/internal/core/versions"
)

// From two files to a declaration, with what is wrong with it, and where.
func Example() {
	files := fstest.MapFS{
		"tidewatch.verbund.yaml": {Data: []byte(`schema: verbund/1
name: tidewatch
kubernetes: v1.37.2
site: estuary
endpoint: {name: api.tidewatch.test}
control: {count: 1, size: medium}
pools:
  - {name: gauges, count: 2, size: smal}
`)},
		"estuary.site.yaml": {Data: []byte(`schema: verbund-site/1
name: estuary
kind: simulated
addresses: 127.81.7.0/24
zones: [{name: north, machines: 8}]
sizes:
  small: {cpus: 2, memory: 4GiB, disk: 20GiB}
  medium: {cpus: 4, memory: 8GiB, disk: 40GiB}
`)},
	}
	r, err := declare.Read(declare.Input{Files: files, File: "tidewatch.verbund.yaml", Shipped: versions.Shipped()})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.Decl.Name, r.Decl.Kubernetes)
	for _, f := range r.Findings {
		if f.Severity == declare.Error {
			fmt.Println(f)
		}
	}
	// Output:
	// tidewatch v1.37.2
	// tidewatch.verbund.yaml:8:36: error: site estuary has no size "smal"; did you mean small? [unknown-size]
}
