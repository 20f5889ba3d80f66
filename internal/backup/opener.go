package backup

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"filippo.io/age"
)

// openerType marks the stanza of a backup's header that holds what opens it (age's format,
// c2sp.org/age: who does not know a type passes over it).
const openerType = "verbund.test/opener"

// Opener is a recipient by which what opens a backup travels inside it: an identity, closed for
// whoever opens the store. So the key of the store is enough, wherever a copy lies, whatever the
// store is closed with: a passphrase cannot stand beside other recipients by itself.
func Opener(closed []byte) age.Recipient { return opener(closed) }

type opener []byte

func (o opener) Wrap([]byte) ([]*age.Stanza, error) {
	return []*age.Stanza{{Type: openerType, Body: o}}, nil
}

// Inside is an identity that opens what travels inside with one of those that open the store, and
// the backup with that.
func Inside(with ...age.Identity) age.Identity { return inside(with) }

type inside []age.Identity

func (in inside) Unwrap(stanzas []*age.Stanza) ([]byte, error) {
	if len(in) == 0 {
		return nil, age.ErrIncorrectIdentity
	}
	for _, s := range stanzas {
		if s.Type != openerType {
			continue
		}
		ids, err := Identities(s.Body, in...)
		if err != nil {
			continue // it is closed for somebody else
		}
		for _, id := range ids {
			if key, err := id.Unwrap(stanzas); !errors.Is(err, age.ErrIncorrectIdentity) {
				return key, err
			}
		}
	}
	return nil, age.ErrIncorrectIdentity
}

// Identities opens identities that were closed for somebody.
func Identities(closed []byte, with ...age.Identity) ([]age.Identity, error) {
	r, err := age.Decrypt(bytes.NewReader(closed), with...)
	if err != nil {
		return nil, fmt.Errorf("opening what opens the backup: %w", err)
	}
	return age.ParseIdentities(io.LimitReader(r, mostText))
}
