package backup

import (
	"fmt"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
)

// Recipients reads who can open what is closed for them: age recipients, or SSH public keys.
func Recipients(texts []string) ([]age.Recipient, error) {
	var out []age.Recipient
	for _, t := range texts {
		var r age.Recipient
		var err error
		if strings.HasPrefix(t, "ssh-") {
			r, err = agessh.ParseRecipient(t)
		} else {
			r, err = age.ParseX25519Recipient(t)
		}
		if err != nil {
			return nil, fmt.Errorf("%q opens nothing: %w", t, err)
		}
		out = append(out, r)
	}
	return out, nil
}
