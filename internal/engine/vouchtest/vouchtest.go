// Package vouchtest makes authorities for tests.
package vouchtest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"testing"
	"time"

	"verbund/internal/core/trust"
	"verbund/internal/engine/vouch"
)

// Authorities for the benchmarks.
func Authorities(b testing.TB) map[trust.Authority]*vouch.Authority {
	b.Helper()
	cas := map[trust.Authority]*vouch.Authority{}
	for _, a := range trust.Authorities {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			b.Fatal(err)
		}
		c, err := trust.NewAuthority(a, "tidewatch", 3650*24*time.Hour, k, time.Now(), vouch.Serial())
		if err != nil {
			b.Fatal(err)
		}
		cas[a] = &vouch.Authority{Cert: c, Key: k}
	}
	return cas
}
