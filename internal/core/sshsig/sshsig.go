package sshsig

import (
	"bytes"
	"crypto"
	_ "crypto/sha256" // the hashes of the format
	_ "crypto/sha512"
	"encoding/pem"
	"errors"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"
)

const (
	magic   = "SSHSIG"
	version = 1
	armour  = "SSH SIGNATURE"
)

// hashes are those of the format.
var hashes = map[string]crypto.Hash{"sha256": crypto.SHA256, "sha512": crypto.SHA512}

// blob is a signature as it lies in its armour, behind the magic.
type blob struct {
	Version   uint32
	PublicKey string
	Namespace string
	Reserved  string
	Hash      string
	Signature string
}

// signed is what is signed, behind the magic.
type signed struct {
	Namespace string
	Reserved  string
	Hash      string
	Digest    string
}

func toBeSigned(namespace, reserved, hash string, message []byte) ([]byte, error) {
	h, ok := hashes[hash]
	if !ok {
		return nil, fmt.Errorf("its hash %q is none of the format", hash)
	}
	d := h.New()
	d.Write(message)
	return append([]byte(magic), ssh.Marshal(signed{namespace, reserved, hash, string(d.Sum(nil))})...), nil
}

// Sign signs a text for a purpose, its namespace, which is not empty: what was signed for one counts
// for no other. RSA keys sign with SHA-512.
func Sign(random io.Reader, s ssh.Signer, namespace string, message []byte) ([]byte, error) {
	b, err := toBeSigned(namespace, "", "sha512", message)
	if err != nil {
		return nil, err
	}
	var sig *ssh.Signature
	if a, ok := s.(ssh.AlgorithmSigner); ok && s.PublicKey().Type() == ssh.KeyAlgoRSA {
		sig, err = a.SignWithAlgorithm(random, b, ssh.KeyAlgoRSASHA512)
	} else {
		sig, err = s.Sign(random, b)
	}
	if err != nil {
		return nil, err
	}
	out := append([]byte(magic), ssh.Marshal(blob{version, string(s.PublicKey().Marshal()), namespace, "", "sha512", string(ssh.Marshal(sig))})...)
	return pem.EncodeToMemory(&pem.Block{Type: armour, Bytes: out}), nil
}

// Verify returns the key that has signed a text for a purpose.
func Verify(signature []byte, namespace string, message []byte) (ssh.PublicKey, error) {
	p, _ := pem.Decode(signature)
	if p == nil || p.Type != armour || !bytes.HasPrefix(p.Bytes, []byte(magic)) {
		return nil, errors.New("it is no SSH signature")
	}
	var b blob
	if err := ssh.Unmarshal(p.Bytes[len(magic):], &b); err != nil {
		return nil, fmt.Errorf("it is no SSH signature: %w", err)
	}
	if b.Version != version {
		return nil, fmt.Errorf("it has version %d of the format, and %d is known", b.Version, version)
	}
	if b.Namespace != namespace {
		return nil, fmt.Errorf("it was signed for %q, and not for %q", b.Namespace, namespace)
	}
	key, err := ssh.ParsePublicKey([]byte(b.PublicKey))
	if err != nil {
		return nil, fmt.Errorf("its key: %w", err)
	}
	var sig ssh.Signature
	if err := ssh.Unmarshal([]byte(b.Signature), &sig); err != nil {
		return nil, fmt.Errorf("its signature: %w", err)
	}
	// The format takes no SHA-1, which a key of type ssh-rsa would be signed with (RFC 8332).
	if sig.Format == ssh.KeyAlgoRSA {
		return nil, errors.New("it is signed with SHA-1")
	}
	text, err := toBeSigned(b.Namespace, b.Reserved, b.Hash, message)
	if err != nil {
		return nil, err
	}
	if err := key.Verify(text, &sig); err != nil {
		return nil, fmt.Errorf("it is not of this text: %w", err)
	}
	return key, nil
}
