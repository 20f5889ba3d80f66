package store

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"

	"verbund/internal/core/words"
	"verbund/internal/whole"

	"filippo.io/age"
	"golang.org/x/crypto/chacha20poly1305"
)

// The kinds of protection.
const (
	ByKeyFile    = "key file"
	ByPassphrase = "passphrase"
	BySSHKey     = "SSH key"
)

// Protection says how the secrets of a store are encrypted: each with one key
// of the store, and that one with age to whoever may open it.
type Protection struct {
	ID   string `json:"id"` // of the store, random; it names the key file
	Kind string `json:"kind"`
	// Recipient is who may open it: an age recipient, or an SSH public key.
	Recipient string `json:"recipient,omitempty"`
	Wrapped   []byte `json:"wrapped"`
	// People open it as well, each with a key of their own.
	People []Person `json:"people,omitempty"`
}

// Keeper has, or asks for, what opens a store.
type Keeper interface {
	// New chooses how a new store is protected, and makes what opens it.
	New(id, cluster string) (Protection, error)
	// Recipients are those to whom the store's key is encrypted.
	Recipients(Protection) ([]age.Recipient, error)
	// Identities open it: what it was made for, or the key of somebody who was admitted.
	Identities(Protection) ([]age.Identity, error)
	// Earlier open stores that a cluster had before this one, as far as they are here.
	Earlier(cluster string) []age.Identity
	// Forget takes away what only this store needed.
	Forget(Protection) error
}

// Closed is a store whose secrets cannot be opened with what there is.
type Closed struct {
	Path string
	Kind string
	Err  error
}

func (c *Closed) Error() string {
	return fmt.Sprintf("the secrets of the store %s cannot be opened: %v; nothing was changed", c.Path, c.Err)
}

func (c *Closed) Unwrap() error { return c.Err }

// keyProtection is where it stands how a store is closed.
const keyProtection = "protection"

func protectionOf(t *tx) (*Protection, error) {
	v, err := t.table(tableMeta).get(keyProtection)
	if err != nil {
		return nil, err
	}
	if v == nil {
		return nil, t.table(tableMeta).spoilt([]byte(keyProtection), "is missing")
	}
	p := &Protection{}
	if err := json.Unmarshal(v, p); err != nil {
		return nil, t.table(tableMeta).spoilt([]byte(keyProtection), err.Error())
	}
	// It becomes part of a path, and a store may come from anywhere.
	if !idForm.MatchString(p.ID) {
		return nil, t.table(tableMeta).spoilt([]byte(keyProtection), fmt.Sprintf("its ID is %q", p.ID))
	}
	return p, nil
}

// protect says in tables how they are closed.
func (t *tx) protect(p Protection) error {
	how, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return t.table(tableMeta).put(keyProtection, how)
}

// idForm is how the ID of a store looks: the cluster's name and a random number.
var idForm = regexp.MustCompile(`^[a-z0-9-]{1,64}$`)

// Protection says how the store's secrets are encrypted; nil when there is no store.
func (s *Store) Protection() (*Protection, error) {
	var p *Protection
	err := s.base.view(func(t *tx) (err error) {
		p, err = protectionOf(t)
		return err
	})
	return p, err
}

// unlock opens the store's key, once as long as it is the same.
func (s *Store) unlock(p *Protection) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.key != nil && bytes.Equal(s.keyOf, p.Wrapped) {
		return s.key, nil
	}
	if s.keeper == nil {
		return nil, &Closed{s.Path, p.Kind, errors.New("nobody was asked for its key")}
	}
	ids, err := s.keeper.Identities(*p)
	if err == nil {
		s.key, err = unwrap(p.Wrapped, ids)
		s.keyOf = p.Wrapped
	}
	if err != nil {
		return nil, &Closed{s.Path, p.Kind, err}
	}
	return s.key, nil
}

func unwrap(wrapped []byte, ids []age.Identity) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(wrapped), ids...)
	if err != nil {
		var none *age.NoIdentityMatchError
		if errors.As(err, &none) {
			err = errors.New("this is not what it was closed with")
		}
		return nil, err
	}
	return io.ReadAll(r)
}

func wrap(plain []byte, to []age.Recipient) ([]byte, error) {
	var b bytes.Buffer
	w, err := age.Encrypt(&b, to...)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	err = w.Close()
	return b.Bytes(), err
}

// seal encrypts one secret (XChaCha20-Poly1305); it opens only under its ID.
func seal(key []byte, id string, plain []byte) ([]byte, error) {
	a, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, a.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return a.Seal(nonce, nonce, plain, []byte(id)), nil
}

func open(key []byte, id string, sealed []byte) ([]byte, error) {
	a, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, err
	}
	if len(sealed) < a.NonceSize() {
		return nil, fmt.Errorf("secret %s is cut off", id)
	}
	out, err := a.Open(nil, sealed[:a.NonceSize()], sealed[a.NonceSize():], []byte(id))
	if err != nil {
		return nil, fmt.Errorf("secret %s: it was changed, or is another one's", id)
	}
	return out, nil
}

// newKey makes a key of a store, and says in p how that is closed.
func (s *Store) newKey(p *Protection) ([]byte, error) {
	to, err := s.recipients(*p)
	if err != nil {
		return nil, err
	}
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	p.Wrapped, err = wrap(key, to)
	return key, err
}

