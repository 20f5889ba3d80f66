package store

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"

	"sigs.k8s.io/yaml"

	"verbund/internal/whole"
)

// PlaceEnding is how the name of the file ends, beside the declaration, that says where the memory
// of a cluster lies when it does not lie beside it, too.
const PlaceEnding = ".memory.yaml"

// Place is where a memory lies that others share, as that file has it. It holds no secret, and
// belongs in version control.
type Place struct {
	Etcd   []string `json:"etcd"`   // HOST:PORT of each member
	Prefix string   `json:"prefix"` // of every key: a path that begins with a slash
	// Authority has signed the members' certificates, as PEM; empty: they are asked without TLS,
	// which is for an etcd on this computer.
	Authority string `json:"authority,omitempty"`
	// ID tells it from others of the same name; by it a computer knows as whom it asks there.
	ID string `json:"id"`
}

// Access is as whom a computer asks there: with a certificate, with a name and a password, or both.
type Access struct {
	Certificate  string `json:"certificate,omitempty"` // file, PEM
	Key          string `json:"key,omitempty"`         // file, PEM
	User         string `json:"user,omitempty"`
	PasswordFile string `json:"passwordFile,omitempty"` // the password is its first line
}

const etcdScheme = "etcd://"

// ParsePlace reads etcd://HOST[:PORT][,HOST[:PORT]…]/PREFIX.
func ParsePlace(text string) (*Place, error) {
	rest, ok := strings.CutPrefix(text, etcdScheme)
	if !ok {
		return nil, fmt.Errorf("%q is no place of a memory: write etcd://HOST[,HOST…]/PREFIX, or folder", text)
	}
	hosts, prefix, _ := strings.Cut(rest, "/")
	p := &Place{Prefix: "/" + strings.TrimSuffix(prefix, "/")}
	for _, h := range strings.Split(hosts, ",") {
		if _, _, err := net.SplitHostPort(h); err != nil {
			h = net.JoinHostPort(strings.Trim(h, "[]"), "2379")
		}
		p.Etcd = append(p.Etcd, h)
	}
	return p, p.check()
}

var (
	prefixForm = regexp.MustCompile(`^(/[A-Za-z0-9._-]+)+$`)
	hostForm   = regexp.MustCompile(`^[A-Za-z0-9._:%-]+$`)
)

func (p *Place) check() error {
	if len(p.Etcd) == 0 {
		return errors.New("no member of an etcd is named")
	}
	for _, m := range p.Etcd {
		host, port, err := net.SplitHostPort(m)
		if err != nil || !hostForm.MatchString(host) || port == "" {
			return fmt.Errorf("%q is no HOST:PORT", m)
		}
	}
	if !prefixForm.MatchString(p.Prefix) {
		return fmt.Errorf("%q is no prefix of keys: it takes words of letters, digits, dots and hyphens between slashes, and at least one", p.Prefix)
	}
	return nil
}

// here says whether all members are on this computer.
func (p *Place) here() bool {
	for _, m := range p.Etcd {
		host, _, _ := net.SplitHostPort(m)
		if a, err := netip.ParseAddr(host); host != "localhost" && (err != nil || !a.IsLoopback()) {
			return false
		}
	}
	return true
}

func placeFile(folder, cluster string) string { return filepath.Join(folder, cluster+PlaceEnding) }

