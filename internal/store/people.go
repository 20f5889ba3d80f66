package store

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	"filippo.io/age"

	"verbund/internal/backup"
)

// Person is somebody who opens a store with a key of their own, beside whoever it was made for.
type Person struct {
	Name string `json:"name"`
	// Recipient is the public half of the key: an age recipient, or an SSH public key.
	Recipient string `json:"recipient"`
}

var personForm = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._@-]{0,63}$`)

// recipients are all that can open a store.
func (s *Store) recipients(p Protection) ([]age.Recipient, error) {
	to, err := s.keeper.Recipients(p)
	if err != nil {
		return nil, err
	}
	var texts []string
	for _, w := range p.People {
		texts = append(texts, w.Recipient)
	}
	people, err := backup.Recipients(texts)
	return append(to, people...), err
}

// Admit lets somebody open the store, and the backups, with a key of their own from now on.
func (s *Store) Admit(w Person) error {
	if !personForm.MatchString(w.Name) {
		return fmt.Errorf("%q is no name of a person here: letters, digits, dots, hyphens and @", w.Name)
	}
	w.Recipient = strings.TrimSpace(w.Recipient)
	if _, err := backup.Recipients([]string{w.Recipient}); err != nil {
		return err
	}
	p, key, opener, err := s.unlocked()
	if err != nil {
		return err
	}
	if p.Kind == ByPassphrase {
		return errors.New("it is protected with a passphrase, beside which nothing else can open it; verbund store protect --key-file or --ssh-key FILE first")
	}
	for _, o := range p.People {
		if o.Name == w.Name {
			return fmt.Errorf("%s is admitted already, with %s", o.Name, o.Recipient)
		}
	}
	np := *p
	np.People = append(slices.Clone(p.People), w)
	to, err := s.recipients(np)
	if err == nil {
		np.Wrapped, err = wrap(key, to)
	}
	if err != nil {
		return err
	}
	err = s.base.update(func(t *tx) error {
		now, err := protectionOf(t)
		if err == nil && !bytes.Equal(now.Wrapped, p.Wrapped) {
			err = errClosedAnew
		}
		return errors.Join(err, t.protect(np))
	})
	if err != nil {
		return err
	}
	s.opened(key, np)
	return s.closeAgain(opener)
}

// Dismiss has somebody's key open nothing any more: the secrets are closed with another key, and
// backups from now on open with another identity. What they have read they know.
func (s *Store) Dismiss(name string) error {
	p, key, opener, err := s.unlocked()
	if err != nil {
		return err
	}
	np := *p
	np.People = slices.DeleteFunc(slices.Clone(p.People), func(w Person) bool { return w.Name == name })
	if len(np.People) == len(p.People) {
		return fmt.Errorf("nobody is admitted by the name of %s", name)
	}
	if err := s.rewrite(p, key, np); err != nil {
		return err
	}
	if opener == nil {
		return nil
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return err
	}
	return s.closeAside(append(openerText(id), opener...))
}

// unlocked is how a store is closed, with its key and what opens the backups, if there is that.
func (s *Store) unlocked() (p *Protection, key, opener []byte, err error) {
	if p, err = s.Protection(); err != nil {
		return nil, nil, nil, err
	}
	if p == nil {
		return nil, nil, nil, fmt.Errorf("the store %s: %w", s.Where(), os.ErrNotExist)
	}
	if key, err = s.unlock(p); err != nil {
		return nil, nil, nil, err
	}
	opener, err = s.openAside(p)
	return p, key, opener, err
}

// closeAgain closes what opens the backups for all who open the store.
func (s *Store) closeAgain(opener []byte) error {
	if opener == nil {
		return nil
	}
	return s.closeAside(opener)
}
