package session

import (
	"errors"
	"fmt"
	"net"
	"os"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"verbund/internal/core/declare"
	"verbund/internal/machine"
	"verbund/internal/whole"
)

// ErrNoKey says that there is nothing to log in with to the machines of a list.
var ErrNoKey = errors.New("there is no key to log in with")

// listed completes how a machine of the site's list is reached: as its user, with that
// user's key, and by the host key that a person has confirmed.
func (s *Session) listed(t *machine.Target) error {
	if s.SiteFile == nil || s.SiteFile.Kind != declare.ListedSite {
		return nil
	}
	l, ok := s.SiteFile.ListedAt(t.Address)
	if !ok {
		return fmt.Errorf("%s at %s is not on the list of site %s any more, so that it is not known how one logs in there; list it until it has left the cluster", t.Name, t.Address, s.SiteFile.Name)
	}
	if l.HostKey == "" {
		return fmt.Errorf("nobody logs in to %s at %s, whose host key is not known; verbund site meet asks it, and you", t.Name, t.Address)
	}
	t.Fingerprint, t.User, t.Logins = l.HostKey, l.User, s.logins
	return nil
}

// logins are the keys to log in with: that of the file which the site names, or those of the
// person's SSH agent.
func (s *Session) logins() ([]ssh.Signer, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.keys != nil {
		return s.keys, nil
	}
	if f := s.SiteFile.Key; f != "" {
		b, err := whole.Read(f)
		if err != nil {
			return nil, fmt.Errorf("%w: key of the site file: %w", ErrNoKey, err)
		}
		sg, err := ssh.ParsePrivateKey(b)
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) {
			return nil, fmt.Errorf("%w: %s is locked with a passphrase; hand it to your SSH agent (ssh-add), and take the line key out of the site file", ErrNoKey, f)
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %s: %w", ErrNoKey, f, err)
		}
		s.keys = []ssh.Signer{sg}
		return s.keys, nil
	}
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, fmt.Errorf("%w: no SSH agent runs (SSH_AUTH_SOCK is not set), and the site file names no key", ErrNoKey)
	}
	c, err := net.Dial("unix", socket)
	if err != nil {
		return nil, fmt.Errorf("%w: the SSH agent: %w", ErrNoKey, err)
	}
	keys, err := agent.NewClient(c).Signers()
	if err == nil && len(keys) == 0 {
		err = errors.New("it has none; ssh-add hands it one")
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%w: the SSH agent: %w", ErrNoKey, err), c.Close())
	}
	s.keys, s.keeper = keys, c
	return keys, nil
}