// ReadPlace reads where the memory of a cluster lies; nil: beside its declaration, in folder.
func ReadPlace(folder, cluster string) (*Place, error) {
	file := placeFile(folder, cluster)
	b, err := whole.Read(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	p := &Place{}
	if err == nil {
		if err = yaml.UnmarshalStrict(b, p); err == nil {
			if err = p.check(); err == nil && !idForm.MatchString(p.ID) {
				err = fmt.Errorf("its id is %q", p.ID)
			}
		}
	}
	if err != nil {
		return nil, fmt.Errorf("where the memory of cluster %s lies stands in %s, which cannot be read: %w; bring it back from version control", cluster, file, err)
	}
	return p, nil
}

// Write writes down that the memory of a cluster lies there.
func (p *Place) Write(folder, cluster string) error {
	b, err := yaml.Marshal(p)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("# Where what is remembered of cluster %s lies. It holds no secret: keep it in version\n# control beside the declaration. verbund store move changes it.\n%s", cluster, b)
	return whole.Write(placeFile(folder, cluster), []byte(text), 0o644)
}

// Forget takes that away again: the memory lies beside the declaration.
func (p *Place) Forget(folder, cluster string) error {
	return ignoreMissing(os.Remove(placeFile(folder, cluster)))
}

func (p *Place) accessFile(keys string) string { return filepath.Join(keys, p.ID+PlaceEnding) }

// Keep writes down in the folder of this person's keys as whom they ask.
func (p *Place) Keep(keys string, a Access) error {
	for _, f := range []*string{&a.Certificate, &a.Key, &a.PasswordFile} {
		if *f != "" {
			abs, err := filepath.Abs(*f)
			if err != nil {
				return err
			}
			*f = abs
		}
	}
	b, err := yaml.Marshal(a)
	if err == nil {
		err = os.MkdirAll(keys, 0o700)
	}
	if err != nil {
		return err
	}
	return whole.Write(p.accessFile(keys), b, 0o600)
}

// Kept reads as whom this person asks; nobody in particular where nothing was kept.
func (p *Place) Kept(keys string) (Access, error) {
	b, err := whole.Read(p.accessFile(keys))
	if errors.Is(err, os.ErrNotExist) {
		return Access{}, nil
	}
	var a Access
	if err == nil {
		err = yaml.UnmarshalStrict(b, &a)
	}
	if err != nil {
		return a, fmt.Errorf("as whom this computer asks the memory at %s stands in %s, which cannot be read: %w; verbund store reach writes it anew", p, p.accessFile(keys), err)
	}
	return a, nil
}

// String is the place as a person writes it.
func (p *Place) String() string { return etcdScheme + strings.Join(p.Etcd, ",") + p.Prefix }

// Server is the etcd there, as somebody with an access asks it.
func (p *Place) Server(a Access) (Server, error) {
	out := Server{Prefix: p.Prefix, User: a.User, Who: a.User, ID: p.ID}
	scheme := "https://"
	if p.Authority == "" {
		if scheme = "http://"; !p.here() {
			return out, fmt.Errorf("the members of %s are not on this computer, and nothing says whose certificates they have: say --ca FILE", p)
		}
		if a.Certificate != "" {
			return out, fmt.Errorf("a certificate is of no use without the authority that signed those of the members of %s: say --ca FILE", p)
		}
	}
	for _, m := range p.Etcd {
		out.Endpoints = append(out.Endpoints, scheme+m)
	}
	if p.Authority != "" {
		roots := x509.NewCertPool()
		if !roots.AppendCertsFromPEM([]byte(p.Authority)) {
			return out, fmt.Errorf("the authority of the members of %s is no certificate in PEM", p)
		}
		out.TLS = &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}
	}
	if (a.Certificate == "") != (a.Key == "") {
		return out, errors.New("a certificate needs its key, and a key its certificate")
	}
	if a.Certificate != "" {
		pair, name, err := readPair(a)
		if err != nil {
			return out, err
		}
		out.TLS.Certificates = []tls.Certificate{pair}
		if out.Who == "" {
			out.Who = name
		}
	}
	if a.User != "" {
		if a.PasswordFile == "" {
			return out, fmt.Errorf("user %s needs a password: say --password-file FILE, with a file that has it in its first line", a.User)
		}
		b, err := whole.Read(a.PasswordFile)
		if err != nil {
			return out, fmt.Errorf("the password of %s: %w", a.User, err)
		}
		line, _, _ := strings.Cut(string(b), "\n")
		out.Password = strings.TrimRight(line, "\r")
	}
	if out.Who == "" {
		out.Who = "somebody"
		if u, err := user.Current(); err == nil {
			out.Who = u.Username
		}
	}
	return out, nil
}

// readPair reads a certificate with its key, and says of whom it is.
func readPair(a Access) (pair tls.Certificate, name string, err error) {
	cert, err := whole.Read(a.Certificate)
	if err != nil {
		return pair, "", fmt.Errorf("the certificate for the memory: %w", err)
	}
	key, err := whole.Read(a.Key)
	if err != nil {
		return pair, "", fmt.Errorf("the key for the memory: %w", err)
	}
	if pair, err = tls.X509KeyPair(cert, key); err != nil {
		return pair, "", fmt.Errorf("the certificate %s with the key %s: %w", a.Certificate, a.Key, err)
	}
	block, _ := pem.Decode(cert)
	leaf, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return pair, "", fmt.Errorf("the certificate %s: %w", a.Certificate, err)
	}
	return pair, leaf.Subject.CommonName, nil
}
