package trust

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strings"
)

// SecretsConfig writes how API servers encrypt Secrets before they reach the
// datastore (Kubernetes' EncryptionConfiguration): with the first key, and
// whatever any of the keys opens can be read. What was written before there was
// a key can be read, too.
func SecretsConfig(keys [][]byte) []byte {
	var b strings.Builder
	b.WriteString("apiVersion: apiserver.config.k8s.io/v1\nkind: EncryptionConfiguration\nresources:\n  - resources: [secrets]\n    providers:\n      - secretbox:\n          keys:\n")
	for _, k := range keys {
		fmt.Fprintf(&b, "            - name: %s\n              secret: %s\n", SecretsKeyName(k), base64.StdEncoding.EncodeToString(k))
	}
	b.WriteString("      - identity: {}\n")
	return []byte(b.String())
}

// SecretsKeyName names a key of Secrets by its digest, so that what a key
// encrypted names it for good.
func SecretsKeyName(key []byte) string {
	sum := sha256.Sum256(key)
	return "key-" + hex.EncodeToString(sum[:6])
}

// SecretsKeys reads the keys of a configuration that SecretsConfig wrote, the one that encrypts
// first.
func SecretsKeys(config []byte) ([][]byte, error) {
	var out [][]byte
	for line := range strings.Lines(string(config)) {
		text, ok := strings.CutPrefix(strings.TrimSpace(line), "secret: ")
		if !ok {
			continue
		}
		key, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(key) != 32 {
			return nil, fmt.Errorf("a key of %d characters is none", len(text))
		}
		out = append(out, key)
	}
	return out, nil
}
