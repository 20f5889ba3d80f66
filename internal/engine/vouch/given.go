package vouch

import (
	"crypto/x509"
	"encoding/hex"
	"slices"

	"verbund/internal/core/memory"
)

// BreakGlassGroup is the group whose members every API server lets do everything.
const BreakGlassGroup = "system:masters"

// GivenBy is what is remembered of a certificate that a person gets.
func GivenBy(x *x509.Certificate) memory.Given {
	g := memory.Given{Name: x.Subject.CommonName, Groups: x.Subject.Organization, From: x.NotBefore, Until: x.NotAfter, Serial: x.SerialNumber.Text(16), Authority: hex.EncodeToString(x.AuthorityKeyId), Kind: "person"}
	if slices.Contains(g.Groups, BreakGlassGroup) {
		g.Kind = "break-glass"
	}
	return g
}
