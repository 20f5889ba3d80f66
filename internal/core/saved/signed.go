package saved

import (
	"bytes"
	"fmt"
	"maps"
	"slices"

	"golang.org/x/crypto/ssh"

	"verbund/internal/core/sshsig"
)

// Signatures are detached ones of a plan's file, by the names of theirs.
type Signatures map[string][]byte

// Signers are whose signatures count: names by their SSH public keys, as in an authorized_keys file.
type Signers map[string]string

// Approved says who has signed a plan's bytes, each once, and what else lies there that counts for
// nobody.
func Approved(text []byte, sigs Signatures, who Signers) (names, worthless []string) {
	known := map[string]string{}
	for key, name := range who {
		if p, _, _, _, err := ssh.ParseAuthorizedKey([]byte(key)); err == nil {
			known[string(p.Marshal())] = name
		}
	}
	has := map[string]bool{}
	for _, file := range slices.Sorted(maps.Keys(sigs)) {
		key, err := sshsig.Verify(sigs[file], Namespace, text)
		if err != nil {
			worthless = append(worthless, fmt.Sprintf("%s: %v", file, err))
			continue
		}
		name, ok := known[string(key.Marshal())]
		if !ok {
			worthless = append(worthless, fmt.Sprintf("%s: it is signed with %s, the key of nobody who opens the store", file, ssh.FingerprintSHA256(key)))
			continue
		}
		has[name] = true
	}
	return slices.Sorted(maps.Keys(has)), worthless
}

// Signer is the name of whoever has a key; empty if it counts for nobody.
func (who Signers) Signer(key ssh.PublicKey) string {
	for text, name := range who {
		if p, _, _, _, err := ssh.ParseAuthorizedKey([]byte(text)); err == nil && bytes.Equal(p.Marshal(), key.Marshal()) {
			return name
		}
	}
	return ""
}
