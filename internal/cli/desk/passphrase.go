package desk

import (
	"errors"
	"fmt"
	"strings"

	"verbund/internal/store"
	"verbund/internal/whole"
)

// leastPassphrase is how many characters a passphrase has at least.
const leastPassphrase = 12

// NewPassphrase asks for one twice, or reads it from a file.
func (a *App) NewPassphrase(k *store.Keys, file string) (string, error) {
	text := ""
	if file != "" {
		b, err := whole.Read(file)
		if err != nil {
			return "", err
		}
		text, _, _ = strings.Cut(string(b), "\n")
		text = strings.TrimRight(text, "\r")
	} else {
		if k.Ask == nil {
			return "", errors.New("there is nobody to ask for a passphrase; say --passphrase-file FILE")
		}
		again, err := "", error(nil)
		if text, err = k.Ask("new passphrase"); err == nil {
			again, err = k.Ask("once more")
		}
		if err != nil {
			return "", err
		}
		if again != text {
			return "", errors.New("the two are not the same; nothing was changed")
		}
	}
	if len(text) < leastPassphrase {
		return "", fmt.Errorf("a passphrase has %d characters at least", leastPassphrase)
	}
	return text, nil
}
