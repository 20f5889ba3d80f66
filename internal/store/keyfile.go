package store

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"verbund/internal/whole"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"golang.org/x/crypto/ssh"
)

// Keys is the keeper of a person's computer: key files in a folder of theirs,
// outside any working folder; passphrases and SSH keys as they are given or
// asked for.
type Keys struct {
	// Dir is the folder of the key files; they are made there.
	Dir string
	// Unlock is a file that opens the store: a key file, an SSH private key, or
	// a file with the passphrase in its first line. Empty: the key file in Dir,
	// or a question.
	Unlock string
	// Ask asks for a passphrase; nil where there is nobody to ask.
	Ask func(what string) (string, error)

	passphrase string // as it was given, once
}

// keyFile is where the key file of a store lies.
func (k *Keys) keyFile(p Protection) string { return filepath.Join(k.Dir, p.ID+".key") }

// KeyFile is where the key file of a store lies, if it is protected with one.
func (k *Keys) KeyFile(p Protection) string {
	if p.Kind != ByKeyFile {
		return ""
	}
	return k.keyFile(p)
}

// New protects a new store with a key file, which asks nobody anything.
func (k *Keys) New(id, cluster string) (Protection, error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return Protection{}, err
	}
	p := Protection{ID: cluster + "-" + id, Kind: ByKeyFile, Recipient: key.Recipient().String()}
	if k.Dir == "" {
		return p, errors.New("there is no folder for the store's key file: set HOME, or VERBUND_KEYS to a folder outside the working folder")
	}
	if err := os.MkdirAll(k.Dir, 0o700); err != nil {
		return p, fmt.Errorf("the folder of key files: %w", err)
	}
	text := fmt.Sprintf("# opens the secrets of cluster %s, its store and its backups; keep a copy of it in a safe place\n# public key: %s\n%s\n", cluster, p.Recipient, key)
	return p, whole.Write(k.keyFile(p), []byte(text), 0o600)
}

// ByPassphrase protects with a passphrase.
func (k *Keys) ByPassphrase(id, passphrase string) Protection {
	k.passphrase = passphrase
	return Protection{ID: id, Kind: ByPassphrase}
}

// BySSHKey protects with an SSH key, given its public half as a line of text:
// Ed25519 or RSA.
func (k *Keys) BySSHKey(id, public string) (Protection, error) {
	p := Protection{ID: id, Kind: BySSHKey, Recipient: strings.TrimSpace(public)}
	_, err := agessh.ParseRecipient(p.Recipient)
	if err != nil {
		err = fmt.Errorf("it takes the public half of an SSH key, Ed25519 or RSA: %w", err)
	}
	return p, err
}

// Recipients are those to whom a store's key is encrypted.
func (k *Keys) Recipients(p Protection) ([]age.Recipient, error) {
	var r age.Recipient
	var err error
	switch p.Kind {
	case ByKeyFile:
		r, err = age.ParseX25519Recipient(p.Recipient)
	case BySSHKey:
		r, err = agessh.ParseRecipient(p.Recipient)
	case ByPassphrase:
		if k.passphrase == "" {
			if k.passphrase, err = k.ask(p); err != nil {
				return nil, err
			}
		}
		r, err = age.NewScryptRecipient(k.passphrase)
	default:
		err = fmt.Errorf("protection %q is not known to this program", p.Kind)
	}
	return []age.Recipient{r}, err
}

// ask gets a passphrase from a file, or from the person.
func (k *Keys) ask(p Protection) (string, error) {
	if k.Unlock != "" {
		b, err := whole.Read(k.Unlock)
		if err != nil {
			return "", fmt.Errorf("the file with the passphrase: %w", err)
		}
		line, _, _ := strings.Cut(string(b), "\n")
		return strings.TrimRight(line, "\r"), nil
	}
	if k.Ask == nil {
		return "", errors.New("it is protected with a passphrase, and there is nobody to ask; say --unlock FILE, with a file that has it in its first line")
	}
	return k.Ask("passphrase of " + p.ID)
}

// Identities open a store's key: what it was made for, or whatever this computer has, if people
// were admitted to it.
func (k *Keys) Identities(p Protection) ([]age.Identity, error) {
	ids, err := k.own(p)
	if len(p.People) == 0 {
		return ids, err
	}
	if ids = append(ids, k.here()...); len(ids) == 0 {
		return nil, fmt.Errorf("%w; nor is there a key of any of the people who were admitted (verbund store people names them): say --unlock FILE, with an SSH private key or a file of an age identity", err)
	}
	return ids, nil
}

