package trust_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"fmt"
	"math/big"
	"time"

	"verbund/internal/core/coretest"
	"verbund/internal/core/topology"
	"verbund/internal/core/trust"
)

// From a machine to the certificates that it needs, and from one of these to the certificate.
func Example() {
	c, err := coretest.Cluster("v1.37.2", 1, 1, topology.Memory{})
	if err != nil {
		fmt.Println(err)
		return
	}
	m, _ := c.Machine("tidewatch-gauges-1")
	rs := trust.Requests(c, m)
	for _, r := range rs {
		fmt.Println(r.ID, "of", r.Authority)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		fmt.Println(err)
		return
	}
	now := time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	ca, err := trust.NewAuthority(trust.Cluster, c.Name, 10*365*24*time.Hour, key, now, big.NewInt(1))
	if err != nil {
		fmt.Println(err)
		return
	}
	cert, err := trust.Sign(rs[0], key.Public(), ca, key, now, big.NewInt(2))
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(cert.Subject, "signed by", cert.Issuer.CommonName)
	// Output:
	// tidewatch-gauges-1/proxy of cluster-authority
	// tidewatch-gauges-1/kubelet-client of cluster-authority
	// CN=system:kube-proxy signed by tidewatch cluster-authority
}
