package apiserver

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"

	"golang.org/x/crypto/nacl/secretbox"
	"sigs.k8s.io/yaml"

	"verbund/internal/sim/host"
)

// encryptionConfig is the part of Kubernetes' EncryptionConfiguration that the
// stand-in carries out: Secrets, with secretbox and with nothing.
type encryptionConfig struct {
	APIVersion string `json:"apiVersion"`
	Kind       string `json:"kind"`
	Resources  []struct {
		Resources []string `json:"resources"`
		Providers []struct {
			Secretbox *struct {
				Keys []struct {
					Name   string `json:"name"`
					Secret []byte `json:"secret"`
				} `json:"keys"`
			} `json:"secretbox,omitempty"`
			Identity *struct{} `json:"identity,omitempty"`
		} `json:"providers"`
	} `json:"resources"`
}

// boxed begins every value that was encrypted; the key's name and a colon
// follow, as with the real server.
const boxed = "k8s:enc:secretbox:v1:"

type boxKey struct {
	name string
	key  [32]byte
}

// encryption encrypts Secrets with the first key and decrypts with any.
type encryption struct {
	keys  []boxKey
	plain bool // the first provider leaves values as they are
}

func readEncryption(h *host.Host, file string) (*encryption, error) {
	e := &encryption{plain: true}
	if file == "" {
		return e, nil
	}
	b, err := h.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var cfg encryptionConfig
	if err := yaml.UnmarshalStrict(b, &cfg); err != nil {
		return nil, &host.ExitError{Code: 2, Err: fmt.Errorf("%s: %w", file, err)}
	}
	if cfg.Kind != "EncryptionConfiguration" || cfg.APIVersion != "apiserver.config.k8s.io/v1" || len(cfg.Resources) != 1 || len(cfg.Resources[0].Resources) != 1 || cfg.Resources[0].Resources[0] != "secrets" {
		return nil, &host.ExitError{Code: 2, Err: fmt.Errorf("%s: this server encrypts secrets, and nothing else", file)}
	}
	for i, p := range cfg.Resources[0].Providers {
		switch {
		case p.Identity != nil && i == 0:
			return e, nil
		case p.Secretbox != nil:
			e.plain = false
			for _, k := range p.Secretbox.Keys {
				if len(k.Secret) != 32 {
					return nil, &host.ExitError{Code: 2, Err: fmt.Errorf("%s: key %s has %d bytes instead of 32", file, k.Name, len(k.Secret))}
				}
				e.keys = append(e.keys, boxKey{k.Name, [32]byte(k.Secret)})
			}
		}
	}
	return e, nil
}

// seal encrypts what goes to the datastore.
func (e *encryption) seal(res *resource, value []byte) ([]byte, error) {
	if !e.covers(res) || e.plain {
		return value, nil
	}
	var nonce [24]byte
	if _, err := rand.Read(nonce[:]); err != nil {
		return nil, err
	}
	k := e.keys[0]
	return secretbox.Seal(append([]byte(boxed+k.name+":"), nonce[:]...), value, &nonce, &k.key), nil
}

func (e *encryption) covers(res *resource) bool {
	return e != nil && res.group == "" && res.plural == "secrets" && len(e.keys) > 0
}

// stale says whether a stored value would be written another way today: then
// an update that changes nothing is carried out all the same.
func (e *encryption) stale(res *resource, value []byte) bool {
	return e.covers(res) && bytes.HasPrefix(value, []byte(boxed+e.keys[0].name+":")) == e.plain
}

// open decrypts what came from the datastore.
func (e *encryption) open(value []byte) ([]byte, error) {
	rest, is := bytes.CutPrefix(value, []byte(boxed))
	if !is {
		return value, nil
	}
	if e == nil {
		return nil, errors.New("the secret is encrypted, and this server has no key")
	}
	for _, k := range e.keys {
		body, mine := bytes.CutPrefix(rest, []byte(k.name+":"))
		if !mine || len(body) < 24 {
			continue
		}
		if out, ok := secretbox.Open(nil, body[24:], (*[24]byte)(body[:24]), &k.key); ok {
			return out, nil
		}
	}
	return nil, errors.New("no configured key opens this secret")
}
