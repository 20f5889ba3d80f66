package balancer

import "testing"

// FuzzParse reads configurations of any form.
func FuzzParse(f *testing.F) {
	f.Add("global\n    maxconn 1\ndefaults\n    timeout connect 2s\nfrontend a\n    bind 127.0.0.1:1\n    default_backend b\nbackend b\n    server s 127.0.0.1:2 check weight 1\n")
	f.Add("frontend\nbind\nbackend\nserver\n")
	f.Add("    timeout client\n")
	f.Fuzz(func(t *testing.T, text string) {
		if c, err := parse(text, "haproxy.cfg"); err == nil && c == nil {
			t.Error("neither a configuration nor an error")
		}
	})
}
