package nodeconf_test

import (
	"testing"

	"verbund/internal/core/nodeconf"
)

// FuzzRecord reads the record of a machine with a past of whatever kind.
func FuzzRecord(f *testing.F) {
	f.Add([]byte("cluster: tidewatch\nmachine: m\nfiles: [/etc/hosts]\ndigests: {/etc/hosts: \"00\"}\n"))
	f.Add([]byte("cluster: {}\n"))
	f.Add([]byte("cluster: &a [*a]\n"))
	f.Add([]byte("cluster: x\nfiles: {a: b}\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		o := nodeconf.ReadRecord(b)
		if o != nil && o.Cluster == "" {
			t.Error("an owner without a name")
		}
		o.Wrote("/etc/hosts", "00")
	})
}
