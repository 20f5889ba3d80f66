package backup

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"maps"
	"path"
	"slices"
	"time"

	"filippo.io/age"
)

// Schema names the version of the format. Those before are read, too: the second held no sealed
// rest, the first no files, and everything else is as it is here.
const (
	Schema = "verbund-backup/3"
	second = "verbund-backup/2"
	first  = "verbund-backup/1"
)

// AsDeclared is why a backup is taken by backup.every.
const AsDeclared = "as declared"

// Suffix is how the name of a backup's file ends.
const Suffix = ".backup.age"

const (
	manifestName = "manifest.json"
	secretsName  = "secrets.yaml"
	snapshotName = "snapshot.db"
	digestsName  = "digests.json"
	filesIn      = "files/" // folder of the files that a manifest lists
)

// How long a part may be that is read into memory, in bytes: what is text, and a file.
const (
	mostText = 1 << 20
	mostFile = 64 << 20
)

// Manifest says what a backup is of.
type Manifest struct {
	Schema     string    `json:"schema"`
	Cluster    string    `json:"cluster"`
	Name       string    `json:"name,omitempty"` // that a person gave it
	Taken      time.Time `json:"taken"`
	Kubernetes string    `json:"kubernetes"` // lowest version of the control plane
	Bytes      int64     `json:"bytes"`      // of the snapshot, with etcd's sum

	// Revision is that of the datastore, and Objects counts what it held by kind, without what
	// comes and goes by itself.
	Revision int64          `json:"revision,omitempty"`
	Objects  map[string]int `json:"objects,omitempty"`
	Members  []string       `json:"members,omitempty"` // machines of the datastore
	Why      string         `json:"why,omitempty"`     // it was taken
	// Files are the names of what else is needed to raise the same cluster: its declaration,
	// site and pins, and the tool's memory of it, with every key.
	Files []string `json:"files,omitempty"`
	// Machine took it by itself; empty: the tool did. Such a machine never sees what else is
	// needed: that was sealed by the tool, then, and lies in the backup as it was sealed.
	Machine string    `json:"machine,omitempty"`
	Sealed  time.Time `json:"sealed,omitzero"`
}

// Number is how many objects it holds.
func (m *Manifest) Number() int {
	n := 0
	for _, k := range m.Objects {
		n += k
	}
	return n
}

// Write writes a backup that each of the recipients can open. The snapshot has to have as many
// bytes as the manifest says; one that ends early is an error, and what was written then is no
// backup. Files are by name.
func Write(w io.Writer, to []age.Recipient, m Manifest, secrets []byte, files map[string][]byte, snapshot io.Reader) error {
	m.Schema, m.Files = Schema, slices.Sorted(maps.Keys(files))
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	enc, err := age.Encrypt(w, to...)
	if err != nil {
		return err
	}
	t := tar.NewWriter(enc)
	digests := map[string]string{}
	add := func(name string, size int64, from io.Reader) error {
		if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: m.Taken, Format: tar.FormatPAX}); err != nil {
			return err
		}
		h := sha256.New()
		n, err := io.Copy(io.MultiWriter(t, h), from)
		if err == nil && n != size {
			err = fmt.Errorf("%s ended after %d of %d bytes", name, n, size)
		}
		digests[name] = hex.EncodeToString(h.Sum(nil))
		return err
	}
	if err := add(manifestName, int64(len(text)), bytes.NewReader(text)); err != nil {
		return err
	}
	if err := add(secretsName, int64(len(secrets)), bytes.NewReader(secrets)); err != nil {
		return err
	}
	for _, name := range m.Files {
		if err := add(filesIn+name, int64(len(files[name])), bytes.NewReader(files[name])); err != nil {
			return err
		}
	}
	if err := add(snapshotName, m.Bytes, snapshot); err != nil {
		return err
	}
	if text, err = json.MarshalIndent(digests, "", "  "); err != nil {
		return err
	}
	if err := add(digestsName, int64(len(text)), bytes.NewReader(text)); err != nil {
		return err
	}
	return errors.Join(t.Close(), enc.Close())
}

// Reader is a backup that is being read. Of what it says nothing is certain before
// Verify has read the rest.
type Reader struct {
	Manifest Manifest
	Secrets  []byte // EncryptionConfiguration
	Files    map[string][]byte

	tar *tar.Reader
	is  map[string]string // digests of what was read
}