// opened remembers what opens the store's secrets.
func (s *Store) opened(key []byte, p Protection) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.key, s.keyOf = key, p.Wrapped
}

// Protect encrypts the secrets anew, with a new key of the store and for
// somebody else, whose keeper is given; backups are opened by the same from
// then on.
func (s *Store) Protect(np Protection, by Keeper) error {
	p, key, opener, err := s.unlocked()
	if err != nil {
		return err
	}
	if np.People = p.People; np.Kind == ByPassphrase && len(p.People) > 0 {
		return fmt.Errorf("beside a passphrase nothing else can open it, and %s admitted: verbund store dismiss comes first", words.Are(len(p.People), "person"))
	}
	was := s.keeper
	s.keeper = by
	if err := s.rewrite(p, key, np); err != nil {
		return err
	}
	if err := s.closeAgain(opener); err != nil {
		return err
	}
	if p.Kind != np.Kind || p.Recipient != np.Recipient {
		return was.Forget(*p)
	}
	return nil
}

// rewrite closes the whole store anew, as p says. It was closed as was says, and old opens its
// secrets. Closed otherwise by now, it stays as it is: old would open nothing of it.
func (s *Store) rewrite(was *Protection, old []byte, p Protection) error {
	key, err := s.newKey(&p)
	if err != nil {
		return err
	}
	err = s.base.anew(func(from, to *tx) error {
		now, err := protectionOf(from)
		if err != nil {
			return err
		}
		if !bytes.Equal(now.Wrapped, was.Wrapped) {
			return errClosedAnew
		}
		err = renew(from, to, func(table, k string, v []byte) ([]byte, error) {
			if table != tableSecrets {
				return v, nil
			}
			v, err := open(old, k, v)
			if err != nil {
				return nil, &Damage{from.path, err}
			}
			return seal(key, k, v)
		})
		return errors.Join(err, to.protect(p))
	})
	if err != nil {
		return fmt.Errorf("encrypting the store: %w", err)
	}
	s.opened(key, p)
	return nil
}

// aside is the file that holds, closed like the store, what opens the backups
// beside it.
const aside = "identity.age"

// closeAside keeps what opens the backups, closed like the store.
func (s *Store) closeAside(plain []byte) error {
	p, err := s.Protection()
	if err != nil || p == nil {
		return errors.Join(err, errors.New("the store is not protected"))
	}
	to, err := s.recipients(*p)
	if err != nil {
		return err
	}
	b, err := wrap(plain, to)
	if err != nil {
		return err
	}
	return s.base.keepOpener(b)
}

// openedAside reads what opens the backups; nil when there is nothing.
func (s *Store) openedAside() ([]byte, error) {
	p, err := s.Protection()
	if err != nil {
		return nil, err
	}
	return s.openAside(p)
}

func (s *Store) openAside(p *Protection) ([]byte, error) {
	b, err := s.base.opener()
	if b == nil || err != nil || p == nil {
		return nil, err
	}
	ids, err := s.keeper.Identities(*p)
	if err == nil {
		b, err = unwrap(b, ids)
	}
	if err != nil {
		return nil, &Closed{s.backupDir(), p.Kind, err}
	}
	return b, nil
}

// Packed is a store as it goes to another computer, together with what opens
// it: it is written nowhere but into an archive that is closed itself.
type Packed struct {
	Database []byte
	Key      Secret
	Opener   Secret // what opens the backups; nil where there is none
}

// Pack reads the store as it is.
func (s *Store) Pack() (*Packed, error) {
	_, key, opener, err := s.unlocked()
	if err != nil {
		return nil, err
	}
	out := &Packed{Key: key, Opener: opener}
	out.Database, err = s.database()
	return out, err
}

// database is all that is remembered, as a database of one file.
func (s *Store) database() ([]byte, error) {
	dir, err := os.MkdirTemp("", "store-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	d := &inFolder{dir: dir}
	if err := s.base.view(func(from *tx) error {
		_, err := d.found(func(to *tx) error { return renew(from, to, nil) })
		return err
	}); err != nil {
		return nil, err
	}
	return whole.Read(d.file())
}

// Unpack writes a packed store where there is none, and closes it as new stores
// are closed on this computer.
func (s *Store) Unpack(p *Packed) error {
	if s.Exists() {
		return fmt.Errorf("there is a store in %s already; nothing was changed", s.Path)
	}
	if err := os.MkdirAll(s.Path, 0o700); err != nil {
		return err
	}
	file := (&inFolder{dir: s.Path}).file()
	if err := whole.Write(file, p.Database, 0o600); err != nil {
		return err
	}
	err := func() error {
		id := make([]byte, 4)
		rand.Read(id)
		np, err := s.keeper.New(fmt.Sprintf("%x", id), filepath.Base(s.Path))
		if err != nil {
			return err
		}
		was, err := s.Protection()
		if err != nil {
			return err
		}
		if err := s.rewrite(was, p.Key, np); err != nil || p.Opener == nil {
			return err
		}
		if err := os.MkdirAll(s.backupDir(), 0o700); err != nil {
			return err
		}
		return s.closeAside(p.Opener)
	}()
	if err != nil {
		return errors.Join(err, os.Remove(file))
	}
	return s.Make()
}