// here are all keys that this computer has, of which one may be that of somebody who was admitted.
func (k *Keys) here() []age.Identity {
	var out []age.Identity
	for _, file := range append(whole.Named(k.Dir, ".key"), k.SSHKeys()...) {
		b, err := whole.Read(file)
		if err != nil {
			continue
		}
		if ids, err := age.ParseIdentities(bytes.NewReader(b)); err == nil {
			out = append(out, ids...)
		} else if id, err := k.sshIdentity(file, b); err == nil {
			out = append(out, id)
		}
	}
	return out
}

// SSHKeys are the files in which a person's SSH key may lie: the one that is given, or where such
// keys lie as a rule.
func (k *Keys) SSHKeys() []string {
	if k.Unlock != "" {
		return []string{k.Unlock}
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return nil
	}
	return []string{filepath.Join(home, ".ssh", "id_ed25519"), filepath.Join(home, ".ssh", "id_rsa")}
}

// sshIdentity reads an SSH private key. One that is encrypted has its passphrase asked for when it
// is the one that opens something.
func (k *Keys) sshIdentity(file string, b []byte) (age.Identity, error) {
	id, err := agessh.ParseIdentity(b)
	var locked *ssh.PassphraseMissingError
	if !errors.As(err, &locked) {
		return id, err
	}
	pub := locked.PublicKey
	if line, rerr := whole.Read(file + ".pub"); pub == nil && rerr == nil {
		pub, _, _, _, _ = ssh.ParseAuthorizedKey(line)
	}
	if pub == nil {
		return nil, fmt.Errorf("%s is encrypted, and its public half is not beside it", file)
	}
	if k.Ask == nil {
		return nil, fmt.Errorf("%s is encrypted, and there is nobody to ask for its passphrase", file)
	}
	return agessh.NewEncryptedSSHIdentity(pub, b, func() ([]byte, error) {
		pass, err := k.Ask("passphrase of " + file)
		return []byte(pass), err
	})
}

// own opens a store's key with what it was made for.
func (k *Keys) own(p Protection) ([]age.Identity, error) {
	switch p.Kind {
	case ByKeyFile:
		file := k.Unlock
		if file == "" {
			file = k.keyFile(p)
		}
		b, err := whole.Read(file)
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("its key file %s is not there; bring it back from your own copy, or say where it is with --unlock FILE", file)
		}
		if err != nil {
			return nil, err
		}
		ids, err := age.ParseIdentities(bytes.NewReader(b))
		if err != nil {
			return nil, fmt.Errorf("%s is no key file: %w", file, err)
		}
		return ids, nil
	case BySSHKey:
		return k.sshIdentities(p)
	case ByPassphrase:
		pass := k.passphrase
		if pass == "" {
			var err error
			if pass, err = k.ask(p); err != nil {
				return nil, err
			}
		}
		id, err := age.NewScryptIdentity(pass)
		if err != nil {
			return nil, err
		}
		k.passphrase = pass
		return []age.Identity{id}, nil
	}
	return nil, fmt.Errorf("protection %q is not known to this program", p.Kind)
}

// Earlier reads the key files of all stores that a cluster has had.
func (k *Keys) Earlier(cluster string) []age.Identity {
	var out []age.Identity
	for _, f := range whole.Named(k.Dir, ".key") {
		id := strings.TrimSuffix(filepath.Base(f), ".key")
		// Another cluster may be called like this one, and a word more.
		if i := strings.LastIndexByte(id, '-'); i < 0 || id[:i] != cluster {
			continue
		}
		if b, err := whole.Read(f); err == nil {
			if ids, err := age.ParseIdentities(bytes.NewReader(b)); err == nil {
				out = append(out, ids...)
			}
		}
	}
	return out
}

// sshIdentities reads the SSH private key: the one that is given, or those
// where such keys lie as a rule.
func (k *Keys) sshIdentities(p Protection) ([]age.Identity, error) {
	files := k.SSHKeys()
	if files == nil {
		return nil, errors.New("it is protected with an SSH key; say which with --unlock FILE")
	}
	var trouble error
	for _, file := range files {
		b, err := whole.Read(file)
		if err != nil {
			if k.Unlock != "" {
				return nil, err
			}
			continue
		}
		id, err := k.sshIdentity(file, b)
		if err == nil {
			return []age.Identity{id}, nil
		}
		if trouble = cmp.Or(trouble, err); k.Unlock != "" {
			return nil, fmt.Errorf("%s is no SSH key that can open it: %w", file, err)
		}
	}
	if trouble != nil {
		return nil, trouble
	}
	return nil, fmt.Errorf("it is protected with the SSH key %s, and that is not where such keys lie; say --unlock FILE", p.Recipient)
}

// Forget takes away the key file of a store that is no more.
func (k *Keys) Forget(p Protection) error {
	if p.Kind != ByKeyFile {
		return nil
	}
	return ignoreMissing(os.Remove(k.keyFile(p)))
}
