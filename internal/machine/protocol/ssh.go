package protocol

import (
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
)

// SSHConfig is the cryptography that a machine and its clients speak: what the library
// recommends, and nothing that rests on SHA-1 (RFC 9142 says why for key exchanges).
func SSHConfig() ssh.Config {
	a := ssh.SupportedAlgorithms()
	return ssh.Config{KeyExchanges: withoutSHA1(a.KeyExchanges), Ciphers: a.Ciphers, MACs: withoutSHA1(a.MACs)}
}

// SSHKeyAlgorithms are those with which a login's signature may be made.
func SSHKeyAlgorithms() []string { return withoutSHA1(ssh.SupportedAlgorithms().PublicKeyAuths) }

func withoutSHA1(names []string) []string {
	return slices.DeleteFunc(names, func(n string) bool { return strings.HasSuffix(n, "sha1") || n == ssh.KeyAlgoRSA })
}
