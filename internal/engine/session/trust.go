package session

import (
	"encoding/pem"
	"errors"
	"maps"

	"golang.org/x/crypto/ssh"

	"verbund/internal/core/trust"
	"verbund/internal/store"
)

// ChangeTrust saves what is added and what goes, and lets every step see it.
func (s *Session) ChangeTrust(t, add *store.Trust, gone ...string) error {
	if err := s.Store.SaveTrust(add, gone...); err != nil {
		return err
	}
	s.SeeTrust(t, add, gone...)
	return nil
}

// SeeTrust lets every step see what was saved.
func (s *Session) SeeTrust(t, add *store.Trust, gone ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.trust != nil {
		t = s.trust
	}
	next := &store.Trust{Keys: maps.Clone(t.Keys), Certs: maps.Clone(t.Certs)}
	for _, id := range gone {
		delete(next.Keys, id)
		delete(next.Certs, id)
	}
	maps.Copy(next.Keys, add.Keys)
	maps.Copy(next.Certs, add.Certs)
	s.trust = next
}

// Login is the ID of the key with which the tool logs in to the site's machines.
const Login = "tool/login"

// Trust reads the cluster's keys and certificates, once.
func (s *Session) Trust() (*store.Trust, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.trust == nil {
		t, err := s.Store.Trust()
		if err != nil {
			return nil, err
		}
		s.trust = t
	}
	return s.trust, nil
}

// Hold lets every step see keys and certificates that were saved, in place of those that
// were read before.
func (s *Session) Hold(t *store.Trust) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.trust = t
}

// ErrNoTrust says that certificates have not been made yet.
var ErrNoTrust = errors.New("the cluster has no certificates yet; converge or render makes them")

// Signer is the key with which the tool logs in.
func (s *Session) Signer() (ssh.Signer, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	if t.Keys[Login] == nil {
		return nil, ErrNoTrust
	}
	k, err := trust.DecodeKey(t.Keys[Login])
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(k)
}

// LoginKey is the private key with which one logs in to the machines, in the
// form that the ordinary ssh client reads.
func (s *Session) LoginKey() ([]byte, error) {
	t, err := s.Trust()
	if err != nil {
		return nil, err
	}
	if t.Keys[Login] == nil {
		return nil, ErrNoTrust
	}
	k, err := trust.DecodeKey(t.Keys[Login])
	if err != nil {
		return nil, err
	}
	b, err := ssh.MarshalPrivateKey(k, "verbund")
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(b), nil
}