// Open reads the manifest and what opens the Secrets. Where none of the identities is
// meant, the error is an age.NoIdentityMatchError.
func Open(r io.Reader, ids ...age.Identity) (*Reader, error) {
	plain, err := age.Decrypt(r, ids...)
	if err != nil {
		return nil, fmt.Errorf("opening the backup: %w", err)
	}
	b := &Reader{Files: map[string][]byte{}, tar: tar.NewReader(plain), is: map[string]string{}}
	text, err := b.text(manifestName, mostText)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(text, &b.Manifest); err != nil {
		return nil, fmt.Errorf("the backup's %s cannot be read: %w", manifestName, err)
	}
	if s := b.Manifest.Schema; s != Schema && s != second && s != first {
		return nil, fmt.Errorf("the backup's schema is %q, and this program knows %s, %s and %s; use the version of Verbund that wrote it, or a newer one", s, Schema, second, first)
	}
	if b.Secrets, err = b.text(secretsName, mostText); err != nil {
		return nil, err
	}
	for _, name := range b.Manifest.Files {
		if path.Base(name) != name || name == "." || name == "/" {
			return nil, fmt.Errorf("the backup lists a file %q, which is no name of one", name)
		}
		if b.Files[name], err = b.text(filesIn+name, mostFile); err != nil {
			return nil, err
		}
	}
	return b, b.unseal(ids)
}

// Rewrite writes a backup of which the beginning was read for others, who can open all of it:
// also what was sealed when it was taken.
func Rewrite(w io.Writer, to []age.Recipient, b *Reader) error {
	r, pw := io.Pipe()
	defer r.Close() // whoever still writes ends, too
	go func() { pw.CloseWithError(b.Verify(pw)) }()
	if err := Write(w, to, b.Manifest, b.Secrets, b.Files, r); err != nil {
		return err
	}
	// What follows the snapshot has to be as it was written, too.
	_, err := io.Copy(io.Discard, r)
	return err
}

// next goes to a part, which has to be the next one.
func (b *Reader) next(name string) (*tar.Header, error) {
	h, err := b.tar.Next()
	switch {
	case err != nil:
		return nil, fmt.Errorf("the backup ends before its %s, or is damaged there: %w", name, err)
	case h.Name != name:
		return nil, fmt.Errorf("the backup has %q where its %s belongs", h.Name, name)
	}
	return h, nil
}

func (b *Reader) text(name string, most int64) ([]byte, error) {
	h, err := b.next(name)
	if err != nil {
		return nil, err
	}
	if h.Size > most {
		return nil, fmt.Errorf("the backup's %s has %d bytes, more than any has", name, h.Size)
	}
	out, err := io.ReadAll(b.tar)
	if err != nil {
		return nil, fmt.Errorf("the backup's %s: %w", name, err)
	}
	sum := sha256.Sum256(out)
	b.is[name] = hex.EncodeToString(sum[:])
	return out, nil
}

// Verify reads the rest and writes the snapshot to w. It returns nil if every part is as
// it was written, and the snapshot is as etcd gave it.
func (b *Reader) Verify(w io.Writer) error {
	h, err := b.next(snapshotName)
	if err != nil {
		return err
	}
	if h.Size != b.Manifest.Bytes {
		return fmt.Errorf("the backup's snapshot has %d bytes, and its manifest says %d", h.Size, b.Manifest.Bytes)
	}
	all, own := sha256.New(), &trailer{hash: sha256.New()}
	if _, err := io.Copy(io.MultiWriter(w, all, own), b.tar); err != nil {
		return fmt.Errorf("the backup's %s: %w", snapshotName, err)
	}
	b.is[snapshotName] = hex.EncodeToString(all.Sum(nil))
	if !own.matches() {
		return errors.New("the snapshot in the backup does not have the sum that etcd gave it")
	}
	was := map[string]string{}
	text, err := b.text(digestsName, mostText)
	if err == nil {
		err = json.Unmarshal(text, &was)
	}
	if err != nil {
		return err
	}
	parts := []string{manifestName, secretsName, snapshotName}
	for _, name := range b.Manifest.Files {
		parts = append(parts, filesIn+name)
	}
	for _, name := range parts {
		if was[name] == "" || was[name] != b.is[name] {
			return fmt.Errorf("the backup's %s is not as it was written", name)
		}
	}
	return nil
}

// trailer hashes all but the last 32 bytes, which are the sum of those before: so ends
// what etcd's maintenance API hands out.
type trailer struct {
	hash hash.Hash
	tail []byte
}

func (t *trailer) Write(p []byte) (int, error) {
	t.tail = append(t.tail, p...)
	if more := len(t.tail) - sha256.Size; more > 0 {
		t.hash.Write(t.tail[:more])
		t.tail = append(t.tail[:0], t.tail[more:]...)
	}
	return len(p), nil
}

func (t *trailer) matches() bool { return bytes.Equal(t.hash.Sum(nil), t.tail) }
