package machine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"golang.org/x/crypto/ssh"

	"verbund/internal/machine/protocol"
)

// errSeen ends a handshake when the host key was shown.
var errSeen = errors.New("seen")

// HostKey asks whoever answers at an address for its Ed25519 host key, and returns the
// fingerprint. Nobody is logged in, and nothing says that it is the machine that was meant.
func HostKey(ctx context.Context, at netip.AddrPort) (fingerprint string, err error) {
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", at.String())
	if err != nil {
		return "", err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { c.Close() })
	defer stop()
	cfg := &ssh.ClientConfig{Config: protocol.SSHConfig(), User: root, HostKeyAlgorithms: []string{ssh.KeyAlgoED25519},
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			fingerprint = ssh.FingerprintSHA256(key)
			return errSeen
		}}
	_, _, _, err = ssh.NewClientConn(c, at.String(), cfg)
	switch {
	case fingerprint != "":
		return fingerprint, nil
	case ctx.Err() != nil:
		return "", context.Cause(ctx)
	}
	return "", fmt.Errorf("what answers there shows no Ed25519 host key: %w", err)
}
